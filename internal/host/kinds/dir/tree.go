package dir

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// entry is one thing below a folder that is copied: as it is, and as it is to
// be.
type entry struct {
	path    string // below the folder
	isDir   bool
	foreign bool // it must go: it is not in the folder that is copied, or nothing declares that any more
	want    plan.Leaf
	mode    uint32

	there bool
	same  bool // it holds what is declared
	info  machine.Info
	own   kind.Ownership

	old, new string // its texts, where both are short enough to be shown
	shown    bool
}

// maxForeign bounds how many things are looked at that are not declared.
const maxForeign = 100_000

// readTree compares all below a folder with what it is a copy of.
func readTree(env *kind.Env, t plan.Task) ([]entry, error) {
	list, err := declared(t)
	if err != nil {
		return nil, err
	}
	at := map[string]bool{}
	gone := map[string]bool{} // folders that are not there
	for i := range list {
		e := &list[i]
		at[e.path] = true
		if gone[path.Dir(e.path)] {
			gone[e.path] = e.isDir
			continue
		}
		if err := e.read(env, t); err != nil {
			return nil, err
		}
		gone[e.path] = e.isDir && !e.there
	}
	if err := texts(env, list); err != nil {
		return nil, err
	}
	if !t.Attrs.Bool("only_declared") {
		return list, nil
	}
	return foreign(env, t, list, func(p string) bool { return at[p] }, gone)
}

// foreign adds what is below the folder and neither copied nor anybody's: what the plan declares
// there, and what is mounted there, stays.
func foreign(env *kind.Env, t plan.Task, list []entry, copied func(string) bool, gone map[string]bool) ([]entry,
	error) {
	others, err := kept(env, t)
	if err != nil {
		return nil, err
	}
	open := append([]string{""}, folders(list)...)
	for len(open) > 0 {
		folder := open[0]
		open = open[1:]
		if gone[folder] {
			continue
		}
		names, err := env.Machine.ReadDir(path.Join(t.Ref.Name, folder))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, name := range names {
			p := path.Join(folder, name)
			switch {
			case copied(p) || others[p] == whole || len(list) >= maxForeign:
			case others[p] == above:
				if isFolder(env, path.Join(t.Ref.Name, p)) {
					open = append(open, p)
				}
			default:
				list = append(list, entry{path: p, foreign: true})
			}
		}
	}
	return list, nil
}

// What of somebody else's is at a path below the folder.
const (
	whole = 1 + iota // the thing itself, with all that is in it
	above            // something below it
)

// kept gives, by their paths below the folder, what others declare there or is mounted there, and
// the folders on the way.
func kept(env *kind.Env, t plan.Task) (map[string]int, error) {
	list, err := env.Mounted(t.Ref.Name)
	if err != nil {
		return nil, err
	}
	for _, other := range env.Tasks {
		if env.Paths != nil && !other.Absent && other.Ref != t.Ref {
			list = append(list, env.Paths(other)...)
		}
	}
	out := map[string]int{}
	for _, p := range list {
		rel, below := strings.CutPrefix(p, t.Ref.Name+"/")
		if !below {
			continue
		}
		out[rel] = whole
		for up := path.Dir(rel); up != "."; up = path.Dir(up) {
			if out[up] == 0 {
				out[up] = above
			}
		}
	}
	return out, nil
}

func isFolder(env *kind.Env, at string) bool {
	d, name, err := env.Split(at)
	if err != nil {
		return false
	}
	defer d.Close()
	info, err := d.Lstat(name)
	return err == nil && info.Type.IsDir()
}

func folders(list []entry) []string {
	var out []string
	for _, e := range list {
		if e.isDir {
			out = append(out, e.path)
		}
	}
	return out
}

// declared lists what is to be below the folder, each folder before what is in
// it.
func declared(t plan.Task) ([]entry, error) {
	dirMode, err := modeOf(t, "dir_mode", 0o755)
	if err != nil {
		return nil, err
	}
	var list []entry
	seen := map[string]bool{".": true}
	for _, l := range t.Tree {
		var above []entry
		for p := path.Dir(l.Path); !seen[p]; p = path.Dir(p) {
			seen[p] = true
			above = append(above, entry{path: p, isDir: true, mode: dirMode})
		}
		slices.Reverse(above)
		usual := uint32(0o644)
		if l.Executable {
			usual = 0o755
		}
		mode, err := modeOf(t, "file_mode", usual)
		if err != nil {
			return nil, err
		}
		list = append(append(list, above...), entry{path: l.Path, want: l, mode: mode})
	}
	return list, nil
}

func modeOf(t plan.Task, attr string, usual uint32) (uint32, error) {
	if m := t.Attrs.Text(attr); m != "" {
		return schema.ParseMode(m)
	}
	return usual, nil
}

// read looks at one thing.
func (e *entry) read(env *kind.Env, t plan.Task) error {
	at := path.Join(t.Ref.Name, e.path)
	d, name, err := env.Split(at)
	if errors.Is(err, kind.ErrNotYet) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case e.isDir && !info.Type.IsDir(), !e.isDir && !info.Type.IsRegular():
		return problem.Errorf("%s exists but is not a %s", at, kind.Yes(e.isDir, "directory", "regular file")).
			Remedy("move it away by hand")
	}
	e.there, e.info = true, info
	if e.own, err = env.OwnershipOf(d, info); err != nil {
		return err
	}
	if err := e.own.Refused(env, e.task(t), false); err != nil {
		return err
	}
	if e.isDir {
		e.same = true
		return nil
	}
	var h hash.Hash
	if info.Size == e.want.Size {
		h = sha256.New()
	}
	if err := e.readContent(d, name, h); err != nil {
		return err
	}
	e.same = h != nil && hex.EncodeToString(h.Sum(nil)) == e.want.SHA256
	switch {
	case !e.same:
		return env.Rewritten(d, name, at, &e.own, "")
	case len(e.own.Compare(e.task(t), false)) > 0:
		return env.ReadExtras(d, name, &e.own)
	}
	return nil
}

// readContent reads a file, into a hash where there is one, and keeps a short one for a
// difference in words.
func (e *entry) readContent(d machine.Dir, name string, to hash.Hash) error {
	if to == nil && e.info.Size > kind.MaxDiff {
		return nil
	}
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	var text strings.Builder
	ways := []io.Writer{}
	if to != nil {
		ways = append(ways, to)
	}
	if e.info.Size <= kind.MaxDiff && e.want.Size <= kind.MaxDiff {
		ways = append(ways, &text)
	}
	if len(ways) == 0 {
		return nil
	}
	_, err = io.Copy(io.MultiWriter(ways...), f)
	e.old = text.String()
	return err
}

// maxShown bounds how many differences are shown in words.
const maxShown = 50

// texts fetches the declared side of what differs and is short, at once.
func texts(env *kind.Env, list []entry) error {
	var wanted []plan.Content
	for i := range list {
		e := &list[i]
		if e.isDir || e.same || e.want.Size > kind.MaxDiff || e.info.Size > kind.MaxDiff || len(wanted) == maxShown ||
			!env.Holds(e.want.SHA256) {
			continue
		}
		e.shown = true
		wanted = append(wanted, e.want.Content())
	}
	if len(wanted) == 0 {
		return nil
	}
	got, err := env.Texts(wanted)
	for i := range list {
		if list[i].shown {
			list[i].new = got[list[i].want.SHA256]
		}
	}
	return err
}

// task is what is declared of one thing: owner and group are those of the
// folder.
func (e *entry) task(t plan.Task) plan.Task {
	attrs := map[string]any{"mode": fmt.Sprintf("%04o", e.mode)}
	for _, name := range []string{"owner", "group"} {
		if v := t.Attrs.Text(name); v != "" {
			attrs[name] = v
		}
	}
	t.Attrs = attrs
	return t
}

// compare says what differs of one thing.
func (e *entry) compare(t plan.Task) []plan.Change {
	if e.foreign {
		return []plan.Change{{What: e.path, Was: "present", Becomes: "absent"}}
	}
	var out []plan.Change
	switch {
	case !e.there && e.isDir:
		return []plan.Change{{What: e.path, Was: "absent", Becomes: "a directory"}}
	case !e.there:
		out = append(out, plan.Change{What: e.path, Was: "absent", Becomes: kind.Bytes(e.want.Size)})
	case !e.same:
		out = append(out, plan.Change{What: e.path, Was: kind.Bytes(e.info.Size), Becomes: kind.Bytes(e.want.Size)})
	}
	if len(out) == 1 && e.shown && kind.IsText(e.old) && kind.IsText(e.new) && e.there {
		out[0].Diff = kind.Diff(e.path+" (current)", e.path+" (declared)", e.old, e.new)
	}
	if !e.there {
		return out
	}
	for _, c := range e.own.Compare(e.task(t), !e.same) {
		c.What = e.path + " " + c.What
		out = append(out, c)
	}
	return out
}

// writeTree makes all that differs below a folder, and takes away what is not
// declared.
func writeTree(ctx context.Context, env *kind.Env, t plan.Task, list []entry) error {
	for i := range list {
		e := &list[i]
		if len(e.compare(t)) == 0 {
			continue
		}
		if err := e.write(ctx, env, t); err != nil {
			return fmt.Errorf("%s: %w", e.path, err)
		}
	}
	return nil
}

func (e *entry) write(ctx context.Context, env *kind.Env, t plan.Task) error {
	at := path.Join(t.Ref.Name, e.path)
	d, name, err := env.Split(at)
	if err != nil {
		return err
	}
	defer d.Close()
	if e.foreign {
		remove := func() error { return removeAll(env, d, at) }
		if e.isDir {
			remove = func() error { return removeEmpty(d, name) }
		}
		if err := remove(); err != nil {
			return err
		}
		return d.Sync()
	}
	one := e.task(t)
	if e.there && e.same {
		return env.Own(d, name, one, e.own)
	}
	mode, uid, gid, err := env.Target(one, nil, e.mode)
	if err != nil {
		return err
	}
	if e.isDir {
		if err := d.Mkdir(name, mode, uid, gid); err != nil {
			return err
		}
		return d.Sync()
	}
	var over *kind.Ownership
	if e.there {
		over = &e.own
	}
	return env.Place(ctx, kind.Placement{Task: one, Dir: d, Name: name, At: at, Mode: mode, UID: uid,
		GID: gid, Over: over,
		Fill: func(f machine.File) error { return e.fill(env, f) }})
}

// fill writes the content, and makes sure that it is the one that was meant.
func (e *entry) fill(env *kind.Env, f machine.File) error {
	if !e.shown {
		return env.CopyContent(f, e.want.Content())
	}
	if sum := sha256.Sum256([]byte(e.new)); hex.EncodeToString(sum[:]) != e.want.SHA256 {
		return errors.New("the received content does not match its checksum")
	}
	_, err := io.WriteString(f, e.new)
	return err
}
