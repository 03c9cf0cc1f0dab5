// Package sysctl is the kind of kernel settings.
package sysctl

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// file is where what is declared is kept for the next boot; see sysctl.d(5).
const file = "/etc/sysctl.d/90-jadekettle.conf"

var about = &schema.Kind{
	Name:  "sysctl",
	Area:  "system",
	Tools: []schema.Tool{{When: []string{"value"}, Any: []string{"sysctl"}, Package: "procps"}},
	About: "A kernel setting, now and after a reboot.",
	Doc: "The value is set in the kernel first, and saved in /etc/sysctl.d/90-jadekettle.conf only if the kernel " +
		"accepts it. If declared absent, it is no longer set at boot; the current value remains until then.",
	Attrs: []schema.Attr{
		{Name: "value", Type: schema.Scalar, Required: true,
			Doc:      "The value; separate several numbers with spaces.",
			Examples: []string{`1`, `"4096 87380 6291456"`}},
		{Name: "at_boot", Type: schema.Bool, Default: "true", Doc: "Whether it is also set at every boot.",
			Examples: []string{"false"}},
	},
	Examples: []schema.Example{
		{About: "A host that forwards packets", TOML: `[sysctl."net.ipv4.ip_forward"]
value = 1
`},
		{About: "A setting to stop managing", TOML: `[sysctl."vm.swappiness"]
absent = true
`},
	},
	Captures: []string{"value"},
	TooMany:  "net.ipv4.ip_forward",
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) || strings.Contains(name, "..") {
			return "", problem.Errorf("invalid kernel setting %q", name).
				Remedy("write it as sysctl does, such as net.ipv4.ip_forward")
		}
		return name, nil
	},
	Part: func(string) string { return file },
	Needs: func(n schema.Needer) []value.Ref {
		first, _, _ := strings.Cut(strings.TrimPrefix(n.Ref.Name, "net."), ".")
		return []value.Ref{{Kind: "kmod", Name: first}, {Kind: "package", Name: "procps"}}
	},
	Check: func(_ string, a value.Attrs) (string, error) {
		if v := a.Text("value"); a.Has("value") && strings.TrimSpace(v) == "" ||
			value.HasControl(strings.ReplaceAll(v, "\t", "")) {
			return "value", problem.Errorf("invalid value %s", value.Shown(v)).
				Remedy("write it on one line")
		}
		return "", nil
	},
}

var nameForm = lazy.Regexp(`^[a-z0-9_]+(\.[A-Za-z0-9_*/:-]+)+$`)

// Kind is the kind of kernel settings.
func Kind() kind.Kind { return kind.Each(sysctls{}) }

type sysctls struct{}

func (sysctls) Schema() *schema.Kind { return about }

type state struct {
	now  string
	boot string // as it is kept; empty when it is not
	kept bool
	file kind.Text
}

// at is where the kernel shows a setting: dots part the steps, and a slash in
// the name represents a dot.
func at(name string) string {
	return "/proc/sys/" + strings.NewReplacer(".", "/", "/", ".").Replace(name)
}

// Read asks the kernel, and looks at what is kept.
func (sysctls) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	var err error
	if st.file, err = env.ReadText(file); err != nil && !errors.Is(err, kind.ErrNotYet) {
		return st, err
	}
	for _, line := range kind.SplitLines(st.file.Text).List {
		if name, v, ok := parse(line); ok && name == t.Ref.Name {
			st.boot, st.kept = v, true
		}
	}
	if t.Absent {
		return st, nil
	}
	text, err := machine.ReadFile(env.Machine, at(t.Ref.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return st, kind.NotYet(problem.Errorf("unknown kernel setting %s", t.Ref.Name).
			Remedy("correct the name, or declare the kmod that provides it"))
	}
	st.now = plain(string(text))
	return st, err
}

// parse reads a line of sysctl.d(5).
func parse(line string) (name, v string, ok bool) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' || line[0] == ';' {
		return "", "", false
	}
	name, v, ok = strings.Cut(line, "=")
	return strings.TrimPrefix(strings.TrimSpace(name), "-"), plain(v), ok
}

// plain writes a value with one space between its numbers.
func plain(v string) string { return strings.Join(strings.Fields(v), " ") }

// Compare says what differs.
func (sysctls) Compare(t plan.Task, st state) []plan.Change {
	want := plain(t.Attrs.Text("value"))
	var out []plan.Change
	switch {
	case t.Absent && st.kept:
		return []plan.Change{{What: "at boot", Was: st.boot, Becomes: "not set"}}
	case t.Absent:
		return nil
	case st.now != want:
		out = append(out, plan.Change{What: "value", Was: st.now, Becomes: want})
	}
	was, becomes := "not set", "not set"
	if st.kept {
		was = st.boot
	}
	if atBoot(t) {
		becomes = keptAs(t)
	}
	if was != becomes {
		out = append(out, plan.Change{What: "at boot", Was: was, Becomes: becomes})
	}
	return out
}

// bootValue is what a setting is kept with where that is another than holds now: no manifest says that, but a host may
// have been so before a run.
const bootValue = "boot_value"

// keptAs is the value that a setting has at every boot.
func keptAs(t plan.Task) string { return plain(cmp.Or(t.Attrs.Text(bootValue), t.Attrs.Text("value"))) }

// atBoot says whether a setting is to be set at every boot.
func atBoot(t plan.Task) bool {
	return !t.Absent && (!t.Attrs.Has("at_boot") || t.Attrs.Bool("at_boot"))
}

// Write gives the kernel the value, and keeps what it took.
func (sysctls) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	want := plain(w.Task.Attrs.Text("value"))
	if w.Differs("value") {
		c := machine.Command{Args: []string{"sysctl", "-q", "-w", w.Task.Ref.Name + "=" + want}}
		if _, err := machine.Do(ctx, env.Machine, c, nil); err != nil {
			return err
		}
	}
	st, err := env.ReadText(file)
	if err != nil {
		return err
	}
	l := kind.SplitLines(st.Text)
	l.List = slices.DeleteFunc(l.List, func(line string) bool {
		name, _, ok := parse(line)
		return ok && name == w.Task.Ref.Name
	})
	if atBoot(w.Task) {
		l.List = append(l.List, w.Task.Ref.Name+" = "+keptAs(w.Task))
	}
	return env.PutText(ctx, w.Task, st, l.String())
}

// Prior gives the value that holds; of one that is to be set at boot no more, that too.
func (k sysctls) Prior(_ context.Context, env *kind.Env, t plan.Task, st state) ([]plan.Prior, error) {
	if t.Absent {
		text, err := machine.ReadFile(env.Machine, at(t.Ref.Name))
		if err != nil {
			return nil, err
		}
		st.now = plain(string(text))
	}
	attrs := value.Attrs{"value": st.now, "at_boot": st.kept}
	if st.kept && st.boot != st.now {
		attrs[bootValue] = st.boot
	}
	return []plan.Prior{plan.NewPrior(t.Ref, attrs)}, nil
}

// Capture declares a setting with its value.
func (sysctls) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	return plan.Captured{Attrs: map[string]any{"value": st.now}}, nil
}
