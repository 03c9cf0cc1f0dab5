package kinds

import (
	"maps"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Removal gives the task that removes a thing that is no longer declared, as the ledger remembers it, or says why that
// cannot be done.
func Removal(id int, ref value.Ref, e plan.Entry) (plan.Task, error) {
	t := plan.Task{ID: id, Ref: ref, Attrs: value.Attrs{}}
	if e.Last != nil {
		t = e.Last.Task(id, ref)
	}
	t.Content, t.Leaves = nil, true
	if e.Last != nil && e.Last.Program != "" {
		return t, problem.Errorf("it is of a custom kind whose program is part of its declaration").
			Remedy("declare it absent")
	}
	k, ok := Find(ref.Kind)
	if !ok {
		return t, problem.Errorf("this worker does not know the kind %q", ref.Kind)
	}
	switch s := k.Schema(); {
	case s.NoAbsent == "":
		t.Absent = true
	case s.Leave == nil:
		return t, problem.Errorf("a %s cannot be removed", ref.Kind).Remedy("%s", s.NoAbsent)
	default:
		// What was never declared of it is somebody else's, such as whether a service runs that was only restarted.
		t.Attrs = maps.Clone(s.Leave)
		maps.DeleteFunc(t.Attrs, func(name string, _ any) bool { return e.Last != nil && !e.Last.Attrs.Has(name) })
	}
	return t, nil
}
