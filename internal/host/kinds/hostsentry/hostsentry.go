// Package hostsentry is the kind of lines in /etc/hosts.
package hostsentry

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// file is where hosts(5) has them.
const file = "/etc/hosts"

var about = &schema.Kind{
	Name:  "hosts_entry",
	Area:  "system",
	About: "The names of an address in /etc/hosts.",
	Doc: "The declaration's name is the IPv4 or IPv6 address. Its line gets exactly the declared names; other " +
		"lines and comments are kept.",
	Attrs: []schema.Attr{
		{Name: "names", Type: schema.Text, List: true, Required: true, Doc: "The names, with the full name first.",
			Examples: []string{`["gauge-01.example.org", "gauge-01"]`}},
	},
	Examples: []schema.Example{
		{About: "A host that is not in DNS", TOML: `[hosts_entry."192.0.2.21"]
names = ["gauge-01.example.org", "gauge-01"]
`},
		{About: "An address to remove", TOML: `[hosts_entry."2001:db8::9"]
absent = true
`},
	},
	Captures: []string{"names"},
	Canon: func(name string) (string, error) {
		a, err := netip.ParseAddr(name)
		if err != nil || a.Zone() != "" {
			return "", problem.Errorf("invalid address %q", name).Remedy("use one such as 192.0.2.21 or 2001:db8::21")
		}
		return a.String(), nil
	},
	Part: func(string) string { return file },
	Check: func(_ string, a value.Attrs) (string, error) {
		for _, n := range a.Texts("names") {
			if !nameForm().MatchString(n) {
				return "names", problem.Errorf("invalid host name %q", n).Remedy("use letters, digits, dashes and dots")
			}
		}
		if a.Has("names") && len(a.Texts("names")) == 0 {
			return "names", problem.Errorf("the address has no names").Remedy("add at least one, or set absent = true")
		}
		return "", nil
	},
}

var nameForm = lazy.Regexp(`^[A-Za-z0-9_]([A-Za-z0-9_.-]*[A-Za-z0-9])?$`)

// Kind is the kind of entries of /etc/hosts.
func Kind() kind.Kind { return entries{kind.Edits(edit{})} }

// entries adds to the editing what can be captured.
type entries struct{ kind.Kind }

// Names lists the addresses that the file names, loopback skipped.
func (entries) Names(_ context.Context, env *kind.Env) ([]string, error) {
	st, err := env.ReadText(file)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, line := range kind.SplitLines(st.Text).List {
		if a, names := parse(line); a.IsValid() && !a.IsLoopback() && !a.IsMulticast() && len(names) > 0 &&
			!slices.Contains(out, a.String()) {
			out = append(out, a.String())
		}
	}
	return out, nil
}

// Capture declares an address with its names.
func (entries) Capture(_ context.Context, env *kind.Env, t plan.Task, _ any) (plan.Captured, error) {
	st, err := env.ReadText(file)
	if err != nil {
		return plan.Captured{}, err
	}
	var names []any
	for _, line := range kind.SplitLines(st.Text).List {
		if a, list := parse(line); a.IsValid() && a.String() == t.Ref.Name {
			for _, n := range list {
				names = append(names, n)
			}
		}
	}
	if len(names) == 0 {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Attrs: map[string]any{"names": names}}, nil
}

// parse reads a line as hosts(5) has it.
func parse(line string) (netip.Addr, []string) {
	line, _, _ = strings.Cut(line, "#")
	f := strings.Fields(line)
	if len(f) == 0 {
		return netip.Addr{}, nil
	}
	a, err := netip.ParseAddr(f[0])
	if err != nil {
		return netip.Addr{}, nil
	}
	return a, f[1:]
}

type edit struct{}

func (edit) Schema() *schema.Kind { return about }

func (edit) File(plan.Task) string { return file }

// Edit gives the address its line.
func (edit) Edit(t plan.Task, text string) (string, error) {
	l := kind.SplitLines(text)
	var out []string
	done := t.Absent
	for _, line := range l.List {
		a, names := parse(line)
		switch {
		case !a.IsValid() || a.String() != t.Ref.Name:
			out = append(out, line)
		case done: // a second line of the address
		case slices.Equal(names, t.Attrs.Texts("names")):
			out, done = append(out, line), true
		default:
			out, done = append(out, written(t)), true
		}
	}
	if !done {
		out = append(out, written(t))
	}
	l.List = out
	return l.String(), nil
}

func written(t plan.Task) string {
	return t.Ref.Name + "\t" + strings.Join(t.Attrs.Texts("names"), " ")
}
