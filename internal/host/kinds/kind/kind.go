// Package kind defines what the worker asks of a kind of declaration, and what
// kinds share: the environment of a run, accounts, ownership of paths.
package kind

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// Kind is one kind of declaration on a host. The worker calls Read, Compare,
// and for what differs in an apply Write, Read and Compare again.
type Kind interface {
	Schema() *schema.Kind
	// Read tells what stands, one Reading for each task.
	Read(ctx context.Context, env *Env, tasks []plan.Task) []Reading
	// Compare says what differs. It is pure: it looks at nothing but its
	// arguments.
	Compare(t plan.Task, state any) []plan.Change
	// Names lists what of this kind stands on the host and is worth declaring:
	// what people put there, not what every host has.
	Names(ctx context.Context, env *Env) ([]string, error)
	// Capture gives the attributes that declare what was read.
	Capture(ctx context.Context, env *Env, t plan.Task, state any) (plan.Captured, error)
	// Joint says whether neighbours are better written together than one by one.
	Joint() bool
	// Write makes what differs as declared, for neighbours in the order of the
	// run, one error (or nil) for each.
	Write(ctx context.Context, env *Env, work []Work) []error
}

// Warmer is a Kind that can begin to read before the plan has come, because
// that takes long.
type Warmer interface {
	Warm(ctx context.Context, env *Env)
}

// Reading is what stands for one task, in the kind's own form. With an error
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
var ErrNotYet = errors.New("not there")

// NotYet makes an error that wraps ErrNotYet and reads as the text alone.
func NotYet(format string, args ...any) error {
	return notYet{fmt.Sprintf(format, args...)}
}

type notYet struct{ text string }

func (e notYet) Error() string        { return e.text }
func (e notYet) Is(target error) bool { return target == ErrNotYet }

// Env is what a run gives to kinds.
type Env struct {
	Machine machine.Machine
	Run     plan.Run
	Tasks   []plan.Task // the whole plan
	Store   *ledger.Store
	// Content opens a content that the controller holds; Texts fetches small
	// ones together in one round trip, by hash.
	Content func(c plan.Content) (io.ReadCloser, error)
	Texts   func(list []plan.Content) (map[string]string, error)

	// ListsRefreshed says that this run has refreshed the package list.
	ListsRefreshed bool

	cache map[string]any
	begun map[string]any // what Begin started, as func() (T, error)
	boot  string
}

// Begin starts to read in the background what a later Cached with the same key
// will ask for, unless something is written before that.
func Begin[T any](e *Env, key string, read func() (T, error)) {
	started := sync.OnceValues(read)
	go started()
	if e.begun == nil {
		e.begun = map[string]any{}
	}
	e.begun[key] = started
}

// Cached gives what an earlier call with this key made, or makes it.
func Cached[T any](e *Env, key string, read func() (T, error)) (T, error) {
	if v, ok := e.cache[key]; ok {
		return v.(T), nil
	}
	if started, ok := e.begun[key].(func() (T, error)); ok {
		read = started
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	if e.cache == nil {
		e.cache = map[string]any{}
	}
	e.cache[key] = v
	return v, nil
}

// Drop forgets one thing that was read.
func (e *Env) Drop(key string) {
	delete(e.cache, key)
	delete(e.begun, key)
}

// Forget drops what was read, after something was written. Keys to keep are
// those that the write cannot have touched.
func (e *Env) Forget(keep ...string) {
	old := e.cache
	e.cache, e.begun = nil, nil
	for _, k := range keep {
		if v, ok := old[k]; ok {
			if e.cache == nil {
				e.cache = map[string]any{}
			}
			e.cache[k] = v
		}
	}
}

// Uptime tells how long the host has been up, and in which boot.
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

// Split opens the folder of a path and gives the last element's name.
func Split(m machine.Machine, p string) (machine.Dir, string, error) {
	d, err := m.Dir(path.Dir(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", NotYet("the folder %s is not there; declare dir:%s", path.Dir(p), path.Dir(p))
	}
	if err != nil {
		return nil, "", err
	}
	return d, path.Base(p), nil
}

// Quote puts a text into single quotes for sh.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

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
		return plan.Change{What: "existence", Before: "there", After: "absent"}
	}
	return plan.Change{What: "existence", Before: "absent", After: "there"}
}

// ParentDirs lists the references of declared folders above a path, the
// nearest only.
func ParentDirs(n schema.Needer) []value.Ref {
	for p := path.Dir(n.Ref.Name); len(p) > 1; p = path.Dir(p) {
		if ref := (value.Ref{Kind: "dir", Name: p}); n.Declared(ref) {
			return []value.Ref{ref}
		}
	}
	return nil
}
