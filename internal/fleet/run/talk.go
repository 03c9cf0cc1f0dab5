package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync/atomic"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/host/worker"
)

// maxHeld bounds what one host may make this program hold, in bytes: what it
// sends, and what it becomes in memory.
const maxHeld = 128 << 20

// Limits is how long a host may take for each phase of its talk. What is still
// going on there is not ended by cutting the connection: the worker finishes
// the task in hand and keeps the results for the next run.
type Limits struct {
	Facts time.Duration // until its facts are here
	Task  time.Duration // from one result to the next; a package manager may take long
	Bye   time.Duration // from its last word until it lets go
	Stop  time.Duration // after the run was stopped
}

// usual is what holds where a limit is 0.
var usual = Limits{Facts: 5 * time.Minute, Task: 3 * time.Hour, Bye: time.Minute, Stop: time.Minute}

// maxGiven is how often a host may ask for the content of one task.
const maxGiven = 4

// talk is the controller's side of one session.
type talk struct {
	fleet   *Fleet
	host    *inventory.Host
	out     *record.Host
	session *reach.Session
	conn    *wire.Conn
	plan    *plan.Plan
	parts   []wire.Plan    // of the plan, that are to be sent
	seen    []bool         // by task id
	held    atomic.Int64   // bytes that the host has made us hold
	given   map[string]int // how often each content was asked for
	uses    map[string]int // how many tasks each content has
	limits  Limits
	due     *time.Timer  // ends a phase that takes too long
	late    atomic.Value // what took too long, a string
	heard   *worker.Pulse
	silent  atomic.Bool  // it was cut off for its silence
	done    bool         // the worker has told everything
	asked   map[int]bool // which probes were asked from here
	ctx     context.Context
	start   *wire.Start
	would   []record.Task // what the host foresees
	proofs  int           // how often the host has had us get in anew
	went    bool          // that is told
	over    time.Time     // when the last results came
	left    bool          // the host has told what it takes away
	exec    *wire.Exec    // the command that is all that it is about; may be nil

	rebooting *wire.Rebooting // the host goes down, and the session ends
	id        string          // of the run
	resume    *wire.Rebooting // what it has gone down for, when this talk goes on after that
	began     bool            // the worker has taken up a plan again
}

// maxFirst bounds a plan that goes along with Start, in bytes: it waits in the
// buffers of the connection until the worker runs.
const maxFirst = 256 << 10

// opening gives what the worker is told first: Start, and the plan with it where
// that is known and small enough.
func (t *talk) opening(start *wire.Start, early *plan.Plan) ([]byte, error) {
	var frames []byte
	if early != nil && t.take(early) == nil {
		for i := range t.parts {
			frame, err := wire.Frame(wire.Message{Plan: &t.parts[i]})
			if err != nil {
				return nil, err
			}
			if frames = append(frames, frame...); len(frames) > maxFirst {
				break
			}
		}
	}
	start.Format, start.Planned = wire.Format, len(frames) > 0 && len(frames) <= maxFirst
	first, err := wire.Frame(wire.Message{Start: start})
	if err != nil || !start.Planned {
		return first, err
	}
	t.parts = nil
	return append(first, frames...), nil
}

// connect begins to count and to hear what a host says.
func (t *talk) connect(s *reach.Session) {
	t.session = s
	t.conn = wire.NewConn(counted{t}, s)
	t.heard = worker.NewPulse()
}

// counted counts every byte that comes from a host.
type counted struct{ t *talk }

func (c counted) Read(p []byte) (int, error) {
	n, err := c.t.session.Read(p)
	if e := c.t.hold(n); e != nil {
		return 0, e
	}
	return n, err
}

// hold counts what a host makes us hold.
func (t *talk) hold(n int) error {
	if t.held.Add(int64(n)) > maxHeld {
		return fmt.Errorf("%w: more than %d MiB in all", wire.ErrFrame, maxHeld>>20)
	}
	return nil
}

// phase begins a phase that may take so long.
func (t *talk) phase(limit time.Duration, what string) {
	if t.due != nil {
		t.due.Stop()
	}
	t.due = time.AfterFunc(limit, func() {
		t.late.CompareAndSwap(nil, what)
		t.session.Abort()
	})
}

// watch closes a session that has been silent for too long, which also ends a
// write that waits for a dead connection.
func (t *talk) watch(silence time.Duration, over chan struct{}) {
	ticker := time.NewTicker(silence / 4)
	defer ticker.Stop()
	for {
		select {
		case <-over:
			return
		case <-ticker.C:
		}
		if t.heard.Silent() > silence {
			t.silent.Store(true)
			t.session.Abort()
			return
		}
	}
}

// busyError says that another run holds a host.
type busyError struct{ problem.Problem }

func (e *busyError) Unwrap() error { return e.Problem }

var errEnd = errors.New("the session is over")

// run speaks with the worker until it is done.
func (t *talk) run(ctx context.Context, start *wire.Start) error {
	var cancel context.CancelFunc
	t.ctx, cancel = context.WithCancel(ctx)
	defer cancel()
	t.id, t.start = start.Run.ID, start
	limits, own := &t.limits, t.fleet.Limits
	*limits = Limits{cmp.Or(own.Facts, usual.Facts), cmp.Or(own.Task, usual.Task), cmp.Or(own.Bye, usual.Bye),
		cmp.Or(own.Stop, usual.Stop)}
	t.phase(limits.Facts, fmt.Sprintf("it did not tell its facts within %v", limits.Facts))
	if t.exec = start.Exec; t.exec != nil {
		t.phase(t.exec.Limit+limits.Facts, fmt.Sprintf("it did not tell what came of the command within %v",
			t.exec.Limit))
	}
	defer func() { t.due.Stop() }()
	silence := t.fleet.Silence
	if silence == 0 {
		silence = worker.Silence
	}
	incoming, ended, over := make(chan wire.Message), make(chan error, 1), make(chan struct{})
	defer close(over)
	go t.receive(incoming, ended, over)
	go t.watch(silence, over)
	ticker := time.NewTicker(silence / 4)
	defer ticker.Stop()
	stop := ctx.Done()
	for {
		select {
		case m := <-incoming:
			t.heard.Beat()
			if err := t.handle(m, start.OnlyFacts); err != nil {
				if errors.Is(err, errEnd) {
					return nil
				}
				return err
			}
		case err := <-ended:
			if t.done || t.rebooting != nil {
				return nil
			}
			return t.broken(err)
		case <-ticker.C:
			if err := t.conn.Send(wire.Message{Ping: &wire.Ping{}}); err != nil && t.rebooting == nil {
				return t.broken(err)
			}
		case <-stop:
			stop = nil
			t.out.Stopped = true
			t.phase(limits.Stop, fmt.Sprintf("it was still at work %v after the run was stopped", limits.Stop))
			if err := t.conn.Send(wire.Message{Stop: &wire.Stop{}}); err != nil {
				return t.broken(err)
			}
		}
	}
}

// receive passes on what comes in until the connection ends.
func (t *talk) receive(incoming chan<- wire.Message, ended chan<- error, over <-chan struct{}) {
	for {
		m, err := t.conn.Receive()
		if err != nil {
			ended <- err
			return
		}
		select {
		case incoming <- m:
		case <-over:
			return
		}
	}
}

func (t *talk) broken(err error) error {
	if late := t.late.Load(); late != nil {
		return problem.Errorf("the connection was cut: %s", late).
			Remedy("what it still does is kept on the host, and the next run collects it")
	}
	if t.silent.Load() {
		return errors.New("the connection broke: the host was silent for too long")
	}
	if errors.Is(err, wire.ErrFrame) {
		return fmt.Errorf("the connection was cut: %w", err)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("the connection broke")
	}
	return fmt.Errorf("the connection broke: %w", err)
}

func (t *talk) handle(m wire.Message, onlyFacts bool) error {
	switch {
	case m.Hello != nil:
		if m.Hello.Format != wire.Format {
			return fmt.Errorf("%w: the worker speaks format %d", wire.ErrFrame, m.Hello.Format)
		}
	case m.Busy != nil:
		return &busyError{problem.Errorf("%s", busyText(m.Busy)).Remedy("wait until it is done")}
	case m.Collected != nil:
		return t.collect(m.Collected)
	case m.Rebooting != nil:
		return t.goesDown(m.Rebooting)
	case m.Facts != nil && t.resume != nil:
		if err := m.Facts.Validate(); err != nil || t.began {
			return fmt.Errorf("%w: facts twice, or broken ones (%v)", wire.ErrFrame, err)
		}
		t.out.Facts, t.began = m.Facts, true
		return t.sendPlan()
	case m.Facts != nil:
		if t.out.Facts != nil {
			return fmt.Errorf("%w: facts twice", wire.ErrFrame)
		}
		if err := m.Facts.Validate(); err != nil {
			return fmt.Errorf("%w: %v", wire.ErrFrame, err)
		}
		t.out.Facts = m.Facts
		if skip, err := t.grouped(); skip || err != nil {
			return err
		}
		if onlyFacts {
			return errEnd
		}
		if t.plan == nil {
			if err := t.resolve(); err != nil {
				return err
			}
		}
		return t.sendPlan()
	case m.Captured != nil:
		return t.captured(m.Captured)
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
	case m.Progress != nil:
		return t.progress(m.Progress)
	case m.Executed != nil:
		return t.executed(m.Executed)
	case m.Done != nil:
		return t.ends(m.Done)
	case m.Bye != nil:
		if !t.done && t.rebooting == nil {
			return fmt.Errorf("%w: a farewell before the end", wire.ErrFrame)
		}
		return errEnd
	case m.Fault != nil:
		return problem.Errorf("the worker cannot go on: %s", m.Fault.Message).Remedy("%s", m.Fault.Do)
	}
	return nil
}

// captured takes what a host has, where that was asked for.
func (t *talk) captured(c *wire.Captured) error {
	if len(t.start.Capture) == 0 {
		return fmt.Errorf("%w: what it has, which nobody asked for", wire.ErrFrame)
	}
	for _, one := range c.List {
		if err := t.hold(256 + 128*len(one.Attrs)); err != nil {
			return err
		}
	}
	t.out.Captured = append(t.out.Captured, c.List...)
	if c.Last {
		return errEnd
	}
	return nil
}

// ends takes the last word of a host, when all tasks of its plan are told.
func (t *talk) ends(d *wire.Done) error {
	if t.plan == nil && !t.out.Stopped {
		return fmt.Errorf("%w: an end before the plan", wire.ErrFrame)
	}
	if len(d.Leftovers) > 1<<16 || len(d.Debts) > 1<<16 {
		return fmt.Errorf("%w: too many leftovers or debts", wire.ErrFrame)
	}
	if missing := t.out.Planned - len(t.out.Tasks); missing > 0 && !t.out.Stopped {
		return errors.New("it ended without telling how all tasks went")
	}
	for _, l := range d.Leftovers {
		r := plan.Result{Ref: l.Ref, Changes: l.Changes, Message: l.Why}
		if err := cmp.Or(fits(r), t.hold(size(r))); err != nil {
			return err
		}
	}
	if err := t.owes(d.Debts); err != nil {
		return err
	}
	if len(d.Notice) > maxName {
		return fmt.Errorf("%w: a notice that is too long", wire.ErrFrame)
	}
	t.out.Leftovers, t.out.Message, t.done = record.NewLeftovers(d.Leftovers), d.Notice, true
	if d.Free {
		return errEnd
	}
	t.phase(t.limits.Bye, "it did not let go after its last word")
	t.conn.Send(wire.Message{Bye: &wire.Bye{}}) // should it not arrive, the next run is told all this again
	return nil
}

// owes takes what a host says is owed on it.
func (t *talk) owes(debts []plan.Owed) error {
	for _, d := range debts {
		if d.Action != plan.Restart && d.Action != plan.Reload && d.Action != plan.Follow {
			return fmt.Errorf("%w: a debt that there is not", wire.ErrFrame)
		}
	}
	t.out.Debts = record.NewDebts(debts)
	return t.hold(128 * len(debts))
}

func busyText(b *wire.Busy) string {
	text := "another run holds it"
	if b.Holder.Who != "" {
		what := "an apply"
		if b.Holder.Preview {
			what = "a preview"
		}
		text = fmt.Sprintf("%s by %s holds it", what, b.Holder.Who)
	}
	if b.Since > 0 {
		text += " since " + time.Unix(b.Since, 0).Format("15:04:05")
	}
	return text
}

// grouped settles the groups of the host by its facts, and whether it is meant.
func (t *talk) grouped() (skip bool, err error) {
	groups, err := t.fleet.Plans.Project.Inventory.GroupsOf(t.host, t.out.Facts.Tree())
	if err != nil {
		return false, nil // the plan tells of it, with its place
	}
	for _, g := range groups {
		t.out.Groups = append(t.out.Groups, g.Name)
	}
	if t.fleet.Chosen != nil && !t.fleet.Chosen(t.host, groups) {
		t.out.Skipped = true
		t.conn.Send(wire.Message{Stop: &wire.Stop{}})
		return true, errEnd
	}
	return false, nil
}

// take makes a plan that of this talk, or says why it cannot travel.
func (t *talk) take(whole *plan.Plan) error {
	p, needed := t.fleet.Selection.Apply(whole)
	if i := slices.IndexFunc(p.Tasks, func(task plan.Task) bool {
		k, _ := t.fleet.Plans.Project.Kinds.Kind(task.Ref.Kind)
		return k.Reboots
	}); i >= 0 && t.host.Connect.Local {
		return problem.Errorf("%s would reboot the machine that this program runs on, and end it", p.Tasks[i].Ref).
			Remedy("leave it out for this host, or run from another machine")
	}
	parts, err := wire.Parts(p.Tasks)
	if err != nil {
		return err
	}
	t.plan, t.parts, t.out.Needed = p, parts, record.Refs(needed)
	t.out.Planned, t.seen, t.uses = len(p.Tasks), make([]bool, len(p.Tasks)), map[string]int{}
	t.fleet.notify(record.Event{Host: t.out.Name, Begun: &record.Begun{At: t.out.Began, Tasks: len(p.Tasks)}})
	for _, task := range p.Tasks {
		for _, c := range task.Wants() {
			t.uses[c.SHA256]++
		}
	}
	return nil
}

// resolve makes the plan for the facts that came.
func (t *talk) resolve() error {
	if t.fleet.bare() {
		return t.take(&plan.Plan{})
	}
	p, err := t.fleet.Plans.Of(t.host, t.out.Facts)
	if err == nil {
		err = t.take(p)
	}
	if err != nil {
		t.out.Wrong = err
		t.conn.Send(wire.Message{Stop: &wire.Stop{}})
		return errors.New("the project cannot be resolved for this host")
	}
	return nil
}

// sendPlan sends what is not sent of the plan, and begins the wait for results.
func (t *talk) sendPlan() error {
	for i := range t.parts {
		if err := t.conn.Send(wire.Message{Plan: &t.parts[i]}); err != nil {
			return t.broken(err)
		}
	}
	t.parts = nil
	t.working()
	return nil
}

// working begins the wait for the next result.
func (t *talk) working() {
	if !t.out.Stopped {
		t.phase(t.limits.Task, fmt.Sprintf("it told of no task for %v", t.limits.Task))
	}
}

// give sends contents of this host's own plan, and of no other.
func (t *talk) give(hashes []string) error {
	for _, h := range hashes {
		if err := t.giveOne(h); err != nil {
			return err
		}
	}
	return nil
}

func (t *talk) giveOne(hash string) error {
	missing := func(why string) error {
		return t.conn.Send(wire.Message{Chunk: &wire.Chunk{SHA256: hash, Last: true, Missing: why}})
	}
	if t.plan == nil {
		return fmt.Errorf("%w: a content asked for before the plan", wire.ErrFrame)
	}
	source, ok := t.plan.Contents[hash]
	if !ok {
		return fmt.Errorf("%w: a content asked for that is not in its plan", wire.ErrFrame)
	}
	if t.given[hash]++; t.given[hash] > maxGiven*t.uses[hash] {
		return fmt.Errorf("%w: a content asked for again and again", wire.ErrFrame)
	}
	f, err := t.fleet.Plans.Project.Open(source)
	if err != nil {
		return missing(err.Error())
	}
	defer f.Close()
	for {
		buf := make([]byte, wire.ChunkSize)
		n, err := io.ReadFull(f, buf)
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return missing(err.Error())
		}
		if err := t.conn.Send(wire.Message{Chunk: &wire.Chunk{SHA256: hash, Data: buf[:n], Last: last}}); err != nil {
			return t.broken(err)
		}
		t.heard.Beat() // what is being taken is heard from
		if last {
			return nil
		}
	}
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
		if t.plan == nil || r.ID < 0 || r.ID >= len(t.seen) || t.seen[r.ID] || !slices.Contains(statuses, r.Status) &&
			!(r.Status == plan.LeftOut && (t.plan.Tasks[r.ID].Follows || t.asks(r.ID))) {
			return fmt.Errorf("%w: a result for a task that it does not have", wire.ErrFrame)
		}
		if !slices.Contains(drifts, r.Drift) {
			return fmt.Errorf("%w: a reason that there is not", wire.ErrFrame)
		}
		if err := fits(r); err != nil {
			return err
		}
		if err := t.hold(size(r)); err != nil {
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

// again takes a result in the place of the one that was told before, of a change which the host has put back.
func (t *talk) again(r plan.Result) error {
	i := slices.IndexFunc(t.out.Tasks, func(o record.Task) bool { return o.ID == r.ID && o.Status == plan.Changed })
	if i < 0 || r.Status != plan.Failed {
		return fmt.Errorf("%w: another result for a task that it had not changed", wire.ErrFrame)
	}
	if err := cmp.Or(fits(r), t.hold(size(r))); err != nil {
		return err
	}
	task := &t.out.Tasks[i]
	task.Status, task.Message, task.Do, task.Again = r.Status, r.Message, r.Do, true
	told := *task
	t.fleet.notify(record.Event{Host: t.out.Name, Task: &told})
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
	if t.plan == nil || t.left || len(refs) == 0 || len(refs) > 1<<16 || slices.Contains(t.seen, false) ||
		!t.start.Run.Whole {
		return fmt.Errorf("%w: things that it takes away at a wrong time, or too many", wire.ErrFrame)
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

// maxLine bounds what is told of a host's output while it works, in bytes.
const maxLine = 512

// progress passes on that a task of this host's own plan is at work.
func (t *talk) progress(p *wire.Progress) error {
	if t.exec != nil && len(p.Line) <= maxLine {
		t.atWork(value.Ref{}, p.Took, p.Line, 0)
		return nil
	}
	if t.plan == nil || p.Task < 0 || p.Task >= len(t.seen) || len(p.Line) > maxLine || p.Took < 0 {
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
		Seconds: took.Seconds(), Told: time.Now().UTC()}})
}

// asks says whether a task only asks.
func (t *talk) asks(id int) bool {
	k, _ := t.fleet.Plans.Project.Kinds.Kind(t.plan.Tasks[id].Ref.Kind)
	return k.Asks
}

// ask asks a probe of this host's own plan, once, while the host goes on.
func (t *talk) ask(id int) error {
	if t.plan == nil || id < 0 || id >= len(t.seen) || t.seen[id] || t.asked[id] || !t.asks(id) ||
		t.plan.Tasks[id].Attrs.Text(probe.AskedFrom) != probe.Controller {
		return fmt.Errorf("%w: a probe asked for that is not in its plan", wire.ErrFrame)
	}
	if t.asked == nil {
		t.asked = map[int]bool{}
	}
	t.asked[id] = true
	attrs := t.plan.Tasks[id].Attrs
	go func() {
		answer := wire.Answer{Task: id}
		err := error(problem.Errorf("probes cannot be asked from here").Remedy("set asked_from = \"host\""))
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

// What a result may be at most: more than any worker sends, and little enough that what is made of
// it, for the screen, as JSON and in the history, stays small.
const (
	maxWord      = 256          // bytes of a run's name, of who ran it, of a digest
	maxName      = 8 << 10      // bytes of a kind and a name, and of what a change is about
	maxSaid      = 256 << 10    // bytes of a text; a worker cuts them at half of that
	maxCollected = 1 << 12      // runs of which a host may have kept results back
	lastSecond   = 253402300799 // in Unix seconds, of the year 9999: the last that RFC 3339 can write
)

// fits refuses a result of a host that no worker would send.
func fits(r plan.Result) error {
	bad := r.Took < 0 || r.Tries < 0 || r.Since < 0 || r.Since > lastSecond || fitsRef(r.Ref) != nil ||
		fitsRef(r.BlockedBy) != nil || len(r.By) > maxWord || len(r.Digest) > maxWord ||
		max(len(r.Message), len(r.Do), len(r.Output)) > maxSaid
	for _, c := range slices.Concat(r.Changes, r.Written) {
		bad = bad || len(c.What) > maxName || max(len(c.Was), len(c.Becomes), len(c.Diff)) > maxSaid
	}
	if bad {
		return fmt.Errorf("%w: a result that is too large", wire.ErrFrame)
	}
	return nil
}

func fitsRef(ref value.Ref) error {
	if len(ref.Kind)+len(ref.Name) > maxName {
		return fmt.Errorf("%w: a name that is too long", wire.ErrFrame)
	}
	return nil
}

// size is what a result takes in memory besides its text, which was counted as
// it came.
func size(r plan.Result) int { return 512 + 128*(len(r.Changes)+len(r.Written)) }

func (t *talk) collect(c *wire.Collected) error {
	if err := t.hold(256); err != nil {
		return err
	}
	if len(c.Run) > maxWord || len(t.out.Collected) > maxCollected {
		return fmt.Errorf("%w: runs that it kept back, too many or with no name of one", wire.ErrFrame)
	}
	for _, r := range c.Results {
		if err := cmp.Or(fits(r), t.hold(size(r))); err != nil {
			return err
		}
	}
	if t.resume != nil && c.Run == t.id { // what had not arrived before the reboot
		var missed []plan.Result
		for _, r := range c.Results {
			if r.ID >= 0 && r.ID < len(t.seen) && !t.seen[r.ID] && t.plan.Tasks[r.ID].Ref == r.Ref {
				missed = append(missed, r)
			}
		}
		return t.results(missed)
	}
	if n := len(t.out.Collected); n > 0 && t.out.Collected[n-1].Run == c.Run {
		t.out.Collected[n-1].Tasks = append(t.out.Collected[n-1].Tasks, tasksOf(c.Results)...)
		return nil
	}
	t.out.Collected = append(t.out.Collected, record.Collected{Run: c.Run, Tasks: tasksOf(c.Results)})
	return nil
}

func tasksOf(list []plan.Result) []record.Task {
	out := make([]record.Task, len(list))
	for i, r := range list {
		out[i] = record.NewTask(r)
	}
	return out
}
