// Package dir is the kind of folders.
package dir

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

var about = &schema.Kind{
	Name:  "dir",
	Area:  "files",
	Space: "path",
	About: "A folder, and whose it is.",
	Doc:   "What lies in the folder is left alone. The folder above it must exist or be declared.",
	Attrs: append([]schema.Attr{
		{Name: "with_contents", Type: schema.Bool, Default: "false", Doc: "When absent: whether to remove all that lies in it as well; otherwise it must be empty.", Examples: []string{"true"}},
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
	Canon: schema.CleanPath,
	Needs: kind.OwnerNeeds,
	Check: func(name string, a value.Attrs) (string, error) {
		if a.Bool("absent") && name == "/" {
			return "absent", errors.New("the root folder cannot be absent; take the declaration out")
		}
		if a.Has("with_contents") && !a.Bool("absent") {
			return "with_contents", errors.New("with_contents only says how to remove a folder; set absent = true or take it out")
		}
		return "", nil
	},
}

// Kind is the kind of folders.
type Kind struct{}

// Schema describes it.
func (Kind) Schema() *schema.Kind { return about }

// Joint says that each is written by itself.
func (Kind) Joint() bool { return false }

type state struct {
	there bool
	own   kind.Ownership
}

// Read looks at every folder.
func (Kind) Read(_ context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	for i, t := range tasks {
		st, err := read(env, t)
		out[i] = kind.Reading{State: st, Err: err}
	}
	return out
}

func read(env *kind.Env, t plan.Task) (state, error) {
	var st state
	var noOwner error // the rest is read all the same, for a preview
	if !t.Absent {
		_, _, noOwner = env.IDs(t)
	}
	if t.Ref.Name == "/" {
		return state{there: true}, nil
	}
	d, name, err := kind.Split(env.Machine, t.Ref.Name)
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
		return st, fmt.Errorf("%s is a symbolic link to %s; declare the folder that it leads to", t.Ref.Name, target)
	case !info.Type.IsDir():
		return st, fmt.Errorf("%s is there but no folder; move it away by hand", t.Ref.Name)
	}
	st.there = true
	st.own, err = env.OwnershipOf(info)
	return st, cmp.Or(err, noOwner)
}

// Compare says what differs.
func (Kind) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	switch {
	case t.Absent && st.there, !t.Absent && !st.there:
		return []plan.Change{kind.Existence(t.Absent)}
	case t.Absent:
		return nil
	}
	return st.own.Compare(t)
}

// Write makes, changes or removes folders.
func (Kind) Write(_ context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	for i, w := range work {
		out[i] = write(env, w)
	}
	return out
}

func write(env *kind.Env, w kind.Work) error {
	d, name, err := kind.Split(env.Machine, w.Task.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	switch {
	case w.Task.Absent && w.Task.Attrs.Bool("with_contents"):
		return d.RemoveAll(name)
	case w.Task.Absent:
		if err := d.Remove(name); err != nil {
			return fmt.Errorf("%w; set with_contents = true to remove what lies in it as well", err)
		}
		return nil
	}
	if !w.State.(state).there {
		if err := d.Mkdir(name, 0o755); err != nil {
			return err
		}
	}
	if err := env.Own(d, name, w.Task); err != nil {
		return err
	}
	return d.Sync()
}

// Names refuses: a host has too many folders to tell which ones are meant.
func (Kind) Names(context.Context, *kind.Env) ([]string, error) {
	return nil, errors.New("name one folder, such as dir:/srv")
}

// Capture declares a folder with its owner and mode.
func (Kind) Capture(_ context.Context, _ *kind.Env, _ plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Attrs: map[string]any{"owner": st.own.Owner, "group": st.own.Group, "mode": st.own.Mode}}, nil
}
