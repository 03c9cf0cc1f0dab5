// Package hostname is the kind of a host's own name.
package hostname

import (
	"cmp"
	"context"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// file keeps the name; see hostname(5).
const file = "/etc/hostname"

var about = &schema.Kind{
	Name:     "hostname",
	Area:     "system",
	Tools:    []schema.Tool{{When: []string{"name"}, Any: []string{"hostname"}, Package: "hostname"}},
	Single:   true,
	About:    "The host's name, now and after a reboot.",
	Doc:      "The declaration's name is the host name. Its entry in /etc/hosts is declared separately.",
	NoAbsent: "declare another name",
	Examples: []schema.Example{
		{About: "The host's name from the inventory", TOML: "[hostname.\"${host.name}\"]\n"},
		{About: "A full name, and what it resolves to on the host itself", TOML: `[hostname."gauge-01.example.org"]

[hosts_entry."127.0.1.1"]
names = ["gauge-01.example.org", "gauge-01"]
`},
	},
	Canon: func(name string) (string, error) {
		if len(name) > 64 || !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid host name %q", name).
				Remedy("use up to 64 letters, digits and dashes, with dots between the parts")
		}
		return name, nil
	},
	Part: func(string) string { return file },
	Needs: func(schema.Needer) []value.Ref {
		return []value.Ref{{Kind: "package", Name: "hostname"}}
	},
}

var nameForm = lazy.Regexp(`^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?)*$`)

// Kind is the kind of the host's name.
func Kind() kind.Kind { return kind.Each(names{}) }

type names struct{}

func (names) Schema() *schema.Kind { return about }

type state struct {
	now  string
	file kind.Text
}

// kept is the first line that is not a comment.
func (st state) kept() string {
	for line := range strings.Lines(st.file.Text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return line
		}
	}
	return ""
}

// Read asks the kernel, and looks at what is kept.
func (names) Read(_ context.Context, env *kind.Env, _ plan.Task) (state, error) {
	now, err := machine.ReadFile(env.Machine, "/proc/sys/kernel/hostname")
	if err != nil {
		return state{}, err
	}
	text, err := env.ReadText(file)
	return state{strings.TrimSpace(string(now)), text}, err
}

// bootName is what a host is called after its next boot, where that is another name than it has: no manifest
// says that, but it may have been so before a run.
const bootName = "boot_name"

// keptAs is the name that a host has at every boot.
func keptAs(t plan.Task) string { return cmp.Or(t.Attrs.Text(bootName), t.Ref.Name) }

// Compare says what differs.
func (names) Compare(t plan.Task, st state) []plan.Change {
	var out []plan.Change
	if st.now != t.Ref.Name {
		out = append(out, plan.Change{What: "name", Was: st.now, Becomes: t.Ref.Name})
	}
	if st.kept() != keptAs(t) {
		out = append(out, plan.Change{What: "at boot", Was: st.kept(), Becomes: keptAs(t)})
	}
	return out
}

// Write keeps the name and gives it to the kernel.
func (names) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	if w.Differs("at boot") {
		if err := env.WriteText(ctx, w.Task, w.State.file, keptAs(w.Task)+"\n", 0o644, ""); err != nil {
			return err
		}
	}
	if !w.Differs("name") {
		return nil
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"hostname", w.Task.Ref.Name}}, nil)
	return err
}

// Names gives the name that the host has.
func (names) Names(_ context.Context, env *kind.Env) ([]string, error) {
	now, err := machine.ReadFile(env.Machine, "/proc/sys/kernel/hostname")
	return []string{strings.TrimSpace(string(now))}, err
}

// Prior gives the name that the host has.
func (names) Prior(_ context.Context, _ *kind.Env, _ plan.Task, st state) ([]plan.Prior, error) {
	attrs := value.Attrs{}
	if kept := st.kept(); kept != "" && kept != st.now {
		attrs[bootName] = kept
	}
	return []plan.Prior{plan.NewPrior(value.Ref{Kind: about.Name, Name: st.now}, attrs)}, nil
}

// Capture declares the name that was asked for, which it has or has not.
func (names) Capture(_ context.Context, _ *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	return kind.CapturedSingle(t, st.now)
}
