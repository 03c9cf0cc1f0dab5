package record

import (
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

// Group is some things that are alike.
type Group[K comparable, T any] struct {
	Key   K
	Items []T
}

// GroupBy puts together what has the same key, in the order of the first of each. It is how "the same on
// several hosts" is reported once everywhere.
func GroupBy[K comparable, T any](list []T, key func(T) K) []*Group[K, T] {
	var out []*Group[K, T]
	at := map[K]*Group[K, T]{}
	for _, one := range list {
		k := key(one)
		if at[k] == nil {
			at[k] = &Group[K, T]{Key: k}
			out = append(out, at[k])
		}
		at[k].Items = append(at[k].Items, one)
	}
	return out
}

// Failure is a task that failed, with all hosts on which it failed alike.
type Failure struct {
	Task
	Hosts  []string
	Blocks []string // what was not done for it, as kind and name
}

// Failures gathers the tasks that failed on hosts, the same failure of several hosts once, in the order of
// the first of each.
func Failures(hosts []*Host) []*Failure {
	type same struct {
		ref     value.Ref
		place   value.Place
		message string
	}
	var out []*Failure
	at := map[same]*Failure{}
	for _, h := range hosts {
		own := map[value.Ref]*Failure{}
		for _, t := range h.Tasks {
			if t.Status != plan.Failed {
				continue
			}
			key := same{t.Ref(), t.Place(), t.Message}
			if at[key] == nil {
				at[key] = &Failure{Task: t}
				out = append(out, at[key])
			}
			at[key].Hosts = append(at[key].Hosts, h.Name)
			own[t.Ref()] = at[key]
		}
		for _, t := range h.Tasks {
			if t.Status != plan.Blocked || t.BlockedBy == nil {
				continue
			}
			f := own[t.BlockedBy.Value()]
			if f == nil {
				continue
			}
			own[t.Ref()] = f // what this one blocks goes back to the same failure
			if ref := t.Ref().String(); !slices.Contains(f.Blocks, ref) {
				f.Blocks = append(f.Blocks, ref)
			}
		}
	}
	return out
}
