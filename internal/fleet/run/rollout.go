package run

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// Rollout is how a run goes over many hosts. The zero Rollout takes all at once.
type Rollout struct {
	First []*inventory.Host // go alone, before all others
	Batch int               // how many go at a time after those; 0 is all
	// StopAfter is how many failed hosts end the run. 0 is any of a batch, before the
	// next; the others of that batch go on.
	StopAfter int
	// Lenient does not count hosts that are not reached as failed.
	Lenient bool
	// Between is asked before each batch but the first whether to go on. Nil does.
	Between func(ctx context.Context, next Batch) bool
}

// Batch is some of the hosts of a run, that go at once.
type Batch struct {
	Number, Of int // from 1
	Hosts      []*inventory.Host
}

// batches parts hosts: those that go first, and then so many at a time. Hosts that are
// never contacted belong to the first batch.
func (r Rollout) batches(hosts []*inventory.Host) [][]int {
	var off, first, rest []int
	for i, h := range hosts {
		switch {
		case h.Disabled != "":
			off = append(off, i)
		case slices.Contains(r.First, h):
			first = append(first, i)
		default:
			rest = append(rest, i)
		}
	}
	var out [][]int
	if len(first) > 0 {
		out = append(out, first)
	}
	if size := r.Batch; size > 0 {
		out = slices.AppendSeq(out, slices.Chunk(rest, size))
	} else if len(rest) > 0 {
		out = append(out, rest)
	}
	if len(out) == 0 {
		return [][]int{off}
	}
	out[0] = append(off, out[0]...)
	return out
}

// Batches is in how many batches the rollout goes over hosts.
func (r Rollout) Batches(hosts []*inventory.Host) int { return len(r.batches(hosts)) }

// failed says whether a host counts as failed.
func (r Rollout) failed(h *record.Host) bool {
	switch h.Outcome {
	case record.OutWrong, record.OutLost, record.OutRefused, record.OutBusy, record.OutFailed:
		return true
	case record.OutNotReached:
		return !r.Lenient
	}
	return false
}

// progress is how far a run has come over its batches.
type progress struct {
	Rollout
	fleet  *Fleet
	failed atomic.Int64
}

// late says why a host is not started any more, in the middle of a batch; empty where it
// is.
func (p *progress) late() string {
	if p.StopAfter > 0 && int(p.failed.Load()) >= p.StopAfter {
		return fmt.Sprintf("the run stopped before its turn, after %d hosts had failed", p.StopAfter)
	}
	return ""
}

// between says why the next batch does not begin, after those hosts that went so far;
// empty where it does.
func (p *progress) between(ctx context.Context, went []*record.Host, next Batch) string {
	if why := p.late(); why != "" {
		return why
	}
	var failed, unproved []string
	for _, h := range went {
		if p.Rollout.failed(h) {
			failed = append(failed, h.Name)
		}
		if p.unproved(h) {
			unproved = append(unproved, h.Name)
		}
	}
	switch {
	case ctx.Err() != nil:
		return "the run was stopped before its turn"
	case len(unproved) > 0:
		return "the run stopped before its turn: probes failed on " + strings.Join(inventory.Fold(unproved), " ")
	case p.StopAfter == 0 && len(failed) > 0:
		return "the run stopped before its turn: these hosts failed first: " +
			strings.Join(inventory.Fold(failed), " ")
	case p.Between != nil && !p.Between(ctx, next):
		return "the run was stopped before its turn, between two batches"
	}
	return ""
}

// unproved says whether a probe did not hold on a host.
func (p *progress) unproved(h *record.Host) bool {
	return slices.ContainsFunc(h.Tasks, func(t record.Task) bool {
		k, _ := p.fleet.Plans.Project.Kinds.Kind(t.Kind)
		return t.Status == plan.Failed && k != nil && k.Asks
	})
}
