package run

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
)

// Foreseen is what was shown of each host before somebody agreed to it: the result of a
// preview for each of its tasks.
type Foreseen map[string][]record.Task

// Foresee gives what a preview showed, of the hosts that it went through whole.
func Foresee(hosts []*record.Host) Foreseen {
	out := Foreseen{}
	for _, h := range hosts {
		if h.State != record.Reached || h.Wrong != nil || h.Stopped {
			continue
		}
		list := []record.Task{}
		for _, t := range h.Tasks {
			if t.ID >= 0 { // what a condition skipped is none of the host's
				list = append(list, t)
			}
		}
		out[h.Name] = list
	}
	return out
}

// Moved says what a host would do now that differs from what was foreseen of it; nil where
// nothing is.
func (f Foreseen) Moved(host string, now []record.Task) error {
	was, known := f[host]
	if !known {
		return problem.Errorf("the preview does not include this host").Remedy("preview it first")
	}
	had := make(map[value.Ref]record.Task, len(was))
	for _, r := range was {
		had[r.Ref()] = r
	}
	var moved []string
	for _, r := range now {
		old, there := had[r.Ref()]
		delete(had, r.Ref())
		if why := otherwise(old, there, r); why != "" {
			moved = append(moved, why)
		}
	}
	for _, r := range was {
		if _, gone := had[r.Ref()]; gone && r.Status != plan.Skipped {
			moved = append(moved, r.Ref().String()+" is no longer part of it")
		}
	}
	if len(moved) == 0 {
		return nil
	}
	const few = 5
	more := ""
	if len(moved) > few {
		more = fmt.Sprintf("; and %d more", len(moved)-few)
		moved = moved[:few]
	}
	return problem.Errorf("the host has changed since the preview, so nothing was done: %s%s",
		strings.Join(moved, "; "), more).
		Remedy("preview it again to see what has changed")
}

// otherwise says in what a task is not as it was foreseen; empty where it is.
func otherwise(old record.Task, there bool, now record.Task) string {
	verdict := func(s plan.Status) string {
		if s == plan.Changed {
			return "due to change"
		}
		return string(s)
	}
	switch {
	case !there && now.Status == plan.Skipped:
		return ""
	case !there:
		return now.Ref().String() + " is new"
	case old.Status != now.Status:
		return fmt.Sprintf("%s was %s and is now %s", now.Ref(), verdict(old.Status), verdict(now.Status))
	case now.Status != plan.Unchanged && now.Status != plan.Skipped && !bytes.Equal(old.Digest, now.Digest):
		return now.Ref().String() + " is declared differently"
	case now.Status != plan.Changed || slices.Equal(shown(old.Changes), shown(now.Changes)):
		return ""
	}
	for _, c := range now.Changes {
		if !slices.Contains(shown(old.Changes), one(c)) {
			return fmt.Sprintf("%s would change differently: %s: %s -> %s", now.Ref(), c.What,
				c.Was, c.Becomes)
		}
	}
	return now.Ref().String() + " would change less"
}

func shown(changes []plan.Change) []string {
	var out []string
	for _, c := range changes {
		out = append(out, one(c))
	}
	return out
}

// one is what is shown of a change.
func one(c plan.Change) string {
	return strings.Join([]string{c.What, c.Was, c.Becomes, strings.TrimRight(c.Diff, "\n")}, "\x00")
}

// foreseen takes what a host would do, and lets it do that if it is what somebody agreed
// to.
func (t *talk) foreseen(m *wire.Foreseen) error {
	if t.fleet.Foreseen == nil || t.went {
		return fmt.Errorf("%w: predictions that were not requested", wire.ErrFrame)
	}
	for _, r := range m.List {
		if err := t.accept(r); err != nil {
			return err
		}
		if r.ID < len(t.plan.Tasks) && r.ID >= 0 {
			r.Ref = t.plan.Tasks[r.ID].Ref
		}
		t.would = append(t.would, record.NewTask(r))
	}
	if !m.Last {
		return nil
	}
	t.went = true
	if err := t.fleet.Foreseen.Moved(t.host.Name, t.would); err != nil {
		p := problem.From(err)
		t.out.State, t.out.Message, t.out.Do = record.Refused, p.What, p.Do
		t.conn.Send(wire.Message{Stop: &wire.Stop{}})
		return errEnd
	}
	t.would = nil
	return t.conn.Send(wire.Message{Go: &wire.Go{}})
}
