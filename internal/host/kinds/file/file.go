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
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Name:  "file",
	Area:  "files",
	Space: schema.Paths,
	About: "A regular file: its content, owner and mode.",
	Doc: "The content comes from content, template or copy. With none of them, the file is created empty if it " +
		"does not exist, and its content is left alone. New content is written to a temporary file with its final " +
		"owner and mode, checked, and then put in place in one step, so nobody ever reads half a file. ACLs and " +
		"other extended attributes are kept; file capabilities belong to the old content and are removed with it.",
	Attrs: append([]schema.Attr{
		{Name: "content", Type: schema.Body, Doc: "The content.",
			Examples: []string{`"North pier, gauge 3\n"`}},
		{Name: "template", Type: schema.Template, Doc: "A Go text/template in the manifest's directory that " +
			"produces the content.",
			Examples: []string{`"logger.toml.tmpl"`}},
		{Name: "copy", Type: schema.Copy, Doc: "A file in the manifest's directory to copy.",
			Examples: []string{`"harmonics.bin"`}},
		{Name: "check", Type: schema.Command,
			Doc: "A command that must succeed before the file is put in place; ${candidate} is the path of " +
				"the new file.",
			Examples: []string{`"tide-logger --check ${candidate}"`}},
		{Name: "once", Type: schema.Bool, Default: "false",
			Doc: "Write the content only if the file does not exist yet.", Examples: []string{"true"}},
		{Name: "follow", Type: schema.Bool, Default: "false",
			Doc: "Follow a symlink in its place instead of failing, and write in place to a file with several hard " +
				"links, which is not atomic.", Examples: []string{"true"}},
	}, kind.OwnerAttrs...),
	Examples: []schema.Example{
		{About: "A file with inline content that differs per host", TOML: `[file."/etc/motd"]
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
	Captures: []string{"owner", "group", "mode", "content"},
	Canon:    schema.FilePath,
	Needs:    kind.OwnerNeeds,
	Check: func(_ string, a value.Attrs) (string, error) {
		var given []string
		for _, name := range []string{"content", "template", "copy"} {
			if a.Has(name) {
				given = append(given, name)
			}
		}
		if a.Bool("absent") && len(given) > 0 {
			return given[0], problem.Errorf("%s cannot be combined with absent", given[0]).
				Remedy("remove one of them")
		}
		if len(given) > 1 {
			return given[1], problem.Errorf("%s cannot be combined", strings.Join(given, " and ")).
				Remedy("keep one of them")
		}
		if c := a.Text("check"); c != "" && !strings.Contains(c, "${candidate}") {
			return "check", problem.Errorf("check does not use ${candidate}").
				Remedy("put ${candidate} where the command expects the file")
		}
		if a.Has("once") && len(given) == 0 {
			return "once", problem.Errorf("once requires content, template or copy").
				Remedy("remove it; a file without content is created only if it does not exist anyway")
		}
		if a.Has("check") && len(given) == 0 {
			return "check", problem.Errorf("check requires content, template or copy").
				Remedy("set one of them, or remove check")
		}
		return "", nil
	},
}

// Kind is the kind of files.
func Kind() kind.Kind { return kind.Each(files{}) }

type files struct{}

func (files) Schema() *schema.Kind { return about }

// Stale says that a file may be one that accounts or services are read from.
func (files) Stale() []kind.Topic { return []kind.Topic{kind.TheAccounts, kind.TheServices} }

// state is what is there at a path.
type state struct {
	path  string // after following links
	there bool
	own   kind.Ownership
	size  int64
	hash  string // only when it decides whether the content differs
	// Both texts, when the content differs and both are short enough to show.
	shown    bool
	closed   bool // the old text is not for everybody's eyes
	old, new string
}

// Gather fetches the short new contents that differ in one round trip.
func (files) Gather(_ context.Context, env *kind.Env, tasks []plan.Task, read []kind.Read[state]) {
	var want []plan.Content
	for i, t := range tasks {
		if showable(t, read[i].State, read[i].Err) && env.Holds(t.Content.SHA256) {
			want = append(want, *t.Content)
		}
	}
	if len(want) == 0 {
		return
	}
	texts, err := env.Texts(want)
	for i, t := range tasks {
		st := &read[i].State
		if !showable(t, *st, read[i].Err) || !env.Holds(t.Content.SHA256) {
			continue
		}
		if err != nil {
			read[i].Err = err
			continue
		}
		st.shown, st.new = true, texts[t.Content.SHA256]
		st.closed = closed(env, t, *st)
		if !st.there || st.closed {
			continue
		}
		if st.old, err = text(env, st.path); err != nil {
			read[i].Err = err
		}
	}
}

// closed says whether a text that only its owner may read was put there by
// somebody else, who may not want to see it in our reports.
func closed(env *kind.Env, t plan.Task, st state) bool {
	_, ours := env.Store.Entries[t.Ref]
	return st.there && st.own.Info.Mode&0o044 == 0 && !ours && !env.Run.ShowClosed
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
	return !st.there || st.hash != t.Content.SHA256 && !t.Attrs.Bool("once")
}

// Read looks at a file.
func (files) Read(_ context.Context, env *kind.Env, t plan.Task) (state, error) {
	st := state{path: t.Ref.Name}
	var noOwner error // the rest is read all the same, for a preview
	if !t.Absent {
		_, _, noOwner = env.IDs(t)
	}
	for range 16 {
		d, name, err := env.Split(st.path)
		if errors.Is(err, kind.ErrNotYet) && t.Absent {
			return st, nil
		}
		if err != nil {
			return st, err
		}
		next, err := look(env, d, name, t, &st)
		d.Close()
		if err == nil && next == "" && st.there && !t.Absent {
			err = acceptable(env, d, name, t, &st)
		}
		if next == "" || err != nil {
			return st, cmp.Or(err, noOwner)
		}
		st.path = next
	}
	return st, fmt.Errorf("%s leads through too many symlinks", t.Ref.Name)
}

// acceptable says why what is there is not given rights or another content, and reads
// what it may lose by that.
func acceptable(env *kind.Env, d machine.Dir, name string, t plan.Task, st *state) error {
	rewritten := differs(t, *st)
	if t.Content == nil {
		if err := st.own.GivesAway(env, t); err != nil {
			return err
		}
	}
	if err := st.own.Refused(env, t, rewritten); err != nil {
		return err
	}
	through := t.Attrs.Bool("follow") && st.own.Folder.OnlyBy(env.Machine.UID())
	switch {
	case rewritten && !through:
		return env.Rewritten(d, name, st.path, &st.own,
			", or set follow = true if only root can write to its directory")
	case rewritten, len(st.own.Compare(t, false)) > 0:
		return env.ReadExtras(d, name, &st.own)
	}
	return nil
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
		return follow(d, name, t, st.path)
	case info.Type.IsDir():
		return "", problem.Errorf("%s is a directory", st.path).Remedy("move it away by hand")
	case info.Type != 0:
		return "", problem.Errorf("%s is not a regular file", st.path).Remedy("move it away by hand")
	}
	st.there, st.size = true, info.Size
	if st.own, err = env.OwnershipOf(d, info); err != nil || t.Absent || t.Content == nil ||
		info.Size != t.Content.Size {
		return "", err
	}
	st.hash, err = hash(d, name, st)
	return "", err
}

// follow gives the path that a link leads to, when the link may be followed.
func follow(d machine.Dir, name string, t plan.Task, at string) (string, error) {
	if !t.Attrs.Bool("follow") {
		target, err := d.Readlink(name)
		if err != nil {
			return "", err
		}
		return "", problem.Errorf("%s is a symlink to %s", at, target).
			Remedy("remove it, or set follow = true if this is intended")
	}
	return kind.Followed(d, name, at)
}

// hash reads a file's content, and what it is from then on known by is the file
// that was read.
func hash(d machine.Dir, name string, st *state) (string, error) {
	f, err := d.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return "", err
	}
	if !info.Same(st.own.Info) {
		return "", problem.Errorf("%s was replaced while it was being read", st.path).Remedy("run again")
	}
	c, err := kind.Sum(f)
	return c.SHA256, err
}

func text(env *kind.Env, p string) (string, error) {
	d, name, err := env.Split(p)
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
func (files) Compare(t plan.Task, st state) []plan.Change {
	switch {
	case t.Absent && st.there:
		return []plan.Change{kind.Existence(true)}
	case t.Absent:
		return nil
	case !st.there:
		return made(t, st)
	}
	rewritten := differs(t, st)
	var out []plan.Change
	switch {
	case rewritten && t.Content.Secret:
		out = append(out, plan.Change{What: "content", Was: "another one", Becomes: value.Hidden, Secret: true})
	case rewritten:
		out = append(out, plan.Change{What: "content", Was: describeContent(st, st.size, st.hash),
			Becomes: describeContent(st, t.Content.Size, t.Content.SHA256), Diff: diff(t, st),
			Closed: st.closed})
	}
	return append(out, st.own.Compare(t, rewritten)...)
}

// made lists all that a new file will be.
func made(t plan.Task, st state) []plan.Change {
	out := kind.Made(t, "owner", "group", "mode")
	if !t.Attrs.Has("mode") {
		out = append(out, plan.Change{What: "mode", Becomes: fmt.Sprintf("%04o", usual(t))})
	}
	switch {
	case t.Content == nil:
	case t.Content.Secret:
		out = append(out, plan.Change{What: "content", Becomes: value.Hidden, Secret: true})
	default:
		out = append(out, plan.Change{What: "content", Becomes: describeContent(st, t.Content.Size, t.Content.SHA256),
			Diff: diff(t, st)})
	}
	return out
}

// describeContent describes a content by its size, and one that is not shown by its hash as well, where
// that is known.
func describeContent(st state, size int64, hash string) string {
	if st.shown && !st.closed || hash == "" || size == 0 {
		return kind.Bytes(size)
	}
	return kind.Bytes(size) + ", sha256 " + hash[:12]
}

// usual is the mode of a new file for which none is declared: what a secret
// went into is for its owner only.
func usual(t plan.Task) uint32 {
	if t.Content != nil && t.Content.Secret {
		return 0o600
	}
	return 0o644
}

func diff(t plan.Task, st state) string {
	if !st.shown || st.closed || !kind.IsText(st.old) || !kind.IsText(st.new) {
		return ""
	}
	return kind.Diff(t.Ref.Name+" (current)", t.Ref.Name+" (declared)", st.old, st.new)
}

// Write puts a file as declared, in one step.
func (files) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	d, name, err := env.Split(w.State.path)
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
	if w.State.there && !w.Differs("content") {
		return env.Own(d, name, w.Task, w.State.own)
	}
	return replace(ctx, env, w.Task, w.State, d, name)
}

// replace writes the candidate beside the file, checks it, and renames it.
func replace(ctx context.Context, env *kind.Env, t plan.Task, st state, d machine.Dir, name string) error {
	if err := unmoved(t, st, d, name); err != nil {
		return err
	}
	var current *kind.Ownership
	if st.there {
		current = &st.own
	}
	mode, uid, gid, err := env.Target(t, current, usual(t))
	if err != nil {
		return err
	}
	return env.Place(ctx, kind.Placement{Task: t, Dir: d, Name: name, At: st.path, Mode: mode, UID: uid, GID: gid,
		Over: current, Through: st.there && st.own.Info.Links > 1, Check: t.Attrs.Text("check"),
		Fill: func(f machine.File) error { return fill(env, t, st, f) }})
}

// unmoved makes sure that what is there is still what was compared, since its
// owner and mode go over to what takes its place.
func unmoved(t plan.Task, st state, d machine.Dir, name string) error {
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !st.there:
		return nil
	case errors.Is(err, fs.ErrNotExist), err == nil && (!st.there || !info.Same(st.own.Info)):
		return kind.Exchanged(t)
	}
	return err
}

// maxHidden bounds a secret content that is kept to be masked, in bytes.
const maxHidden = 4 << 20

// fill writes the content, and makes sure that it is the one that was meant.
func fill(env *kind.Env, t plan.Task, st state, f machine.File) error {
	if t.Content == nil {
		return nil
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
	to := io.MultiWriter(f, h)
	var secret strings.Builder
	if t.Content.Secret && t.Content.Size <= maxHidden {
		to = io.MultiWriter(f, h, &secret)
	}
	if _, err := io.Copy(to, from); err != nil {
		return err
	}
	env.Hide(secret.String())
	if hex.EncodeToString(h.Sum(nil)) != t.Content.SHA256 {
		return errors.New("the received content does not match its checksum")
	}
	return nil
}

// Prior gives the file that is written, at the end of links that are followed, with what
// it holds where that is to be another.
func (files) Prior(_ context.Context, env *kind.Env, t plan.Task, st state) ([]plan.Prior, error) {
	if st.there && !t.Absent && !differs(t, st) {
		return []plan.Prior{plan.NewPrior(value.Ref{Kind: about.Name, Name: st.path}, st.own.Attrs())}, nil
	}
	return env.PriorAt(st.path)
}

// Capture declares a file with its owner and mode, and with its content when
// that is a text that is short enough.
func (files) Capture(_ context.Context, env *kind.Env, _ plan.Task, st state) (plan.Captured, error) {
	if !st.there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	c := plan.Captured{Attrs: st.own.Attrs()}
	if st.size > kind.MaxDiff {
		c.Note = fmt.Sprintf("its %d bytes are too many to show; save it next to the manifest and use copy", st.size)
		return c, nil
	}
	content, err := text(env, st.path)
	if err != nil {
		return c, err
	}
	if !kind.IsText(content) {
		c.Note = "it is not a text file; save it next to the manifest and use copy"
		c.Bytes = []byte(content)
		return c, nil
	}
	c.Attrs["content"] = content
	return c, nil
}
