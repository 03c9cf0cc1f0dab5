package run

import (
	"context"
	"fmt"
	"slices"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/wire"
)

// Executed is what became of a command on a host.
type Executed struct {
	Code   int
	Output string
	Wrong  string // why it could not be run or did not end; empty when it did
	Took   time.Duration
}

// Exec runs a command on hosts, within a limit, and gives what came of it in each Visit.
func (f *Fleet) Exec(ctx context.Context, hosts []*inventory.Host, args []string, limit time.Duration) []*Visit {
	return f.over(ctx, hosts, f.Rollout, func(f *Fleet, h *inventory.Host, out *Visit) {
		f.host(ctx, h, out, &wire.Start{Exec: &wire.Exec{Args: args, Limit: limit}}, nil)
	})
}

// maxExecuted bounds the output of a command that a host may tell, in bytes: what a worker
// keeps of one, and the line between its head and its tail.
const maxExecuted = 80 << 10

// executed takes what came of the command that was asked for.
func (t *talk) executed(e *wire.Executed) error {
	if t.exec == nil || t.out.Executed != nil || len(e.Output) > maxExecuted || len(e.Wrong) > maxExecuted {
		return fmt.Errorf("%w: what came of a command that was not asked for, or too much of it", wire.ErrFrame)
	}
	t.out.Executed = &Executed{e.Code, e.Output, e.Wrong, e.Took}
	return errEnd
}

// Alike are hosts on which a command came to the same.
type Alike struct {
	Executed
	Hosts []string
}

// Grouped puts hosts together on which a command came to the same, in the order of the
// first of each.
func Grouped(list []*Visit) []*Alike {
	var out []*Alike
	for _, h := range list {
		if h.Executed == nil {
			continue
		}
		i := slices.IndexFunc(out, func(a *Alike) bool {
			return a.Code == h.Executed.Code && a.Output == h.Executed.Output && a.Wrong == h.Executed.Wrong
		})
		if i < 0 {
			i = len(out)
			out = append(out, &Alike{Executed: *h.Executed})
		}
		out[i].Hosts = append(out[i].Hosts, h.Name)
		out[i].Took = max(out[i].Took, h.Executed.Took)
	}
	return out
}
