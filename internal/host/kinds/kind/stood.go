package kind

import (
	"errors"
	"io/fs"
	"path"
	"unicode/utf8"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// StoodAt gives what stands at some paths, each as what it is: a file with what it holds,
// a folder or a link.
func (e *Env) StoodAt(paths ...string) ([]plan.Stood, error) {
	var out []plan.Stood
	for _, p := range paths {
		s, err := e.stoodAt(p)
		if err != nil {
			return out, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (e *Env) stoodAt(p string) (plan.Stood, error) {
	ref := value.Ref{Kind: "file", Name: p}
	d, name, err := e.Split(p)
	if errors.Is(err, ErrNotYet) {
		return plan.Missing(ref), nil
	}
	if err != nil {
		return plan.Stood{}, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return plan.Missing(ref), nil
	}
	if err != nil {
		return plan.Stood{}, err
	}
	if info.Type&fs.ModeSymlink != 0 {
		to, err := d.Readlink(name)
		if !utf8.ValidString(to) {
			return plan.Stood{Ref: value.Ref{Kind: "link", Name: p},
				Why: "where it leads is not UTF-8, and such is not kept"}, err
		}
		return plan.Standing(value.Ref{Kind: "link", Name: p}, value.Attrs{"to": to}), err
	}
	own, err := e.OwnershipOf(d, info)
	if err != nil {
		return plan.Stood{}, err
	}
	attrs := own.Attrs()
	switch {
	case info.Type.IsDir():
		s := plan.Standing(value.Ref{Kind: "dir", Name: p}, attrs)
		s.Extras, err = extras(d, name)
		return s, err
	case !info.Type.IsRegular():
		return plan.Stood{Ref: ref, Why: "it is no regular file, and such are not kept"}, nil
	}
	if info.Links > 1 { // which is written in place, for all its names
		attrs["follow"] = true
	}
	s := plan.Standing(ref, attrs)
	if s.Names = int(info.Links); s.Names == 1 {
		s.Names = 0
	}
	if s.Extras, err = extras(d, name); err != nil {
		return s, err
	}
	s.Veiled = info.Mode&0o044 == 0 && !e.Run.ShowClosed
	c, err := e.save(d, name, info)
	s.As.Content = &c
	var large *ledger.TooLargeError
	if errors.As(err, &large) {
		return plan.Stood{Ref: ref, Why: err.Error()}, nil
	}
	return s, err
}

func extras(d machine.Dir, name string) (map[string][]byte, error) {
	f, err := d.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Extras()
}

// save keeps what a file holds, where it is kept, and names it.
func (e *Env) save(d machine.Dir, name string, info machine.Info) (plan.Content, error) {
	f, err := d.Open(name)
	if err != nil {
		return plan.Content{}, err
	}
	defer f.Close()
	if opened, err := f.Info(); err != nil || !opened.Same(info) {
		return plan.Content{}, errors.Join(err, problem.Errorf("%s was exchanged while it was read", name).
			Remedy("run again"))
	}
	if e.Save != nil {
		return e.Save(f, info.Size)
	}
	return Sum(f)
}

// StoodBelow is StoodAt of a path and, where a folder stands there, of all that lies in it.
// Nothing is mounted there: what is to go was looked at for that.
func (e *Env) StoodBelow(p string) ([]plan.Stood, error) {
	all, err := e.StoodAt(p)
	if err != nil || all[0].Ref.Kind != "dir" || all[0].Absent {
		return all, err
	}
	names, err := e.Machine.ReadDir(p)
	if err != nil {
		return all, err
	}
	for _, name := range names {
		below, err := e.StoodBelow(path.Join(p, name))
		if all = append(all, below...); err != nil {
			return all, err
		}
		if len(all) > maxStood {
			return all, problem.Errorf("there are more than %d things below %s", maxStood, p)
		}
	}
	return all, nil
}

// maxStood bounds how many things below a folder are kept.
const maxStood = 10_000
