// Package kmod is the kind of kernel modules.
package kmod

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "kmod",
	Area:  "system",
	Tools: []schema.Tool{{When: []string{"loaded"}, Any: []string{"modprobe"}, Package: "kmod"}},
	About: "A kernel module: loaded, loaded at boot, or blacklisted.",
	Doc: "Modules to load at boot are listed in /etc/modules-load.d; options and blacklisted modules are in " +
		"/etc/modprobe.d, each in its own file. A built-in module counts as loaded.",
	Attrs: []schema.Attr{
		{Name: "loaded", Type: schema.Bool, Default: "unchanged", Doc: "Whether it is loaded now.",
			Examples: []string{"true"}},
		{Name: "at_boot", Type: schema.Bool, Default: "unchanged", Doc: "Whether it is loaded at every boot.",
			Examples: []string{"true"}},
		{Name: "kept_out", Type: schema.Bool, Default: "unchanged",
			Doc: "Prevent it from being loaded, even under its other names.", Examples: []string{"true"}},
		{Name: "options", Type: schema.Text, Default: "unchanged",
			Doc:      "Its parameters, used the next time it is loaded.",
			Examples: []string{`"numdummies=2"`}},
	},
	Examples: []schema.Example{
		{About: "A module to load now and at every boot", TOML: `[kmod.br_netfilter]
loaded = true
at_boot = true
`},
		{About: "A module that must never be loaded", TOML: `[kmod.floppy]
loaded = false
kept_out = true
`},
	},
	NoAbsent: "set loaded = false, at_boot = false and kept_out = false",
	Leave:    value.Attrs{"loaded": false, "at_boot": false, "kept_out": false, "options": ""},
	Captures: []string{"loaded", "at_boot", "kept_out", "options"},
	TooMany:  "br_netfilter",
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid module name %q", name).
				Remedy("use letters, digits, dashes and underscores")
		}
		return strings.ReplaceAll(name, "-", "_"), nil // to the kernel both are one
	},
	Needs: func(schema.Needer) []value.Ref {
		return []value.Ref{{Kind: "package", Name: "kmod"}, {Kind: "dir", Name: "/etc/modprobe.d"},
			{Kind: "dir", Name: "/etc/modules-load.d"}}
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		switch {
		case a.Bool("kept_out") && (a.Bool("loaded") || a.Bool("at_boot")):
			return "kept_out", problem.Errorf("kept_out cannot be combined with loaded or at_boot").
				Remedy("keep one of them")
		case !a.Has("loaded") && !a.Has("at_boot") && !a.Has("kept_out") && !a.Has("options"):
			return "", problem.Errorf("nothing is declared for the module").
				Remedy("set loaded, at_boot, kept_out or options")
		case value.HasControl(a.Text("options")) || strings.Contains(a.Text("options"), "\\"):
			return "options", problem.Errorf("the options have several lines").Remedy("write them on one line")
		}
		return "", nil
	},
}

var nameForm = lazy.Regexp(`^[A-Za-z0-9_][A-Za-z0-9_-]{0,63}$`)

// Kind is the kind of kernel modules.
func Kind() kind.Kind { return kind.Each(modules{}) }

type modules struct{}

func (modules) Schema() *schema.Kind { return about }

type state struct {
	loaded, builtIn bool
	boot, keptOut   bool
	options         string
	atBoot, rules   kind.Text
}

func bootFile(name string) string  { return "/etc/modules-load.d/jadekettle-" + name + ".conf" }
func rulesFile(name string) string { return "/etc/modprobe.d/jadekettle-" + name + ".conf" }

// Keeps gives the module's files.
func (modules) Keeps(_ *kind.Env, t plan.Task) []string {
	return []string{bootFile(t.Ref.Name), rulesFile(t.Ref.Name)}
}

// Read asks the kernel, and looks at the module's files.
func (modules) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	name := t.Ref.Name
	list, err := machine.ReadFile(env.Machine, "/proc/modules")
	for line := range strings.Lines(string(list)) {
		first, _, _ := strings.Cut(line, " ")
		st.loaded = st.loaded || first == name
	}
	if err == nil && !st.loaded {
		_, missing := env.Machine.ReadDir("/sys/module/" + name)
		st.builtIn = missing == nil
	}
	if st.atBoot, err = env.ReadOptional(bootFile(name)); err != nil {
		return st, err
	}
	if st.rules, err = env.ReadOptional(rulesFile(name)); err != nil {
		return st, err
	}
	for _, line := range kind.SplitLines(st.atBoot.Text).List {
		st.boot = st.boot || strings.TrimSpace(line) == name
	}
	for _, line := range kind.SplitLines(st.rules.Text).List {
		f := strings.Fields(line)
		st.keptOut = st.keptOut || len(f) > 2 && f[0] == "install" && f[1] == name
		if len(f) > 2 && f[0] == "options" && f[1] == name {
			st.options = strings.Join(f[2:], " ")
		}
	}
	return st, nil
}

// Compare says what differs.
func (modules) Compare(t plan.Task, st state) []plan.Change {
	var out []plan.Change
	yes := func(what string, is bool) {
		if want := t.Attrs.Bool(what); t.Attrs.Has(what) && want != is {
			out = append(out, plan.Change{What: what, Was: kind.Yes(is, "yes", "no"),
				Becomes: kind.Yes(want, "yes", "no")})
		}
	}
	yes("loaded", st.loaded || st.builtIn)
	yes("at_boot", st.boot)
	yes("kept_out", st.keptOut)
	if want := options(t); t.Attrs.Has("options") && want != st.options {
		out = append(out, plan.Change{What: "options", Was: st.options, Becomes: want})
	}
	return out
}

func options(t plan.Task) string { return strings.Join(strings.Fields(t.Attrs.Text("options")), " ") }

// Write writes the module's files, and then loads or unloads it.
func (modules) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	t, st, name := w.Task, w.State, w.Task.Ref.Name
	if st.builtIn && w.Differs("loaded") {
		return problem.Errorf("%s is built into the kernel and cannot be unloaded", name).Remedy("remove loaded")
	}
	if t.Attrs.Has("at_boot") {
		st.boot = t.Attrs.Bool("at_boot")
	}
	if t.Attrs.Has("kept_out") {
		st.keptOut = t.Attrs.Bool("kept_out")
	}
	if t.Attrs.Has("options") {
		st.options = options(t)
	}
	boot, rules := "", ""
	if st.boot {
		boot = name + "\n"
	}
	if st.options != "" {
		rules = "options " + name + " " + st.options + "\n"
	}
	if st.keptOut { // blacklist alone leaves it to be loaded by its own name; see modprobe.d(5)
		rules += "blacklist " + name + "\ninstall " + name + " /bin/false\n"
	}
	if err := cmp.Or(env.PutText(ctx, t, st.atBoot, boot), env.PutText(ctx, t, st.rules, rules)); err != nil {
		return err
	}
	if !w.Differs("loaded") {
		return nil
	}
	args := []string{"modprobe", "--", name}
	if !t.Attrs.Bool("loaded") {
		args = []string{"modprobe", "-r", "--", name}
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: args}, nil)
	if err != nil {
		return errors.Join(err, back(ctx, env, t, w.State))
	}
	return nil
}

// back gives the module's files again what they held.
func back(ctx context.Context, env *kind.Env, t plan.Task, was state) error {
	for file, text := range map[string]string{bootFile(t.Ref.Name): was.atBoot.Text,
		rulesFile(t.Ref.Name): was.rules.Text} {
		now, err := env.ReadOptional(file)
		if err == nil {
			err = env.PutText(ctx, t, now, text)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Prior gives all that can be said of the module.
func (modules) Prior(_ context.Context, _ *kind.Env, t plan.Task, st state) ([]plan.Prior, error) {
	return []plan.Prior{plan.NewPrior(t.Ref, value.Attrs{"loaded": st.loaded || st.builtIn, "at_boot": st.boot,
		"kept_out": st.keptOut, "options": st.options})}, nil
}

// Capture declares a module as it is.
func (modules) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	attrs := map[string]any{"loaded": st.loaded || st.builtIn, "at_boot": st.boot}
	if st.keptOut {
		attrs["kept_out"] = true
	}
	if st.options != "" {
		attrs["options"] = st.options
	}
	return plan.Captured{Attrs: attrs}, nil
}
