// Package run takes a whole preview or apply through many hosts at once: each
// is reached, read, resolved and made as declared by its worker, while what
// happens is reported to a func as it happens.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
)

// Fleet says what a run needs to know.
type Fleet struct {
	Plans    *resolve.Plans
	Parallel int // hosts at once
	// Open starts a worker on a host. first is what it receives first.
	Open func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error)
	// Silence is how long a host may say nothing before its connection counts
	// as broken; 0 means 60 seconds.
	Silence time.Duration
	// Limits bounds the phases of a host's talk.
	Limits Limits
	// Chosen says of a host whose groups are known now whether it is meant. Nil
	// means that all are.
	Chosen func(h *inventory.Host, groups []*inventory.Group) bool
	// Ask asks a probe of a host from here. Nil cannot: such a probe fails.
	Ask func(ctx context.Context, h *inventory.Host, a value.Attrs) error
	// Notify receives each event, one at a time. However long it takes, no host
	// waits for it. May be nil.
	Notify func(record.Event)
	// Here says that the run is one of this machine over itself, whatever the inventory says.
	Here bool
	// Around opens a worker on this machine as others reach it, over the jump host that the inventory
	// names for it: another machine, which proves for a run over itself that one still gets in. Nil is not at all.
	Around func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error)
	// Fresh opens a worker over a new connection, to see whether there can be one. Nil is what Open does.
	Fresh func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error)
	Work

	events *queue // of one run
}

// Work is what a run does on its hosts. The zero value applies everything that is declared to all hosts at once.
type Work struct {
	// Selection says which tasks the call is about; the zero one takes all.
	Selection resolve.Selection
	// Retire gives every host an empty plan, so that all that is managed there is left
	// over.
	Retire bool
	// Past is what a host keeps of what is there before it is changed.
	Past wire.Past
	// Undo, when not nil, has every host put back what an earlier run changed, of its own
	// entry here; its plan is empty.
	Undo map[string]*wire.Undo
	// Guard is how long a host waits for us to get in again after a change that may have
	// cut us off; 0 is not at all.
	Guard time.Duration
	// Foreseen, when not nil, is what somebody has agreed to: a host that would do
	// anything else is not started.
	Foreseen Foreseen
	// Digest has the results of a preview say by which declaration they came about, for a Foreseen.
	Digest bool
	// Rollout is how Run goes over many hosts.
	Rollout Rollout
	// Started is when the run began, from which records count; zero counts nothing.
	Started time.Time
}

// Run takes the hosts through a run and gives their outcomes in the same
// order. When the context ends each worker finishes the task in hand.
func (f *Fleet) Run(ctx context.Context, hosts []*inventory.Host, r plan.Run) []*record.Host {
	return f.over(ctx, hosts, f.Rollout, func(f *Fleet, h *inventory.Host, out *record.Host) {
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
func (f *Fleet) Facts(ctx context.Context, hosts []*inventory.Host) []*record.Host {
	return f.each(ctx, hosts, func(f *Fleet, h *inventory.Host, out *record.Host) {
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

// Capture reads what is on a host, and nothing else. A Ref without a name
// means all of its kind.
func (f *Fleet) Capture(ctx context.Context, h *inventory.Host, asked []value.Ref) *record.Host {
	return f.each(ctx, []*inventory.Host{h}, func(f *Fleet, h *inventory.Host, out *record.Host) {
		f.host(ctx, h, out, &wire.Start{Capture: asked}, nil)
	})[0]
}

// each does something with every host, as a fleet that has a queue of its own:
// one fleet may go through several runs at once.
func (f *Fleet) each(ctx context.Context, hosts []*inventory.Host,
	do func(*Fleet, *inventory.Host, *record.Host)) []*record.Host {
	return f.over(ctx, hosts, Rollout{}, do)
}

// over is each, batch by batch.
func (f *Fleet) over(ctx context.Context, hosts []*inventory.Host, how Rollout,
	do func(*Fleet, *inventory.Host, *record.Host)) []*record.Host {
	ours := *f
	ours.events = &queue{}
	f = &ours
	out := make([]*record.Host, len(hosts))
	reported := f.events.deliver(f.Notify)
	defer reported()
	for i, h := range hosts {
		out[i] = &record.Host{Name: h.Name}
	}
	p := &progress{Rollout: how, fleet: f}
	var went []*record.Host
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
				out[i].State, out[i].Message = record.NotStarted, over
				out[i].Settle()
				continue
			}
			went = append(went, out[i])
		}
		if over == "" {
			f.batch(ctx, p, next.Hosts, went[len(went)-len(batch):], do)
		}
	}
	return slices.DeleteFunc(out, func(h *record.Host) bool { return h.Unmeant })
}

// batch takes some hosts through a run at once.
func (f *Fleet) batch(ctx context.Context, p *progress, hosts []*inventory.Host, out []*record.Host,
	do func(*Fleet, *inventory.Host, *record.Host)) {
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
func (f *Fleet) visit(ctx context.Context, p *progress, h *inventory.Host, out *record.Host,
	do func(*Fleet, *inventory.Host, *record.Host)) {
	begun := time.Now()
	out.Began, out.After = begun, f.since(begun)
	defer func() {
		if r := recover(); r != nil { // one host's trouble must not be that of all
			out.State, out.Message, out.Do = record.Lost, fmt.Sprintf("internal error: %v", r),
				"please report this"
		}
		out.Seconds = record.Seconds(time.Since(begun))
		if out.Settle(); !out.Unmeant {
			f.notify(record.Event{Host: out.Name, Ended: out})
		}
	}()
	late := p.late()
	switch {
	case h.Disabled != "":
		out.State, out.Message = record.Disabled, h.Disabled
	case ctx.Err() != nil:
		out.State, out.Message, out.Stopped = record.NotStarted, "the run was stopped before its turn", true
	case late != "":
		out.State, out.Message = record.NotStarted, late
	default:
		f.notify(record.Event{Host: out.Name, Begun: &record.Begun{At: begun}})
		do(f, h, out)
	}
}

// since gives how many seconds after the beginning of the run something was.
func (f *Fleet) since(at time.Time) float64 {
	if f.Started.IsZero() {
		return 0
	}
	return record.Since(f.Started, at)
}

func (f *Fleet) notify(e record.Event) {
	if f.Notify != nil {
		f.events.push(e)
	}
}

// host takes one host to its end. early is its plan where no fact can change it.
func (f *Fleet) host(ctx context.Context, h *inventory.Host, out *record.Host, start *wire.Start, early *plan.Plan) {
	t := &talk{fleet: f, host: h, out: out, start: start}
	first, err := t.opening(early)
	if err != nil {
		out.State, out.Message = record.NotReached, err.Error()
		return
	}
	s, err := f.Open(ctx, h, first)
	if err != nil {
		p := problem.From(err)
		out.State, out.Message, out.Do = record.NotReached, p.What, p.Do
		switch {
		case errors.Is(err, reach.ErrBound):
			out.State = record.Lost
		case errors.Is(err, reach.ErrUnsafe):
			out.State = record.Refused
		}
		if ctx.Err() != nil {
			out.State, out.Message, out.Do, out.Stopped = record.NotStarted,
				"the run was stopped while connecting", "", true
		}
		return
	}
	defer s.Close()
	out.State = record.Reached
	t.connect(s)
	err = t.run(ctx)
	for err == nil && t.rebooting != nil {
		t, err = t.comeBack(ctx)
	}
	if err != nil {
		t.fail(err)
	}
	t.tidy()
}
