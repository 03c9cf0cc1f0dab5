package run

import (
	"fmt"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/wire"
)

// greeted handles messages that do not depend on a plan.
func (t *talk) greeted(m wire.Message) error {
	switch {
	case m.Hello != nil && m.Hello.Format != wire.Format:
		return fmt.Errorf("%w: the worker speaks format %d", wire.ErrFrame, m.Hello.Format)
	case m.Busy != nil:
		return &busyError{problem.Errorf("%s", busyText(m.Busy)).Remedy("wait until it has finished")}
	case m.Collected != nil:
		return t.collect(m.Collected)
	case m.Facts != nil:
		return t.surveyed(m.Facts)
	case m.Captured != nil:
		return t.captured(m.Captured)
	case m.Executed != nil:
		return t.executed(m.Executed)
	}
	return nil
}

// surveyed handles the facts of a host: it makes the plan for them, and sends what was not sent with Start.
func (t *talk) surveyed(f *facts.Facts) error {
	if t.out.Facts != nil && t.resume == nil || t.began {
		return fmt.Errorf("%w: facts twice", wire.ErrFrame)
	}
	if err := f.Validate(); err != nil {
		return fmt.Errorf("%w: %v", wire.ErrFrame, err)
	}
	t.out.Facts = f
	if t.resume != nil {
		t.began = true
		return t.sendPlan()
	}
	if skip, err := t.grouped(); skip || err != nil {
		return err
	}
	if t.start.OnlyFacts {
		return errEnd
	}
	if t.plan == nil {
		if err := t.resolve(); err != nil {
			return err
		}
	}
	return t.sendPlan()
}

// busyError says that another run holds a host.
type busyError struct{ problem.Problem }

func (e *busyError) Unwrap() error { return e.Problem }

func busyText(b *wire.Busy) string {
	text := "another run has locked it"
	if b.Holder.Who != "" {
		what := "an apply"
		if b.Holder.Preview {
			what = "a preview"
		}
		text = fmt.Sprintf("%s by %s has locked it", what, b.Holder.Who)
	}
	if b.Since > 0 {
		text += " since " + time.Unix(b.Since, 0).Format("15:04:05")
	}
	return text
}

// captured takes what a host has, where that was asked for.
func (t *talk) captured(c *wire.Captured) error {
	if len(t.start.Capture) == 0 {
		return fmt.Errorf("%w: a list that was not requested", wire.ErrFrame)
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

func (t *talk) collect(c *wire.Collected) error {
	if err := t.hold(256); err != nil {
		return err
	}
	if len(c.Run) > maxWord || len(t.out.Collected) > maxCollected {
		return fmt.Errorf("%w: too many kept runs, or runs without a valid ID", wire.ErrFrame)
	}
	for _, r := range c.Results {
		if err := t.accept(r); err != nil {
			return err
		}
	}
	if t.resume != nil && c.Run == t.start.Run.ID { // what had not arrived before the reboot
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
