package run

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/wire"
)

// maxFirst bounds a plan that goes along with Start, in bytes: it waits in the
// buffers of the connection until the worker runs.
const maxFirst = 256 << 10

// opening gives what the worker receives first: Start, and the plan with it where
// that is known and small enough.
func (t *talk) opening(early *plan.Plan) ([]byte, error) {
	start := t.start
	var frames []byte
	if early != nil && t.adopt(early) == nil {
		for i := range t.parts {
			frame, err := wire.Frame(wire.Message{Plan: &t.parts[i]})
			if err != nil {
				return nil, err
			}
			if frames = append(frames, frame...); len(frames) > maxFirst {
				break
			}
		}
	}
	start.Format, start.Planned = wire.Format, len(frames) > 0 && len(frames) <= maxFirst
	first, err := wire.Frame(wire.Message{Start: start})
	if err != nil || !start.Planned {
		return first, err
	}
	t.parts = nil
	return append(first, frames...), nil
}

// grouped settles the groups of the host by its facts, and whether it is meant.
func (t *talk) grouped() (skip bool, err error) {
	groups, err := t.fleet.Plans.Project.Inventory.GroupsOf(t.host, t.out.Facts.Tree())
	if err != nil {
		return false, nil // the plan says it, with its place
	}
	for _, g := range groups {
		t.out.Groups = append(t.out.Groups, g.Name)
	}
	if t.fleet.Chosen != nil && !t.fleet.Chosen(t.host, groups) {
		t.out.Unmeant = true
		t.conn.Send(wire.Message{Stop: &wire.Stop{}})
		return true, errEnd
	}
	return false, nil
}

// adopt makes a plan that of this talk, or says why it cannot travel.
func (t *talk) adopt(whole *plan.Plan) error {
	p, needed := t.fleet.Selection.Apply(whole)
	if i := slices.IndexFunc(p.Tasks, func(task plan.Task) bool {
		k, _ := t.fleet.Plans.Project.Kinds.Kind(task.Ref.Kind)
		return k.Reboots
	}); i >= 0 && t.host.Connect.Local {
		return problem.Errorf("%s would reboot the machine that this program runs on", p.Tasks[i].Ref).
			Remedy("remove it for this host, or run from another machine")
	}
	parts, err := wire.Parts(p.Tasks)
	if err != nil {
		return err
	}
	t.plan, t.parts, t.out.Needed = p, parts, record.Refs(needed)
	t.out.Planned, t.seen, t.uses = len(p.Tasks), make([]bool, len(p.Tasks)), map[string]int{}
	t.fleet.notify(record.Event{Host: t.out.Name, Begun: &record.Begun{At: t.out.Began, Tasks: len(p.Tasks)}})
	for _, task := range p.Tasks {
		for _, c := range task.Wants() {
			t.uses[c.SHA256]++
		}
	}
	return nil
}

// resolve makes the plan for the facts that came.
func (t *talk) resolve() error {
	if t.fleet.bare() {
		return t.adopt(&plan.Plan{})
	}
	p, err := t.fleet.Plans.Of(t.host, t.out.Facts)
	if err == nil {
		err = t.adopt(p)
	}
	if err != nil {
		t.out.Wrong = err
		t.conn.Send(wire.Message{Stop: &wire.Stop{}})
		return errors.New("the project cannot be resolved for this host")
	}
	return nil
}

// sendPlan sends what is not sent of the plan, and begins the wait for results.
func (t *talk) sendPlan() error {
	for i := range t.parts {
		if err := t.conn.Send(wire.Message{Plan: &t.parts[i]}); err != nil {
			return t.broken(err)
		}
	}
	t.parts = nil
	t.working()
	return nil
}

// give sends contents of this host's own plan, and of no other.
func (t *talk) give(hashes []string) error {
	for _, h := range hashes {
		if err := t.giveOne(h); err != nil {
			return err
		}
	}
	return nil
}

func (t *talk) giveOne(hash string) error {
	missing := func(why string) error {
		return t.conn.Send(wire.Message{Chunk: &wire.Chunk{SHA256: hash, Last: true, Missing: why}})
	}
	source, ok := t.plan.Contents[hash]
	if !ok {
		return fmt.Errorf("%w: a request for content that is not in its plan", wire.ErrFrame)
	}
	if t.given == nil {
		t.given = map[string]int{}
	}
	if t.given[hash]++; t.given[hash] > maxGiven*t.uses[hash] {
		return fmt.Errorf("%w: repeated requests for the same content", wire.ErrFrame)
	}
	f, err := t.fleet.Plans.Project.Open(source)
	if err != nil {
		return missing(err.Error())
	}
	defer f.Close()
	for {
		buf := make([]byte, wire.ChunkSize)
		n, err := io.ReadFull(f, buf)
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return missing(err.Error())
		}
		if err := t.conn.Send(wire.Message{Chunk: &wire.Chunk{SHA256: hash, Data: buf[:n], Last: last}}); err != nil {
			return t.broken(err)
		}
		t.heard.Beat() // what is being taken is heard from
		if last {
			return nil
		}
	}
}
