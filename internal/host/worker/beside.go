package worker

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
)

// A task that was as declared may be so no more once another one has been done. Two that have a
// file in common are looked at again when the later one is done, which fails then. Of other kinds
// those that were as declared are reported only when their neighbors have been done.

// isAlone says whether tasks of a kind have nothing in common with their neighbors but a file,
// or nothing that can be read again without running what somebody wrote.
func isAlone(k kind.Kind) bool {
	s := k.Schema()
	return s.NameSpace() == schema.Paths || s.Part != nil || s.Asks || s.Reboots || s.Name == "command" ||
		s.Program != ""
}

// apart separates the results that are reported now from those that wait for what is still to be done.
func apart(k kind.Kind, results []plan.Result, more bool) (now, later []plan.Result) {
	if !more || isAlone(k) {
		return results, nil
	}
	for _, res := range results {
		if res.Status == plan.Unchanged {
			later = append(later, res)
		} else {
			now = append(now, res)
		}
	}
	return now, later
}

// stillRight looks again at tasks that were as declared before their neighbors were done.
func (r *runner) stillRight(ctx context.Context, k kind.Kind, results []plan.Result) []plan.Result {
	if len(results) == 0 || r.s.ending() {
		return results
	}
	tasks := make([]plan.Task, len(results))
	for i, res := range results {
		tasks[i] = r.tasks[res.ID]
	}
	for i, reading := range r.read(ctx, k, tasks) {
		if why := r.differs(k, tasks[i], reading); why != "" {
			took := results[i].Took
			err := problem.Errorf("it was as declared until others of its kind changed: %s", why).Remedy(agree)
			results[i] = r.failed(tasks[i], err)
			results[i].Took = took
		}
	}
	return results
}

// agree is the remedy for two declarations that undo each other.
const agree = "make the declarations agree"

// differs says what is not as declared of what was read; empty when nothing is.
func (r *runner) differs(k kind.Kind, t plan.Task, reading kind.Reading) string {
	if reading.Err != nil {
		return problem.From(reading.Err).What
	}
	return mismatch(slices.DeleteFunc(k.Compare(t, reading.State), due))
}

// mismatch writes what differs as what it is and what is declared; empty for no changes.
func mismatch(changes []plan.Change) string {
	out := make([]string, len(changes))
	for i, c := range changes {
		out[i] = fmt.Sprintf("%s is %s, declared %s", c.What, cmp.Or(c.Was, "empty"), cmp.Or(c.Becomes, "empty"))
	}
	return strings.Join(out, ", ")
}

// keepsDeclared notes a task that ended as declared, for those that come later.
func (r *runner) keepsDeclared(res plan.Result) {
	if res.Status != plan.Changed && res.Status != plan.Unchanged {
		return
	}
	for _, at := range r.env.Paths(r.tasks[res.ID]) {
		if r.onPath == nil {
			r.onPath = map[string][]int{}
		}
		if !slices.Contains(r.onPath[at], res.ID) {
			r.onPath[at] = append(r.onPath[at], res.ID)
		}
	}
}

// undoes says whether a task that was just done took back what an earlier one of this run declares
// of the same file.
func (r *runner) undoes(ctx context.Context, t plan.Task) error {
	for _, at := range r.env.Paths(t) {
		for _, id := range r.onPath[at] {
			other := r.tasks[id]
			k, ok := kinds.Of(other)
			if !ok || id == t.ID || other.Ref.Kind == t.Ref.Kind && k.Schema().Edit == nil {
				continue // entries of one kind each have their own name in the file
			}
			if why := r.differs(k, other, k.Read(ctx, r.env, []plan.Task{other})[0]); why != "" {
				return problem.Errorf("it reverts what %s declares: %s", other.Ref, why).
					Remedy(agree)
			}
		}
	}
	return nil
}
