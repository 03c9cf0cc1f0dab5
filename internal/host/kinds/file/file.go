// Package file is the kind of regular files: their content, owner, group and
// mode.
package file

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "file",
	Area:  "files",
	Space: "path",
	About: "A regular file: what it holds, and whose it is.",
	Doc: "The content comes from content, template or copy; with none of them the file must exist, is made empty " +
		"when it does not, and what it holds is left alone. A new content is written beside the file with its final " +
		"owner and mode, checked, and put in place in one step, so that nobody ever reads half a file.",
	Attrs: append([]schema.Attr{
		{Name: "content", Type: schema.Body, Doc: "The text that it holds.", Examples: []string{`"North pier, gauge 3\n"`}},
		{Name: "template", Type: schema.Template, Doc: "A Go text/template in the manifest's folder that gives the text.", Examples: []string{`"logger.toml.tmpl"`}},
		{Name: "copy", Type: schema.Copy, Doc: "A file in the manifest's folder that it is a copy of.", Examples: []string{`"harmonics.bin"`}},
		{Name: "check", Type: schema.Command, Doc: "A command that must succeed before the file is put in place; ${candidate} is the new file's path.", Examples: []string{`"tide-logger --check ${candidate}"`}},
		{Name: "follow", Type: schema.Bool, Default: "false", Doc: "Whether to follow a symbolic link in its place instead of failing.", Examples: []string{"true"}},
	}, kind.OwnerAttrs...),
	Examples: []schema.Example{
		{About: "A file whose content is written here, with what differs per host", TOML: `[file."/etc/motd"]
content = "This is ${host.name}.\n"
owner = "root"
group = "root"
mode = "0644"
`},
		{About: "A file from a template, checked before it is put in place", TOML: `[file."/etc/tide-logger.toml"]
template = "logger.toml.tmpl"
owner = "root"
mode = "0640"
check = "test -s ${candidate}"
`},
	},
	Canon: schema.CleanPath,
	Needs: kind.OwnerNeeds,
	Check: func(_ string, a value.Attrs) (string, error) {
		var given []string
		for _, name := range []string{"content", "template", "copy"} {
			if a.Has(name) {
				given = append(given, name)
			}
		}
		if len(given) > 1 {
			return given[1], fmt.Errorf("%s are given together; keep one of them", strings.Join(given, " and "))
		}
		if c := a.Text("check"); c != "" && !strings.Contains(c, "${candidate}") {
			return "check", errors.New("check does not look at ${candidate}; put ${candidate} where the command wants the file")
		}
		if a.Has("check") && len(given) == 0 {
			return "check", errors.New("check is given without a content; give content, template or copy, or take check out")
		}
		return "", nil
	},
}

// Kind is the kind of files.
type Kind struct{}

// Schema describes it.
func (Kind) Schema() *schema.Kind { return about }

// Joint says that each is written by itself.
func (Kind) Joint() bool { return false }

// state is what stands at a path.
type state struct {
	path  string // after following links
	there bool
	own   kind.Ownership
	size  int64
	hash  string // only when it decides whether the content differs
	// Both texts, when the content differs and both are short enough to show.
	shown    bool
	old, new string
}

// Read looks at every file, and fetches the short new contents that differ
// in one round trip.
func (Kind) Read(ctx context.Context, env *kind.Env, tasks []plan.Task) []kind.Reading {
	out := make([]kind.Reading, len(tasks))
	var want []plan.Content
	for i, t := range tasks {
		st, err := read(env, t)
		out[i] = kind.Reading{State: st, Err: err}
		if showable(t, st, err) {
			want = append(want, *t.Content)
		}
	}
	if len(want) == 0 {
		return out
	}
	texts, err := env.Texts(want)
	for i, t := range tasks {
		st := out[i].State.(state)
		if !showable(t, st, out[i].Err) {
			continue
		}
		if err != nil {
			out[i].Err = err
			continue
		}
		st.shown, st.new = true, texts[t.Content.SHA256]
		if st.there {
			var err error
			if st.old, err = text(env, st.path); err != nil {
				out[i].Err = err
			}
		}
		out[i].State = st
	}
	return out
}

// showable says whether the content differs and both texts are short enough to
// be shown.
func showable(t plan.Task, st state, err error) bool {
	readable := err == nil || errors.Is(err, kind.ErrNotYet)
	return readable && differs(t, st) && !t.Content.Secret && t.Content.Size <= kind.MaxDiff && st.size <= kind.MaxDiff
}

func differs(t plan.Task, st state) bool {
	if t.Absent || t.Content == nil {
		return false
	}
	return !st.there || st.hash != t.Content.SHA256
}

func read(env *kind.Env, t plan.Task) (state, error) {
	st := state{path: t.Ref.Name}
	var noOwner error // the rest is read all the same, for a preview
	if !t.Absent {
		_, _, noOwner = env.IDs(t)
	}
	for range 16 {
		d, name, err := kind.Split(env.Machine, st.path)
		if errors.Is(err, kind.ErrNotYet) && t.Absent {
			return st, nil
		}
		if err != nil {
			return st, err
		}
		next, err := look(env, d, name, t, &st)
		d.Close()
		if next == "" || err != nil {
			return st, cmp.Or(err, noOwner)
		}
		st.path = next
	}
	return st, fmt.Errorf("%s leads through too many symbolic links", t.Ref.Name)
}

// look reads one file, or gives the path that a link leads to.
func look(env *kind.Env, d machine.Dir, name string, t plan.Task, st *state) (next string, err error) {
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	switch {
	case info.Type&fs.ModeSymlink != 0 && t.Absent:
		st.there = true
		return "", nil
	case info.Type&fs.ModeSymlink != 0:
		target, err := d.Readlink(name)
		if err != nil {
			return "", err
		}
		if !t.Attrs.Bool("follow") {
			return "", fmt.Errorf("%s is a symbolic link to %s; remove it, or set follow = true if that is meant", st.path, target)
		}
		if !path.IsAbs(target) {
			target = path.Join(path.Dir(st.path), target)
		}
		return path.Clean(target), nil
	case info.Type.IsDir():
		return "", fmt.Errorf("%s is a folder; move it away by hand", st.path)
	case info.Type != 0:
		return "", fmt.Errorf("%s is no regular file; move it away by hand", st.path)
	}
	st.there, st.size = true, info.Size
	if st.own, err = env.OwnershipOf(info); err != nil || t.Absent || t.Content == nil || info.Size != t.Content.Size {
		return "", err
	}
	f, err := d.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	st.hash = hex.EncodeToString(h.Sum(nil))
	return "", nil
}

func text(env *kind.Env, p string) (string, error) {
	d, name, err := kind.Split(env.Machine, p)
	if err != nil {
		return "", err
	}
	defer d.Close()
	f, err := d.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, kind.MaxDiff))
	return string(data), err
}

// Compare says what differs.
func (Kind) Compare(t plan.Task, s any) []plan.Change {
	st := s.(state)
	if t.Absent {
		if st.there {
			return []plan.Change{kind.Existence(true)}
		}
		return nil
	}
	if !st.there {
		c := kind.Existence(false)
		c.Diff = diff(t, st)
		return []plan.Change{c}
	}
	var out []plan.Change
	if differs(t, st) && t.Content.Secret {
		out = append(out, plan.Change{What: "content", Before: "another one", After: value.Hidden, Secret: true})
	} else if differs(t, st) {
		out = append(out, plan.Change{What: "content", Before: fmt.Sprintf("%d bytes", st.size), After: fmt.Sprintf("%d bytes", t.Content.Size), Diff: diff(t, st)})
	}
	return append(out, st.own.Compare(t)...)
}

func diff(t plan.Task, st state) string {
	if !st.shown || !isText(st.old) || !isText(st.new) {
		return ""
	}
	return udiff.Unified(t.Ref.Name+" as it is", t.Ref.Name+" as declared", st.old, st.new)
}

func isText(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

// Write puts files as declared, each in one step.
func (Kind) Write(ctx context.Context, env *kind.Env, work []kind.Work) []error {
	out := make([]error, len(work))
	for i, w := range work {
		out[i] = write(ctx, env, w)
	}
	return out
}

func write(ctx context.Context, env *kind.Env, w kind.Work) error {
	st := w.State.(state)
	d, name, err := kind.Split(env.Machine, st.path)
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
	if st.there && !w.Differs("content") {
		return env.Own(d, name, w.Task)
	}
	return replace(ctx, env, w.Task, st, d, name)
}

// replace writes the candidate beside the file, checks it, and renames it.
func replace(ctx context.Context, env *kind.Env, t plan.Task, st state, d machine.Dir, name string) (err error) {
	mode, uid, gid, err := target(env, t, st, d, name)
	if err != nil {
		return err
	}
	candidate := fmt.Sprintf("%s%s-%d", ledger.CandidateMark, env.Run.ID[max(0, len(env.Run.ID)-12):], t.ID)
	at := path.Join(path.Dir(st.path), candidate)
	if err := env.Store.Candidate(at); err != nil {
		return err
	}
	f, err := d.Create(candidate, mode, uid, gid)
	if err != nil {
		var pe *fs.PathError // which names the candidate, of no use to anybody
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return fmt.Errorf("make a file in %s: %w", path.Dir(st.path), err)
	}
	defer func() {
		if err != nil {
			d.Remove(candidate)
		}
	}()
	err = fill(env, t, st, f)
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil && mode&0o6000 != 0 {
		err = d.Chmod(candidate, mode) // for all but root, writing takes these bits away
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", st.path, err)
	}
	if err := check(ctx, env, t, at); err != nil {
		return err
	}
	if err := d.Rename(candidate, name); err != nil {
		return fmt.Errorf("put %s in place: %w", st.path, err)
	}
	return d.Sync()
}

// target gives the final mode and owner: what is declared, else what stands,
// else 0644 and the worker's user.
func target(env *kind.Env, t plan.Task, st state, d machine.Dir, name string) (mode uint32, uid, gid int, err error) {
	uid, gid, err = env.IDs(t)
	if err != nil {
		return 0, -1, -1, err
	}
	mode = 0o644
	if st.there {
		info, err := d.Lstat(name)
		if err != nil {
			return 0, -1, -1, err
		}
		mode = info.Mode
		if uid < 0 {
			uid = info.UID
		}
		if gid < 0 {
			gid = info.GID
		}
	}
	if m := t.Attrs.Text("mode"); m != "" {
		mode, err = schema.ParseMode(m)
	}
	return mode, uid, gid, err
}

// fill writes the content, and makes sure that it is the one that was meant.
func fill(env *kind.Env, t plan.Task, st state, f machine.File) error {
	if t.Content == nil {
		return f.Sync()
	}
	var from io.Reader = strings.NewReader(st.new)
	if !st.shown {
		r, err := env.Content(*t.Content)
		if err != nil {
			return err
		}
		defer r.Close()
		from = r
	}
	h := sha256.New()
	if _, err := io.Copy(io.MultiWriter(f, h), from); err != nil {
		return err
	}
	if hex.EncodeToString(h.Sum(nil)) != t.Content.SHA256 {
		return errors.New("what arrived is not what was to be sent")
	}
	return f.Sync()
}

// checkLimit bounds a check's time.
const checkLimit = 5 * time.Minute

func check(ctx context.Context, env *kind.Env, t plan.Task, candidate string) error {
	line := t.Attrs.Text("check")
	if line == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, checkLimit)
	defer cancel()
	line = strings.ReplaceAll(line, "${candidate}", kind.Quote(candidate))
	c := machine.Command{Args: []string{"sh", "-c", line}}
	out, err := env.Machine.Run(ctx, c)
	if err != nil {
		return fmt.Errorf("check: %w", err)
	}
	if out.Code != 0 {
		lines := slices.DeleteFunc(strings.Split(out.Combined, "\n"), func(l string) bool { return strings.TrimSpace(l) == "" })
		last := "it said nothing"
		if len(lines) > 0 {
			last = strings.ReplaceAll(lines[len(lines)-1], candidate, t.Ref.Name)
		}
		return &machine.CommandError{Program: "the check (" + t.Attrs.Text("check") + "), so the file was left as it is; it", Code: out.Code, Last: last, Output: out.Combined}
	}
	return nil
}

// Names refuses: a host has too many files to tell which ones are meant.
func (Kind) Names(context.Context, *kind.Env) ([]string, error) {
	return nil, errors.New("name one file, such as file:/etc/motd")
}

// Capture declares a file with its owner and mode, and with its content when
// that is a text that is short enough.
func (Kind) Capture(_ context.Context, env *kind.Env, t plan.Task, s any) (plan.Captured, error) {
	st := s.(state)
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	c := plan.Captured{Attrs: map[string]any{"owner": st.own.Owner, "group": st.own.Group, "mode": st.own.Mode}}
	if st.size > kind.MaxDiff {
		c.Note = fmt.Sprintf("its %d bytes are too many to be shown; put them beside the manifest and name them with copy", st.size)
		return c, nil
	}
	content, err := text(env, st.path)
	if err != nil {
		return c, err
	}
	if !isText(content) {
		c.Note = "it holds no text; put it beside the manifest and name it with copy"
		return c, nil
	}
	c.Attrs["content"] = content
	return c, nil
}
