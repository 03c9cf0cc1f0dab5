package worker

import (
	"context"
	"io"
	"maps"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
)

// befores are what tasks that are at work found.
type befores struct {
	of     map[int][]plan.Prior  // by task
	all    map[string]plan.Prior // every thing of the kind, where a write may change others
	veiled map[string]bool       // paths of files that hold a secret of ours
}

// keeps says whether this run keeps what was there before its changes.
func (r *runner) keeps() bool {
	return r.past.Size > 0 && !r.unkept && !r.foreseeing && !r.env.Run.Preview && !r.env.Run.Passing
}

// before keeps what is there of tasks that are about to change it. Where that fails nothing
// more of this run is kept: it holds up no run.
func (r *runner) before(ctx context.Context, k kind.Kind, work []kind.Work) {
	if !r.keeps() || len(work) == 0 || k.Schema().Asks {
		return
	}
	r.befores.of, r.befores.all = map[int][]plan.Prior{}, nil
	r.env.Save = func(f io.Reader, size int64) (plan.Content, error) { return r.past.Keep(r.env.Run, f, size) }
	defer func() { r.env.Save = nil }()
	list := make([]ledger.Moved, len(work))
	for i, w := range work {
		list[i] = ledger.Moved{Task: w.Task.Ref, Triggers: w.Task.Triggers, Entry: r.entry(w.Task.Ref)}
		current, err := k.Prior(ctx, r.env, w.Task, w.State)
		if err != nil {
			list[i].Why = r.clean(problem.From(err).What)
			continue
		}
		for j := range current {
			current[j].Veiled = current[j].Veiled || r.veiled(current[j].Ref)
		}
		list[i].Before = current
		r.befores.of[w.Task.ID] = current
	}
	if wide, ok := k.(kind.Wider); ok {
		r.befores.all, _ = wide.All(ctx, r.env) // else what comes along is not known, and not kept
	}
	r.note(true, list)
}

func (r *runner) entry(ref value.Ref) *plan.Entry {
	if e, ok := r.store.Entries[ref]; ok {
		return &e
	}
	return nil
}

func (r *runner) note(sync bool, list []ledger.Moved) {
	if len(list) == 0 {
		return
	}
	r.unkept = r.past.Note(r.env.Run, sync, list...) != nil
}

// after keeps what tasks left, by which it is seen later whether somebody has changed it
// since.
func (r *runner) after(ctx context.Context, k kind.Kind, tasks []plan.Task, readings []kind.Reading) {
	if !r.keeps() {
		return
	}
	var list []ledger.Moved
	for i, t := range tasks {
		before := r.befores.of[t.ID]
		if len(before) == 0 || readings[i].Err != nil {
			continue
		}
		if current, err := r.left(ctx, k, t, readings[i], before); err == nil {
			list = append(list, ledger.Moved{Task: t.Ref, After: current})
		}
	}
	if wide, ok := k.(kind.Wider); ok && r.befores.all != nil {
		if now, err := wide.All(ctx, r.env); err == nil {
			list = append(list, r.along(k, tasks, now)...)
			r.befores.all = now
		}
	}
	r.note(false, list)
}

// left gives what is there now of what a task found before.
func (r *runner) left(ctx context.Context, k kind.Kind, t plan.Task, reading kind.Reading,
	before []plan.Prior) ([]plan.Prior, error) {
	var out []plan.Prior
	others := false
	for _, s := range before {
		if !atPath(s.Ref) {
			others = true
			continue
		}
		now, err := r.env.PriorAt(s.Ref.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, now...)
	}
	if !others {
		return out, nil
	}
	current, err := k.Prior(ctx, r.env, t, reading.State)
	for _, s := range current {
		if !atPath(s.Ref) {
			out = append(out, s)
		}
	}
	return out, err
}

// along gives what came, went or changed together with what is declared.
func (r *runner) along(k kind.Kind, tasks []plan.Task, now map[string]plan.Prior) []ledger.Moved {
	was := r.befores.all
	names := maps.Clone(was)
	maps.Copy(names, now)
	for _, t := range tasks {
		delete(names, t.Ref.Name)
	}
	var out []ledger.Moved
	for _, name := range value.Keys(names) {
		ref := value.Ref{Kind: k.Schema().Name, Name: name}
		before, there := was[name]
		after, stays := now[name]
		if !there {
			before = plan.Missing(ref)
		}
		if !stays {
			after = plan.Missing(ref)
		}
		if !samePrior(before, after) {
			out = append(out, ledger.Moved{Task: ref, Before: []plan.Prior{before}, After: []plan.Prior{after},
				Entry: r.entry(ref)})
		}
	}
	return out
}

func samePrior(a, b plan.Prior) bool {
	as := a.As == nil && b.As == nil || a.As != nil && b.As != nil && a.As.Same(b.As)
	return a.Ref == b.Ref && a.Absent == b.Absent && as && maps.Equal(a.Secrets, b.Secrets)
}

// atPath says whether a thing is what is at a path.
func atPath(ref value.Ref) bool { return ref.Kind == "file" || ref.Kind == "dir" || ref.Kind == "link" }

// veiled says whether a secret of ours goes, or went, into a file.
func (r *runner) veiled(ref value.Ref) bool {
	if r.befores.veiled == nil {
		r.befores.veiled = map[string]bool{}
		for _, t := range r.tasks {
			if plan.LastOf(t).Secret || len(t.Masks) > 0 {
				r.befores.veiled[kinds.FileOf(t.Ref)] = true
			}
		}
		for ref, e := range r.store.Entries {
			if e.Last != nil && e.Last.Secret {
				r.befores.veiled[kinds.FileOf(ref)] = true
			}
		}
	}
	return ref.Kind == "file" && r.befores.veiled[ref.Name]
}

// prune lets go what is not kept any longer. That it cannot be is not a reason to call a run
// failed.
func (r *runner) prune() {
	if !r.env.Run.Preview {
		_ = r.past.Prune(r.env.Run)
	}
}
