package kind

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/host/machine"
)

// MaxEdited bounds a file of which a part is edited, in bytes.
const MaxEdited = 4 << 20

// Text is a text file of which a part is declared, as it was read.
type Text struct {
	Path  string // after following links that root made
	There bool
	Own   Ownership
	Text  string
	// Closed says that only its owner may read it and that it is not ours, so that
	// what it holds is not shown.
	Closed bool
}

// ReadText reads a file to be edited. One that is not there is no error. A link
// is followed where root, or the worker's user, made it.
func (e *Env) ReadText(p string) (Text, error) {
	st := Text{Path: p}
	for range 16 {
		next, err := e.lookAt(&st)
		if err != nil || next == "" {
			return st, err
		}
		st.Path = next
	}
	return st, fmt.Errorf("%s leads through too many symlinks", p)
}

// ReadOptional is ReadText of a file whose folder need not be there either.
func (e *Env) ReadOptional(p string) (Text, error) {
	st, err := e.ReadText(p)
	if errors.Is(err, ErrNotYet) {
		return Text{Path: p}, nil
	}
	return st, err
}

// lookAt reads one file, or gives the path that a link leads to.
func (e *Env) lookAt(st *Text) (next string, err error) {
	d, name, err := e.Split(st.Path)
	if err != nil {
		return "", err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", nil
	case err != nil:
		return "", err
	case info.Type&fs.ModeSymlink != 0:
		return Followed(d, name, st.Path)
	case !info.Type.IsRegular():
		return "", problem.Errorf("%s is not a regular file", st.Path).Remedy("move it away by hand")
	case info.Size > MaxEdited:
		return "", problem.Errorf("%s has %d bytes, which is too large to edit", st.Path, info.Size).
			Remedy("declare the whole file, with copy")
	}
	f, err := d.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if info, err = f.Info(); err != nil {
		return "", err
	}
	data, err := io.ReadAll(io.LimitReader(f, MaxEdited))
	if err != nil {
		return "", err
	}
	if !IsText(string(data)) {
		return "", problem.Errorf("%s is not a text file", st.Path).Remedy("declare the whole file, with copy")
	}
	st.There, st.Text = true, string(data)
	st.Own, err = e.OwnershipOf(d, info)
	st.Closed = info.Mode&0o044 == 0 && !e.Run.ShowClosed
	return "", err
}

// Followed gives the path that a link leads to, when it may be followed.
func Followed(d machine.Dir, name, at string) (string, error) {
	target, err := d.Follow(name)
	if errors.Is(err, machine.ErrLink) {
		return "", problem.Errorf("%s is a symlink that users other than root can create or replace, so it is not "+
			"followed", at).Remedy("declare the file it points to")
	}
	if err != nil {
		return "", err
	}
	if !path.IsAbs(target) {
		target = path.Join(path.Dir(at), target)
	}
	return path.Clean(target), nil
}

// IsText says whether a content is text that can be shown.
func IsText(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

// Change is the change that makes this file's text another one. Nil when it is
// that already.
func (st Text) Change(text string) []plan.Change {
	if st.There && st.Text == text {
		return nil
	}
	c := plan.Change{What: "content", Was: Bytes(int64(len(st.Text))), Becomes: Bytes(int64(len(text))),
		Closed: st.Closed}
	if !st.There {
		c.Was = ""
	}
	if !st.Closed && len(st.Text) <= MaxDiff && len(text) <= MaxDiff {
		c.Diff = Diff(st.Path+" (current)", st.Path+" (declared)", st.Text, text)
	}
	return []plan.Change{c}
}

// Bytes writes a size for people.
func Bytes(n int64) string {
	if n == 1 {
		return "1 byte"
	}
	return fmt.Sprintf("%d bytes", n)
}

// WriteText puts another text in the place of the one that was read, in one step.
// Owner and mode stay; a new file gets the mode. check, when not empty, is a line
// for sh that must succeed before, with the new file's path for ${candidate}.
func (e *Env) WriteText(ctx context.Context, t plan.Task, st Text, text string, mode uint32, check string) error {
	return e.WriteTextAs(ctx, t, st, text, mode, check, nil)
}

// WriteTextAs is WriteText with the rights of an account.
func (e *Env) WriteTextAs(ctx context.Context, t plan.Task, st Text, text string, mode uint32, check string,
	as *machine.Rights) error {
	d, name, err := e.Split(st.Path)
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !st.There:
	case errors.Is(err, fs.ErrNotExist), err == nil && (!st.There || !info.Same(st.Own.Info)):
		return Exchanged(t)
	case err != nil:
		return err
	}
	p := Placement{Task: t, Dir: d, Name: name, At: st.Path, Mode: mode, UID: -1, GID: -1, Check: check, As: as,
		Fill: func(f machine.File) error {
			_, err := io.WriteString(f, text)
			return err
		}}
	if st.There {
		if err := cmp.Or(st.Own.Refused(e, t, true), st.Own.GivesAway(e, t)); err != nil {
			return err
		}
		p.Over = &st.Own
		if p.Mode = st.Own.Info.Mode &^ special; as == nil {
			p.UID, p.GID = st.Own.Info.UID, st.Own.Info.GID
		}
	}
	return e.Place(ctx, p)
}

// RemoveText removes the file that was read, if it still is that one.
func (e *Env) RemoveText(t plan.Task, st Text) error {
	d, name, err := e.Split(st.Path)
	if err != nil {
		return err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if err == nil && !info.Same(st.Own.Info) {
		return Exchanged(t)
	}
	if err == nil {
		err = d.Remove(name)
	}
	if err != nil {
		return err
	}
	return d.Sync()
}

// PutText gives a file a text, a new one with mode 0644; with an empty text the
// file goes.
func (e *Env) PutText(ctx context.Context, t plan.Task, st Text, text string) error {
	switch {
	case text == st.Text:
		return nil
	case text == "":
		return e.RemoveText(t, st)
	}
	return e.WriteText(ctx, t, st, text, 0o644, "")
}

// Symlink lets a link in a folder lead somewhere, in one step.
func (e *Env) Symlink(t plan.Task, d machine.Dir, folder, name, to string) error {
	candidate, err := e.Candidate(t, folder)
	if err != nil {
		return err
	}
	if err := d.Symlink(to, candidate); err != nil {
		return err
	}
	if err := d.Rename(candidate, name); err != nil {
		d.Remove(candidate)
		return err
	}
	return d.Sync()
}

// Placement is a new file on its way into its place.
type Placement struct {
	Task     plan.Task
	Dir      machine.Dir
	Name     string // in Dir
	At       string // its path
	Mode     uint32
	UID, GID int // -1 leaves one as it comes
	Fill     func(machine.File) error
	Check    string          // a line for sh with ${candidate} in it; may be empty
	As       *machine.Rights // whose rights it is written with; the worker's when nil
	Over     *Ownership      // of the file in whose place it comes; nil when there is none
	// Through writes into that file itself, for all its names, in the place of putting
	// another there.
	Through bool
}

// Place writes a candidate beside a file with its final owner and mode and the extended
// attributes that stay, fills and checks it, and puts it in place in one step.
func (e *Env) Place(ctx context.Context, p Placement) error {
	folder := path.Dir(p.At)
	candidate, err := e.Candidate(p.Task, folder)
	if err != nil {
		return err
	}
	if p.As != nil {
		return e.Machine.As(*p.As, func() error { return e.place(ctx, p, folder, candidate) })
	}
	return e.place(ctx, p, folder, candidate)
}

func (e *Env) place(ctx context.Context, p Placement, folder, candidate string) (err error) {
	f, err := p.Dir.Create(candidate, p.Mode, p.UID, p.GID)
	if err != nil {
		var pe *fs.PathError // which names the candidate, of no use to anybody
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return fmt.Errorf("create a file in %s: %w", folder, err)
	}
	defer func() {
		if err == nil {
			return
		}
		if e := p.Dir.Remove(candidate); e != nil {
			err = fmt.Errorf("%w; the new content is left at %s: %w", err,
				path.Join(folder, candidate), bare(e))
		}
	}()
	if err = p.inherit(f); err == nil {
		err = p.Fill(f)
	}
	if err == nil && p.Mode&special != 0 {
		err = f.Chmod(p.Mode) // for all but root, writing takes these bits away
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", p.At, err)
	}
	if err := e.check(ctx, p, path.Join(folder, candidate)); err != nil {
		return err
	}
	if p.Through {
		return p.through(candidate)
	}
	if err := p.Dir.Rename(candidate, p.Name); err != nil {
		return fmt.Errorf("put %s in place: %w", p.At, err)
	}
	return p.Dir.Sync()
}

func bare(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// inherit gives a candidate what stays of the extended attributes. An ACL may change
// the mode, which is set again.
func (p *Placement) inherit(f machine.File) error {
	if p.Over == nil && len(p.Task.Extras) > 0 {
		if err := GiveExtras(f, p.Task.Extras); err != nil {
			return err
		}
		return f.Chmod(p.Mode)
	}
	if p.Over == nil || p.As == nil && !p.Over.keeps(p.Task) {
		return nil
	}
	old, err := p.Dir.Open(p.Name)
	if err != nil {
		return err
	}
	defer old.Close()
	if err := carry(old, f); err != nil {
		return err
	}
	return f.Chmod(p.Mode)
}

// through writes what a candidate holds into the file that was compared.
func (p *Placement) through(candidate string) error {
	from, err := p.Dir.Open(candidate)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := p.Dir.Rewrite(p.Name)
	if err != nil {
		return err
	}
	defer to.Close()
	info, err := to.Info()
	if err != nil {
		return err
	}
	if !info.Same(p.Over.Info) {
		return Exchanged(p.Task)
	}
	n, err := io.Copy(to, from)
	if err == nil {
		err = to.Truncate(n)
	}
	if err == nil {
		err = to.Chown(p.UID, p.GID)
	}
	if err == nil {
		err = to.Chmod(p.Mode)
	}
	if err == nil {
		err = to.Sync()
	}
	if err != nil {
		return fmt.Errorf("write to %s, for all its hard links: %w", p.At, err)
	}
	return p.Dir.Remove(candidate)
}

// checkLimit bounds a check's time.
const checkLimit = 5 * time.Minute

func (e *Env) check(ctx context.Context, p Placement, candidate string) error {
	if p.Check == "" {
		return nil
	}
	line := strings.ReplaceAll(p.Check, "${candidate}", shell.Quote(candidate))
	out, err := e.Machine.Run(ctx, machine.Command{Args: []string{"sh", "-c", line}, Limit: checkLimit})
	if err != nil {
		return fmt.Errorf("check: %w", err)
	}
	if out.Code == 0 {
		return nil
	}
	said := strings.ReplaceAll(out.Combined.String(), candidate, p.At)
	return &machine.CommandError{Program: "the check `" + p.Check + "`", Code: out.Code, Last: checkLine(said),
		Output: out.Combined, Then: "the file was not changed"}
}

// checkLine picks the line of a check's output that says most: the last one that
// has a letter or digit, since a caret below a column says nothing by itself.
func checkLine(output string) string {
	for _, l := range slices.Backward(strings.Split(output, "\n")) {
		if strings.ContainsFunc(l, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }) {
			return strings.TrimSpace(l)
		}
	}
	return ""
}
