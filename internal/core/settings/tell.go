package settings

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Tell is one [tell.NAME] table: who is told when a run ends. Of Webhook, Mail and Command
// just one is set.
type Tell struct {
	Name    string
	If      *expr.Program // over run and env; nil for always
	Webhook string        // an address to which a CloudEvent is posted
	KeyFile string        // the file with the key that it is signed with; empty for unsigned
	Mail    []string      // addresses
	From    string        // whom the mail is from
	Server  string        // the SMTP server, with its port
	User    string        // the login there; empty for none
	// PasswordFile is the file with the login's password.
	PasswordFile string
	Command      []string // a program and its words, which has the report on its input
	As           string   // the report's form: text, markdown, json, csv, junit or html
	Place        value.Place
}

// TellForms are the forms of a report that a mail or a command may have.
var TellForms = []string{"text", "markdown", "json", "csv", "junit", "html"}

// TellKeys document the keys of [tell.NAME].
var TellKeys = []schema.Key{
	{Name: "if", Takes: schema.TakesText, Default: "always",
		Doc: "When: CEL over run (mode, code, env, number, who, seconds, hosts, changed, failed, unchanged, " +
			"not_reached, not_begun, tasks_changed, tasks_failed and notes) and env, such as \"run.failed > 0\"."},
	{Name: "webhook", Takes: schema.TakesText, Doc: "An address to which a CloudEvent is posted as JSON."},
	{Name: "key_file", Takes: schema.TakesText,
		Doc: "The file with the key by which the call is signed with HMAC-SHA256, as RFC 9421 has it. Without it " +
			"there is no signature."},
	{Name: "mail", Takes: schema.TakesList, Doc: "The addresses to which a mail goes."},
	{Name: "from", Takes: schema.TakesText, Doc: "Whom the mail is from."},
	{Name: "server", Takes: schema.TakesText, Default: `"localhost:25"`, Doc: "The SMTP server, with its port."},
	{Name: "user", Takes: schema.TakesText, Doc: "The login at the SMTP server."},
	{Name: "password_file", Takes: schema.TakesText, Doc: "The file with the password of that login."},
	{Name: "command", Takes: schema.TakesList, Doc: "A program and its words, which has the report on its input."},
	{Name: "as", Takes: schema.TakesText, Default: `"text"`, Doc: "The form of the report for a mail or a command: " +
		"text, markdown, json, csv, junit or html."},
}

// RunVars gives the variables of a condition over a run.
func RunVars(run map[string]any, env string) *expr.Vars {
	return (&expr.Vars{Env: env, Facts: map[string]any{}}).With("run", run)
}

var tellScope = expr.Scope{Roots: []string{"env"}, Locals: []string{"run"}, What: "the condition of who is told"}

// sampleRun has the fields of run, to find out while the settings are read whether a condition
// asks for one that there is not.
var sampleRun = map[string]any{"mode": "apply", "code": int64(0), "env": "", "number": int64(1), "who": "",
	"machine": "",
	"seconds": 0.0, "hosts": int64(0), "changed": int64(0), "failed": int64(0), "unchanged": int64(0),
	"not_reached": int64(0),
	"not_begun":   int64(0), "tasks_changed": int64(0), "tasks_failed": int64(0), "notes": map[string]any{}}

// tell reads one [tell.NAME].
func (s *Settings) tell(k manifest.Key, problems *problem.Problems) {
	if k.Node.Kind != manifest.Table || !envForm.MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("tell.%s tells nobody", k.Name),
			"write [tell.NAME], the name in letters, digits, dashes and underscores")
		return
	}
	t := Tell{Name: k.Name, Place: k.Place, As: "text", Server: "localhost:25"}
	for _, a := range k.Node.Keys {
		err, known := t.set(a, problems)
		if !known {
			problems.At(a.Place, fmt.Sprintf("whom a run tells has no %q", a.Name),
				problem.Meant(a.Name, names(TellKeys), "it has "+strings.Join(names(TellKeys), ", ")))
			continue
		}
		problems.AddErr(a.Node.Place, err)
	}
	problems.AddErr(k.Place, t.whole())
	s.Tells = append(s.Tells, t)
}

func (t *Tell) set(a manifest.Key, problems *problem.Problems) (err error, known bool) {
	v := a.Node.Plain()
	list := func(to *[]string) error {
		var ok bool
		if *to, ok = texts(v); !ok || len(*to) == 0 {
			return problem.Errorf("%s is a list of texts", a.Name).Remedy(`write %s = ["..."]`, a.Name)
		}
		return nil
	}
	switch a.Name {
	case "if":
		text := ""
		if err := setText(&text, v); err != nil {
			return err, true
		}
		t.If, err = expr.Compile(text, a.Node.At, tellScope)
		if err == nil {
			_, _, err = t.If.Bool(RunVars(sampleRun, ""))
		}
		return err, true
	case "webhook":
		if err := setText(&t.Webhook, v); err != nil {
			return err, true
		}
		if u, err := url.Parse(t.Webhook); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return problem.Errorf("%q is no address of a web server", t.Webhook).
				Remedy(`write webhook = "https://hooks.example.org/tide"`), true
		}
		return nil, true
	case "key_file":
		return setText(&t.KeyFile, v), true
	case "mail":
		err := list(&t.Mail)
		for _, to := range t.Mail {
			if err == nil {
				err = addressed(to)
			}
		}
		return err, true
	case "from":
		if err := setText(&t.From, v); err != nil {
			return err, true
		}
		return addressed(t.From), true
	case "server":
		if err := setText(&t.Server, v); err != nil {
			return err, true
		}
		if host, port, ok := strings.Cut(t.Server, ":"); !ok || host == "" || port == "" {
			return problem.Errorf("%q is no server with a port", t.Server).
				Remedy(`write server = "mail.example.org:587"`), true
		}
		return nil, true
	case "user":
		return setText(&t.User, v), true
	case "password_file":
		return setText(&t.PasswordFile, v), true
	case "command":
		return list(&t.Command), true
	case "as":
		if err := setText(&t.As, v); err != nil {
			return err, true
		}
		if !slices.Contains(TellForms, t.As) {
			return problem.Errorf("there is no report as %q", t.As).Meant(t.As, TellForms,
				"it can be "+strings.Join(TellForms, ", ")), true
		}
		return nil, true
	}
	return nil, false
}

// addressed says whether a text is a mail address.
func addressed(text string) error {
	name, domain, ok := strings.Cut(text, "@")
	if !ok || name == "" || domain == "" || strings.ContainsAny(text, " \t\r\n<>\",;") ||
		strings.Contains(domain, "@") {
		return problem.Errorf("%q is no mail address", text).Remedy("write it as keeper@example.org")
	}
	return nil
}

// whole says whether it is clear who is told.
func (t *Tell) whole() error {
	n := 0
	for _, is := range []bool{t.Webhook != "", len(t.Mail) > 0, len(t.Command) > 0} {
		if is {
			n++
		}
	}
	switch {
	case n != 1:
		return problem.Errorf("tell.%s has %d of webhook, mail and command", t.Name, n).
			Remedy("give it just one of them")
	case len(t.Mail) > 0 && t.From == "":
		return problem.Errorf("tell.%s does not say whom the mail is from", t.Name).
			Remedy(`write from = "kettle@example.org"`)
	case t.User != "" && t.PasswordFile == "":
		return problem.Errorf("tell.%s has a login without a password", t.Name).
			Remedy(`write password_file = "...", a file that only you can read`)
	}
	return nil
}
