package worker

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
)

// maxLooked bounds how many undeclared are looked at, to report what taking them away would
// do.
const maxLooked = 100

// last does what follows the plan.
func (s *session) last(ctx context.Context, r *runner, start *wire.Start) ([]plan.Undeclared, error) {
	if start.Undo != nil {
		return nil, s.undo(ctx, r, start.Undo)
	}
	return s.leave(ctx, r)
}

// leave sees to what this project managed and declares no more: what is to be removed,
// or all of it where the call says so, is taken away in the reverse order of that in
// which it was made; the rest is reported. Where something failed nothing is taken away.
func (s *session) leave(ctx context.Context, r *runner) ([]plan.Undeclared, error) {
	run := r.env.Run
	if !run.Whole || s.ending() {
		return nil, nil
	}
	refs := r.store.Undeclared(run, r.declared())
	refs = slices.DeleteFunc(refs, func(ref value.Ref) bool {
		if !r.inOtherWords(ref) {
			return false
		}
		if !run.Preview {
			r.store.Drop(ref)
		}
		return true
	})
	for _, ref := range r.gone(ctx, refs) {
		r.store.Drop(ref)
		refs = slices.DeleteFunc(refs, func(have value.Ref) bool { return have == ref })
	}
	slices.SortStableFunc(refs, func(a, b value.Ref) int {
		return cmp.Compare(r.store.Entries[b].Order, r.store.Entries[a].Order)
	})
	var stay []plan.Undeclared
	var away, looked []plan.Task
	wrong := slices.ContainsFunc(r.ended, func(s plan.Status) bool { return s == plan.Failed || s == plan.Blocked })
	for _, ref := range refs {
		e := r.store.Entries[ref]
		t, err := kinds.Removal(len(r.tasks)+len(away), ref, e)
		take := run.Take || e.OnRemoval == "remove"
		switch {
		case run.Forget:
			if !run.Preview {
				r.store.Drop(ref)
			}
		case err != nil:
			p := problem.From(err)
			stay = append(stay, plan.Undeclared{Ref: ref, Why: p.Error()})
		case take && wrong:
			stay = append(stay, plan.Undeclared{Ref: ref, Why: "nothing is removed while other tasks fail"})
		case take:
			away = append(away, t)
		case len(looked) < maxLooked:
			looked = append(looked, t)
		default:
			stay = append(stay, plan.Undeclared{Ref: ref})
		}
	}
	env := r.beside(slices.Concat(away, looked))
	for _, t := range env.Tasks[len(env.Tasks)-len(looked):] {
		stay = append(stay, r.look(ctx, env, t))
	}
	sortUndeclared(stay)
	if len(away) == 0 {
		return stay, nil
	}
	if err := s.follow(r, inOrder(len(r.tasks), away)); err != nil {
		return nil, err
	}
	err := s.streaming(func() error { return r.run(ctx) })
	for i, why := range r.stays {
		if s := r.ended[i]; s == plan.Changed || s == plan.Unchanged {
			stay = append(stay, plan.Undeclared{Ref: r.tasks[i].Ref, Why: why, Stays: true})
		}
	}
	sortUndeclared(stay)
	return stay, err
}

func sortUndeclared(list []plan.Undeclared) {
	slices.SortFunc(list, func(a, b plan.Undeclared) int { return cmp.Compare(a.Ref.String(), b.Ref.String()) })
}

// beside is what kinds are given to look at what would leave, beside all that the plan declares.
func (r *runner) beside(leaving []plan.Task) *kind.Env {
	env := &kind.Env{Machine: r.s.m, Run: r.env.Run, Store: r.store, Held: map[string]bool{},
		Tasks: slices.Concat(r.tasks, leaving)}
	for i := range env.Tasks {
		env.Tasks[i].ID = i
	}
	env.Paths = func(t plan.Task) []string { return kinds.Paths(env, t) }
	return env
}

// inOtherWords says whether what was declared once is still, by another kind: a file of which parts
// are declared now, or that is copied whole by now.
func (r *runner) inOtherWords(ref value.Ref) bool {
	whole := func(kindName string) bool {
		k, ok := kinds.Find(kindName)
		return ok && k.Schema().NameSpace() == schema.Paths
	}
	at := kinds.FileOf(ref)
	return path.IsAbs(at) && slices.ContainsFunc(r.tasks, func(t plan.Task) bool {
		return !t.Absent && kinds.FileOf(t.Ref) == at && (whole(ref.Kind) || whole(t.Ref.Kind))
	})
}

// inOrder puts what leaves, which is in the reverse order of that in which it came, so that each
// goes before what it needs: as where both are declared absent, the edges turn round.
func inOrder(first int, away []plan.Task) []plan.Task {
	by := map[value.Ref]int{}
	for i, t := range away {
		by[t.Ref] = i
	}
	declared := func(ref value.Ref) bool { _, ok := by[ref]; return ok }
	before := make([][]int, len(away)) // what has to go first
	for i, t := range away {
		k, _ := kinds.Of(t)
		if k.Schema().Needs == nil {
			continue
		}
		attrs := maps.Clone(t.Attrs)
		attrs["absent"] = t.Absent
		for _, ref := range k.Schema().Needs(schema.Needer{Ref: t.Ref, Attrs: attrs, Declared: declared,
			In: func(string) []value.Ref { return nil }}) {
			if j, ok := by[ref]; ok && j != i {
				before[j] = append(before[j], i)
			}
		}
	}
	var out []plan.Task
	id := make([]int, len(away)) // of what is placed; 0 where it is not, -1 while it waits
	var place func(i int)
	place = func(i int) {
		if id[i] != 0 {
			return
		}
		id[i] = -1
		t := away[i]
		t.Needs = nil
		for _, j := range before[i] {
			if place(j); id[j] > 0 {
				t.Needs = append(t.Needs, id[j]-1)
			}
		}
		t.ID = first + len(out)
		id[i] = t.ID + 1
		out = append(out, t)
	}
	for i := range away {
		place(i)
	}
	return out
}

// follow has tasks of the worker's own follow those of the plan, and informs the controller.
func (s *session) follow(r *runner, tasks []plan.Task) error {
	leaving := &wire.Leaving{}
	for _, t := range tasks {
		leaving.Refs = append(leaving.Refs, sayable(t.Ref))
	}
	if !r.foreseeing && s.send(wire.Message{Leaving: leaving}) != nil {
		return errLost
	}
	r.from, r.leaving = len(r.tasks), len(r.tasks)
	r.tasks = append(r.tasks, tasks...)
	r.env.Plan(r.tasks)
	r.ended = append(r.ended, make([]plan.Status, len(tasks))...)
	return nil
}

// look reports what taking something away would do.
func (r *runner) look(ctx context.Context, env *kind.Env, t plan.Task) plan.Undeclared {
	out := plan.Undeclared{Ref: t.Ref}
	k, _ := kinds.Of(t)
	reading := k.Read(ctx, env, []plan.Task{t})[0]
	if reading.Err != nil {
		out.Why = r.clean(reading.Err.Error())
		return out
	}
	if s, ok := k.(kind.Stayer); ok {
		out.Why = r.clean(s.Stays(ctx, t, reading.State))
	}
	changes := k.Compare(t, reading.State)
	if f, ok := k.(kind.Foreseer); ok && len(changes) > 0 {
		work := []kind.Work{{Task: t, State: reading.State, Changes: changes}}
		if err := f.Foresee(ctx, env, work)[0]; err != nil {
			out.Why = r.clean(err.Error())
			return out
		}
		changes = work[0].Changes
	}
	r.cleanAll(changes)
	out.Changes = changes
	return out
}

// drift says why a task differs, and for a run that asks for it what differs from what was last
// written, when that was and by whom. What this project never wrote has no such time.
func (r *runner) drift(ctx context.Context, k kind.Kind, t plan.Task, res *plan.Result) {
	if r.undo != nil || onlyDue(res.Changes) || len(t.Only) > 0 || t.Attrs.Bool("always") {
		return // what is done because of a change, or at every apply, has no state that someone could modify
	}
	var written []plan.Change
	res.Drift, written = r.cause(ctx, k, t, res.Changes)
	if res.Drift == "" || !r.env.Run.Drift {
		return
	}
	if e, ok := r.store.Entries[t.Ref]; ok && e.Project == r.env.Run.Project {
		res.Since, res.By = e.Since.Unix(), e.Who
	} else if was, ok := r.store.Absent[t.Ref]; ok && was.Project == r.env.Run.Project {
		res.Since, res.By = was.Since.Unix(), was.Who
	}
	res.Written = slices.Clone(written)
	relabel(res.Written, "(last applied)")
}

// cause says whether a host's state is not as it was last written, or is declared differently by
// now, or no longer; and in the first case what differs from what was written.
func (r *runner) cause(ctx context.Context, k kind.Kind, t plan.Task,
	changes []plan.Change) (plan.Drift, []plan.Change) {
	e, ours := r.store.Entries[t.Ref]
	ours = ours && e.Project == r.env.Run.Project && !e.Left
	switch was, known := r.store.Absent[t.Ref]; {
	case t.ID >= r.leaving:
		return plan.ByLeaving, nil
	case !ours && t.Absent && known && was.Project == r.env.Run.Project:
		return plan.ByHost, changes
	case !ours && r.store.Knows(r.env.Run.Project):
		return plan.ByDeclaration, nil // which was never done here
	case !ours || e.Last == nil:
		return "", nil
	}
	same := !t.Absent && e.Last.Same(plan.LastOf(t))
	written := changes
	if !same || e.Last.Secret {
		old := e.Last.Task(t.ID, t.Ref)
		old.Program = t.Program
		reading := k.Read(ctx, r.env, []plan.Task{old})[0]
		if reading.Err != nil && !errors.Is(reading.Err, kind.ErrNotYet) {
			return "", nil
		}
		if written = nil; reading.State != nil {
			written = k.Compare(old, reading.State)
		}
	}
	switch byHost := !onlyDue(written); {
	case same && byHost:
		return plan.ByHost, written
	case same:
		return "", nil // only in what is secret, of which nothing is remembered
	case byHost:
		return plan.ByBoth, written
	}
	return plan.ByDeclaration, nil
}

// relabel says of the new side of texts what it is, where that is not what is declared.
func relabel(changes []plan.Change, as string) {
	for i := range changes {
		changes[i].Diff = strings.Replace(changes[i].Diff, " (declared)\n", " "+as+"\n", 1)
	}
}

// onlyDue says whether nothing differs but what is pending.
func onlyDue(changes []plan.Change) bool {
	return !slices.ContainsFunc(changes, func(c plan.Change) bool { return !due(c) })
}

// due says whether a change is what is pending.
func due(c plan.Change) bool { return c.What == plan.Restart || c.What == plan.Reload }
