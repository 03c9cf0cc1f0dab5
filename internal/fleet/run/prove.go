package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
)

// proveAgain is how long is waited before it is tried again to get in, since a service that
// was just restarted may take a moment.
const proveAgain = time.Second

// aroundLimit is how long it may take to find out whether one gets in over a jump host.
const aroundLimit = 15 * time.Second

// mostProofs is how often a host may have us get in again for each task of its plan: a worker asks
// again where a connection is closed before a login.
const mostProofs = 6

// prove gets in again, by a connection and an elevation of its own, while the talk goes on,
// and sends the host how that went.
func (t *talk) prove(task int) error {
	if task < 0 || task >= len(t.seen) || t.start.Guard <= 0 || t.proofs > mostProofs*len(t.seen) {
		return fmt.Errorf("%w: a proof that was not requested", wire.ErrFrame)
	}
	t.proofs++
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), t.start.Guard*4/5)
		defer cancel()
		p := &wire.Proved{Task: task}
		if err := t.getIn(ctx); err != nil {
			p.Wrong, p.Early = problem.From(err).What, errors.Is(err, reach.ErrEarly)
		}
		t.conn.Send(wire.Message{Proved: p}) // should it not arrive, the host puts things back
	}()
	return nil
}

// getIn tries until a worker has answered over a connection of its own, or the time is up. The
// error is that of a try which came to a login, where one did.
func (t *talk) getIn(ctx context.Context) error {
	var last error
	for {
		err := t.fleet.knock(ctx, t.host, plan.Run{Project: t.start.Run.Project})
		if err == nil {
			return nil
		}
		if last == nil || errors.Is(last, reach.ErrEarly) && ctx.Err() == nil {
			last = err
		}
		select {
		case <-ctx.Done():
			return last
		case <-time.After(proveAgain):
		}
	}
}

func (f *Fleet) fresh(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
	if f.Fresh == nil {
		return f.Open(ctx, h, first)
	}
	return f.Fresh(ctx, h, first)
}

// knock gets in once, as others do.
func (f *Fleet) knock(ctx context.Context, h *inventory.Host, of plan.Run) error {
	first, err := wire.Frame(wire.Message{Start: &wire.Start{Format: wire.Format, Run: of,
		Exec: &wire.Exec{Args: []string{"true"}, Limit: 10 * time.Second}}})
	if err != nil {
		return err
	}
	open := f.fresh
	if f.Here && f.Around != nil {
		open = f.Around
	}
	s, err := open(ctx, h, first)
	if err != nil {
		return err
	}
	defer s.Close()
	defer context.AfterFunc(ctx, s.Abort)()
	conn := wire.NewConn(s, s)
	for {
		m, err := conn.Receive()
		switch {
		case err != nil:
			return fmt.Errorf("the worker did not respond: %w", err)
		case m.Executed != nil:
			return nil
		case m.Fault != nil:
			return errors.New(m.Fault.Message)
		}
	}
}
