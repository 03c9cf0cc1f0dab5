// Package locale is the kind of a host's language and customs.
package locale

import (
	"context"
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

// Where the system keeps what programs are to use (locale.conf(5); Debian has it
// elsewhere), and Debian what is to be made.
const (
	systemd = "/etc/locale.conf"
	debian  = "/etc/default/locale"
	wanted  = "/etc/locale.gen"
)

var about = &schema.Kind{
	Name:   "locale",
	Area:   "system",
	Tools:  []schema.Tool{{When: []string{"made"}, Any: []string{"locale-gen"}, Package: "locales"}},
	Single: true,
	About:  "The system locale.",
	Doc: "The declaration's name is the locale, which becomes the system's LANG. It is generated if it does " +
		"not exist and the system can generate it.",
	NoAbsent: "declare another one, such as C.UTF-8",
	Examples: []schema.Example{
		{About: "The basic locale that every system has", TOML: "[locale.\"C.UTF-8\"]\n"},
		{About: "A country's locale", TOML: "[locale.\"de_DE.UTF-8\"]\n"},
	},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid locale %q", name).Remedy("use one such as C.UTF-8 or de_DE.UTF-8")
		}
		return name, nil
	},
	Needs: func(schema.Needer) []value.Ref {
		return []value.Ref{{Kind: "package", Name: "locales"}, {Kind: "file", Name: wanted}}
	},
}

var nameForm = lazy.Regexp(`^(C|POSIX|[a-z]{2,3}(_[A-Z]{2})?)(\.[A-Za-z0-9-]+)?(@[a-z]+)?$`)

// Kind is the kind of locales.
func Kind() kind.Kind { return kind.Each(locales{}) }

type locales struct{}

func (locales) Schema() *schema.Kind { return about }

type state struct {
	lang string
	made bool
	file kind.Text
	gen  kind.Text // what is to be made, where the system makes them
}

// Read looks at the system's language, and whether it is there.
func (locales) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	var err error
	if st.file, err = env.ReadText(systemd); err == nil && (!st.file.There || isLinkTo(st.file)) {
		st.file, err = env.ReadText(debian)
	}
	if err != nil {
		return st, err
	}
	for _, line := range kind.SplitLines(st.file.Text).List {
		if v, ok := strings.CutPrefix(strings.TrimSpace(line), "LANG="); ok {
			st.lang = strings.Trim(v, `"'`)
		}
	}
	if st.gen, err = env.ReadText(wanted); err != nil {
		return st, err
	}
	out, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"locale", "-a"}}, nil)
	if err != nil {
		return st, err
	}
	for line := range strings.Lines(out.Stdout) {
		st.made = st.made || plain(line) == plain(t.Ref.Name)
	}
	if !st.made && !st.gen.There {
		return st, kind.NotYet(problem.Errorf("the host does not have the locale %s and cannot generate it",
			t.Ref.Name).
			Remedy("declare the package that provides it, such as locales"))
	}
	return st, nil
}

// isLinkTo says whether locale.conf leads to Debian's own file.
func isLinkTo(st kind.Text) bool { return st.Path == debian }

// plain writes a locale as `locale -a` does: the encoding in small letters and
// without dashes.
func plain(name string) string {
	name = strings.TrimSpace(name)
	lang, code, ok := strings.Cut(name, ".")
	if !ok {
		return name
	}
	code, at, modified := strings.Cut(code, "@")
	out := lang + "." + strings.ReplaceAll(strings.ToLower(code), "-", "")
	if modified {
		out += "@" + at
	}
	return out
}

// Compare says what differs.
func (locales) Compare(t plan.Task, st state) []plan.Change {
	var out []plan.Change
	if !st.made {
		out = append(out, plan.Change{What: "made", Was: "no", Becomes: "yes"})
	}
	if st.lang != t.Ref.Name {
		out = append(out, plan.Change{What: "LANG", Was: st.lang, Becomes: t.Ref.Name})
	}
	return out
}

// Write makes the locale and then sets it for programs.
func (locales) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	if w.Differs("made") {
		if err := generate(ctx, env, w.Task, w.State.gen); err != nil {
			return err
		}
	}
	if !w.Differs("LANG") {
		return nil
	}
	l := kind.SplitLines(w.State.file.Text)
	l.List = slices.DeleteFunc(l.List, func(line string) bool {
		return strings.HasPrefix(strings.TrimSpace(line), "LANG=")
	})
	l.List = append(l.List, "LANG="+w.Task.Ref.Name)
	return env.WriteText(ctx, w.Task, w.State.file, l.String(), 0o644, "")
}

// generate lets the system make a locale: its line in the list of those that are
// wanted loses its #, or is added.
func generate(ctx context.Context, env *kind.Env, t plan.Task, gen kind.Text) error {
	_, code, ok := strings.Cut(t.Ref.Name, ".")
	if !ok {
		return problem.Errorf("%s has no encoding", t.Ref.Name).Remedy("write it such as %s.UTF-8", t.Ref.Name)
	}
	code, _, _ = strings.Cut(code, "@")
	line := t.Ref.Name + " " + code
	l := kind.SplitLines(gen.Text)
	i := slices.IndexFunc(l.List, func(s string) bool { return strings.Trim(s, "# \t") == line })
	if i >= 0 {
		l.List[i] = line
	} else {
		l.List = append(l.List, line)
	}
	if err := env.WriteText(ctx, t, gen, l.String(), 0o644, ""); err != nil {
		return err
	}
	_, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{"locale-gen"}}, nil)
	return err
}

// Names gives the locale that the host has.
func (k locales) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	st, err := k.Read(ctx, env, plan.Task{Ref: value.Ref{Name: "C.UTF-8"}})
	if st.lang == "" {
		return nil, err
	}
	return []string{st.lang}, nil
}

// Prior gives the files that are edited. A locale that was made stays.
func (locales) Prior(_ context.Context, env *kind.Env, _ plan.Task, st state) ([]plan.Prior, error) {
	if st.made || !st.gen.There {
		return env.PriorAt(st.file.Path)
	}
	return env.PriorAt(st.file.Path, st.gen.Path)
}

// Capture declares the locale that was asked for, which it has or has not.
func (locales) Capture(_ context.Context, _ *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	return kind.CapturedSingle(t, st.lang)
}
