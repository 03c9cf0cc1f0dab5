package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
)

// The runs of a project as they are kept, and which of them are meant.
type (
	Runs   = store.Project
	Filter = store.Filter
)

// CheckFilter says what is wrong with a filter, and writes its hosts out.
func CheckFilter(f Filter) (Filter, error) {
	for _, m := range f.Modes {
		if !slices.Contains(record.Modes, m) {
			return f, problem.Errorf("invalid --mode %q", m).Remedy("use %s", strings.Join(record.Modes, ", "))
		}
	}
	if f.Most < 0 {
		return f, problem.Errorf("invalid --most %d", f.Most).Remedy("use the number of runs to show, or 0 for all")
	}
	var hosts []string
	for _, h := range f.Hosts {
		list, err := inventory.Unfold(h)
		if err != nil {
			return f, err
		}
		hosts = append(hosts, list...)
	}
	f.Hosts = hosts
	return f, nil
}

// Differ reports what differs between two runs.
func Differ(p Runs, env, a, b string) (*history.Differences, error) {
	var sides [2]history.Side
	for i, which := range []string{a, b} {
		n, err := p.Number(which, env)
		if err != nil {
			return nil, err
		}
		s := &sides[i]
		if s.Run, err = p.Load(n); err != nil {
			return nil, err
		}
		if s.Files, err = p.Files(n); err != nil {
			return nil, err
		}
		s.Text = func(path string) ([]byte, error) { return p.Text(n, path) }
		s.Facts = func(host string) (*facts.Facts, error) { return p.Facts(n, host) }
	}
	return history.Differ(sides[0], sides[1])
}

// CheckHistory reads the history whole; nil where none is kept yet.
func CheckHistory(p Runs) (*store.Health, error) {
	h, err := p.Check()
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	return h, err
}

// Follow sends sinks what happens in a run that another process does, from its beginning to its end, and gives the run
// as it came out; nil where the context ends before.
func Follow(ctx context.Context, p Runs, n int, every time.Duration, to ...record.Sink) (*record.Run, error) {
	f := p.Follow(n)
	for {
		head, events, err := f.Next()
		if err != nil {
			return nil, err
		}
		for _, e := range events {
			for _, s := range to {
				s.Event(e)
			}
		}
		if head.State != record.Running {
			r, err := p.Load(n)
			if err != nil {
				return nil, err
			}
			for _, s := range to {
				err = errors.Join(err, s.End(r))
			}
			return r, err
		}
		select {
		case <-ctx.Done():
			return nil, nil
		case <-time.After(every):
		}
	}
}

// Limits say which runs may go, as a call says it. The zero Limits let none go.
type Limits struct {
	Age  string // those that are older, such as 90d
	Keep int    // those beyond so many, the newest staying
	Size string // the oldest, until the rest takes no more, such as 500 MiB
}

// Check says what is wrong with them.
func (l Limits) Check(now time.Time) error {
	_, err := l.limits(now)
	return err
}

func (l Limits) limits(now time.Time) (out store.Limits, err error) {
	if l == (Limits{}) {
		return out, problem.Errorf("nothing selected to delete").
			Remedy("use --older 90d, --keep 500 or --size '500 MiB'")
	}
	if l.Keep < 0 {
		return out, problem.Errorf("invalid --keep %d", l.Keep).Remedy("use the number of runs to keep")
	}
	out.Count = l.Keep
	if l.Size != "" {
		if out.Size, err = measure.ParseBytes(l.Size); err != nil {
			return out, err
		}
	}
	if l.Age != "" {
		d, err := measure.ParseDuration(l.Age)
		if err != nil {
			return out, err
		}
		out.Before = now.Add(-d)
	}
	return out, nil
}

// Old lists the runs that are beyond the limits, oldest first.
func (l Limits) Old(p Runs, now time.Time) ([]store.Old, error) {
	limits, err := l.limits(now)
	if err != nil {
		return nil, err
	}
	return p.Old(limits)
}

// Prune lets runs go, and reports how many bytes the history has lost. Who does so is kept before: by is the call.
func Prune(p Runs, old []store.Old, by []string) (int64, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return 0, err
	}
	machine, err := os.Hostname()
	if err != nil {
		return 0, err
	}
	notes := map[string]string{"deleted": fmt.Sprintf("%d, from run %d to run %d", len(old), old[0].Number,
		old[len(old)-1].Number)}
	r := p.Begin(record.Head{Run: id.String(), Mode: record.ModePrune, Started: time.Now(), Who: Me(), Machine: machine,
		Command: by, Params: map[string]string{}, Inputs: map[string]string{}, Notes: notes}, nil, nil)
	r.End(&record.Run{})
	if err := r.Wait(); err != nil {
		return 0, fmt.Errorf("record who deletes runs: %w", err)
	}
	return p.Prune(old)
}
