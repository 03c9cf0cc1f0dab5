// Package command is the kind of commands that are run on a host.
package command

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "command",
	Area:  "system",
	About: "A command to run, for anything that no other kind covers.",
	Doc: "Choose any name. A preview does not run the command, only done_if, which must not change anything. " +
		"After the command has run, the condition in done_if or done_if_exists must be met, or the task has " +
		"failed. A command that exceeds its timeout leaves no process behind.",
	Attrs: []schema.Attr{
		{Name: "run", Type: schema.Text, List: true, Doc: "The program and its arguments, passed literally.",
			Examples: []string{`["tide-import", "--all"]`}},
		{Name: "script", Type: schema.Text, Doc: "A script for sh, instead of run.",
			Examples: []string{`"cd /srv/tide && ./rebuild"`}},
		{Name: "done_if", Type: schema.Text, Doc: "A line for sh that succeeds if there is nothing to do.",
			Examples: []string{`"test /srv/tide/index -nt /srv/tide/readings"`}},
		{Name: "done_if_exists", Type: schema.Path, Doc: "A path that exists if there is nothing to do.",
			Examples: []string{`"/srv/tide/index"`}},
		{Name: "always", Type: schema.Bool, Default: "false", Doc: "Run it at every apply.",
			Examples: []string{"true"}},
		{Name: "run_as", Type: schema.Name, Default: "the login user (root when elevated)",
			Doc:      "The user to run it as.",
			Examples: []string{`"tidelog"`}},
		{Name: "folder", Type: schema.Path, Default: "/", Doc: "The working directory.",
			Examples: []string{`"/srv/tide"`}},
		{Name: "environment", Type: schema.Values,
			Doc:      "Environment variables; other users of the host can see them.",
			Examples: []string{`{ TZ = "UTC", GAUGES = 4 }`}},
		{Name: "input", Type: schema.Quiet, Doc: "Its standard input; may contain a secret.",
			Examples: []string{`"${data.feed.token}"`}},
		{Name: "show_output", Type: schema.Bool, Default: "true, unless its input is secret",
			Doc: "Show and keep its output if it fails.", Examples: []string{"false"}},
		{Name: "timeout", Type: schema.Duration, Default: `"10m"`, Doc: "The time limit.",
			Examples: []string{`"2h"`}},
	},
	Examples: []schema.Example{
		{About: "A step that a program needs after each change of its settings", TOML: `[file."/etc/tide-stations"]
content = "north-pier\nsouth-pier\n"
owner = "root"
mode = "0644"

[command."announce the stations"]
run = ["touch", "/etc/tide-stations.announced"]
only_if_changed = ["file /etc/tide-stations"]
`},
		{About: "A step that is done once", TOML: `[command."build the index"]
script = "touch /etc/tide-index"
done_if_exists = "/etc/tide-index"
run_as = "root"
timeout = "2m"
`},
	},
	NoAbsent: "remove the declaration, or declare a command that reverts it",
	Canon:    schema.CanonWords("a command", "describe what it does in a few words"),
	Needs: func(n schema.Needer) []value.Ref {
		var out []value.Ref
		if user := n.Attrs.Text("run_as"); user != "" {
			out = append(out, value.Ref{Kind: "user", Name: user})
		}
		if folder := n.Attrs.Text("folder"); folder != "" {
			out = append(out, value.Ref{Kind: "dir", Name: folder})
		}
		if words := n.Attrs.Texts("run"); len(words) > 0 {
			out = append(out, value.Ref{Kind: "file", Name: words[0]},
				value.Ref{Kind: "package", Name: path.Base(words[0])})
		}
		return out
	},
	Check: check,
}

func check(_ string, a value.Attrs) (string, error) {
	run := a.Texts("run")
	switch {
	case a.Has("run") && a.Has("script"):
		return "script", problem.Errorf("run and script cannot be combined").Remedy("keep one of them")
	case !a.Has("run") && !a.Has("script"):
		return "", problem.Errorf("run or script is required").Remedy("set one of them")
	case a.Has("run") && (len(run) == 0 || run[0] == "" || strings.HasPrefix(run[0], "-")):
		return "run", problem.Errorf("run is empty").Remedy("write run = [\"PROGRAM\", \"ARGUMENT\"]")
	}
	conditions := 0
	for _, name := range []string{"done_if", "done_if_exists", "always"} {
		if a.Has(name) && a[name] != false {
			conditions++
		}
	}
	switch {
	case conditions > 1:
		return "", problem.Errorf("done_if, done_if_exists and always cannot be combined").Remedy("keep one of them")
	case conditions == 0 && !a.Has(schema.OnlyIfChanged):
		return "", problem.Errorf("no condition is set, so every apply would run it").
			Remedy("set done_if, done_if_exists or only_if_changed, or always = true if this is intended")
	}
	for name, v := range a.Table("environment") {
		if _, secret := v.(value.Secret); secret {
			return "environment", problem.Errorf(
				"%s contains a secret, but other users of the host can see the environment",
				name).Remedy("pass it with input")
		}
		if !variable().MatchString(name) {
			return "environment", problem.Errorf("invalid variable name %q", name).
				Remedy("use letters, digits and _")
		}
	}
	return "", nil
}

// variable is the form of a variable's name (POSIX, "Environment Variable Definition").
var variable = lazy.Regexp(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Kind is the kind of commands.
func Kind() kind.Kind { return kind.Each(commands{}) }

type commands struct{}

func (commands) Schema() *schema.Kind { return about }

// Stale says that a command may change anything.
func (commands) Stale() []kind.Topic {
	return []kind.Topic{kind.TheAccounts, kind.ThePackages, kind.TheServices}
}

type state struct{ done bool }

// Read asks whether there is something to do.
func (commands) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	c, err := prepared(env, t)
	if err != nil {
		return state{}, err
	}
	switch p := t.Attrs.Text("done_if_exists"); {
	case p != "":
		done, err := env.Exists(p)
		return state{done}, err
	case t.Attrs.Has("done_if"):
		c.Args, c.Stdin = []string{"sh", "-c", t.Attrs.Text("done_if")}, ""
		out, err := env.Machine.Run(ctx, c)
		if err == nil && out.Code == 127 {
			err = kind.NotYet(problem.Errorf("done_if uses a program that does not exist").
				Remedy("declare the package that installs it"))
		}
		return state{out.Code == 0}, err
	}
	return state{env.Did[t.Ref]}, nil
}

// quiet says whether nobody sees what a command prints: one that is given a secret may print it in
// a form that nothing knows.
func quiet(t plan.Task) bool {
	_, secret := t.Attrs.Secret("input")
	return !t.Attrs.Bool("show_output") && (secret || t.Attrs.Has("show_output"))
}

// prepared is the command with all that is around it.
func prepared(env *kind.Env, t plan.Task) (machine.Command, error) {
	c := machine.Command{Args: t.Attrs.Texts("run"), Folder: t.Attrs.Text("folder"), Stdin: t.Attrs.Text("input"),
		Quiet: quiet(t)}
	if t.Attrs.Has("script") {
		c.Args = []string{"sh", "-c", t.Attrs.Text("script")}
	}
	if s, secret := t.Attrs.Secret("input"); secret {
		c.Stdin = s.Reveal()
	}
	variables := t.Attrs.Table("environment")
	for _, name := range value.Keys(variables) {
		text, _ := value.Text(variables[name])
		c.Env = append(c.Env, name+"="+text)
	}
	if limit := t.Attrs.Text("timeout"); limit != "" {
		c.Limit, _ = measure.ParseDuration(limit) // checked with the manifest
	}
	if user := t.Attrs.Text("run_as"); user != "" {
		rights, err := env.Rights(user)
		if err != nil {
			return c, err
		}
		c.As = rights
	}
	if c.Folder != "" {
		d, err := env.Machine.Dir(c.Folder)
		if errors.Is(err, fs.ErrNotExist) {
			return c, kind.NotYet(problem.Errorf("the directory %s does not exist", c.Folder).
				Remedy("declare it: [dir.%q]", c.Folder))
		}
		if err != nil {
			return c, err
		}
		d.Close()
	}
	return c, nil
}

// Compare says what would be run.
func (commands) Compare(t plan.Task, st state) []plan.Change {
	if st.done {
		return nil
	}
	run := plan.Change{What: "run", Was: "not done", Becomes: said(t)}
	if script := t.Attrs.Text("script"); strings.Contains(strings.TrimSpace(script), "\n") {
		run.Diff = kind.Diff("nothing", "the script", "", script)
	}
	out := []plan.Change{run}
	for _, name := range []string{"run_as", "folder", "environment"} {
		if text := kind.Said(t.Attrs[name]); text != "" {
			out = append(out, plan.Change{What: name, Becomes: text})
		}
	}
	if input := t.Attrs.Text("input"); strings.Contains(strings.TrimSpace(input), "\n") {
		out = append(out, plan.Change{What: "input", Becomes: kind.Bytes(int64(len(input))),
			Diff: kind.Diff("nothing", "the input", "", input)})
	} else if text := kind.Said(t.Attrs["input"]); text != "" {
		out = append(out, plan.Change{What: "input", Becomes: text})
	}
	return out
}

// said is a command in one line.
func said(t plan.Task) string {
	if words := t.Attrs.Texts("run"); len(words) > 0 {
		return shell.Join(words...)
	}
	first, more, _ := strings.Cut(strings.TrimSpace(t.Attrs.Text("script")), "\n")
	if more != "" {
		first += " ..."
	}
	return first
}

// leave creates what proves that a command is done on a machine that only pretended to run it.
func leave(env *kind.Env, path string) error {
	pretender, ok := env.Machine.(machine.Pretender)
	if !ok || !pretender.Pretends() {
		return nil
	}
	if there, err := env.Exists(path); there || err != nil {
		return err
	}
	return pretender.Leave(path)
}

// Write runs the command.
func (commands) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	c, err := prepared(env, w.Task)
	if err != nil {
		return err
	}
	_, err = machine.Do(ctx, env.Machine, c, nil)
	var failed *machine.CommandError
	if errors.As(err, &failed) {
		if w.Task.Attrs.Has("script") {
			failed.Program = "the script"
		}
		if quiet(w.Task) {
			failed.Output, failed.Last = machine.KeptText(""), value.Hidden
			err = problem.Errorf("%w", err).Remedy("set show_output = true to see its output")
		}
	}
	if err != nil {
		return err
	}
	if p := w.Task.Attrs.Text("done_if_exists"); p != "" {
		return leave(env, p)
	}
	if !w.Task.Attrs.Has("done_if") {
		if env.Did == nil {
			env.Did = map[value.Ref]bool{}
		}
		env.Did[w.Task.Ref] = true
	}
	return nil
}
