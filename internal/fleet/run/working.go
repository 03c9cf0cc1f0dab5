package run

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
)

// work is a host's plan and its progress.
type work struct {
	plan  *plan.Plan
	parts []wire.Plan    // of the plan, that are to be sent
	seen  []bool         // by task id, whether its result is here
	uses  map[string]int // how many tasks each content has
	would []record.Task  // what the host foresees
	went  bool           // whether it may do that
	over  time.Time      // when the last results came
	left  bool           // the host has reported what it takes away
	done  bool           // the host has reported everything
}

// has reports whether a task is in the plan and has no result yet.
func (w *work) has(id int) bool { return id >= 0 && id < len(w.seen) && !w.seen[id] }

// worked handles messages about the plan.
func (t *talk) worked(m wire.Message) error {
	switch {
	case m.Want != nil:
		return t.give(m.Want.SHA256)
	case m.Ask != nil:
		return t.ask(m.Ask.Task)
	case m.Results != nil:
		return t.results(m.Results.List)
	case m.Prove != nil:
		return t.prove(m.Prove.Task)
	case m.Foreseen != nil:
		return t.foreseen(m.Foreseen)
	case m.Leaving != nil:
		return t.takesAway(m.Leaving.Refs)
	case m.Rebooting != nil:
		return t.goesDown(m.Rebooting)
	case m.Done != nil:
		return t.lastWord(m.Done)
	case m.Bye != nil && !t.done && t.rebooting == nil:
		return fmt.Errorf("%w: a closing message before the end", wire.ErrFrame)
	case m.Bye != nil:
		return errEnd
	}
	return nil
}

var statuses = []plan.Status{plan.Changed, plan.Failed, plan.Unchanged, plan.Blocked}

var drifts = []plan.Drift{"", plan.ByHost, plan.ByDeclaration, plan.ByBoth, plan.ByLeaving}

// results checks what a host says against its plan and passes it on.
func (t *talk) results(list []plan.Result) error {
	began := t.begun(list)
	for i, r := range list {
		if r.Again {
			if err := t.again(r); err != nil {
				return err
			}
			continue
		}
		if !t.has(r.ID) || !slices.Contains(statuses, r.Status) &&
			!(r.Status == plan.Skipped && (t.plan.Tasks[r.ID].Follows || t.asks(r.ID))) {
			return fmt.Errorf("%w: a result for a task that it does not have", wire.ErrFrame)
		}
		if !slices.Contains(drifts, r.Drift) {
			return fmt.Errorf("%w: an unknown reason", wire.ErrFrame)
		}
		if err := t.accept(r); err != nil {
			return err
		}
		t.seen[r.ID] = true
		if t.rebooting != nil && t.rebooting.Task == r.ID {
			t.rebooting = nil // it has failed to begin
		}
		of := &t.plan.Tasks[r.ID]
		r.Ref = of.Ref
		task := record.NewTask(r)
		task.DeclaredAt(of.Places[0])
		task.After, task.Labels = t.fleet.since(began[i]), append(task.Labels, of.Labels...)
		t.out.Tasks = append(t.out.Tasks, task)
		t.fleet.notify(record.Event{Host: t.out.Name, Task: &task})
	}
	t.working()
	return nil
}

// again takes a result in the place of the one that was reported before, of a change which the host has put back.
func (t *talk) again(r plan.Result) error {
	i := slices.IndexFunc(t.out.Tasks, func(o record.Task) bool { return o.ID == r.ID && o.Status == plan.Changed })
	if i < 0 || r.Status != plan.Failed {
		return fmt.Errorf("%w: a second result for a task that it had not changed", wire.ErrFrame)
	}
	if err := t.accept(r); err != nil {
		return err
	}
	task := &t.out.Tasks[i]
	task.Status, task.Message, task.Do, task.Again = r.Status, r.Message, r.Do, true
	reported := *task
	t.fleet.notify(record.Event{Host: t.out.Name, Task: &reported})
	return nil
}

// begun gives when each of these tasks was begun: what comes at once was done one after the
// other, the last one just now, and none before what came earlier was over.
func (t *talk) begun(list []plan.Result) []time.Time {
	out := make([]time.Time, len(list))
	now := time.Now()
	at := now
	for i, r := range slices.Backward(list) {
		if at = at.Add(-max(0, r.Took)); at.Before(t.over) {
			at = t.over
		}
		out[i] = at
	}
	t.over = now
	return out
}

// takesAway adds to the plan what the host takes away since nothing declares it any more, or
// puts back, which it may say once, when the tasks that it was given are over.
func (t *talk) takesAway(refs []value.Ref) error {
	if t.left || len(refs) == 0 || len(refs) > 1<<16 || slices.Contains(t.seen, false) ||
		!t.start.Run.Whole {
		return fmt.Errorf("%w: removals at the wrong time, or too many", wire.ErrFrame)
	}
	t.left = true
	longer := *t.plan
	longer.Tasks = slices.Clone(longer.Tasks)
	for _, ref := range refs {
		if err := cmp.Or(fitsRef(ref), t.hold(256+len(ref.Name))); err != nil {
			return err
		}
		longer.Tasks = append(longer.Tasks, plan.Task{ID: len(longer.Tasks), Ref: ref, Absent: t.start.Undo == nil,
			Places: []value.Place{{}}})
		t.seen = append(t.seen, false)
	}
	t.plan, t.out.Planned = &longer, len(longer.Tasks)
	return nil
}

// maxLine bounds what is shown of a host's output while it works, in bytes.
const maxLine = 512

// atWorkFor passes on that a task of this host's own plan, or the command, is at work.
func (t *talk) atWorkFor(p *wire.Progress) error {
	if t.start.Exec != nil && len(p.Line) <= maxLine {
		t.atWork(value.Ref{}, p.Took, p.Line, 0)
		return nil
	}
	if p.Task < 0 || p.Task >= len(t.seen) || len(p.Line) > maxLine || p.Took < 0 {
		return fmt.Errorf("%w: the progress of a task that it does not have", wire.ErrFrame)
	}
	if t.seen[p.Task] {
		return nil
	}
	t.atWork(t.plan.Tasks[p.Task].Ref, p.Took, p.Line, p.Try)
	return nil
}

// atWork passes on what the host is at for long.
func (t *talk) atWork(ref value.Ref, took time.Duration, line string, try int) {
	t.fleet.notify(record.Event{Host: t.out.Name, AtWork: &record.AtWork{Kind: ref.Kind, Name: ref.Name,
		Line: line, Try: try,
		Seconds: took.Seconds(), Reported: time.Now().UTC()}})
}

// working begins the wait for the next result.
func (t *talk) working() {
	if !t.out.Stopped {
		t.phase(t.limits.Task, fmt.Sprintf("it did not report on any task for %v", t.limits.Task))
	}
}

// asks says whether a task only asks.
func (t *talk) asks(id int) bool {
	k, _ := t.fleet.Plans.Project.Kinds.Kind(t.plan.Tasks[id].Ref.Kind)
	return k.Asks
}

// ask asks a probe of this host's own plan, once, while the host goes on.
func (t *talk) ask(id int) error {
	if !t.has(id) || t.asked[id] || !t.asks(id) ||
		t.plan.Tasks[id].Attrs.Text(probe.AskedFrom) != probe.Controller {
		return fmt.Errorf("%w: a request for a probe that is not in its plan", wire.ErrFrame)
	}
	if t.asked == nil {
		t.asked = map[int]bool{}
	}
	t.asked[id] = true
	attrs := t.plan.Tasks[id].Attrs
	go func() {
		answer := wire.Answer{Task: id}
		err := error(problem.Errorf("probes cannot run from the controller here").Remedy("set asked_from = \"host\""))
		if t.fleet.Ask != nil {
			err = t.fleet.Ask(t.ctx, t.host, attrs)
		}
		if err != nil {
			p := problem.From(err)
			answer.Wrong, answer.Do = p.What, p.Do
		}
		t.conn.Send(wire.Message{Answer: &answer}) // should it not arrive, the connection is broken
	}()
	return nil
}

// lastWord takes the last message of a host, once all tasks of its plan are reported.
func (t *talk) lastWord(d *wire.Done) error {
	if len(d.Undeclared) > 1<<16 || len(d.Pending) > 1<<16 {
		return fmt.Errorf("%w: too many undeclared resources or pending restarts", wire.ErrFrame)
	}
	if missing := t.out.Planned - len(t.out.Tasks); missing > 0 && !t.out.Stopped {
		return errors.New("it ended without reporting all tasks")
	}
	for _, l := range d.Undeclared {
		r := plan.Result{Ref: l.Ref, Changes: l.Changes, Message: l.Why}
		if err := t.accept(r); err != nil {
			return err
		}
	}
	if err := t.addPending(d.Pending); err != nil {
		return err
	}
	if len(d.Notice) > maxName {
		return fmt.Errorf("%w: a notice that is too long", wire.ErrFrame)
	}
	t.out.Undeclared, t.out.Message, t.done = record.NewUndeclared(d.Undeclared), d.Notice, true
	if d.Free {
		return errEnd
	}
	t.phase(t.limits.Bye, "it did not close the connection at the end")
	t.conn.Send(wire.Message{Bye: &wire.Bye{}}) // should it not arrive, the next run receives all this again
	return nil
}

// addPending takes what a host says is pending on it.
func (t *talk) addPending(pending []plan.Pending) error {
	for _, d := range pending {
		if d.Action != plan.Restart && d.Action != plan.Reload && d.Action != plan.Follow {
			return fmt.Errorf("%w: an unknown pending restart", wire.ErrFrame)
		}
	}
	t.out.Pending = record.NewPending(pending)
	return t.hold(128 * len(pending))
}
