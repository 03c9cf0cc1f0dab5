package unpack

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// job is the unpacking of one archive.
type job struct {
	env      *kind.Env
	task     plan.Task
	old      []piece // that the folder holds of an archive before
	uid, gid int

	stage   string // the folder beside the target in which it is unpacked first
	members []member
	pieces  []piece
}

// do unpacks an archive beside the folder, and when it is there whole, moves it.
func (j *job) do(at string) (err error) {
	if j.uid, j.gid, err = j.env.IDs(j.task); err != nil {
		return err
	}
	up, name, err := j.env.Split(j.task.Ref.Name)
	if err != nil {
		return err
	}
	defer up.Close()
	stage, err := j.env.Candidate(j.task, path.Dir(j.task.Ref.Name))
	if err != nil {
		return err
	}
	j.stage = path.Join(path.Dir(j.task.Ref.Name), stage)
	if err := up.Mkdir(stage, 0o700, -1, -1); err != nil {
		return fmt.Errorf("create a directory next to %s: %w", j.task.Ref.Name, err)
	}
	defer up.RemoveAll(stage)
	if err := j.unpack(at); err != nil {
		return err
	}
	if _, err := up.Lstat(name); errors.Is(err, fs.ErrNotExist) {
		if err := up.Mkdir(name, 0o755, j.uid, j.gid); err != nil {
			return err
		}
	}
	if err := j.move(); err != nil {
		return err
	}
	if err := takeAway(j.env, j.task, j.old, j.pieces); err != nil {
		return err
	}
	return up.Sync()
}

func (j *job) unpack(at string) error {
	d, name, err := j.env.Split(at)
	if err != nil {
		return err
	}
	defer d.Close()
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return err
	}
	without, _ := j.task.Attrs.Int("strip_components")
	return each(f, info.Size, without, j.extract)
}

// extract puts one member into the stage.
func (j *job) extract(m member, r io.Reader) error {
	at := path.Join(j.stage, m.Name)
	d, err := j.folder(path.Dir(at))
	if err != nil {
		return err
	}
	defer d.Close()
	name := path.Base(at)
	switch {
	case m.Type == fs.ModeDir:
		if _, err := d.Lstat(name); err == nil {
			return nil // made for what is in it
		}
		err = d.Mkdir(name, m.Mode, j.uid, j.gid)
	case m.Type == fs.ModeSymlink:
		if err = d.Symlink(m.Link, name); err == nil && (j.uid >= 0 || j.gid >= 0) {
			err = d.Lchown(name, j.uid, j.gid)
		}
	case m.Same != "":
		err = j.copy(d, name, m)
	default:
		err = j.file(d, name, m, r)
	}
	if err != nil {
		return fmt.Errorf("unpack %s: %w", m.Name, err)
	}
	j.members = append(j.members, m)
	return nil
}

// folder opens a folder of the stage, which is made when the archive does not
// name it before what is in it.
func (j *job) folder(at string) (machine.Dir, error) {
	d, err := j.env.Machine.Dir(at)
	if !errors.Is(err, fs.ErrNotExist) {
		return d, err
	}
	up, err := j.folder(path.Dir(at))
	if err != nil {
		return nil, err
	}
	defer up.Close()
	if err := up.Mkdir(path.Base(at), 0o755, j.uid, j.gid); err != nil {
		return nil, err
	}
	j.members = append(j.members, member{Name: at[len(j.stage)+1:], Type: fs.ModeDir, Mode: 0o755})
	return j.env.Machine.Dir(at)
}

func (j *job) file(d machine.Dir, name string, m member, r io.Reader) error {
	d.Remove(name) // of two members with one name the later counts, as for tar(1)
	f, err := d.Create(name, m.Mode, j.uid, j.gid)
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, r); err != nil {
		f.Close()
		return err
	}
	if err := f.Sync(); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// copy makes what the archive holds as a second name of a file: a file of its
// own, which no change of the other reaches.
func (j *job) copy(d machine.Dir, name string, m member) error {
	from, base, err := j.env.Split(path.Join(j.stage, m.Same))
	if err != nil {
		return err
	}
	defer from.Close()
	f, err := from.Open(base)
	if err != nil {
		return err
	}
	defer f.Close()
	return j.file(d, name, m, f)
}

// move brings all members from the stage into their places, folders before what
// is in them.
func (j *job) move() error {
	seen := map[string]bool{}
	for _, m := range slices.Backward(j.members) { // of two with one name the later counts
		if seen[m.Name] {
			continue
		}
		seen[m.Name] = true
		j.pieces = append(j.pieces, piece{Name: m.Name, Type: m.Type})
	}
	slices.Reverse(j.pieces)
	slices.SortStableFunc(j.pieces, func(a, b piece) int { return depth(a) - depth(b) })
	if err := j.fits(); err != nil {
		return err
	}
	for i := range j.pieces {
		p := &j.pieces[i]
		if err := j.place(p); err != nil {
			return fmt.Errorf("put %s in place: %w", p.Name, err)
		}
	}
	return nil
}

// depth sorts folders by how deep they lie, and before all else.
func depth(p piece) int {
	if p.Type != fs.ModeDir {
		return 1 << 16
	}
	n := 0
	for _, c := range p.Name {
		if c == '/' {
			n++
		}
	}
	return n
}

// fits makes sure that nothing is in the way, before anything is moved.
func (j *job) fits() error {
	gone := map[string]bool{}
	for _, p := range j.pieces {
		at := path.Join(j.task.Ref.Name, p.Name)
		if gone[path.Dir(p.Name)] {
			gone[p.Name] = true
			continue
		}
		now, err := look(j.env, at)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, kind.ErrNotYet) {
			gone[p.Name] = true
			continue
		}
		if err != nil {
			return err
		}
		if (p.Type == fs.ModeDir) != (now.Type == fs.ModeDir) {
			return problem.Errorf("%s is in the way: the archive has %s there", at,
				kind.Yes(p.Type == fs.ModeDir, "a directory", "a file or link")).Remedy("move it away by hand")
		}
	}
	return nil
}

// place moves one piece, and notes what it is once it is there.
func (j *job) place(p *piece) error {
	from, name, err := j.env.Split(path.Join(j.stage, p.Name))
	if err != nil {
		return err
	}
	defer from.Close()
	to, base, err := j.env.Split(path.Join(j.task.Ref.Name, p.Name))
	if err != nil {
		return err
	}
	defer to.Close()
	p2 := *p
	if p.Type == fs.ModeDir {
		if p2, err = j.placeDir(from, name, to, base); err != nil {
			return err
		}
	} else {
		if err := from.Move(name, to, base); err != nil {
			return err
		}
		if p2, err = pieceOf(to, base); err != nil {
			return err
		}
	}
	p2.Name = p.Name
	*p = p2
	return nil
}

// placeDir makes a folder as it is in the stage, or gives the one that is
// its owner and mode.
func (j *job) placeDir(from machine.Dir, name string, to machine.Dir, base string) (piece, error) {
	info, err := from.Lstat(name)
	if err != nil {
		return piece{}, err
	}
	current, err := to.Lstat(base)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = to.Mkdir(base, info.Mode, info.UID, info.GID)
	case err == nil && (current.Mode != info.Mode || current.UID != info.UID || current.GID != info.GID):
		err = own(to, base, info)
	}
	if err != nil {
		return piece{}, err
	}
	return pieceOf(to, base)
}

func own(d machine.Dir, name string, like machine.Info) error {
	f, err := d.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return errors.Join(f.Chown(like.UID, like.GID), f.Chmod(like.Mode))
}

// takeAway removes what was unpacked before and is not to be there now: files
// and links, then folders that are empty.
func takeAway(env *kind.Env, t plan.Task, old, now []piece) error {
	keep := map[string]bool{}
	for _, p := range now {
		keep[p.Name] = true
	}
	for _, p := range slices.Backward(old) {
		if keep[p.Name] {
			continue
		}
		d, name, err := env.Split(path.Join(t.Ref.Name, p.Name))
		if errors.Is(err, kind.ErrNotYet) {
			continue
		}
		if err != nil {
			return err
		}
		err = d.Remove(name)
		d.Close()
		if err != nil && !errors.Is(err, fs.ErrNotExist) && p.Type != fs.ModeDir {
			return err
		}
	}
	if now == nil {
		if d, name, err := env.Split(t.Ref.Name); err == nil {
			d.Remove(name) // which fails where other things lie in it
			d.Close()
		}
		env.Store.Unlearn(memory(t))
	}
	return nil
}
