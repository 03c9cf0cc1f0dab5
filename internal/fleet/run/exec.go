package run

import (
	"context"
	"fmt"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/wire"
)

// Exec runs a command on hosts, within a limit, and gives each host with its Executed.
func (f *Fleet) Exec(ctx context.Context, hosts []*inventory.Host, args []string, limit time.Duration) []*record.Host {
	return f.over(ctx, hosts, f.Rollout, func(f *Fleet, h *inventory.Host, out *record.Host) {
		f.host(ctx, h, out, &wire.Start{Exec: &wire.Exec{Args: args, Limit: limit}}, nil)
	})
}

// maxExecuted bounds the output of a command that a host may report, in bytes: what a worker
// keeps of one, and the line between its head and its tail.
const maxExecuted = 80 << 10

// executed takes what came of the command that was asked for.
func (t *talk) executed(e *wire.Executed) error {
	if t.start.Exec == nil || t.out.Executed != nil || len(e.Output) > maxExecuted || len(e.Wrong) > maxExecuted {
		return fmt.Errorf("%w: the result of a command that was not requested, or too much of it", wire.ErrFrame)
	}
	t.out.Executed = &record.Executed{Ended: e.Wrong == "", Code: e.Code, Output: e.Output, Wrong: e.Wrong,
		Seconds: record.Seconds(e.Took)}
	return errEnd
}
