package cli

import (
	"context"
	"errors"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/fleet/run"
)

func ended(s plan.Status) *run.Visit {
	return &run.Visit{State: run.Reached, Tasks: []run.Task{{Result: plan.Result{Status: s}}}}
}

func TestTheVerdict(t *testing.T) {
	good, changed, failed, lost := ended(plan.Unchanged), ended(plan.Changed), ended(plan.Failed),
		&run.Visit{State: run.Lost}
	wrong := &run.Visit{State: run.Reached, Wrong: errors.New("x")}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	for _, c := range []struct {
		ctx    context.Context
		hosts  []*run.Visit
		strict bool
		want   int
	}{
		{context.Background(), []*run.Visit{good, changed}, false, 0},
		{context.Background(), []*run.Visit{good, changed}, true, 3},
		{context.Background(), []*run.Visit{good}, true, 0},
		{context.Background(), []*run.Visit{changed, failed}, true, 1},
		{context.Background(), []*run.Visit{failed, changed}, true, 1},
		{context.Background(), []*run.Visit{lost}, false, 1},
		{context.Background(), []*run.Visit{lost, wrong, failed}, true, 2},
		{stopped, []*run.Visit{failed}, false, 130},
	} {
		if got := verdict(c.ctx, c.hosts, c.strict, false); got != c.want {
			t.Errorf("the verdict on %d hosts is %d, want %d", len(c.hosts), got, c.want)
		}
	}
}

func TestApplyAsks(t *testing.T) {
	for answer, want := range map[string]bool{"y\n": true, "yes\n": true, "\n": false, "": false, "n\n": false,
		"maybe\n": false} {
		var errs strings.Builder
		a := &App{In: strings.NewReader(answer), Err: &errs}
		if got := a.agree("Apply to", "", nil); got != want {
			t.Errorf("%q means %v", answer, got)
		}
		if !strings.Contains(errs.String(), "Apply to 0 hosts") {
			t.Errorf("it asks %q", errs.String())
		}
	}
}
