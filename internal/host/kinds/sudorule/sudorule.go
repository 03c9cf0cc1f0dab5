// Package sudorule is the kind of rules by which people use sudo.
package sudorule

import (
	"context"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// folder is what sudoers(5) includes by default.
const folder = "/etc/sudoers.d/"

var about = &schema.Kind{
	Name:  "sudo_rule",
	Signs: true,
	Area:  "accounts",
	About: "A sudo rule.",
	Doc: "Each rule has its own file in /etc/sudoers.d, which is put in place only after `visudo -c` has " +
		"accepted it. The declaration defines the whole file.",
	Attrs: []schema.Attr{
		{Name: "who", Type: schema.Text, List: true, Required: true,
			Doc:      "The users, and groups with a leading %, that may run the commands.",
			Examples: []string{`["maren", "%keepers"]`}},
		{Name: "run_as", Type: schema.Text, List: true, Default: `["root"]`, Doc: "The users to run them as; ALL " +
			"means any user.",
			Examples: []string{`["tidelog"]`}},
		{Name: "commands", Type: schema.Text, List: true, Default: `["ALL"]`,
			Doc:      "Commands with full paths, with or without arguments; ALL means any command.",
			Examples: []string{`["/usr/bin/systemctl restart tide-logger"]`}},
		{Name: "password", Type: schema.Bool, Default: "true", Doc: "Whether they must enter their own password.",
			Examples: []string{"false"}},
	},
	Examples: []schema.Example{
		{About: "A group that may do everything", TOML: `[group.keepers]

[sudo_rule.keepers]
who = ["%keepers"]
run_as = ["ALL"]
`},
		{About: "One command for one account, without a password", TOML: `[sudo_rule.tide-restart]
who = ["tidelog"]
commands = ["/usr/bin/systemctl restart tide-logger"]
password = false

[user.tidelog]
system = true
`},
	},
	Captures: []string{"who", "run_as", "commands", "password"},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("sudo does not read a file named %q", name).
				Remedy("use letters, digits, dashes and underscores")
		}
		return name, nil
	},
	Part: func(name string) string { return folder + name },
	Needs: func(n schema.Needer) []value.Ref {
		out := []value.Ref{{Kind: "package", Name: "sudo"}}
		for _, who := range append(n.Attrs.Texts("who"), n.Attrs.Texts("run_as")...) {
			if group, ok := strings.CutPrefix(who, "%"); ok {
				out = append(out, value.Ref{Kind: "group", Name: group})
			} else {
				out = append(out, value.Ref{Kind: "user", Name: who})
			}
		}
		return out
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		for _, name := range []string{"who", "run_as"} {
			for _, who := range a.Texts(name) {
				if !whoForm().MatchString(who) {
					return name, problem.Errorf("%q is not a user or a %%group", who).
						Remedy("use a name such as maren or %%keepers")
				}
			}
			if a.Has(name) && len(a.Texts(name)) == 0 {
				return name, problem.Errorf("%s is empty", name).Remedy("add a name, or set absent = true")
			}
		}
		for _, c := range a.Texts("commands") {
			if c != "ALL" && !strings.HasPrefix(strings.TrimPrefix(c, "!"), "/") || value.HasControl(c) ||
				strings.Contains(c, "\\") {
				return "commands", problem.Errorf("invalid command %q for sudo", c).
					Remedy("use its full path, such as /usr/bin/systemctl")
			}
		}
		return "", nil
	},
}

// sudo leaves out files whose names hold a dot or end in a tilde.
var (
	nameForm = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9_-]{0,60}$`)
	whoForm  = lazy.Regexp(`^%?[A-Za-z_][A-Za-z0-9_.-]*\$?$`)
)

// Kind is the kind of rules for sudo.
func Kind() kind.Kind { return rules{kind.Edits(edit{})} }

// rules adds that the candidate must pass visudo.
type rules struct{ kind.Kind }

// Write gives every rule its check.
func (k rules) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	for i := range work {
		attrs := value.Attrs{"check": "visudo -c -f ${candidate}"}
		for name, v := range work[i].Task.Attrs {
			attrs[name] = v
		}
		work[i].Task.Attrs = attrs
	}
	return k.Kind.Write(ctx, env, work)
}

// own says how a file of one rule is written and read.
var own = kind.OwnFile{Folder: folder, Fits: nameForm().MatchString, Parse: parsed, Content: content,
	Else: "more than one plain rule"}

// Names lists the files that hold one rule and nothing else.
func (rules) Names(_ context.Context, env *kind.Env) ([]string, error) { return own.Names(env), nil }

// Capture declares a file of one rule.
func (rules) Capture(_ context.Context, env *kind.Env, t plan.Task, _ any) (plan.Captured, error) {
	return own.Capture(env, t)
}

// ruleForm is a rule of sudoers(5) for all hosts, with its one tag that we know.
// It is made when it is wanted, since every worker's start would pay for it.
var ruleForm = lazy.Regexp(`^([^=]+?)\s+ALL\s*=\s*(?:\(([^():]*)(:[^()]*)?\))?\s*((?:NO)?PASSWD:)?\s*(.+)$`)

// plainly leaves out what a backslash makes a part of a word: a colon without one
// begins another rule on the same line.
var plainly = strings.NewReplacer(`\\`, "", `\:`, "", `\=`, "")

// parsed reads a file with one such rule.
func parsed(text string) (map[string]any, bool) {
	rule := ""
	for _, line := range kind.SplitLines(text).List {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "#include"):
		case rule != "":
			return nil, false
		default:
			rule = line
		}
	}
	m := ruleForm().FindStringSubmatch(rule)
	if m == nil || strings.HasSuffix(rule, `\`) || strings.ContainsAny(plainly.Replace(m[5]), "#:=") {
		return nil, false
	}
	attrs := map[string]any{"who": split(m[1]), "commands": split(m[5])}
	if m[2] != "" {
		attrs["run_as"] = split(m[2])
	}
	if m[4] == "NOPASSWD:" {
		attrs["password"] = false
	}
	group := strings.TrimSpace(strings.TrimPrefix(m[3], ":"))
	if _, err := about.Check("", attrs); err != nil || group != "" && (group != "ALL" || m[2] != "ALL") {
		return nil, false
	}
	return attrs, true
}

// split takes a list of sudoers apart, in which a backslash is before a comma
// of a word's own.
func split(s string) []any {
	var out []any
	word, escaped := "", false
	for _, r := range s + "," {
		switch {
		case escaped:
			word, escaped = word+string(r), false
		case r == '\\':
			escaped = true
		case r == ',':
			out, word = append(out, strings.TrimSpace(word)), ""
		default:
			word += string(r)
		}
	}
	return out
}

type edit struct{}

func (edit) Schema() *schema.Kind { return about }

func (edit) File(t plan.Task) string { return folder + t.Ref.Name }

// Removes says that the file goes with its declaration.
func (edit) Removes() bool { return true }

// Mode is what sudo wants of its files.
func (edit) Mode() uint32 { return 0o440 }

// Edit gives the whole file.
func (edit) Edit(t plan.Task, _ string) (string, error) { return content(t), nil }

// content is the file for what is declared; see sudoers(5), "User specification".
// In it commas, colons and equals signs of a command have a backslash before them.
func content(t plan.Task) string {
	a := t.Attrs
	list := func(name, otherwise string) []string {
		if texts := a.Texts(name); len(texts) > 0 {
			return texts
		}
		return []string{otherwise}
	}
	escape := strings.NewReplacer(",", `\,`, ":", `\:`, "=", `\=`)
	var commands []string
	for _, c := range list("commands", "ALL") {
		commands = append(commands, escape.Replace(c))
	}
	tag := ""
	if a.Has("password") && !a.Bool("password") {
		tag = "NOPASSWD: "
	}
	return "# " + kind.Signature(t) + "\n" + strings.Join(a.Texts("who"), ", ") +
		" ALL=(" + strings.Join(list("run_as", "root"), ", ") + ") " + tag + strings.Join(commands, ", ") + "\n"
}
