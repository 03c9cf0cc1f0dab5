package history

import (
	"cmp"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// HostTask names a task on a host that ended in a way.
type HostTask struct {
	Host   string
	Ref    value.Ref
	Status plan.Status
}

// Usual is how long things took in earlier runs, in seconds.
type Usual struct {
	Runs  []float64
	Hosts map[string][]float64
	Kinds map[string][]float64
	// Task gives it of one task, and is asked only for those that are reported.
	Task func(HostTask) ([]float64, error)
}

// Slow shows where the time of a run went.
type Slow struct {
	Number  int     `json:"number" doc:"The run's number."`
	Mode    string  `json:"mode" doc:"What kind of run it was."`
	Seconds float64 `json:"seconds" doc:"The duration."`
	Usual   float64 `json:"usual" doc:"The median of earlier runs of the same kind; 0 if there were none."`
	Runs    int     `json:"runs" doc:"The number of earlier runs it is based on."`
	Tasks   []Part  `json:"tasks" doc:"Tasks, slowest first."`
	Kinds   []Part  `json:"kinds" doc:"Kinds, summed over all hosts; 'usual' is based on the last five runs."`
	Hosts   []Part  `json:"hosts" doc:"Hosts, slowest first."`
}

// Part is one part of the time of a run.
type Part struct {
	Host    string  `json:"host" doc:"The host; empty for a kind."`
	Kind    string  `json:"kind" doc:"The kind; empty for a host."`
	Name    string  `json:"name" doc:"The task's name; empty for a host or a kind."`
	Seconds float64 `json:"seconds" doc:"The duration."`
	Usual   float64 `json:"usual" doc:"The median of earlier runs; 0 if there were none."`
}

// SlowOf finds out where the time of a run went: at most so many of each sort.
func SlowOf(k *record.Run, usual Usual, most int) (*Slow, error) {
	out := &Slow{Number: k.Number, Mode: k.Mode, Seconds: k.Seconds, Usual: Median(usual.Runs), Runs: len(usual.Runs)}
	kinds := map[string]float64{}
	type timed struct {
		HostTask
		seconds float64
	}
	var tasks []timed
	for _, h := range k.Hosts {
		out.Hosts = append(out.Hosts, Part{Host: h.Name, Seconds: h.Seconds, Usual: Median(usual.Hosts[h.Name])})
		for _, t := range h.Tasks {
			kinds[t.Kind] += t.Seconds
			if t.Seconds > 0 {
				tasks = append(tasks, timed{HostTask{h.Name, value.Ref{Kind: t.Kind, Name: t.Name},
					t.Status}, t.Seconds})
			}
		}
	}
	for _, kind := range value.Keys(kinds) {
		out.Kinds = append(out.Kinds, Part{Kind: kind, Seconds: kinds[kind], Usual: Median(usual.Kinds[kind])})
	}
	out.Kinds, out.Hosts, out.Tasks = longest(out.Kinds, most), longest(out.Hosts, most), []Part{}
	slices.SortStableFunc(tasks, func(a, b timed) int { return cmp.Compare(b.seconds, a.seconds) })
	for _, t := range tasks[:min(len(tasks), most)] {
		times, err := usual.Task(t.HostTask)
		if err != nil {
			return nil, err
		}
		out.Tasks = append(out.Tasks, Part{t.Host, t.Ref.Kind, t.Ref.Name, t.seconds, Median(times)})
	}
	return out, nil
}

// longest gives the parts that took longest, at most so many.
func longest(list []Part, most int) []Part {
	slices.SortStableFunc(list, func(a, b Part) int { return cmp.Compare(b.Seconds, a.Seconds) })
	return append([]Part{}, list[:min(len(list), most)]...)
}

// Median gives the middle one of some numbers; 0 where there is none.
func Median(list []float64) float64 {
	if len(list) == 0 {
		return 0
	}
	list = slices.Sorted(slices.Values(list))
	return list[len(list)/2]
}
