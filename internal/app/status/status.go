// Package status reports how hosts are, by the runs that are kept and without contacting any.
package status

import (
	"slices"

	"jadekettle/internal/app"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
)

// lookBack is how many runs of a host are read to see since when it is as it is.
const lookBack = 200

// Of reports how the hosts of a project are, those that need a person first.
func Of(p *app.Project, targets, except []string) ([]history.HostStatus, error) {
	hosts, err := p.Select(targets, except)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(hosts))
	for i, h := range hosts {
		names[i] = h.Name
	}
	runs, err := p.Kept.HostRuns(p.Settings.Env, lookBack, names...)
	if err != nil {
		return nil, err
	}
	out := []history.HostStatus{}
	known := p.Known.Of(len(hosts))
	moved := map[int]map[string][]record.Task{} // by run
	for _, h := range hosts {
		s, err := history.StatusOf(h.Name, runs[h.Name], func(n int) (list []record.Task, err error) {
			if moved[n] == nil {
				moved[n], err = p.Kept.Moved(n, names...)
			}
			return moved[n][h.Name], err
		})
		if err != nil {
			return nil, err
		}
		if h.Disabled != "" {
			s.Condition, s.Why = history.IsDisabled, h.Disabled
		}
		if kept, ok := known(h.Name); ok {
			flat := history.FlatFacts(kept.Facts)
			for _, name := range p.Settings.StatusFacts {
				if text, there := flat[name]; there {
					s.Facts[name] = text
				}
			}
		}
		out = append(out, s)
	}
	slices.SortStableFunc(out, history.Urgency)
	return out, nil
}
