// Package kind defines what the worker asks of a kind of declaration, and what kinds share: the environment of a run,
// accounts, ownership of paths.
//
// A kind reads the current state, compares it with the declaration, and writes the differences. The worker does the
// rest: it decides when, saves the previous state for undo, reads again after writing, and fails the task if a
// difference remains. Compare uses nothing but its arguments, so preview and apply cannot disagree.
//
// Most kinds are a [One], which handles one thing at a time with its own state type, and [Each] turns it into a [Kind].
// Kinds that change part of a text file are an [Edit]. A kind that handles several tasks together implements Kind.
package kind

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Kind is one kind of declaration on a host. The worker calls Read, Compare,
// and for what differs in an apply Write, Read and Compare again. A kind of
// which each task is alone is a [One], which [Each] makes a Kind of.
type Kind interface {
	Schema() *schema.Kind
	// Read reads what is there, one Reading for each task.
	Read(ctx context.Context, env *Env, tasks []plan.Task) []Reading
	// Compare says what differs. It is pure: it looks at nothing but its
	// arguments.
	Compare(t plan.Task, state any) []plan.Change
	// Names lists what of this kind is on the host and is worth declaring:
	// what people put there, not what every host has.
	Names(ctx context.Context, env *Env) ([]string, error)
	// Capture gives the attributes that declare what was read.
	Capture(ctx context.Context, env *Env, t plan.Task, state any) (plan.Captured, error)
	// Prior gives what a task is about to change as it is, or says in an error why that
	// cannot be put back. It is asked just before Write, and after it again.
	Prior(ctx context.Context, env *Env, t plan.Task, state any) ([]plan.Prior, error)
	// Joint says whether neighbours are better written together than one by one.
	Joint() bool
	// Write makes what differs as declared, for neighbours in the order of the
	// run, one error (or nil) for each.
	Write(ctx context.Context, env *Env, work []Work) []error
	// Stale names what was read before and may be otherwise after a Write.
	Stale() []Topic
}

// Warmer is a Kind that can begin to read before the plan has come, because
// that takes long.
type Warmer interface {
	Warm(ctx context.Context, env *Env)
}

// Foreseer is a Kind that knows, before anything is done, what else a Write would change.
type Foreseer interface {
	// Foresee adds to the changes of each what else would come about with them. An error for
	// one says why it must not be done.
	Foresee(ctx context.Context, env *Env, work []Work) []error
}

// Stayer is a Kind of which something may stay though nothing declares it any more.
type Stayer interface {
	// Stays says why a task that leaves stays; empty when it does not.
	Stays(ctx context.Context, t plan.Task, state any) string
}

// Keeper is a Kind that keeps what is declared at paths which neither its names nor its schema's
// Part report.
type Keeper interface {
	// Keeps gives the paths at which a task has something of its own.
	Keeps(env *Env, t plan.Task) []string
}

// Wider is a Kind whose Write may change more things of its kind than are declared, such as
// what a package needs.
type Wider interface {
	// All gives every thing of the kind that exists, by name.
	All(ctx context.Context, env *Env) (map[string]plan.Prior, error)
}

// Author is a Kind that may know who has changed a thing last.
type Author interface {
	// Who says by whom and how a thing was changed last, as in "by maren with `tool`", and
	// when. Empty when that is not known.
	Who(env *Env, name string) (who string, when time.Time)
}

// Topic is something that kinds read once and keep while nothing changes it.
type Topic string

// What is kept.
const (
	TheAccounts Topic = "accounts" // users and groups
	ThePackages Topic = "packages" // what is installed, and what could be
	TheServices Topic = "services" // what service managers report
)

// Reading is the state of one task's thing, in the kind's own form. With an error
// that wraps ErrNotYet the state may still be good enough for a preview.
type Reading struct {
	State any
	Err   error
}

// Work is one task that differs.
type Work struct {
	Task    plan.Task
	State   any
	Changes []plan.Change
}

// Differs says whether an attribute is among the changes.
func (w Work) Differs(what string) bool {
	for _, c := range w.Changes {
		if c.What == what {
			return true
		}
	}
	return false
}

// ErrNotYet is wrapped by errors of Read that say something is not there: in a
// preview it may be about to be made.
var ErrNotYet = errors.New("missing")

// NotYet makes a problem wrap ErrNotYet.
func NotYet(p problem.Problem) error { return notYet{p} }

type notYet struct{ problem.Problem }

func (e notYet) Unwrap() error        { return e.Problem }
func (e notYet) Is(target error) bool { return target == ErrNotYet }

// Env is what a run gives to kinds.
type Env struct {
	Machine machine.Machine
	Run     plan.Run
	Tasks   []plan.Task // the whole plan; see Plan
	Store   *ledger.Store
	// Content opens a content that the controller holds; Texts fetches small
	// ones together in one round trip, by hash.
	Content func(c plan.Content) (io.ReadCloser, error)
	Texts   func(list []plan.Content) (map[string]string, error)

	// Held are the contents that the controller holds, by hash; nil for all that there are.
	Held map[string]bool

	// Save keeps what a file holds, of so many bytes, before it is changed, and names it.
	// Nil where nothing is kept.
	Save func(r io.Reader, size int64) (plan.Content, error)

	// Ask has the controller ask a task's probe. An error is its answer, or says
	// that it could not.
	Ask func(t plan.Task) error

	// Hide keeps a text out of all that this run reports from here on.
	Hide func(text string)

	// Paths gives where on the host a task of the plan keeps what it declares; empty for what
	// is at no path.
	Paths func(t plan.Task) []string

	// Did holds what a kind did in this run of which nothing can be read back.
	Did map[value.Ref]bool

	// ListsRefreshed says that this run has refreshed the package list.
	ListsRefreshed bool

	// Unloaded says that something was written that the service manager has yet to read.
	Unloaded bool

	cache map[Topic]any
	begun map[Topic]any // what Begin started, as func() (T, error)
	boot  string
	dirs  map[string]machine.Dir // while a batch is read: the folders that are open
}

// Begin starts to read in the background what a later Cached of the same topic
// will ask for, unless something is written before that.
func Begin[T any](e *Env, topic Topic, read func() (T, error)) {
	started := sync.OnceValues(read)
	go started()
	if e.begun == nil {
		e.begun = map[Topic]any{}
	}
	e.begun[topic] = started
}

// Cached gives what an earlier call for this topic made, or makes it.
func Cached[T any](e *Env, topic Topic, read func() (T, error)) (T, error) {
	if v, ok := e.cache[topic]; ok {
		return v.(T), nil
	}
	if started, ok := e.begun[topic].(func() (T, error)); ok {
		read = started
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	if e.cache == nil {
		e.cache = map[Topic]any{}
	}
	e.cache[topic] = v
	return v, nil
}

// Forget drops what was read of topics, after something was written.
func (e *Env) Forget(topics ...Topic) {
	for _, t := range topics {
		delete(e.cache, t)
		delete(e.begun, t)
	}
}

// Plan sets what the whole plan is from here on. What was read for another one is dropped: kinds
// read what they keep for the tasks of the plan.
func (e *Env) Plan(tasks []plan.Task) { e.Tasks, e.cache, e.begun = tasks, nil, nil }

// Holds says whether the controller can be asked for a content.
func (e *Env) Holds(sha256 string) bool { return e.Held == nil || e.Held[sha256] }

// Renew drops all that was read and done so far, as if the run began only now.
func (e *Env) Renew() { e.cache, e.begun, e.Did, e.ListsRefreshed = nil, nil, nil, false }

// Uptime is how long the host has been up, and in which boot.
func (e *Env) Uptime() (time.Duration, string, error) {
	if e.boot == "" {
		id, err := machine.ReadFile(e.Machine, "/proc/sys/kernel/random/boot_id")
		if err != nil {
			return 0, "", fmt.Errorf("read the boot id: %w", err)
		}
		e.boot = strings.TrimSpace(string(id))
	}
	text, err := machine.ReadFile(e.Machine, "/proc/uptime")
	if err != nil {
		return 0, "", fmt.Errorf("read the uptime: %w", err)
	}
	first, _, _ := strings.Cut(string(text), " ")
	d, err := time.ParseDuration(first + "s")
	return d, e.boot, err
}

// MaxDiff bounds the texts that a diff is made of, in bytes.
const MaxDiff = 256 << 10

// Split opens the folder of a path and gives the last element's name. While a
// batch is read, a folder that holds several things is walked to once.
func (e *Env) Split(p string) (machine.Dir, string, error) {
	up := path.Dir(p)
	if d := e.dirs[up]; d != nil {
		return d, path.Base(p), nil
	}
	d, err := e.Machine.Dir(up)
	if errors.Is(err, fs.ErrNotExist) {
		gone := problem.Errorf("the directory %s does not exist", up)
		for _, t := range e.Tasks {
			if t.Ref == (value.Ref{Kind: "dir", Name: up}) && t.Absent {
				return nil, "", NotYet(gone.Remedy("it is declared absent; remove that declaration, or those of " +
					"its contents"))
			}
		}
		return nil, "", NotYet(gone.Remedy("declare it: [dir.%q]", up))
	}
	if err != nil {
		return nil, "", err
	}
	if e.dirs != nil {
		d = held{d}
		e.dirs[up] = d
	}
	return d, path.Base(p), nil
}

// Mkdir makes a folder with mode 0755 for an account; -1 is ours.
func (e *Env) Mkdir(p string, uid, gid int) error {
	d, name, err := e.Split(p)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Mkdir(name, 0o755, uid, gid)
}

// Exists says whether anything is at a path.
func (e *Env) Exists(p string) (bool, error) {
	d, name, err := e.Split(p)
	if errors.Is(err, ErrNotYet) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer d.Close()
	_, err = d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Sum reads to the end, and gives the content's name: its SHA-256 and how long it is.
func Sum(r io.Reader) (plan.Content, error) {
	h := sha256.New()
	n, err := io.Copy(h, r)
	return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, err
}

// CopyContent writes what the controller holds, and makes sure that it is what
// was meant.
func (e *Env) CopyContent(to io.Writer, c plan.Content) error {
	r, err := e.Content(c)
	if err != nil {
		return err
	}
	defer r.Close()
	h := sha256.New()
	if _, err := io.Copy(io.MultiWriter(to, h), r); err != nil {
		return err
	}
	if hex.EncodeToString(h.Sum(nil)) != c.SHA256 {
		return errors.New("the received content does not match its checksum")
	}
	return nil
}

// Candidate names what a task puts beside a thing in a folder before it takes
// its place, and notes it, so that what a killed worker leaves is swept away.
func (e *Env) Candidate(t plan.Task, folder string) (string, error) {
	name := fmt.Sprintf("%s%s-%d", ledger.CandidateMark, e.Run.ID[max(0, len(e.Run.ID)-12):], t.ID)
	return name, e.Store.Candidate(path.Join(folder, name))
}

// held is a folder that stays open until all of a batch is read.
type held struct{ machine.Dir }

func (held) Close() error { return nil }

// hold keeps folders open that are read in, until release is called.
func (e *Env) hold() (release func()) {
	e.dirs = map[string]machine.Dir{}
	return func() {
		for _, d := range e.dirs {
			d.(held).Dir.Close()
		}
		e.dirs = nil
	}
}

// Some names a few of many.
func Some(names []string) string {
	const few = 5
	if len(names) <= few {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:few], ", "), len(names)-few)
}

// Yes writes a bool as people say it.
func Yes(b bool, yes, no string) string {
	if b {
		return yes
	}
	return no
}

// Existence is the change that makes or removes a whole thing.
func Existence(absent bool) plan.Change {
	if absent {
		return plan.Change{What: "existence", Was: "present", Becomes: "absent"}
	}
	return plan.Change{What: "existence", Was: "absent", Becomes: "present"}
}

// Made is the change that makes a whole thing, with all that it will be: the
// declared attributes of these names.
func Made(t plan.Task, names ...string) []plan.Change {
	out := []plan.Change{Existence(false)}
	for _, name := range names {
		if text := Said(t.Attrs[name]); text != "" {
			out = append(out, plan.Change{What: name, Becomes: text})
		}
	}
	return out
}

// Said writes an attribute as people say it; "" for what has no text.
func Said(v any) string {
	switch v := v.(type) {
	case bool:
		return Yes(v, "yes", "no")
	case value.Secret:
		return value.Hidden
	case []any:
		if texts := (value.Attrs{"": v}).Texts(""); len(texts) == len(v) {
			return strings.Join(texts, ", ")
		}
		return value.Shown(v)
	case map[string]any:
		return value.Shown(v)
	}
	text, _ := value.Text(v)
	return text
}

// ParentDirs lists the references of declared folders above a path, the
// nearest only.
func ParentDirs(n schema.Needer) []value.Ref {
	for p := path.Dir(n.Ref.Name); len(p) > 1; p = path.Dir(p) {
		for _, above := range []string{"dir", "mount"} {
			if ref := (value.Ref{Kind: above, Name: p}); n.Declared(ref) {
				return []value.Ref{ref}
			}
		}
	}
	return nil
}

// CapturedSingle declares the one thing of its kind that a host has, if that is
// the one that was asked for.
func CapturedSingle(t plan.Task, has string) (plan.Captured, error) {
	if has != t.Ref.Name {
		return plan.Captured{}, problem.Errorf("the %s of this host is %s", t.Ref.Kind, has).
			Remedy("use that name, or none")
	}
	return plan.Captured{Attrs: map[string]any{}}, nil
}
