package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/worker"
)

// talk is the controller's side of one session. It starts with the greeting, in which the host sends its facts and any
// results it kept from earlier. The plan is made from the facts and sent, unless it was sent with Start. Then the host
// works and reports each task until it is done. A message at the wrong time, or about something that is not the host's,
// ends the session.
type talk struct {
	fleet *Fleet
	host  *inventory.Host
	out   *record.Host
	start *wire.Start
	ctx   context.Context
	line
	budget
	work
	reboot
}

var errEnd = errors.New("the session is over")

// run speaks with the worker until it is done.
func (t *talk) run(ctx context.Context) error {
	var cancel context.CancelFunc
	t.ctx, cancel = context.WithCancel(ctx)
	defer cancel()
	t.limits = t.fleet.Limits.orUsual()
	t.phase(t.limits.Facts, fmt.Sprintf("it did not send its facts within %v", t.limits.Facts))
	if exec := t.start.Exec; exec != nil {
		t.phase(exec.Limit+t.limits.Facts, fmt.Sprintf("it did not send the result of the command within %v",
			exec.Limit))
	}
	defer func() { t.due.Stop() }()
	silence := cmp.Or(t.fleet.Silence, worker.Silence)
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
			if err := t.handle(m); errors.Is(err, errEnd) {
				return nil
			} else if err != nil {
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
			t.phase(t.limits.Stop, fmt.Sprintf("it was still working %v after the run was stopped", t.limits.Stop))
			if err := t.conn.Send(wire.Message{Stop: &wire.Stop{}}); err != nil {
				return t.broken(err)
			}
		}
	}
}

// handle handles a message in the phase that the talk is in.
func (t *talk) handle(m wire.Message) error {
	switch {
	case m.Ping != nil:
		return nil
	case m.Fault != nil:
		return problem.Errorf("the worker cannot continue: %s", m.Fault.Message).Remedy("%s", m.Fault.Do)
	case m.Hello != nil, m.Busy != nil, m.Collected != nil, m.Facts != nil, m.Captured != nil, m.Executed != nil:
		return t.greeted(m)
	case m.Progress != nil:
		return t.atWorkFor(m.Progress)
	case t.plan == nil && !(t.out.Stopped && (m.Done != nil || m.Bye != nil)): // which ends without one
		return fmt.Errorf("%w: a message about a plan before there is one", wire.ErrFrame)
	}
	return t.worked(m)
}

// tidy puts tasks into the order of the plan and adds those skipped.
func (t *talk) tidy() {
	slices.SortFunc(t.out.Tasks, func(a, b record.Task) int { return a.ID - b.ID })
	if t.plan == nil {
		return
	}
	for _, o := range t.plan.Skipped {
		task := record.NewTask(plan.Result{ID: -1, Ref: o.Ref, Status: plan.Skipped, Message: o.Reason})
		task.DeclaredAt(o.Place)
		t.out.Tasks = append(t.out.Tasks, task)
	}
}

// fail notes why a host ended before its end.
func (t *talk) fail(err error) {
	p := problem.From(err)
	t.out.Message, t.out.Do = p.What, p.Do
	var busy *busyError
	switch {
	case errors.As(err, &busy):
		t.out.State = record.Busy
	case t.out.Wrong != nil:
		t.out.Message += ": " + t.out.Wrong.Error()
	default:
		t.out.State = record.Lost
		if said := t.session.Errors(); said != "" && !strings.Contains(said, t.out.Message) &&
			!strings.Contains(t.out.Message, said) && p.Do == "" {
			t.out.Message += " (the worker printed: " + said + ")"
		}
		if missing := t.out.Planned - len(t.out.Tasks); t.plan != nil && missing > 0 {
			t.out.Message += fmt.Sprintf("; %d of %d tasks have no result yet", missing, t.out.Planned)
			t.out.Do = cmp.Or(t.out.Do, "results are kept on the host and will be collected by the next run")
		}
	}
}
