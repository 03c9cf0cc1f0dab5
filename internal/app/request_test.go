package app

import (
	"context"
	"errors"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

func ended(s plan.Status) *record.Host {
	return settled(&record.Host{State: record.Reached, Tasks: []record.Task{{Status: s}}})
}

func settled(h *record.Host) *record.Host {
	h.Settle()
	return h
}

func TestTheVerdict(t *testing.T) {
	good, changed, failed, lost := ended(plan.Unchanged), ended(plan.Changed), ended(plan.Failed),
		settled(&record.Host{State: record.Lost})
	wrong := settled(&record.Host{State: record.Reached, Wrong: errors.New("x")})
	stopped, stop := context.WithCancel(context.Background())
	stop()
	for _, c := range []struct {
		ctx    context.Context
		hosts  []*record.Host
		strict bool
		want   int
	}{
		{context.Background(), []*record.Host{good, changed}, false, 0},
		{context.Background(), []*record.Host{good, changed}, true, 3},
		{context.Background(), []*record.Host{good}, true, 0},
		{context.Background(), []*record.Host{changed, failed}, true, 1},
		{context.Background(), []*record.Host{failed, changed}, true, 1},
		{context.Background(), []*record.Host{lost}, false, 1},
		{context.Background(), []*record.Host{lost, wrong, failed}, true, 2},
		{stopped, []*record.Host{failed}, false, 130},
	} {
		if got := (Verdict{Strict: c.strict}).verdict(c.ctx.Err() != nil, c.hosts); got != c.want {
			t.Errorf("the verdict on %d hosts is %d, want %d", len(c.hosts), got, c.want)
		}
	}
}
