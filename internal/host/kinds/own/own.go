// Package own is every custom kind: a program, sent by the controller,
// that is asked in JSON on its standard streams.
package own

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// Question is what a program reads from its standard input, in one line of JSON
// with its keys in alphabetical order. The verb is its only argument: read,
// compare or write.
type Question struct {
	Absent     bool           `json:"absent"`
	Attributes map[string]any `json:"attributes"`
	Format     int            `json:"format"` // 1
	Kind       string         `json:"kind"`
	Name       string         `json:"name"`
	Preview    bool           `json:"preview"`
	State      any            `json:"state,omitempty"` // that read answered; not for read
}

// Answer is what it writes to its standard output.
type Answer struct {
	State   any      `json:"state"`   // of read: what is there, in whatever form
	Changes []Change `json:"changes"` // of compare: what differs; nothing when all is as declared
}

// Change is one difference.
type Change struct {
	What    string `json:"what"`
	Was     string `json:"was"`
	Becomes string `json:"becomes"`
}

// Ask makes the question of a task.
func Ask(t plan.Task, preview bool, state any) ([]byte, error) {
	attrs := map[string]any{}
	for name, v := range t.Attrs {
		attrs[name] = plain(v)
	}
	line, err := json.Marshal(Question{t.Absent, attrs, 1, t.Ref.Kind, t.Ref.Name, preview, state})
	return append(line, '\n'), err
}

// plain reveals secrets: they reach the program by its standard input alone.
func plain(v any) any {
	switch v := v.(type) {
	case value.Secret:
		return v.Reveal()
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = plain(v[k])
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plain(v[i])
		}
		return out
	}
	return v
}

// Bounds on an answer.
const (
	maxAnswer  = 1 << 20
	maxChanges = 1000
)

// Read takes an answer apart.
func Read(verb, text string) (Answer, error) {
	var a Answer
	wrong := func(what string) error {
		return problem.Errorf("the kind's program responds to %s with %s", verb, what).
			Remedy("check how it handles %s: it must write one JSON object and nothing else", verb)
	}
	if len(text) > maxAnswer {
		return a, wrong(fmt.Sprintf("%d bytes", len(text)))
	}
	if verb == "write" && strings.TrimSpace(text) == "" {
		return a, nil
	}
	d := json.NewDecoder(bytes.NewReader([]byte(text)))
	d.DisallowUnknownFields()
	d.UseNumber()
	if err := d.Decode(&a); err != nil {
		return a, wrong("an invalid response: " + err.Error())
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return a, wrong("more than one JSON object")
	}
	if len(a.Changes) > maxChanges {
		return a, wrong(fmt.Sprintf("%d changes", len(a.Changes)))
	}
	for _, c := range a.Changes {
		if c.What == "" {
			return a, wrong("a change without a name")
		}
	}
	return a, nil
}

// Kind is the kind that a task's program makes.
func Kind(name string) kind.Kind { return kind.Each(one{&schema.Kind{Name: name}}) }

type one struct{ about *schema.Kind }

func (o one) Schema() *schema.Kind { return o.about }

// Stale says that a program may change anything.
func (one) Stale() []kind.Topic {
	return []kind.Topic{kind.TheAccounts, kind.ThePackages, kind.TheServices}
}

type state struct {
	raw     any
	changes []plan.Change
}

// Read asks what is there, and at once what of it differs.
func (one) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	program, err := sent(env, t)
	if err != nil {
		return st, err
	}
	a, err := run(ctx, env, t, program, "read", nil)
	if err != nil {
		return st, err
	}
	st.raw = a.State
	if a, err = run(ctx, env, t, program, "compare", st.raw); err != nil {
		return st, err
	}
	for _, c := range a.Changes {
		st.changes = append(st.changes, plan.Change{What: c.What, Was: c.Was, Becomes: c.Becomes})
	}
	return st, nil
}

// Compare gives what the program said differs.
func (one) Compare(_ plan.Task, st state) []plan.Change { return st.changes }

// Write has the program make what differs.
func (one) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	program, err := sent(env, w.Task)
	if err != nil {
		return err
	}
	_, err = run(ctx, env, w.Task, program, "write", w.State.raw)
	return err
}

func run(ctx context.Context, env *kind.Env, t plan.Task, program, verb string, state any) (Answer, error) {
	question, err := Ask(t, env.Run.Preview, state)
	if err != nil {
		return Answer{}, err
	}
	out, err := machine.Do(ctx, env.Machine, machine.Command{Args: []string{program, verb},
		Stdin: string(question)}, nil)
	var failed *machine.CommandError
	if errors.As(err, &failed) {
		failed.Program = "the kind's program, asked to " + verb + ","
		if value.HoldsSecret(map[string]any(t.Attrs)) { // which it may print in a form that nothing knows
			failed.Output, failed.Last = machine.KeptText(""), value.Hidden
		}
	}
	if err != nil {
		return Answer{}, err
	}
	return Read(verb, out.Stdout)
}

// Folder is where programs lie, in our own folder, each named by its hash.
const Folder = "programs"

// keepPrograms is how long a program stays on a host that nothing asks for.
const keepPrograms = 30 * 24 * time.Hour

// sweep removes the programs that are old, but for one.
func sweep(env *kind.Env, d machine.Dir, but string) {
	names, _ := env.Machine.ReadDir(env.Store.Path(Folder))
	for _, name := range names {
		info, err := d.Lstat(name)
		if err == nil && name != but && env.Machine.Now().Sub(info.Time) > keepPrograms {
			d.Remove(name) // should it be asked for again, it is sent again
		}
	}
}

// sent gives the path of the task's program, which is fetched once.
func sent(env *kind.Env, t plan.Task) (string, error) {
	up, folder, err := env.Split(env.Store.Path(Folder))
	if err != nil {
		return "", err
	}
	defer up.Close()
	if _, err := up.Lstat(folder); errors.Is(err, fs.ErrNotExist) {
		if err := up.Mkdir(folder, 0o700, -1, -1); err != nil {
			return "", err
		}
	}
	d, err := env.Machine.Dir(env.Store.Path(Folder))
	if err != nil {
		return "", err
	}
	defer d.Close()
	name := t.Program.SHA256
	sweep(env, d, name)
	path := env.Store.Path(Folder + "/" + name)
	if _, err := d.Lstat(name); err == nil {
		return path, nil
	}
	d.Remove(name + ".new")
	f, err := d.Create(name+".new", 0o700, -1, -1)
	if err != nil {
		return "", err
	}
	err = env.CopyContent(f, *t.Program)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		d.Remove(name + ".new")
		return "", err
	}
	return path, d.Rename(name+".new", name)
}
