// Package dir is the kind of folders.
package dir

import (
	"cmp"
	"context"
	"errors"
	"io/fs"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "dir",
	Area:  "files",
	Space: schema.Paths,
	About: "A folder, and whose it is.",
	Doc:   "What lies in the folder is left alone. The folder above it must exist or be declared.",
	Attrs: append([]schema.Attr{
		{Name: "with_contents", Type: schema.Bool, Default: "false",
			Doc:      "When absent: whether to remove all that lies in it as well; otherwise it must be empty.",
			Examples: []string{"true"}},
	}, kind.OwnerAttrs...),
	Examples: []schema.Example{
		{About: "A folder for one user alone", TOML: `[dir."/var/lib/tide"]
owner = "root"
mode = "0750"
`},
		{About: "A folder that must go, with all that is in it", TOML: `[dir."/srv/old-readings"]
absent = true
with_contents = true
`},
	},
	Captures: []string{"owner", "group", "mode"},
	TooMany:  "/srv",
	Canon:    schema.CleanPath,
	Needs:    kind.OwnerNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if a.Bool("absent") && name == "/" {
			return "absent", problem.Errorf("the root folder cannot be absent").Remedy("take the declaration out")
		}
		if a.Has("with_contents") && !a.Bool("absent") {
			return "with_contents", problem.Errorf("with_contents only says how to remove a folder").
				Remedy("set absent = true or take it out")
		}
		return "", nil
	},
}

// Kind is the kind of folders.
func Kind() kind.Kind { return kind.Each(dirs{}) }

type dirs struct{}

func (dirs) Schema() *schema.Kind { return about }

// Stale says that nothing that is kept is read from a folder itself.
func (dirs) Stale() []kind.Topic { return nil }

type state struct {
	there bool
	own   kind.Ownership
}

// Read looks at a folder.
func (dirs) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	var noOwner error // the rest is read all the same, for a preview
	if !t.Absent {
		_, _, noOwner = env.IDs(t)
	}
	if t.Ref.Name == "/" {
		return state{there: true}, nil
	}
	d, name, err := env.Split(t.Ref.Name)
	if errors.Is(err, kind.ErrNotYet) && t.Absent {
		return st, nil
	}
	if err != nil {
		return st, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return st, noOwner
	case err != nil:
		return st, err
	case info.Type&fs.ModeSymlink != 0:
		target, _ := d.Readlink(name)
		return st, problem.Errorf("%s is a symbolic link to %s", t.Ref.Name, target).
			Remedy("declare the folder that it leads to")
	case !info.Type.IsDir():
		return st, problem.Errorf("%s is there but no folder", t.Ref.Name).Remedy("move it away by hand")
	}
	st.there = true
	if st.own, err = env.OwnershipOf(d, info); err == nil && !t.Absent {
		err = st.own.Refused(env, t, false)
	}
	return st, cmp.Or(err, noOwner)
}

// Compare says what differs.
func (dirs) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there:
		return []plan.Change{kind.Existence(true)}
	case t.Absent:
		return nil
	case !st.there:
		return kind.Made(t, "owner", "group", "mode")
	}
	return st.own.Compare(t, false)
}

// Write makes, changes or removes a folder.
func (dirs) Write(_ context.Context, env *kind.Env, w kind.Differing[state]) error {
	d, name, err := env.Split(w.Task.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	switch {
	case w.Task.Absent && w.Task.Attrs.Bool("with_contents"):
		return d.RemoveAll(name)
	case w.Task.Absent:
		if err := d.Remove(name); err != nil {
			return problem.Errorf("%w", err).Remedy("set with_contents = true to remove what lies in it as well")
		}
		return nil
	}
	if w.State.there {
		return env.Own(d, name, w.Task, w.State.own)
	}
	mode, uid, gid, err := env.Target(w.Task, nil, 0o755)
	if err != nil {
		return err
	}
	if err := d.Mkdir(name, mode, uid, gid); err != nil {
		return err
	}
	return d.Sync()
}

// Capture declares a folder with its owner and mode.
func (dirs) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Attrs: map[string]any{"owner": st.own.Owner, "group": st.own.Group, "mode": st.own.Mode}}, nil
}
