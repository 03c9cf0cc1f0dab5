// Package cron is the kind of what a host does by itself at set times.
package cron

import (
	"context"
	"strings"

	parser "github.com/robfig/cron/v3"

	"jadekettle/internal/core/cronline"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// folder is where cron(8) looks for files with a user in each line.
const folder = "/etc/cron.d/"

var about = &schema.Kind{
	Name:  "cron",
	Signs: true,
	Area:  "system",
	About: "A cron job.",
	Doc: "Each job has its own file, /etc/cron.d/NAME, which cron reads automatically. The declaration defines " +
		"the whole file.",
	Attrs: []schema.Attr{
		{Name: "schedule", Type: schema.Text, Required: true,
			Doc: "Five fields (minute, hour, day of the month, month, day of the week), or a shortcut such as " +
				"@daily.",
			Examples: []string{`"15 3 * * *"`, `"@hourly"`}},
		{Name: "run", Type: schema.Text, Required: true,
			Doc:      "The command line, run by the shell. A % needs no backslash.",
			Examples: []string{`"mudflat-archive --rotate"`}},
		{Name: "user", Type: schema.Name, Default: "root", Doc: "The user to run it as.",
			Examples: []string{`"tidelog"`}},
		{Name: "environment", Type: schema.Values, Doc: "Environment variables, such as MAILTO; every user of the " +
			"host can read them.",
			Examples: []string{`{ MAILTO = "keepers@example.org" }`}},
	},
	Examples: []schema.Example{
		{About: "A job that runs every night", TOML: `[cron.rotate-readings]
schedule = "15 3 * * *"
run = "mudflat-archive --rotate"
environment = { MAILTO = "keepers@example.org" }
`},
		{About: "A job that must be removed", TOML: `[cron.old-feed]
absent = true
`},
	},
	Captures: []string{"schedule", "run", "user", "environment"},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("cron does not read a file named %q", name).
				Remedy("use letters, digits, dashes and underscores")
		}
		return name, nil
	},
	Part: func(name string) string { return folder + name },
	Needs: func(n schema.Needer) []value.Ref {
		out := []value.Ref{{Kind: "package", Name: "cron"}, {Kind: "package", Name: "cronie"},
			{Kind: "dir", Name: "/etc/cron.d"}}
		if user := n.Attrs.Text("user"); user != "" {
			out = append(out, value.Ref{Kind: "user", Name: user})
		}
		return out
	},
	Check: check,
}

// nameForm is what Debian's cron takes; see "DEBIAN SPECIFIC" in cron(8).
var nameForm = lazy.Regexp(`^[A-Za-z0-9_-]{1,60}$`)

func check(_ string, a value.Attrs) (string, error) {
	if s := a.Text("schedule"); s != "" {
		if strings.HasPrefix(s, "@every") || strings.Contains(s, "TZ=") {
			return "schedule", problem.Errorf("cron on a host does not support %q", s).Remedy("use five fields")
		}
		line, err := cronline.Plain(s)
		if err != nil {
			return "schedule", err
		}
		if _, err := parser.ParseStandard(line); err != nil && s != "@reboot" {
			return "schedule", problem.Errorf("invalid schedule %q: %s", s, strings.TrimPrefix(err.Error(), "cron: ")).
				Remedy("write minute, hour, day, month and day of the week, such as \"15 3 * * *\"")
		}
	}
	if value.HasControl(strings.ReplaceAll(a.Text("run"), "\t", "")) {
		return "run", problem.Errorf("run has several lines, but cron allows one").Remedy("move them to a script")
	}
	for name, v := range a.Table("environment") {
		text, isText := value.Text(v)
		if !variable().MatchString(name) || !isText || value.HasControl(text) || strings.Contains(text, "\"") {
			return "environment", problem.Errorf("cron does not accept %s in a variable", name).
				Remedy("secrets, line breaks and double quotes are not allowed")
		}
	}
	return "", nil
}

var variable = lazy.Regexp(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Kind is the kind of schedules.
func Kind() kind.Kind { return schedules{kind.Edits(edit{})} }

// schedules adds to the editing what can be captured.
type schedules struct{ kind.Kind }

// own says how a file of one schedule is written and read.
var own = kind.OwnFile{Folder: folder, Fits: nameForm().MatchString, Parse: parsed, Content: content,
	Else: "more than one schedule"}

// Names lists the files that hold one schedule and nothing else.
func (schedules) Names(_ context.Context, env *kind.Env) ([]string, error) {
	return own.Names(env), nil
}

// Capture declares a file of one schedule.
func (schedules) Capture(_ context.Context, env *kind.Env, t plan.Task, _ any) (plan.Captured, error) {
	return own.Capture(env, t)
}

// parsed reads a file with variables and, after them, one line of crontab(5).
func parsed(text string) (map[string]any, bool) {
	attrs, env := map[string]any{}, map[string]any{}
	for _, line := range kind.SplitLines(text).List {
		line = strings.Trim(line, blanks)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if value.HasControl(strings.ReplaceAll(line, "\t", " ")) { // which no declaration of it may have
			return nil, false
		}
		if attrs["run"] != nil { // another one, or a variable that this one does not have
			return nil, false
		}
		name, v, assigned := strings.Cut(line, "=")
		if name = strings.Trim(name, blanks); assigned && variable().MatchString(name) {
			env[name] = unquoted(strings.Trim(v, blanks))
			continue
		}
		n := 5
		if strings.HasPrefix(line, "@") {
			n = 1
		}
		var fields []string
		for range n + 1 {
			i := strings.IndexAny(line, blanks)
			if i < 0 {
				return nil, false
			}
			fields, line = append(fields, line[:i]), strings.TrimLeft(line[i:], blanks)
		}
		if bare(line) {
			return nil, false // it has a standard input
		}
		attrs["schedule"], attrs["user"] = strings.Join(fields[:n], " "), fields[n]
		attrs["run"] = strings.ReplaceAll(line, `\%`, "%")
	}
	if len(env) > 0 {
		attrs["environment"] = env
	}
	return attrs, attrs["run"] != nil
}

// blanks part the words of crontab(5).
const blanks = " \t"

// unquoted takes the quotes from around a variable's value.
func unquoted(v string) string {
	if len(v) > 1 && (v[0] == '"' || v[0] == '\'') && v[len(v)-1] == v[0] {
		return v[1 : len(v)-1]
	}
	return v
}

// bare says whether a % has no backslash before it: what follows one is given to
// the command to read.
func bare(run string) bool { return strings.Contains(strings.ReplaceAll(run, `\%`, ""), "%") }

// content is the file for what is declared.
func content(t plan.Task) string {
	a := t.Attrs
	var b strings.Builder
	b.WriteString("# " + kind.Signature(t) + "\n")
	env := a.Table("environment")
	for _, name := range value.Keys(env) {
		text, _ := value.Text(env[name])
		b.WriteString(name + "=\"" + text + "\"\n")
	}
	user := a.Text("user")
	if user == "" {
		user = "root"
	}
	// cron(8) takes a bare % as the end of a line.
	b.WriteString(a.Text("schedule") + " " + user + " " + strings.ReplaceAll(a.Text("run"), "%", `\%`) + "\n")
	return b.String()
}

type edit struct{}

func (edit) Schema() *schema.Kind { return about }

func (edit) File(t plan.Task) string { return folder + t.Ref.Name }

// Edit gives the whole file.
func (edit) Edit(t plan.Task, _ string) (string, error) { return content(t), nil }

// Removes says that the file goes with its declaration.
func (edit) Removes() bool { return true }
