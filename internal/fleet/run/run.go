// Package run takes a whole preview or apply through many hosts at once: each
// is reached, read, resolved and made as declared by its worker, while what
// happens is told to a func as it happens.
package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
)

// State is how a host fared.
type State string

// The states. Off is a host that the inventory says is never contacted.
const (
	Reached    State = "reached"
	NotReached State = "not reached"
	Busy       State = "busy"
	Lost       State = "lost"
	NotBegun   State = "not begun"
	Off        State = "off"
)

// Outcome is how a host fared in one word, its tasks counted in.
type Outcome string

// The outcomes: those of a host that was not gone through, and else the worst
// that a task came to.
const (
	OutWrong      Outcome = "not resolved"
	OutLost               = Outcome(Lost)
	OutNotReached         = Outcome(NotReached)
	OutBusy               = Outcome(Busy)
	OutFailed             = Outcome(plan.Failed)
	OutNotBegun           = Outcome(NotBegun)
	OutStopped    Outcome = "stopped early" // the run was stopped, and tasks of the host have not begun
	OutChanged            = Outcome(plan.Changed)
	OutUnchanged          = Outcome(plan.Unchanged)
	OutOff                = Outcome(Off)
)

// Outcome tells how the host fared.
func (h *Visit) Outcome() Outcome {
	switch {
	case h.Wrong != nil:
		return OutWrong
	case h.State != Reached:
		return Outcome(h.State)
	case h.Count(plan.Failed)+h.Count(plan.Blocked) > 0:
		return OutFailed
	case h.Stopped && h.told() < h.Planned:
		return OutStopped
	case h.Count(plan.Changed) > 0:
		return OutChanged
	}
	return OutUnchanged
}

// told counts the tasks that a result came of.
func (h *Visit) told() int {
	n := 0
	for _, t := range h.Tasks {
		if t.ID >= 0 {
			n++
		}
	}
	return n
}

// Task is one task with its outcome.
type Task struct {
	plan.Result
	Place  value.Place // where it is declared
	Labels []string    // that its declaration has
	Reason string      // why it was left out
	Began  time.Time   // by the clock here, from when its result came and how long it took
}

// Collected are results of an earlier run that never arrived.
type Collected struct {
	Run     string
	Results []plan.Result
}

// Visit is what became of one host in a run.
type Visit struct {
	Name      string
	State     State
	Message   string // why it is not reached, busy or lost; else what somebody should know of it
	Do        string // what to do about that
	Tasks     []Task // in the order of the plan; those without a result are missing
	Planned   int    // how many tasks its plan has
	Collected []Collected
	Leftovers []plan.Leftover
	Debts     []plan.Owed // that are open on it now
	Needed    []value.Ref // what selected tasks need, and was not selected
	Facts     *facts.Facts
	Groups    []string // that it is in, now that its facts are known
	Captured  []plan.Captured
	Executed  *Executed // what became of a command; nil when none came to an end
	Skipped   bool      // its facts say that it is not meant
	Wrong     error     // the project cannot be resolved for this host
	Stopped   bool      // it ended early because the run was stopped
	Began     time.Time // when its turn came
	Took      time.Duration
}

// Count tells how many tasks ended in a way.
func (h *Visit) Count(s plan.Status) int {
	n := 0
	for _, t := range h.Tasks {
		if t.Status == s {
			n++
		}
	}
	return n
}

// Event is something that happened: a host begins, a task ended, is at work for long, or a
// host ended (Begun, Task and Progress nil). Of a host that has not ended only the name may
// be read.
type Event struct {
	Host     *Visit
	Begun    *Begun
	Task     *Task
	Progress *Progress
}

// Begun tells that a host's turn has come, and once more when its plan is known.
type Begun struct {
	At    time.Time // when its turn came
	Tasks int       // of its plan; 0 while that is not known
}

// Progress tells of a task that takes long.
type Progress struct {
	Ref  value.Ref
	Took time.Duration // so far
	Line string        // what its command printed last; may be empty
	Try  int           // which one it is, from 2 on
}

// Fleet says what a run needs to know.
type Fleet struct {
	Plans    *resolve.Plans
	Parallel int // hosts at once
	// Open starts a worker on a host. first is what it is told first.
	Open func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error)
	// Silence is how long a host may say nothing before its connection counts
	// as broken; 0 means 60 seconds.
	Silence time.Duration
	// Limits bounds the phases of a host's talk.
	Limits Limits
	// Selection says which tasks the call is about; the zero one takes all.
	Selection resolve.Selection
	// Chosen says of a host whose groups are known now whether it is meant. Nil
	// means that all are.
	Chosen func(h *inventory.Host, groups []*inventory.Group) bool
	// Ask asks a probe of a host from here. Nil cannot: such a probe fails.
	Ask func(ctx context.Context, h *inventory.Host, a value.Attrs) error
	// Notify is told each event, one at a time. However long it takes, no host
	// waits for it. May be nil.
	Notify func(Event)

	// Retire gives every host an empty plan, so that all that is managed there is left
	// over.
	Retire bool
	// Past is what a host keeps of what stands before it is changed.
	Past wire.Past
	// Undo, when not nil, has every host put back what an earlier run changed, of its own
	// entry here; its plan is empty.
	Undo map[string]*wire.Undo
	// Guard is how long a host waits for us to get in anew after a change that may have
	// cut us off; 0 is not at all.
	Guard time.Duration
	// Here says that the run is one of this machine over itself, whatever the inventory says.
	Here bool
	// Around opens a worker on this machine as others reach it, over the jump host that the inventory
	// names for it: another machine, which proves for a run over itself that one still gets in. Nil is not at all.
	Around func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error)
	// Foreseen, when not nil, is what somebody has agreed to: a host that would do
	// anything else is not begun.
	Foreseen Foreseen
	// Digest has the results of a preview say by which declaration they came about, for a Foreseen.
	Digest bool
	// Rollout is how Run goes over many hosts.
	Rollout Rollout

	events *queue // of one run
}

// Run takes the hosts through a run and gives their outcomes in the same
// order. When the context ends each worker finishes the task in hand.
func (f *Fleet) Run(ctx context.Context, hosts []*inventory.Host, r plan.Run) []*Visit {
	return f.over(ctx, hosts, f.Rollout, func(f *Fleet, h *inventory.Host, out *Visit) {
		early, _ := f.Plans.Early(h)
		if f.bare() {
			early = nil
		}
		unproved := f.unproved(ctx, h)
		guard := f.Guard
		if unproved || r.Preview {
			guard = 0
		}
		f.host(ctx, h, out, &wire.Start{Run: r, Services: f.Plans.Project.Reads("facts", "services"),
			Own: f.ownFacts(false), OwnFiles: f.Plans.Project.Reads("facts", "own"), Foresee: f.Foreseen != nil,
			Digest: f.Digest || f.Foreseen != nil,
			Guard:  guard, Unproved: unproved, Login: h.Connect.User, Past: f.Past, Undo: f.Undo[h.Name]}, early)
	})
}

// bare says whether nothing is declared for any host, and all that is done follows.
func (f *Fleet) bare() bool { return f.Retire || f.Undo != nil }

// unproved says whether nobody but the machine itself could prove that one still gets in, which
// over a pipe proves nothing. A jump host does prove it, if one gets in over it now.
func (f *Fleet) unproved(ctx context.Context, h *inventory.Host) bool {
	if f.Guard == 0 || !f.Here && !h.Connect.Local {
		return false
	}
	if !f.Here || f.Around == nil || h.Connect.Jump == "" {
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, aroundLimit)
	defer cancel()
	return f.knock(ctx, h, plan.Run{Project: f.Plans.Project.Settings.Project}) != nil
}

// Facts reads the facts of hosts and nothing else.
func (f *Fleet) Facts(ctx context.Context, hosts []*inventory.Host) []*Visit {
	return f.each(ctx, hosts, func(f *Fleet, h *inventory.Host, out *Visit) {
		f.host(ctx, h, out, &wire.Start{OnlyFacts: true, Services: true, Own: f.ownFacts(true), OwnFiles: true}, nil)
	})
}

// ownFacts lists the project's own facts: all, or those that something in it
// looks at.
func (f *Fleet) ownFacts(all bool) []wire.OwnFact {
	var out []wire.OwnFact
	for _, own := range f.Plans.Project.Facts {
		if all || f.Plans.Project.Reads("facts", "own", own.Name) {
			out = append(out, wire.OwnFact{Name: own.Name, Args: own.Args, Text: own.Text, Limit: own.Limit})
		}
	}
	return out
}

// Capture reads what stands on a host, and nothing else. A Ref without a name
// means all of its kind.
func (f *Fleet) Capture(ctx context.Context, h *inventory.Host, asked []value.Ref) *Visit {
	return f.each(ctx, []*inventory.Host{h}, func(f *Fleet, h *inventory.Host, out *Visit) {
		f.host(ctx, h, out, &wire.Start{Capture: asked}, nil)
	})[0]
}

// each does something with every host, as a fleet that has a queue of its own:
// one fleet may go through several runs at once.
func (f *Fleet) each(ctx context.Context, hosts []*inventory.Host,
	do func(*Fleet, *inventory.Host, *Visit)) []*Visit {
	return f.over(ctx, hosts, Rollout{}, do)
}

// over is each, batch by batch.
func (f *Fleet) over(ctx context.Context, hosts []*inventory.Host, how Rollout,
	do func(*Fleet, *inventory.Host, *Visit)) []*Visit {
	ours := *f
	ours.events = &queue{}
	f = &ours
	out := make([]*Visit, len(hosts))
	told := f.events.tell(f.Notify)
	defer told()
	for i, h := range hosts {
		out[i] = &Visit{Name: h.Name}
	}
	p := &progress{Rollout: how, fleet: f}
	var went []*Visit
	over := ""
	batches := how.batches(hosts)
	for n, batch := range batches {
		next := Batch{Number: n + 1, Of: len(batches)}
		for _, i := range batch {
			next.Hosts = append(next.Hosts, hosts[i])
		}
		if n > 0 && over == "" {
			f.events.settle()
			over = p.between(ctx, went, next)
		}
		for _, i := range batch {
			if over != "" {
				out[i].State, out[i].Message = NotBegun, over
				continue
			}
			went = append(went, out[i])
		}
		if over == "" {
			f.batch(ctx, p, next.Hosts, went[len(went)-len(batch):], do)
		}
	}
	return slices.DeleteFunc(out, func(h *Visit) bool { return h.Skipped })
}

// batch takes some hosts through a run at once.
func (f *Fleet) batch(ctx context.Context, p *progress, hosts []*inventory.Host, out []*Visit,
	do func(*Fleet, *inventory.Host, *Visit)) {
	var wg sync.WaitGroup
	slots := make(chan struct{}, max(1, f.Parallel))
	for i, h := range hosts {
		slots <- struct{}{} // here, so that they begin in their order
		wg.Go(func() {
			defer func() { <-slots }()
			f.visit(ctx, p, h, out[i], do)
			if p.Rollout.failed(out[i]) {
				p.failed.Add(1)
			}
		})
	}
	wg.Wait()
}

// visit takes one host through a run, in its turn.
func (f *Fleet) visit(ctx context.Context, p *progress, h *inventory.Host, out *Visit,
	do func(*Fleet, *inventory.Host, *Visit)) {
	begun := time.Now()
	out.Began = begun
	defer func() {
		if r := recover(); r != nil { // one host's trouble must not be that of all
			out.State, out.Message, out.Do = Lost, fmt.Sprintf("a mistake in this program: %v", r), "please report it"
		}
		out.Took = time.Since(begun)
		if !out.Skipped {
			f.notify(Event{Host: out})
		}
	}()
	late := p.late()
	switch {
	case h.Off != "":
		out.State, out.Message = Off, h.Off
	case ctx.Err() != nil:
		out.State, out.Message, out.Stopped = NotBegun, "the run was stopped before its turn", true
	case late != "":
		out.State, out.Message = NotBegun, late
	default:
		f.notify(Event{Host: out, Begun: &Begun{At: begun}})
		do(f, h, out)
	}
}

func (f *Fleet) notify(e Event) {
	if f.Notify != nil {
		f.events.put(e)
	}
}

// host takes one host to its end. early is its plan where no fact can change it.
func (f *Fleet) host(ctx context.Context, h *inventory.Host, out *Visit, start *wire.Start, early *plan.Plan) {
	t := &talk{fleet: f, host: h, out: out, given: map[string]int{}}
	first, err := t.opening(start, early)
	if err != nil {
		out.State, out.Message = NotReached, err.Error()
		return
	}
	s, err := f.Open(ctx, h, first)
	if err != nil {
		p := problem.From(err)
		out.State, out.Message, out.Do = NotReached, p.What, p.Do
		if errors.Is(err, reach.ErrBound) {
			out.State = Lost
		}
		if ctx.Err() != nil {
			out.State, out.Message, out.Do, out.Stopped = NotBegun,
				"the run was stopped while it was being reached", "", true
		}
		return
	}
	defer s.Close()
	out.State = Reached
	t.connect(s)
	err = t.run(ctx, start)
	for err == nil && t.rebooting != nil {
		t, err = t.comeBack(ctx, start)
	}
	if err != nil {
		t.fail(err)
	}
	t.tidy()
}

// tidy puts tasks into the order of the plan and adds those left out.
func (t *talk) tidy() {
	slices.SortFunc(t.out.Tasks, func(a, b Task) int { return a.ID - b.ID })
	if t.plan == nil {
		return
	}
	for _, o := range t.plan.LeftOut {
		t.out.Tasks = append(t.out.Tasks, Task{Result: plan.Result{ID: -1, Ref: o.Ref, Status: plan.LeftOut},
			Place: o.Place, Reason: o.Reason})
	}
}

// fail notes why a host ended before its end.
func (t *talk) fail(err error) {
	p := problem.From(err)
	t.out.Message, t.out.Do = p.What, p.Do
	var busy *busyError
	switch {
	case errors.As(err, &busy):
		t.out.State = Busy
	case t.out.Wrong != nil:
	default:
		t.out.State = Lost
		if said := t.session.Errors(); said != "" && !strings.Contains(said, t.out.Message) &&
			!strings.Contains(t.out.Message, said) && p.Do == "" {
			t.out.Message += " (the worker said: " + said + ")"
		}
		if missing := t.out.Planned - len(t.out.Tasks); t.plan != nil && missing > 0 {
			t.out.Message += fmt.Sprintf("; %d of %d tasks have no result yet", missing, t.out.Planned)
			t.out.Do = cmp.Or(t.out.Do, "what was done is kept on the host, and the next run collects it")
		}
	}
}
