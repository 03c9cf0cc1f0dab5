// Package link is the kind of symbolic links.
package link

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "link",
	Area:  "files",
	Space: schema.Paths,
	About: "A symlink.",
	Doc: "A link with another target is replaced in one step. A file or directory in its place is left alone, " +
		"and the task fails. The target does not have to exist.",
	Attrs: []schema.Attr{
		{Name: "to", Type: schema.Text, Required: true,
			Doc:      "The target: an absolute path, or one relative to the link's directory.",
			Examples: []string{`"/srv/tide/charts-2026"`, `"../charts"`}},
	},
	Examples: []schema.Example{
		{About: "A fixed name for a target that changes", TOML: `[dir."/srv/charts-2026"]
owner = "root"
mode = "0755"

[link."/srv/charts"]
to = "/srv/charts-2026"
`},
		{About: "A link to remove", TOML: `[link."/etc/old-charts"]
absent = true
`},
	},
	Captures: []string{"to"},
	TooMany:  "/etc/localtime",
	Canon:    schema.FilePath,
	Needs: func(n schema.Needer) []value.Ref {
		out := kind.ParentDirs(n)
		if to := target(n.Ref.Name, n.Attrs.Text("to")); to != n.Ref.Name {
			out = append(out, value.Ref{Kind: "dir", Name: to}, value.Ref{Kind: "file", Name: to})
		}
		return out
	},
	Check: func(name string, a value.Attrs) (string, error) {
		to := a.Text("to")
		if a.Has("to") && target(name, to) == name {
			return "to", problem.Errorf("the link points to itself").Remedy("use another target")
		}
		if a.Has("to") && a.Bool("absent") {
			return "to", problem.Errorf("to cannot be combined with absent").Remedy("remove one of them")
		}
		if a.Has("to") && to == "" || strings.ContainsAny(to, "\x00\n") {
			return "to", problem.Errorf("invalid target %s", value.Shown(to)).
				Remedy("use a path")
		}
		return "", nil
	},
}

// target is where a link leads, as an absolute path.
func target(name, to string) string {
	if path.IsAbs(to) {
		return path.Clean(to)
	}
	return path.Join(path.Dir(name), to)
}

// Kind is the kind of links.
func Kind() kind.Kind { return kind.Each(links{}) }

type links struct{}

func (links) Schema() *schema.Kind { return about }

// Stale says that a link may lead to what services are read from.
func (links) Stale() []kind.Topic { return []kind.Topic{kind.TheServices} }

type state struct {
	there bool
	to    string
}

// Read looks where a link leads.
func (links) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	d, name, err := env.Split(t.Ref.Name)
	if errors.Is(err, kind.ErrNotYet) && t.Absent {
		return state{}, nil
	}
	if err != nil {
		return state{}, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return state{}, nil
	case err != nil:
		return state{}, err
	case info.Type&fs.ModeSymlink == 0:
		return state{}, problem.Errorf("%s exists but is not a symlink", t.Ref.Name).Remedy("move it away by hand")
	}
	to, err := d.Readlink(name)
	return state{true, to}, err
}

// Compare says what differs.
func (links) Compare(t plan.Task, st state) []plan.Change {
	switch to := t.Attrs.Text("to"); {
	case t.Absent && st.there:
		return []plan.Change{kind.Existence(true)}
	case t.Absent:
		return nil
	case !st.there:
		return kind.Made(t, "to")
	case st.to != to:
		return []plan.Change{{What: "to", Was: st.to, Becomes: to}}
	}
	return nil
}

// Write makes, exchanges or removes a link.
func (links) Write(_ context.Context, env *kind.Env, w kind.Differing[state]) error {
	d, name, err := env.Split(w.Task.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	if w.Task.Absent {
		if err := d.Remove(name); err != nil {
			return err
		}
		return d.Sync()
	}
	return env.Symlink(w.Task, d, path.Dir(w.Task.Ref.Name), name, w.Task.Attrs.Text("to"))
}

// Prior gives the link.
func (links) Prior(_ context.Context, env *kind.Env, t plan.Task, _ state) ([]plan.Prior, error) {
	return env.PriorAt(t.Ref.Name)
}

// Capture declares a link with where it leads.
func (links) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Attrs: map[string]any{"to": st.to}}, nil
}
