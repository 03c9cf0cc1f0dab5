// Package dir is the kind of folders.
package dir

import (
	"cmp"
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
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "dir",
	Area:  "files",
	Space: schema.Paths,
	About: "A directory, optionally with all its contents.",
	Doc: "The parent directory must exist or be declared. Without copy, the contents are left alone. With copy, " +
		"owner and group apply to everything that is copied, every file that differs is reported, and links, " +
		"devices and empty directories are not copied.",
	Attrs: append([]schema.Attr{
		{Name: "copy", Type: schema.Tree, Doc: "A directory in the manifest's directory to copy.",
			Examples: []string{`"site"`}},
		{Name: "file_mode", Type: schema.Mode, Default: "0644, and 0755 for files that are executable in the " +
			"manifest's directory",
			Doc: "The mode of copied files.", Examples: []string{`"0640"`}},
		{Name: "dir_mode", Type: schema.Mode, Default: "0755", Doc: "The mode of copied directories.",
			Examples: []string{`"0750"`}},
		{Name: "only_declared", Type: schema.Bool, Default: "false",
			Doc:      "Remove everything that is not copied. Anything declared or mounted there stays.",
			Examples: []string{"true"}},
		{Name: "with_contents", Type: schema.Bool, Default: "false",
			Doc:      "With absent: remove the directory with its contents; otherwise it must be empty.",
			Examples: []string{"true"}},
	}, kind.OwnerAttrs...),
	Examples: []schema.Example{
		{About: "A directory for one user only", TOML: `[dir."/var/lib/tide"]
owner = "root"
mode = "0750"
`},
		{About: "A directory to remove, with its contents", TOML: `[dir."/srv/old-readings"]
absent = true
with_contents = true
`},
		{About: "An exact copy of a directory next to the manifest",
			TOML: `[dir."/srv/tide-pages"]
copy = "files"
owner = "root"
mode = "0755"
file_mode = "0644"
only_declared = true
`, Files: map[string]string{"files/index.html": "<h1>Tides</h1>\n", "files/plots/week.svg": "<svg/>\n"}},
	},
	Captures: []string{"owner", "group", "mode"},
	TooMany:  "/srv",
	Canon:    schema.CleanPath,
	Needs: func(n schema.Needer) []value.Ref {
		out := kind.OwnerNeeds(n)
		if n.Attrs.Bool("absent") {
			return out
		}
		return append(out, value.Ref{Kind: "mount", Name: n.Ref.Name}) // whose root it says the owner of
	},
	Check: func(name string, a value.Attrs) (string, error) {
		if a.Bool("absent") && name == "/" {
			return "absent", problem.Errorf("the root directory cannot be absent").Remedy("remove the declaration")
		}
		if a.Bool("absent") && isSystem(name) {
			return "absent", problem.Errorf("%s is a system directory and cannot be removed", name).
				Remedy("declare individual contents absent")
		}
		if a.Has("with_contents") && !a.Bool("absent") {
			return "with_contents", problem.Errorf("with_contents applies only when removing a directory").
				Remedy("set absent = true, or remove it")
		}
		for _, attr := range []string{"copy", "file_mode", "dir_mode", "only_declared"} {
			switch {
			case a.Has(attr) && a.Bool("absent"):
				return attr, problem.Errorf("%s cannot be combined with absent", attr).
					Remedy("remove one of them")
			case a.Has(attr) && !a.Has("copy"):
				return attr, problem.Errorf("%s requires copy", attr).Remedy("set copy, or remove it")
			}
		}
		if a.Bool("only_declared") && (strings.Count(name, "/") < 2 || isSystem(name)) {
			return "only_declared", problem.Errorf("only_declared would remove system files in %s", name).
				Remedy("copy into a directory below it")
		}
		return "", nil
	},
}

// Kind is the kind of folders.
func Kind() kind.Kind { return kind.Each(dirs{}) }

type dirs struct{}

func (dirs) Schema() *schema.Kind { return about }

type state struct {
	there bool
	own   kind.Ownership
	tree  []entry  // of a copy, or what goes of it
	stays []string // what else is in a folder that leaves
	holds holding  // of a folder that goes with its contents
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
		if !t.Absent && len(t.Tree) > 0 {
			st.tree, err = declared(t)
			return st, cmp.Or(err, noOwner)
		}
		return st, noOwner
	case err != nil:
		return st, err
	case info.Type&fs.ModeSymlink != 0:
		target, _ := d.Readlink(name)
		return st, problem.Errorf("%s is a symlink to %s", t.Ref.Name, target).
			Remedy("declare the directory it points to")
	case !info.Type.IsDir():
		return st, problem.Errorf("%s exists but is not a directory", t.Ref.Name).Remedy("move it away by hand")
	}
	st.there = true
	st.own, err = env.OwnershipOf(d, info)
	switch {
	case err == nil && !t.Absent:
		err = cmp.Or(st.own.Refused(env, t, false), st.own.GivesAway(env, t))
	case err == nil && t.Attrs.Bool("with_contents"):
		if err = env.Removable(t.Ref.Name); err == nil {
			err = st.holds.count(env, t.Ref.Name)
		}
	}
	switch {
	case err != nil:
	case leaves(t):
		var w *leaving
		if w, err = readLeaving(env, t); err == nil {
			st.tree, st.stays = w.goes, w.stays
		}
	case len(t.Tree) > 0:
		st.tree, err = readTree(env, t)
	}
	return st, cmp.Or(err, noOwner)
}

// Compare says what differs.
func (dirs) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there && len(st.stays) == 0:
		for i := range st.tree {
			st.holds.add(st.tree[i].isDir)
		}
		return append([]plan.Change{kind.Existence(true)}, st.holds.changes()...)
	case t.Absent && !st.there:
		return nil
	}
	var out []plan.Change
	if t.Absent {
		for i := range st.tree {
			out = append(out, st.tree[i].compare(t)...)
		}
		return out
	}
	if st.there {
		out = st.own.Compare(t, false)
	} else {
		out = kind.Made(t, "owner", "group", "mode")
	}
	for i := range st.tree {
		out = append(out, st.tree[i].compare(t)...)
	}
	return out
}

// Write makes, changes or removes a folder.
func (dirs) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	d, name, err := env.Split(w.Task.Ref.Name)
	if err != nil {
		return err
	}
	defer d.Close()
	switch {
	case leaves(w.Task):
		if err := writeTree(ctx, env, w.Task, w.State.tree); err != nil || len(w.State.stays) > 0 {
			return err
		}
		return removeEmpty(d, name)
	case w.Task.Absent && w.Task.Attrs.Bool("with_contents"):
		return removeAll(env, d, w.Task.Ref.Name)
	case w.Task.Absent:
		if err := d.Remove(name); err != nil {
			return problem.Errorf("%w", err).Remedy("set with_contents = true to also remove its contents")
		}
		return nil
	}
	if w.State.there {
		if len(w.State.own.Compare(w.Task, false)) > 0 {
			if err := env.Own(d, name, w.Task, w.State.own); err != nil {
				return err
			}
		}
		return writeTree(ctx, env, w.Task, w.State.tree)
	}
	mode, uid, gid, err := env.Target(w.Task, nil, 0o755)
	if err != nil {
		return err
	}
	if err := d.Mkdir(name, mode, uid, gid); err != nil {
		return err
	}
	if err := giveExtras(d, name, w.Task.Extras, mode); err != nil {
		return err
	}
	if err := d.Sync(); err != nil {
		return err
	}
	return writeTree(ctx, env, w.Task, w.State.tree)
}

// giveExtras gives a folder that is made again what it had, an ACL among it, which may change the mode.
func giveExtras(d machine.Dir, name string, extras map[string][]byte, mode uint32) error {
	if len(extras) == 0 {
		return nil
	}
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := kind.GiveExtras(f, extras); err != nil {
		return err
	}
	return f.Chmod(mode)
}

// removeEmpty removes a folder unless something has come into it.
func removeEmpty(d machine.Dir, name string) error {
	if err := d.Remove(name); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// removeAll takes away what is at a path, with all that is in it, but for what is
// mounted there.
func removeAll(env *kind.Env, d machine.Dir, at string) error {
	if err := env.Removable(at); err != nil {
		return err
	}
	return d.RemoveAll(path.Base(at))
}

// Prior gives the folder and what is changed or taken away in it.
func (dirs) Prior(_ context.Context, env *kind.Env, t plan.Task, st state) ([]plan.Prior, error) {
	at := t.Ref.Name
	if t.Absent && t.Attrs.Bool("with_contents") {
		return env.PriorBelow(at)
	}
	out, err := env.PriorAt(at)
	for i := range st.tree {
		e := &st.tree[i]
		if err != nil || len(e.compare(t)) == 0 {
			continue
		}
		var more []plan.Prior
		if e.foreign && !e.isDir {
			more, err = env.PriorBelow(path.Join(at, e.path))
		} else {
			more, err = env.PriorAt(path.Join(at, e.path))
		}
		out = append(out, more...)
	}
	return out, err
}

// Capture declares a folder with its owner and mode.
func (dirs) Capture(_ context.Context, _ *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	return plan.Captured{Attrs: st.own.Attrs()}, nil
}
