package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/wire"
)

// How long a host may take to be back from a reboot where its task does not say,
// how long it may take to go down, and how often it is looked for.
const (
	backLimit = 10 * time.Minute
	downLimit = 2 * time.Minute
	minPause  = 50 * time.Millisecond
	maxPause  = 3 * time.Second

	rebootReport = 5 * time.Second // how often a wait for a host is reported
)

// reboot is where a talk is with a reboot of its host.
type reboot struct {
	rebooting *wire.Rebooting // the host goes down, and the session ends
	resume    *wire.Rebooting // what it has gone down for, when this talk goes on after that
	began     bool            // the worker has taken up the plan again
}

// reboots says whether a task reboots the host.
func (t *talk) reboots(id int) bool {
	k, _ := t.fleet.Plans.Project.Kinds.Kind(t.plan.Tasks[id].Ref.Kind)
	return k.Reboots
}

// goesDown notes that a task of the plan reboots the host.
func (t *talk) goesDown(r *wire.Rebooting) error {
	if !t.has(r.Task) || !t.reboots(r.Task) ||
		len(r.Boot) > 128 {
		return fmt.Errorf("%w: a reboot that is not in its plan", wire.ErrFrame)
	}
	t.rebooting = r
	t.phase(downLimit, "it did not go down")
	return nil
}

// after is the talk that goes on once the host is back.
func (t *talk) after() (*talk, []byte, error) {
	next := &talk{fleet: t.fleet, host: t.host, out: t.out, start: t.start}
	next.plan, next.seen, next.uses, next.resume = t.plan, t.seen, t.uses, t.rebooting
	next.held.Store(t.held.Load())
	var err error
	if next.parts, err = wire.Parts(t.plan.Tasks); err != nil {
		return nil, nil, err
	}
	again := *t.start
	again.Format, again.Planned, again.Foresee = wire.Format, false, false
	again.Resume = &wire.Resume{Rebooting: *t.rebooting, Ended: make([]plan.Status, len(t.plan.Tasks))}
	for _, task := range t.out.Tasks {
		again.Resume.Ended[task.ID] = task.Status
	}
	first, err := wire.Frame(wire.Message{Start: &again})
	return next, first, err
}

// comeBack waits until a host that was to be rebooted is back, and goes on with
// its plan.
func (t *talk) comeBack(ctx context.Context) (*talk, error) {
	task := t.plan.Tasks[t.rebooting.Task]
	limit := backLimit
	if d, err := measure.ParseDuration(task.Attrs.Text("timeout")); err == nil {
		limit = d
	}
	deadline := time.Now().Add(limit)
	last := errors.New("it did not go down")
	begun, reported := time.Now(), time.Now()
	for pause := minPause; ; pause = min(2*pause, maxPause) {
		select {
		case <-ctx.Done():
			t.out.Stopped = true
			return t, errors.New("the run was stopped while the host was being rebooted")
		case <-time.After(pause):
		}
		if time.Since(reported) > rebootReport {
			reported = time.Now()
			t.atWork(task.Ref, time.Since(begun), last.Error(), 0)
		}
		next, first, err := t.after()
		if err != nil {
			return t, err
		}
		if time.Now().After(deadline) {
			return t, problem.Errorf("it was not back %v after its %s: %w", limit, task.Ref, last).
				Remedy("check its console; results are kept on the host, and the next run continues")
		}
		patient, cancel := context.WithDeadline(ctx, deadline)
		s, err := t.fleet.fresh(patient, t.host, first)
		cancel()
		if err != nil {
			last = err
			continue
		}
		next.connect(s)
		err = next.run(ctx)
		s.Close()
		if next.began || err == nil && next.rebooting == nil {
			return next, err
		}
		last = cmp.Or(err, last) // it was on its way down still, or barely up
	}
}
