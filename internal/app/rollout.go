package app

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/fleet/run"
)

// rollout says how a request goes over these hosts.
func (p *Project) rollout(q *Request, hosts []*inventory.Host) (run.Rollout, error) {
	said := p.Settings.Rollout
	if q.Job != nil {
		said = q.Job.Rollout.Over(said)
	}
	s, err := q.Rollout.over(said)
	if err != nil {
		return run.Rollout{}, err
	}
	if q.Mode == record.ModeUndo { // it undoes what went wrong, and goes to all at once
		return run.Rollout{Lenient: q.Lenient}, nil
	}
	n := 0
	for _, h := range hosts {
		if h.Disabled == "" {
			n++
		}
	}
	out := run.Rollout{Batch: s.Batch.Of(n), StopAfter: s.StopAfter.Of(n), Lenient: q.Lenient}
	if out.First, err = p.first(q, s.First, hosts); err != nil {
		return out, err
	}
	if out.Batches(hosts) <= 1 { // before which nothing waits
		return run.Rollout{StopAfter: out.StopAfter, Lenient: q.Lenient}, nil
	}
	pause := time.Duration(0)
	if s.Pause != "" {
		if pause, err = settings.ParsePause(s.Pause); err != nil {
			return out, err
		}
	}
	if s.Pause == settings.ByKey && p.Ask == nil {
		return out, problem.Errorf("waiting for a keypress needs a terminal").
			Remedy("use a duration, such as --pause 5m")
	}
	out.Between = func(ctx context.Context, next run.Batch) bool { return p.between(ctx, s.Pause, pause, next) }
	return out, nil
}

// first gives the hosts that go alone: by number, those that the inventory lists first. A
// setting is about many runs, and one that names no target of this run is passed over.
func (p *Project) first(q *Request, s string, hosts []*inventory.Host) ([]*inventory.Host, error) {
	if s == "" {
		return nil, nil
	}
	if n, err := strconv.Atoi(s); err == nil {
		if n < 1 {
			return nil, problem.Errorf("invalid number of hosts %q", s).Remedy("use 1 or more")
		}
		on := slices.DeleteFunc(slices.Clone(hosts), func(h *inventory.Host) bool { return h.Disabled != "" })
		return on[:min(n, len(on))], nil
	}
	setting := q.Rollout.First == ""
	list, err := p.Inventory.Select(strings.Split(s, ","), nil)
	switch {
	case err != nil && setting:
		return nil, fmt.Errorf("first = %q in %s: %w", s, p.firstFrom(q), err)
	case err != nil:
		return nil, fmt.Errorf("--first: %w", err)
	}
	list = slices.DeleteFunc(list, func(h *inventory.Host) bool { return !slices.Contains(hosts, h) })
	if len(list) == 0 && setting {
		p.note("first = %s in %s matches no target of this run", visible.Line(strconv.Quote(s)),
			p.firstFrom(q))
		return nil, nil
	}
	if len(list) == 0 {
		return nil, problem.Errorf("%s matches no target of this run", s).
			Remedy("use some of the targets, or a count")
	}
	return list, nil
}

// firstFrom names what says which hosts go first, where the call does not.
func (p *Project) firstFrom(q *Request) string {
	if q.Job != nil && q.Job.Rollout.First != "" {
		return "[job." + q.Job.Name + "] of " + job.File
	}
	if p.Settings.Envs[p.Settings.Env].Rollout.First != "" {
		return "[env." + p.Settings.Env + "] of " + settings.File
	}
	return "[run] of " + settings.File
}

// between says which batch comes, and waits as long as is meant before it.
func (p *Project) between(ctx context.Context, how string, pause time.Duration, next run.Batch) bool {
	noun := "hosts"
	if len(next.Hosts) == 1 {
		noun = "host"
	}
	p.note("batch %d of %d: %d %s, %s", next.Number, next.Of, len(next.Hosts), noun,
		visible.Line(foldedNames(next.Hosts, 6)))
	switch {
	case how == settings.ByKey:
		return p.Ask.Key(ctx, "press a key to start it, or q to end the run here ")
	case pause > 0:
		p.note("it starts at %s", time.Now().Add(pause).Format("15:04:05"))
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
	return ctx.Err() == nil
}

// foldedNames names some hosts shortly, the first few of many.
func foldedNames(hosts []*inventory.Host, most int) string {
	var names []string
	for _, h := range hosts {
		names = append(names, h.Name)
	}
	if names = inventory.Fold(names); len(names) > most {
		names = append(names[:most-1], "and more")
	}
	return strings.Join(names, " ")
}
