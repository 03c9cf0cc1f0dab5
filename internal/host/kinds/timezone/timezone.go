// Package timezone is the kind of a host's time zone.
package timezone

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// The link that says the zone, and where zones lie; see localtime(5). Debian
// keeps the name in a file as well.
const (
	link  = "/etc/localtime"
	zones = "/usr/share/zoneinfo/"
	named = "/etc/timezone"
)

var about = &schema.Kind{
	Name:     "timezone",
	Area:     "system",
	Single:   true,
	About:    "The host's time zone.",
	Doc:      "The declaration's name is the time zone. Running programs may keep the old zone until they restart.",
	NoAbsent: "declare another zone, such as UTC",
	Examples: []schema.Example{
		{About: "The zone of a place", TOML: "[timezone.\"Europe/Berlin\"]\n"},
		{About: "Universal time", TOML: "[timezone.UTC]\n"},
	},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) || strings.Contains(name, "..") {
			return "", problem.Errorf("invalid time zone %q", name).Remedy("use one such as Europe/Berlin or UTC")
		}
		return name, nil
	},
	Part: func(string) string { return link },
	Needs: func(schema.Needer) []value.Ref {
		return []value.Ref{{Kind: "package", Name: "tzdata"}}
	},
}

var nameForm = lazy.Regexp(`^[A-Za-z][A-Za-z0-9_+-]*(/[A-Za-z0-9_+-]+)*$`)

// Kind is the kind of time zones.
func Kind() kind.Kind { return kind.Each(timezones{}) }

type timezones struct{}

func (timezones) Schema() *schema.Kind { return about }

type state struct {
	zone  string // empty when the link leads to no zone, or is none
	named kind.Text
}

// Read looks where the link leads.
func (timezones) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	d, name, err := env.Split(link)
	if err != nil {
		return st, err
	}
	defer d.Close()
	if to, err := d.Readlink(name); err == nil {
		if !path.IsAbs(to) {
			to = path.Join(path.Dir(link), to)
		}
		st.zone, _ = strings.CutPrefix(path.Clean(to), zones)
	}
	if st.named, err = env.ReadText(named); err != nil {
		return st, err
	}
	f, err := env.Machine.Open(zones + t.Ref.Name)
	if errors.Is(err, fs.ErrNotExist) {
		return st, kind.NotYet(problem.Errorf("the host does not know the time zone %s", t.Ref.Name).
			Remedy("correct the name, or declare the package tzdata"))
	}
	if err != nil {
		return st, err
	}
	return st, f.Close()
}

// Compare says what differs.
func (timezones) Compare(t plan.Task, st state) []plan.Change {
	if st.zone == t.Ref.Name && (!st.named.There || strings.TrimSpace(st.named.Text) == t.Ref.Name) {
		return nil
	}
	was := st.zone
	if was == t.Ref.Name {
		was = strings.TrimSpace(st.named.Text) + " in " + named
	}
	return []plan.Change{{What: "zone", Was: was, Becomes: t.Ref.Name}}
}

// Write lets the link lead to the zone.
func (timezones) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	if st := w.State.named; st.There {
		if err := env.WriteText(ctx, w.Task, st, w.Task.Ref.Name+"\n", 0o644, ""); err != nil {
			return err
		}
	}
	d, name, err := env.Split(link)
	if err != nil {
		return err
	}
	defer d.Close()
	return env.Symlink(w.Task, d, path.Dir(link), name, zones+w.Task.Ref.Name)
}

// Names gives the zone that the host has.
func (k timezones) Names(ctx context.Context, env *kind.Env) ([]string, error) {
	st, err := k.Read(ctx, env, plan.Task{Ref: value.Ref{Name: "UTC"}})
	if st.zone == "" {
		return nil, err
	}
	return []string{st.zone}, nil
}

// Prior gives the link, and the file that some systems have beside it.
func (timezones) Prior(_ context.Context, env *kind.Env, _ plan.Task, st state) ([]plan.Prior, error) {
	return env.PriorAt(link, st.named.Path)
}

// Capture declares the zone that was asked for, which it has or has not.
func (timezones) Capture(_ context.Context, _ *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	return kind.CapturedSingle(t, st.zone)
}
