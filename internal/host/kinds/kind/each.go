package kind

import (
	"context"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
)

// One is a kind of which each task is alone: a schema, and a read, a
// compare and a write of one thing. S is what is there, in the kind's own form.
//
// It may also be a [Lister], a [Capturer], a [Gatherer], a [Keeper], a [Undoable] and an [Outdater].
type One[S any] interface {
	Schema() *schema.Kind
	// Read reads what is there. With an error that wraps ErrNotYet the state may
	// still be good enough for a preview.
	Read(ctx context.Context, env *Env, t plan.Task) (S, error)
	// Compare says what differs, and looks at nothing but its arguments.
	Compare(t plan.Task, s S) []plan.Change
	// Write makes what differs as declared.
	Write(ctx context.Context, env *Env, w Differing[S]) error
}

// Differing is one task that differs from what is there.
type Differing[S any] struct {
	Task    plan.Task
	State   S
	Changes []plan.Change
}

// Differs says whether an attribute is among the changes.
func (d Differing[S]) Differs(what string) bool { return Work{Changes: d.Changes}.Differs(what) }

// Lister is a One that can say what of its kind is worth declaring on a host.
type Lister interface {
	Names(ctx context.Context, env *Env) ([]string, error)
}

// Capturer is a One that can declare what is there.
type Capturer[S any] interface {
	Capture(ctx context.Context, env *Env, t plan.Task, s S) (plan.Captured, error)
}

// Gatherer is a One that completes what it has read of neighbours together,
// because that saves round trips.
type Gatherer[S any] interface {
	Gather(ctx context.Context, env *Env, tasks []plan.Task, read []Read[S])
}

// Outdater is a One, or an Edit, whose Write may change more than its own task: it names the topics that have to be
// read again.
type Outdater interface{ Stale() []Topic }

func stale(k any) []Topic {
	if o, is := k.(Outdater); is {
		return o.Stale()
	}
	return nil
}

// Undoable is a One that says by itself what a task is about to change. Of any other it is
// what Capture declares, and where there is none it cannot be put back.
type Undoable[S any] interface {
	Prior(ctx context.Context, env *Env, t plan.Task, s S) ([]plan.Prior, error)
}

// Read is a Reading whose state has its type.
type Read[S any] struct {
	State S
	Err   error
}

// Each makes a Kind of a One.
func Each[S any](one One[S]) Kind { return each[S]{one} }

type each[S any] struct{ One[S] }

func (e each[S]) Stale() []Topic { return stale(e.One) }

func (each[S]) Joint() bool { return false }

func (k each[S]) Read(ctx context.Context, env *Env, tasks []plan.Task) []Reading {
	defer env.hold()()
	read := make([]Read[S], len(tasks))
	for i, t := range tasks {
		read[i].State, read[i].Err = k.One.Read(ctx, env, t)
	}
	if g, ok := k.One.(Gatherer[S]); ok {
		g.Gather(ctx, env, tasks, read)
	}
	out := make([]Reading, len(tasks))
	for i, r := range read {
		out[i] = Reading{State: r.State, Err: r.Err}
	}
	return out
}

func (k each[S]) Compare(t plan.Task, state any) []plan.Change {
	return k.One.Compare(t, state.(S))
}

func (k each[S]) Write(ctx context.Context, env *Env, work []Work) []error {
	out := make([]error, len(work))
	for i, w := range work {
		out[i] = k.One.Write(ctx, env, Differing[S]{w.Task, w.State.(S), w.Changes})
	}
	return out
}

func (k each[S]) Names(ctx context.Context, env *Env) ([]string, error) {
	if l, ok := k.One.(Lister); ok {
		return l.Names(ctx, env)
	}
	return nil, problem.Errorf("a host has too many resources of the kind %s", k.Schema().Name).
		Remedy("name the one you want")
}

func (k each[S]) Capture(ctx context.Context, env *Env, t plan.Task, state any) (plan.Captured, error) {
	if c, ok := k.One.(Capturer[S]); ok {
		return c.Capture(ctx, env, t, state.(S))
	}
	return plan.Captured{}, problem.Errorf("a %s cannot be captured", k.Schema().Name).Remedy("declare it by hand")
}

// Keeps gives none where the One is no [Keeper].
func (k each[S]) Keeps(env *Env, t plan.Task) []string {
	if keeper, ok := k.One.(Keeper); ok {
		return keeper.Keeps(env, t)
	}
	return nil
}

// Stays gives none where the One does not say.
func (k each[S]) Stays(ctx context.Context, t plan.Task, state any) string {
	if s, ok := k.One.(interface {
		Stays(context.Context, plan.Task, S) string
	}); ok {
		return s.Stays(ctx, t, state.(S))
	}
	return ""
}

func (k each[S]) Prior(ctx context.Context, env *Env, t plan.Task, state any) ([]plan.Prior, error) {
	if s, ok := k.One.(Undoable[S]); ok {
		return s.Prior(ctx, env, t, state.(S))
	}
	if _, ok := k.One.(Capturer[S]); !ok {
		return nil, problem.Errorf("a %s cannot be undone", k.Schema().Name)
	}
	c, err := k.Capture(ctx, env, t, state)
	if err != nil {
		return nil, err
	}
	if c.Attrs["absent"] == true {
		return []plan.Prior{plan.Missing(t.Ref)}, nil
	}
	return []plan.Prior{plan.NewPrior(t.Ref, c.Attrs)}, nil
}
