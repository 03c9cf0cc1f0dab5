package worker

import (
	"context"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/wire"
)

// foresee goes through the plan as a preview does, reports to the controller what would change,
// and waits until it says that this is what is meant. go is false when it is not.
func (s *session) foresee(ctx context.Context, r *runner, start *wire.Start) (goOn bool, err error) {
	ledger, tasks := r.store.Snapshot(), r.tasks
	r.env.Run.Preview, r.foreseeing = true, true
	if err = r.run(ctx); err == nil {
		_, err = s.last(ctx, r, start)
	}
	list := r.foreseen
	r.env.Run.Preview, r.foreseeing, r.foreseen = false, false, nil
	r.store.Restore(ledger)
	r.env.Renew()
	r.from = 0
	r.acceptPlan(tasks)
	if err != nil || s.ending() {
		return false, err
	}
	slices.SortStableFunc(list, func(a, b plan.Result) int { return a.ID - b.ID })
	for part := range chunked(list) {
		if s.send(wire.Message{Foreseen: &wire.Foreseen{List: part}}) != nil {
			return false, errLost
		}
	}
	if s.send(wire.Message{Foreseen: &wire.Foreseen{Last: true}}) != nil {
		return false, errLost
	}
	select {
	case <-s.goes:
		return true, nil
	case <-s.stop:
		return false, nil
	case <-s.lost:
		return false, errLost
	}
}
