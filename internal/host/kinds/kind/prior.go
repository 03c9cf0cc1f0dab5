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

// PriorAt gives what is there at some paths, each as what it is: a file with what it holds,
// a folder or a link.
func (e *Env) PriorAt(paths ...string) ([]plan.Prior, error) {
	var out []plan.Prior
	for _, p := range paths {
		s, err := e.priorAt(p)
		if err != nil {
			return out, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (e *Env) priorAt(p string) (plan.Prior, error) {
	ref := value.Ref{Kind: "file", Name: p}
	d, name, err := e.Split(p)
	if errors.Is(err, ErrNotYet) {
		return plan.Missing(ref), nil
	}
	if err != nil {
		return plan.Prior{}, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return plan.Missing(ref), nil
	}
	if err != nil {
		return plan.Prior{}, err
	}
	if info.Type&fs.ModeSymlink != 0 {
		to, err := d.Readlink(name)
		if !utf8.ValidString(to) {
			return plan.Prior{Ref: value.Ref{Kind: "link", Name: p},
				Why: "its target is not valid UTF-8, so it is not saved"}, err
		}
		return plan.NewPrior(value.Ref{Kind: "link", Name: p}, value.Attrs{"to": to}), err
	}
	own, err := e.OwnershipOf(d, info)
	if err != nil {
		return plan.Prior{}, err
	}
	attrs := own.Attrs()
	switch {
	case info.Type.IsDir():
		s := plan.NewPrior(value.Ref{Kind: "dir", Name: p}, attrs)
		s.Extras, err = extras(d, name)
		return s, err
	case !info.Type.IsRegular():
		return plan.Prior{Ref: ref, Why: "it is not a regular file, so it is not saved"}, nil
	}
	if info.Links > 1 { // which is written in place, for all its names
		attrs["follow"] = true
	}
	s := plan.NewPrior(ref, attrs)
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
		return plan.Prior{Ref: ref, Why: err.Error()}, nil
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
		return plan.Content{}, errors.Join(err, problem.Errorf("%s was replaced while it was being read", name).
			Remedy("run again"))
	}
	if e.Save != nil {
		return e.Save(f, info.Size)
	}
	return Sum(f)
}

// PriorBelow is PriorAt of a path and, where a folder is there, of all that is in it.
// Nothing is mounted there: what is to go was looked at for that.
func (e *Env) PriorBelow(p string) ([]plan.Prior, error) {
	all, err := e.PriorAt(p)
	if err != nil || all[0].Ref.Kind != "dir" || all[0].Absent {
		return all, err
	}
	names, err := e.Machine.ReadDir(p)
	if err != nil {
		return all, err
	}
	for _, name := range names {
		below, err := e.PriorBelow(path.Join(p, name))
		if all = append(all, below...); err != nil {
			return all, err
		}
		if len(all) > maxPrior {
			return all, problem.Errorf("there are more than %d entries below %s", maxPrior, p)
		}
	}
	return all, nil
}

// maxPrior bounds how many things below a folder are kept.
const maxPrior = 10_000
