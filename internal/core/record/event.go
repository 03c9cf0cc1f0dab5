package record

import (
	"slices"
	"time"

	"jadekettle/internal/core/value"
)

// Event is something that happened in a run, of one host: its turn has come (Begun), a task ended, it
// is at something for long, or it ended. Exactly one of these is set. An event is a value: whoever gets
// one may keep it.
type Event struct {
	Host   string
	Begun  *Begun
	Task   *Task
	AtWork *AtWork
	Ended  *Host
}

// Begun reports that a host's turn has come, and once more when its plan is known.
type Begun struct {
	At    time.Time // when its turn came
	Tasks int       // of its plan; 0 while that is not known
}

// Sink takes what happens in a run, one event at a time, and then its end.
type Sink interface {
	Event(Event)
	// End is called once, after the last event, with the run as it came out.
	End(*Run) error
}

// Apply adds what has happened to the run.
func (r *Run) Apply(e Event) *Host {
	h := r.byName[e.Host]
	if h == nil {
		if h = r.Host(e.Host); h == nil {
			h = &Host{Name: e.Host}
			r.Hosts = append(r.Hosts, h)
		}
		if r.byName == nil {
			r.byName = map[string]*Host{}
		}
		r.byName[e.Host] = h
	}
	switch {
	case e.Begun != nil:
		h.Begun, h.Began, h.Planned = true, e.Begun.At, max(h.Planned, e.Begun.Tasks)
	case e.AtWork != nil:
		h.AtWork = e.AtWork
	case e.Task != nil:
		h.add(*e.Task)
	case e.Ended != nil:
		*h = *e.Ended
	}
	return h
}

// add adds a task that has ended. One that is reported again takes the place of what was reported before.
func (h *Host) add(t Task) {
	if h.AtWork != nil && h.AtWork.Kind == t.Kind && h.AtWork.Name == t.Name {
		h.AtWork = nil
	}
	if t.Again {
		h.Tasks = slices.DeleteFunc(h.Tasks, func(o Task) bool { return o.Ref() == t.Ref() })
	}
	h.Tasks = append(h.Tasks, t)
}

// Ref gives the task that a host is at; empty for a command.
func (w *AtWork) Ref() value.Ref { return value.Ref{Kind: w.Kind, Name: w.Name} }

// For is how long a host has been at something by now.
func (w *AtWork) For(now time.Time) time.Duration {
	return Length(w.Seconds) + max(0, now.Sub(w.Reported))
}
