package worker

import (
	"context"
	"errors"
	"fmt"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
)

// rebootError says that what is to be done next is a reboot.
type rebootError struct{ work kind.Work }

func (e rebootError) Error() string { return "a reboot is required" }

func reboots(name string) bool {
	k, ok := kinds.Find(name)
	return ok && k.Schema().Reboots
}

// resume takes up where an earlier session ended, or says that the host has not
// been rebooted yet.
func (s *session) resume(r *runner, at *wire.Resume) (over bool, err error) {
	_, boot, err := r.env.Uptime()
	if err != nil {
		return false, err
	}
	if boot == at.Boot {
		return true, s.send(wire.Message{Rebooting: &at.Rebooting})
	}
	r.resumed = &at.Rebooting
	return false, nil
}

// goOn sets what is over already.
func (r *runner) goOn(at *wire.Resume) error {
	if len(at.Ended) != len(r.tasks) || at.Task < 0 || at.Task >= len(r.tasks) || !reboots(r.tasks[at.Task].Ref.Kind) {
		return errors.New("the plan is not the one that included the reboot")
	}
	copy(r.ended, at.Ended)
	r.from = at.Task
	return nil
}

// work goes through the tasks. rebooting says that the host is about to go down,
// with the rest of them still to come.
func (s *session) work(ctx context.Context, r *runner) (rebooting bool, err error) {
	for {
		err := s.streaming(func() error {
			err := r.run(ctx)
			return errors.Join(err, r.unfit(ctx))
		})
		var due rebootError
		if !errors.As(err, &due) {
			return false, err
		}
		if err = s.reboot(ctx, r, due.work); err == nil {
			return true, nil
		}
		t := due.work.Task
		res := r.failed(t, fmt.Errorf("the reboot did not start: %w", err))
		res.Changes = due.work.Changes
		if err := r.end([]plan.Result{res}); err != nil {
			return false, err
		}
		r.from = t.ID + 1
	}
}

// reboot informs the controller, and then asks for the reboot. What was done is in
// the journal, and the ledger is saved: the session after it finds both.
func (s *session) reboot(ctx context.Context, r *runner, w kind.Work) error {
	<-r.surveyed
	_, boot, err := r.env.Uptime()
	if err != nil {
		return err
	}
	if err := r.store.Save(); err != nil {
		return err
	}
	if err := s.send(wire.Message{Rebooting: &wire.Rebooting{Task: w.Task.ID, Boot: boot}}); err != nil {
		return err
	}
	s.drain()
	k, _ := kinds.Of(w.Task)
	return k.Write(ctx, r.env, []kind.Work{w})[0]
}
