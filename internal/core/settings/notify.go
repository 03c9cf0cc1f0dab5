package settings

import (
	"fmt"
	"net/url"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Notify is one [notify.NAME] table: who is notified when a run ends. Of Webhook, Mail and Command
// just one is set.
type Notify struct {
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

// NotifyForms are the forms of a report that a mail or a command may have.
var NotifyForms = []string{"text", "markdown", "json", "csv", "junit", "html"}

// NotifyKeys document the keys of [notify.NAME].
var NotifyKeys = []schema.Key{
	{Name: "if", Takes: schema.TakesText, Default: "always",
		Doc: "When: CEL over run (mode, code, env, number, who, seconds, hosts, changed, failed, unchanged, " +
			"not_reached, not_started, tasks_changed, tasks_failed and notes) and env, such as \"run.failed > 0\"."},
	{Name: "webhook", Takes: schema.TakesText, Doc: "An address to post a CloudEvent to, as JSON."},
	{Name: "key_file", Takes: schema.TakesText,
		Doc: "The file with the key for signing requests with HMAC-SHA256 (RFC 9421). Without it, requests are not " +
			"signed."},
	{Name: "mail", Takes: schema.TakesList, Doc: "The addresses to send a mail to."},
	{Name: "from", Takes: schema.TakesText, Doc: "The sender of the mail."},
	{Name: "server", Takes: schema.TakesText, Default: `"localhost:25"`, Doc: "The SMTP server, with its port."},
	{Name: "user", Takes: schema.TakesText, Doc: "The login for the SMTP server."},
	{Name: "password_file", Takes: schema.TakesText, Doc: "The file with the password for that login."},
	{Name: "command", Takes: schema.TakesList,
		Doc: "A program and its arguments; it gets the report on standard input."},
	{Name: "as", Takes: schema.TakesText, Default: `"text"`, Choices: NotifyForms,
		Doc: "The format of the report for a mail or a command: text, markdown, json, csv, junit or html."},
}

// RunVars gives the variables of a condition over a run.
func RunVars(run map[string]any, env string) *expr.Vars {
	return (&expr.Vars{Env: env, Facts: map[string]any{}}).With("run", run)
}

var notifyScope = expr.Scope{Roots: []string{"env"}, Locals: []string{"run"}, What: "the condition of a notification"}

// sampleRun has the fields of run, to find out while the settings are read whether a condition
// asks for one that there is not.
var sampleRun = map[string]any{"mode": "apply", "code": int64(0), "env": "", "number": int64(1), "who": "",
	"machine": "",
	"seconds": 0.0, "hosts": int64(0), "changed": int64(0), "failed": int64(0), "unchanged": int64(0),
	"not_reached": int64(0),
	"not_started": int64(0), "tasks_changed": int64(0), "tasks_failed": int64(0), "notes": map[string]any{}}

// readNotify reads one [notify.NAME].
func (s *Settings) readNotify(k manifest.Key, problems *problem.Problems) {
	if k.Node.Kind != manifest.Table || !envForm().MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("notify.%s is not a valid notification", k.Name),
			"write [notify.NAME], the name in letters, digits, dashes and underscores")
		return
	}
	t := Notify{Name: k.Name, Place: k.Place, As: "text", Server: "localhost:25"}
	k.Node.Decode("a notification", NotifyKeys, manifest.Fields{"if": t.setIf, "webhook": t.setWebhook,
		"key_file": &t.KeyFile, "mail": t.setMail, "from": t.setFrom, "server": t.setServer, "user": &t.User,
		"password_file": &t.PasswordFile, "command": manifest.Some{To: &t.Command}, "as": &t.As}, problems)
	problems.AddErr(k.Place, t.whole())
	s.Notify = append(s.Notify, t)
}

func (t *Notify) setIf(n *manifest.Node) (err error) {
	text, _ := n.Value.(string)
	if text == "" {
		return problem.Errorf("if takes an expression as a string").Remedy("put it in quotes")
	}
	if t.If, err = expr.Compile(text, n.At, notifyScope); err == nil {
		_, _, err = t.If.Bool(RunVars(sampleRun, ""))
	}
	return err
}

func (t *Notify) setWebhook(n *manifest.Node) error {
	t.Webhook, _ = n.Value.(string)
	if u, err := url.Parse(t.Webhook); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return problem.Errorf("%s is not the address of a web server", value.Shown(n.Plain())).
			Remedy(`write webhook = "https://hooks.example.org/tide"`)
	}
	return nil
}

func (t *Notify) setMail(n *manifest.Node, problems *problem.Problems) {
	for _, to := range n.Texts("mail", problems) {
		t.Mail = append(t.Mail, to.Value.(string))
		problems.AddErr(to.Place, addressed(to.Value.(string)))
	}
}

func (t *Notify) setFrom(n *manifest.Node) error {
	t.From, _ = n.Value.(string)
	return addressed(t.From)
}

func (t *Notify) setServer(n *manifest.Node) error {
	t.Server, _ = n.Value.(string)
	if host, port, ok := strings.Cut(t.Server, ":"); !ok || host == "" || port == "" {
		return problem.Errorf("%s is not a server with a port", value.Shown(n.Plain())).
			Remedy(`write server = "mail.example.org:587"`)
	}
	return nil
}

// addressed says whether a text is a mail address.
func addressed(text string) error {
	name, domain, ok := strings.Cut(text, "@")
	if !ok || name == "" || domain == "" || strings.ContainsAny(text, " \t\r\n<>\",;") ||
		strings.Contains(domain, "@") {
		return problem.Errorf("invalid mail address %q", text).Remedy("write it as keeper@example.org")
	}
	return nil
}

// whole says whether it is clear who is notified.
func (t *Notify) whole() error {
	n := 0
	for _, is := range []bool{t.Webhook != "", len(t.Mail) > 0, len(t.Command) > 0} {
		if is {
			n++
		}
	}
	switch {
	case n != 1:
		return problem.Errorf("notify.%s has %d of webhook, mail and command", t.Name, n).
			Remedy("set exactly one of them")
	case len(t.Mail) > 0 && t.From == "":
		return problem.Errorf("notify.%s has no sender", t.Name).
			Remedy(`write from = "kettle@example.org"`)
	case t.User != "" && t.PasswordFile == "":
		return problem.Errorf("notify.%s has a login without a password", t.Name).
			Remedy(`set password_file to a file that only you can read`)
	}
	return nil
}
