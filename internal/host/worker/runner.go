package worker

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/mask"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/guard"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service"
	"jadekettle/internal/host/ledger"
	"jadekettle/internal/host/machine"
)

// runner takes a plan through its tasks in order.
type runner struct {
	s       *session
	env     *kind.Env
	store   *ledger.Store
	tasks   []plan.Task
	ended   []plan.Status // by task id; empty while it has not
	mask    mask.Mask
	from    int              // the task to begin with
	resumed *wire.Rebooting  // what a reboot ended the last session for; may be nil
	onPath  map[string][]int // tasks that ended as declared, by the file that they are about
	undo    *undoing         // puts back what an earlier run changed; nil in any other run
	// surveyed is closed when the facts are read, which are those of before the
	// first change.
	surveyed chan struct{}

	doors
	foresight
	departure
	keeping
}

// doors are what lets people in, which a change must not close.
type doors struct {
	guard    *guard.Keeper // keeps us from being locked out; may be nil
	unproved bool          // nothing does, and that is said
	login    string        // the account that logs in, as far as is known
}

// foresight is what a run only reports that it would do.
type foresight struct {
	foreseeing bool
	foreseen   []plan.Result
	digest     *digester // of what is declared; may be nil
}

// departure is what goes since nothing declares it any more.
type departure struct {
	leaving int            // from which task on they take it away
	stays   map[int]string // why tasks that leave stay
}

// keeping is what was there before a run changed it, which undo puts back.
type keeping struct {
	past    *ledger.Past
	unkept  bool    // that failed once, so nothing more of this run is kept
	befores befores // of the tasks that are at work
}

func newRunner(s *session, store *ledger.Store, run plan.Run) *runner {
	r := &runner{s: s, store: store, departure: departure{stays: map[int]string{}}}
	r.env = &kind.Env{Machine: s.m, Run: run, Store: store, Content: s.content, Texts: s.texts, Ask: s.ask,
		Hide: r.mask.Hide}
	r.env.Paths = func(t plan.Task) []string { return kinds.Paths(r.env, t) }
	return r
}

// warm begins what takes long while the plan is on its way.
func (r *runner) warm(ctx context.Context) {
	for _, k := range kinds.All() {
		if w, ok := k.(kind.Warmer); ok {
			w.Warm(ctx, r.env)
		}
	}
}

// acceptPlan gives the runner its plan.
func (r *runner) acceptPlan(tasks []plan.Task) {
	r.tasks, r.env.Tasks = tasks, tasks // what was begun for the ledger's services is kept
	r.ended = make([]plan.Status, len(tasks))
	r.leaving = len(tasks)
	r.env.Held = map[string]bool{}
	for _, t := range tasks {
		for _, c := range t.Wants() {
			r.env.Held[c.SHA256] = true
		}
		for _, name := range value.Keys(t.Attrs) {
			r.hide(t.Attrs[name])
		}
		for _, v := range t.Masks {
			r.hide(v)
		}
	}
}

func (r *runner) hide(v any) {
	switch v := v.(type) {
	case value.Secret:
		r.mask.Hide(v.Reveal())
	case []any:
		for _, item := range v {
			r.hide(item)
		}
	case map[string]any:
		for _, item := range v {
			r.hide(item)
		}
	}
}

// gone gives those things that are not on the host any more.
func (r *runner) gone(ctx context.Context, refs []value.Ref) []value.Ref {
	var out []value.Ref
	env := &kind.Env{Machine: r.s.m, Run: r.env.Run, Store: r.store}
	for i, ref := range refs {
		env.Tasks = append(env.Tasks, plan.Task{ID: i, Ref: ref, Attrs: value.Attrs{}})
	}
	for i, ref := range refs {
		k, ok := kinds.Find(ref.Kind)
		if !ok {
			continue
		}
		reading := k.Read(ctx, env, env.Tasks[i:i+1])[0]
		if errors.Is(reading.Err, kind.ErrNotYet) {
			out = append(out, ref)
			continue
		}
		if reading.Err != nil {
			continue
		}
		if c, err := k.Capture(ctx, env, env.Tasks[i], reading.State); err == nil && c.Attrs["absent"] == true {
			out = append(out, ref)
		}
	}
	return out
}

// moved says whether anything on the host differs from before, or failed
// to be: whether the results of this run must not be lost.
func (r *runner) moved() bool {
	return !r.env.Run.Preview && slices.ContainsFunc(r.ended, func(s plan.Status) bool {
		return s == plan.Changed ||
			s == plan.Failed || s == plan.Blocked
	})
}

func (r *runner) declared() map[value.Ref]bool {
	out := make(map[value.Ref]bool, len(r.tasks))
	for _, t := range r.tasks {
		out[t.Ref] = true
	}
	return out
}

// maxBatch bounds how many neighbours are read together.
const maxBatch = 64

// run goes through the tasks. It ends early when it is asked to, or when the
// connection is lost, after the task in hand.
func (r *runner) run(ctx context.Context) error {
	for at := r.from; at < len(r.tasks); {
		if r.s.ending() {
			return nil
		}
		batch := r.batch(at)
		at += len(batch)
		if err := r.do(ctx, batch); err != nil {
			return err
		}
	}
	return nil
}

// batch gives the neighbours from a task on that are of one kind and do not
// need one another. A reboot is alone.
func (r *runner) batch(from int) []plan.Task {
	to := from + 1
	if reboots(r.tasks[from].Ref.Kind) {
		return r.tasks[from:to]
	}
	for to < len(r.tasks) && to-from < maxBatch && r.tasks[to].Ref.Kind == r.tasks[from].Ref.Kind &&
		!slices.ContainsFunc(r.tasks[to].Needs, func(n int) bool { return n >= from }) {
		to++
	}
	return r.tasks[from:to]
}

// do takes one batch to its end: what is blocked or managed by another project
// aside, read, compare, and where something differs write.
func (r *runner) do(ctx context.Context, batch []plan.Task) error {
	begun := time.Now()
	k, ok := kinds.Of(batch[0])
	if !ok {
		return fmt.Errorf("this worker does not know the kind %q", batch[0].Ref.Kind)
	}
	var results []plan.Result
	var open []plan.Task
	for _, t := range batch {
		if res, over := r.barred(t); over {
			results = append(results, res)
			continue
		}
		if k.Schema().Asks && r.env.Run.Preview {
			results = append(results, plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Skipped,
				Message: "it runs after the changes have been made"})
			continue
		}
		open = append(open, t)
	}
	over, work, err := r.judge(ctx, k, r.find(ctx, k, open))
	if err != nil {
		return err
	}
	results = append(results, over...)
	share(results, time.Since(begun))
	results, beside := apart(k, results, len(work) > 0)
	if err := r.end(results); err != nil {
		return err
	}
	if k.Schema().Reboots && len(work) > 0 && !r.s.ending() {
		return rebootError{work[0]}
	}
	r.before(ctx, k, work)
	err = r.changeAll(ctx, k, work)
	return errors.Join(err, r.end(r.stillRight(ctx, k, beside)))
}

func (r *runner) changeAll(ctx context.Context, k kind.Kind, work []kind.Work) error {
	for _, part := range r.parts(k, work) {
		if r.s.ending() {
			return nil
		}
		if err := r.change(ctx, k, part); err != nil {
			return err
		}
	}
	return nil
}

// finding is what was found of a task before anything is done.
type finding struct {
	kind.Work
	err error // it cannot be what is declared, or not by this
}

// find reads tasks, says what differs, and what else would change with it.
func (r *runner) find(ctx context.Context, k kind.Kind, tasks []plan.Task) []finding {
	if len(tasks) == 0 {
		return nil
	}
	out := make([]finding, len(tasks))
	var differ []int
	var work []kind.Work
	for i, reading := range r.read(ctx, k, tasks) {
		t := tasks[i]
		changes, err := r.compare(k, t, reading)
		if err != nil && !r.env.Run.Preview && t.Tries.More > 0 {
			reading, changes, err = r.readAgain(ctx, k, t, reading, err)
		}
		if err == nil && len(changes) > 0 {
			err = r.lacks(k, t, changes)
		}
		if err == nil && len(changes) > 0 && r.unproved && !kinds.Guarded(r.env, t, r.login).Empty() {
			changes = append(changes, plan.Change{What: "guard", Was: "", Becomes: "none: no other machine can " +
				"prove that logins still work, so nothing is reverted automatically"})
		} else if err == nil && len(changes) > 0 {
			changes = append(changes, r.unread(ctx, t)...)
		}
		out[i] = finding{kind.Work{Task: t, State: reading.State, Changes: changes}, err}
		if s, ok := k.(kind.Stayer); ok && t.Leaves && reading.Err == nil {
			if why := s.Stays(ctx, t, reading.State); why != "" {
				r.stays[t.ID] = r.clean(why)
			}
		}
		if err == nil && reading.Err == nil && len(changes) > 0 {
			differ, work = append(differ, i), append(work, out[i].Work)
		}
	}
	if f, ok := k.(kind.Foreseer); ok && len(work) > 0 {
		for at, err := range f.Foresee(ctx, r.env, work) {
			out[differ[at]].Work, out[differ[at]].err = work[at], err
		}
	}
	return out
}

// judge gives the results of what is over with that, and what is left to do.
func (r *runner) judge(ctx context.Context, k kind.Kind, found []finding) (over []plan.Result, work []kind.Work,
	err error) {
	for _, f := range found {
		t, changes := f.Task, f.Changes
		var moved error
		if f.err == nil && len(changes) > 0 && r.undo != nil {
			moved = r.undo.moved(ctx, r, k, t)
		}
		switch {
		case errors.Is(f.err, errLost): // it has not been tried, so it has no result
		case f.err != nil:
			over = append(over, r.failed(t, f.err))
		case len(changes) == 0:
			over = append(over, r.right(t))
		case moved != nil:
			res := r.failed(t, moved)
			res.Changes = changes
			over = append(over, res)
		case r.env.Run.Preview:
			if _, err := r.notePending(t); err != nil {
				return nil, nil, err
			}
			res := plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Changed, Changes: changes}
			r.drift(ctx, k, t, &res)
			over = append(over, res)
		default:
			work = append(work, f.Work)
		}
	}
	return over, work, nil
}

// barred says whether a task is over before it began.
func (r *runner) barred(t plan.Task) (plan.Result, bool) {
	for _, n := range t.Needs {
		if s := r.ended[n]; s == plan.Failed || s == plan.Blocked || s == "" {
			return plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Blocked, BlockedBy: r.tasks[n].Ref}, true
		}
	}
	if t.Follows && !r.store.IsPending(t.Ref, plan.Follow) {
		return plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Skipped, Message: r.unmoved(t)}, true
	}
	if project, other := r.store.Other(t.Ref); other && !r.env.Run.Passing && !r.env.Run.Adopt {
		return r.failed(t, problem.Errorf("the project %q already manages it on this host", project).
				Remedy("remove it from one of the projects, or take it over with --adopt if the other one is "+
					"discontinued")),
			true
	}
	return plan.Result{}, false
}

// unmoved says why a task that is only done after a change is skipped.
func (r *runner) unmoved(t plan.Task) string {
	var names []string
	for _, n := range t.Only {
		names = append(names, r.tasks[n].Ref.String())
	}
	if len(names) == 0 {
		return "nothing it depends on is part of this run"
	}
	return "no change to " + strings.Join(names, ", ")
}

// compare says what differs. In a preview, what is not there yet because it is
// about to be made is reported as what it will become.
func (r *runner) compare(k kind.Kind, t plan.Task, reading kind.Reading) ([]plan.Change, error) {
	if reading.Err == nil {
		return r.undo.relabelChanges(t, k.Compare(t, reading.State)), nil
	}
	coming := slices.ContainsFunc(t.Needs, func(n int) bool { return r.ended[n] == plan.Changed })
	if !r.env.Run.Preview || !coming || !errors.Is(reading.Err, kind.ErrNotYet) {
		return nil, reading.Err
	}
	if reading.State != nil {
		if changes := k.Compare(t, reading.State); len(changes) > 0 {
			return r.undo.relabelChanges(t, changes), nil
		}
	}
	return r.undo.relabelChanges(t, becomes(t)), nil
}

// notYet is shown in the place of a value of something that an earlier task is about to create.
const notYet = "does not exist yet"

// becomes lists what is declared, for what is not there to be compared.
func becomes(t plan.Task) []plan.Change {
	var out []plan.Change
	for _, name := range value.Keys(t.Attrs) {
		out = append(out, plan.Change{What: name, Was: notYet, Becomes: kind.Said(t.Attrs[name])})
	}
	if len(out) == 0 {
		out = append(out, kind.Existence(false))
	}
	return out
}

// notePending notes the pending actions that a change of this task makes, and gives the uptime
// from which on they count.
func (r *runner) notePending(t plan.Task) (time.Duration, error) {
	if len(t.Triggers) == 0 {
		return 0, nil
	}
	up, boot, err := r.uptime()
	if err != nil {
		return 0, err
	}
	for _, o := range t.Triggers {
		r.store.AddPending(o.Service, ledger.Pending{Action: o.Action, Cause: t.Ref, Boot: boot, Uptime: up,
			Open: !r.env.Run.Preview, Coming: r.env.Run.Preview})
	}
	return up, nil
}

// uptime is a moment that has not passed yet: the kernel gives it in hundredths of
// a second, rounded down.
func (r *runner) uptime() (time.Duration, string, error) {
	up, boot, err := r.env.Uptime()
	return up + 10*time.Millisecond, boot, err
}

// settle dates the pending actions of what was written: a start settles them that came after the
// change, and not while it was being made.
func (r *runner) settle(t plan.Task, pending time.Duration, untouched bool) {
	if pending == 0 {
		return
	}
	if untouched {
		r.store.Forgive(t.Ref, pending) // so nothing is due
		return
	}
	if over, _, err := r.uptime(); err == nil { // else they stay open
		r.store.Date(t.Ref, pending, over)
	}
}

// read reads neighbours, and reports how long that takes where it does.
func (r *runner) read(ctx context.Context, k kind.Kind, tasks []plan.Task) (out []kind.Reading) {
	r.watched(ctx, tasks[0].ID, 0, func(ctx context.Context) { out = k.Read(ctx, r.env, tasks) })
	return out
}

// readAgain tries a task again that cannot even be read, as often as is declared.
func (r *runner) readAgain(ctx context.Context, k kind.Kind, t plan.Task, reading kind.Reading,
	err error) (kind.Reading,
	[]plan.Change, error) {
	var changes []plan.Change
	try := 1
	for ; err != nil && try <= t.Tries.More && r.wait(ctx, t.Tries.Every); try++ {
		r.env.Forget(k.Stale()...)
		reading = r.read(ctx, k, []plan.Task{t})[0]
		changes, err = r.compare(k, t, reading)
	}
	if err != nil && try > 1 {
		p := problem.From(err)
		err = problem.Errorf("after %d attempts: %w", try, err).Remedy("%s", p.Do)
	}
	return reading, changes, err
}

// wait waits before something is tried again. It is false when the run ends meanwhile.
func (r *runner) wait(ctx context.Context, d time.Duration) bool {
	waited := make(chan struct{})
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		defer close(waited)
		r.s.m.Wait(ctx, d)
	}()
	select {
	case <-waited:
	case <-r.s.stop:
	case <-r.s.lost:
	}
	return !r.s.ending()
}

// change takes neighbours that differ to their end: those that fail and are to be tried
// again are, together.
func (r *runner) change(ctx context.Context, k kind.Kind, work []kind.Work) error {
	first := make(map[int][]plan.Change, len(work)) // what differed before the first try
	for _, w := range work {
		first[w.Task.ID] = w.Changes
	}
	for try := 1; len(work) > 0; try++ {
		results, again, err := r.try(ctx, k, work, try)
		if err != nil {
			return err
		}
		for i := range results {
			res := &results[i]
			if len(res.Changes) > 0 {
				res.Changes = first[res.ID]
			}
			if res.Tries = 0; try > 1 {
				res.Tries = try
			}
		}
		if err := r.end(results); err != nil {
			return err
		}
		if work = again; len(work) == 0 {
			return nil
		}
		var pause time.Duration
		for _, w := range work {
			pause = max(pause, w.Task.Tries.Every)
		}
		r.wait(ctx, pause) // when the run ends meanwhile, the next try is the last
	}
	return nil
}

// try writes, reads again and compares again. It gives what is over, and what is to be
// tried again.
func (r *runner) try(ctx context.Context, k kind.Kind, work []kind.Work,
	try int) (over []plan.Result, again []kind.Work,
	err error) {
	begun := time.Now()
	pending := make([]time.Duration, len(work))
	limit := time.Duration(0)
	tasks := make([]plan.Task, len(work))
	for i, w := range work {
		if pending[i], err = r.notePending(w.Task); err != nil {
			return nil, nil, err
		}
		tasks[i] = w.Task
		limit = w.Task.Tries.Limit // which all of them have
	}
	if err := r.savePending(work); err != nil {
		return nil, nil, err
	}
	<-r.surveyed
	which, err := r.guarded(ctx, work)
	if err != nil {
		for i, w := range work {
			r.settle(w.Task, pending[i], true)
		}
		return r.unguarded(work, err), nil, nil
	}
	var errs []error
	r.watched(ctx, tasks[0].ID, try, func(ctx context.Context) {
		if limit > 0 {
			var cancel context.CancelFunc
			ctx, cancel = context.WithTimeoutCause(ctx, limit,
				fmt.Errorf("it did not finish within %v and was killed", limit))
			defer cancel()
		}
		errs = k.Write(ctx, r.env, work)
	})
	for _, t := range tasks {
		for _, p := range kinds.Paths(r.env, t) {
			service.Wrote(r.env, p)
		}
	}
	r.env.Forget(k.Stale()...)
	readings := r.read(ctx, k, tasks)
	r.after(ctx, k, tasks, readings)
	for i, reading := range readings {
		if errors.Is(errs[i], errLost) || errors.Is(reading.Err, errLost) {
			r.settle(work[i].Task, pending[i], reflect.DeepEqual(reading.State, work[i].State))
			continue // the next run reports how it is
		}
		res := r.outcome(ctx, k, work[i], errs[i], reading)
		r.settle(work[i].Task, pending[i], res.Status == plan.Failed && reflect.DeepEqual(reading.State, work[i].State))
		if res.Status == plan.Failed && try <= work[i].Task.Tries.More && !r.s.ending() && len(which) == 0 {
			again = append(again, r.next(k, work[i], reading))
			continue
		}
		over = append(over, res)
	}
	if len(which) > 0 && len(over) > 0 {
		if err := r.proved(ctx, which, over); err != nil {
			return nil, nil, err
		}
	}
	share(over, time.Since(begun))
	return over, again, nil
}

// next is what a task that failed is to do when it is tried again: what differs by now.
func (r *runner) next(k kind.Kind, w kind.Work, after kind.Reading) kind.Work {
	if after.Err != nil {
		return w
	}
	if changes := k.Compare(w.Task, after.State); len(changes) > 0 {
		return kind.Work{Task: w.Task, State: after.State, Changes: changes}
	}
	return w
}

// savePending puts new pending actions on disk before the changes that cause them.
func (r *runner) savePending(work []kind.Work) error {
	if slices.ContainsFunc(work, func(w kind.Work) bool { return len(w.Task.Triggers) > 0 }) {
		return r.store.Save()
	}
	return nil
}

// outcome judges a task by what is there after the change, whatever the command
// had said.
func (r *runner) outcome(ctx context.Context, k kind.Kind, w kind.Work, wrote error, after kind.Reading) plan.Result {
	if wrote != nil {
		res := r.failed(w.Task, wrote)
		res.Changes = w.Changes
		return res
	}
	if after.Err != nil {
		return r.failed(w.Task, fmt.Errorf("after the change: %w", after.Err))
	}
	if left := k.Compare(w.Task, after.State); len(left) > 0 {
		res := r.failed(w.Task, fmt.Errorf("the change did not persist: %s", mismatch(left)))
		res.Changes = w.Changes
		return res
	}
	if err := r.undoes(ctx, w.Task); err != nil {
		res := r.failed(w.Task, err)
		res.Changes = w.Changes
		return res
	}
	r.remember(w.Task, true)
	r.store.Settle(w.Task.Ref, plan.Follow)
	return plan.Result{ID: w.Task.ID, Ref: w.Task.Ref, Status: plan.Changed, Changes: w.Changes,
		Gone: w.Task.Absent || w.Task.ID >= r.leaving}
}

// right is the result of a task that was as declared.
func (r *runner) right(t plan.Task) plan.Result {
	if !r.env.Run.Preview {
		r.remember(t, false)
		r.store.Restarted(t.Ref) // nothing is due any more, so nothing is pending
	}
	if r.resumed != nil && r.resumed.Task == t.ID {
		return plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Changed,
			Changes: []plan.Change{{What: "reboot", Was: "due", Becomes: "done"}}}
	}
	return plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Unchanged}
}

func (r *runner) remember(t plan.Task, changed bool) {
	if k, ok := kinds.Find(t.Ref.Kind); ok && (k.Schema().Asks || k.Schema().Reboots) {
		return // nothing on the host can be undeclared
	}
	if r.env.Run.Passing {
		return
	}
	if r.undo != nil {
		r.undo.done(r.store, t.ID)
		return
	}
	switch {
	case t.ID >= r.leaving:
		r.store.Drop(t.Ref)
		return
	case t.Absent:
		r.store.KeepAbsent(t.Ref, r.env.Run, changed)
		return
	}
	r.store.Keep(t, r.env.Run, changed)
}

func (r *runner) failed(t plan.Task, err error) plan.Result {
	p := problem.From(err)
	res := plan.Result{ID: t.ID, Ref: t.Ref, Status: plan.Failed, Message: p.What, Do: p.Do}
	var ce *machine.CommandError
	var pe *machine.PrintedError
	if errors.As(err, &pe) {
		res.Output = pe.Output.Clean(r.mask.Replace)
	} else if errors.As(err, &ce) {
		res.Output = ce.Output.Clean(r.mask.Replace)
	}
	denied := errors.Is(err, fs.ErrPermission) || strings.Contains(strings.ToLower(res.Message+res.Output), "denied")
	if t.Leaves { // the remedies are about a declaration that is no more
		res.Do = "check on the host what prevents it, or keep it as it is with `apply --forget-undeclared`"
	}
	if denied && r.s.m.UID() != 0 && res.Do == "" {
		res.Do = `the worker does not run as root here; set connect.elevate = "sudo" if it should`
	}
	return res
}

// share spreads the time that a batch took over its results.
func share(results []plan.Result, took time.Duration) {
	for i := range results {
		results[i].Took = took / time.Duration(len(results))
	}
}

// maxShown bounds one diff, in bytes.
const maxShown = 128 << 10

// end masks, journals and sends results.
func (r *runner) end(results []plan.Result) error {
	if len(results) == 0 {
		return nil
	}
	for i := range results {
		res := &results[i]
		r.ended[res.ID] = res.Status
		r.keepsDeclared(*res)
		res.Ref, res.BlockedBy = sayable(res.Ref), sayable(res.BlockedBy)
		res.Message, res.Do, res.Output = r.clean(res.Message), r.clean(res.Do), r.clean(res.Output)
		r.cleanAll(res.Changes)
		r.cleanAll(res.Written)
		if r.digest != nil && r.env.Run.Preview {
			var err error
			if res.Digest, err = r.digest.of(r.tasks[res.ID], r.tasks); err != nil {
				return err
			}
		}
	}
	if r.foreseeing {
		r.foreseen = append(r.foreseen, results...)
		return nil
	}
	if !r.env.Run.Preview {
		if err := r.store.Note(r.env.Run, results); err != nil {
			return err
		}
	}
	r.s.post(results)
	return nil
}

// sayable is a reference as it can be reported: a name on a host may be no UTF-8.
func sayable(ref value.Ref) value.Ref {
	ref.Name = strings.ToValidUTF8(ref.Name, "\uFFFD")
	return ref
}

func (r *runner) cleanAll(changes []plan.Change) {
	for i := range changes {
		c := &changes[i]
		c.What = strings.ToValidUTF8(c.What, "\uFFFD") // as in the name of a file in a folder
		c.Was, c.Becomes, c.Diff = r.clean(c.Was), r.clean(c.Becomes), r.clean(c.Diff)
	}
}

func (r *runner) clean(s string) string {
	s = strings.ToValidUTF8(r.mask.Replace(s), "\uFFFD")
	if len(s) > maxShown {
		s = strings.ToValidUTF8(s[:maxShown], "") + "\n... the rest is omitted ...\n"
	}
	return s
}
