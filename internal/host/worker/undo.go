package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
)

// undoing puts back what an earlier run changed, each thing by a task of its own.
type undoing struct {
	run   string
	items map[int]*item             // by task
	open  map[value.Ref]int         // how many things of a task of that run are not put back yet
	entry map[value.Ref]*plan.Entry // what the ledger had of each of those tasks
	until time.Time                 // when that run was over, by the host's clock
}

// item is one thing that a run changed, in however many of its tasks.
type item struct {
	before, after plan.Prior
	left          bool        // after is known: the run was not cut off in the middle of it
	causes        []value.Ref // the tasks of that run
	addPending    []plan.Pending
	line          int // of what is kept, by which things are ordered
}

// lost is a task of that run of which nothing can be put back.
type lost struct {
	ref value.Ref
	why error
}

func notBack(ref value.Ref, why string) lost {
	return lost{ref, problem.Errorf("it is not restored: %s", why).Remedy("restore it by hand")}
}

// undo goes through the things that a run changed, the last ones first.
func (s *session) undo(ctx context.Context, r *runner, which *wire.Undo) error {
	if s.ending() {
		return nil
	}
	moved, err := r.past.Of(which.Run)
	if err != nil && !errors.Is(err, ledger.ErrNotKept) {
		return fmt.Errorf("read the state before that run: %w", err)
	}
	items, gone := gather(moved, which.Tasks)
	u := &undoing{run: which.Run, until: r.past.Until(), items: map[int]*item{}, open: map[value.Ref]int{},
		entry: map[value.Ref]*plan.Entry{}}
	for _, m := range moved {
		if _, ok := u.entry[m.Task]; !ok { // a task's first line has it
			u.entry[m.Task] = m.Entry
		}
	}
	base := len(r.tasks)
	var tasks []plan.Task
	for _, l := range gone {
		tasks = append(tasks, plan.Task{ID: base + len(tasks), Ref: l.ref, Attrs: value.Attrs{}})
	}
	for _, it := range ordered(items) {
		tasks = append(tasks, it.task(base+len(tasks)))
		u.items[tasks[len(tasks)-1].ID] = it
		for _, ref := range it.causes {
			u.open[ref]++
		}
	}
	u.edges(tasks)
	tasks = append(tasks, pending(base+len(tasks), tasks)...)
	if len(tasks) == 0 {
		return nil
	}
	if err := s.follow(r, tasks); err != nil {
		return err
	}
	r.undo, r.env.Content, r.env.Texts = u, r.keptContent, r.keptTexts
	for _, t := range tasks {
		for _, v := range t.Attrs {
			r.hide(v)
		}
		if t.Content != nil {
			r.env.Held[t.Content.SHA256] = true
		}
	}
	return s.streaming(func() error {
		var results []plan.Result
		for i, l := range gone {
			results = append(results, r.failed(tasks[i], l.why))
		}
		if err := r.end(results); err != nil {
			return err
		}
		r.from += len(gone)
		return r.run(ctx)
	})
}

// gather puts the lines that are kept of a run together by thing, in the order in which
// they were first changed. Tasks that changed something of which nothing is kept are lost.
func gather(moved []ledger.Moved, changed []value.Ref) (items []*item, gone []lost) {
	by := map[string]*item{}
	reported := map[value.Ref]bool{}
	for line, m := range moved {
		reported[m.Task] = true
		if m.Why != "" {
			gone = append(gone, notBack(m.Task, m.Why))
		}
		for _, s := range m.Before {
			it := by[slot(s.Ref)]
			if it == nil {
				it = &item{before: s, line: line}
				by[slot(s.Ref)] = it
				items = append(items, it)
			}
			it.left = false
			if !slices.Contains(it.causes, m.Task) {
				it.causes = append(it.causes, m.Task)
			}
			it.before.Veiled = it.before.Veiled || s.Veiled
			for _, o := range m.Triggers {
				if o.Action != plan.Follow && !slices.Contains(it.addPending, o) {
					it.addPending = append(it.addPending, o)
				}
			}
		}
		for _, s := range m.After {
			if it := by[slot(s.Ref)]; it != nil {
				it.after, it.left = s, true
			}
		}
	}
	for _, ref := range changed {
		if !reported[ref] {
			gone = append(gone, lost{ref,
				problem.Errorf("the state before that run was not kept, or is no longer kept").
					Remedy("restore it by hand; [undo] in jadekettle.toml sets how long states are kept")})
		}
	}
	for _, it := range items { // of which only the rights were changed, and only these are looked at
		if b, a := it.before.As, it.after.As; b != nil && a != nil && b.Content == nil {
			rights := *a
			rights.Content = nil
			it.after.As = &rights
		}
	}
	items = slices.DeleteFunc(items, func(it *item) bool {
		if it.before.Why != "" {
			gone = append(gone, notBack(it.before.Ref, it.before.Why))
		}
		return it.before.Why != "" || it.left && samePrior(it.before, it.after)
	})
	return items, gone
}

// slot is what two readings of one thing have in common: its path, or that a host has one
// of its kind alone.
func slot(ref value.Ref) string {
	if atPath(ref) {
		return "path " + ref.Name
	}
	if k, ok := kinds.Find(ref.Kind); ok && k.Schema().Single {
		return ref.Kind
	}
	return ref.String()
}

// ordered gives things in the order in which they are put back: that of the last change
// comes first, and of one change what is taken away, the inner before the outer, before what
// is made again. Services that ran are started again last of all.
func ordered(items []*item) []*item {
	out := slices.Clone(items)
	place := map[*item]int{}
	for i, it := range out {
		place[it] = i
		if it.before.Absent {
			place[it] = -i - 1
		}
	}
	starts := func(it *item) int {
		if it.before.Ref.Kind == "service" && it.before.As != nil && it.before.As.Attrs.Bool("running") {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(out, func(a, b *item) int {
		if d := starts(a) - starts(b); d != 0 {
			return d
		}
		if d := b.line - a.line; d != 0 {
			return d
		}
		return place[a] - place[b]
	})
	return out
}

// edges has what is taken away wait for what needed it, and what is made again for what it
// needs: a group stays while a user of it does.
func (u *undoing) edges(tasks []plan.Task) {
	by := map[value.Ref]int{}
	folders := map[string][]value.Ref{}
	for i, t := range tasks {
		by[t.Ref] = i
		folders[path.Dir(kinds.FileOf(t.Ref))] = append(folders[path.Dir(kinds.FileOf(t.Ref))], t.Ref)
	}
	declared := func(ref value.Ref) bool { _, ok := by[ref]; return ok }
	in := func(folder string) []value.Ref { return folders[folder] }
	for i, t := range tasks {
		it := u.items[t.ID]
		k, ok := kinds.Find(t.Ref.Kind)
		if it == nil || !ok || k.Schema().Needs == nil {
			continue
		}
		attrs := t.Attrs
		if t.Absent {
			attrs = it.after.Task(0).Attrs
		}
		for _, ref := range k.Schema().Needs(schema.Needer{Ref: t.Ref, Attrs: attrs, Declared: declared, In: in}) {
			j, ok := by[ref]
			switch {
			case !ok || tasks[j].Absent != t.Absent:
			case t.Absent && j > i:
				tasks[j].Needs = append(tasks[j].Needs, t.ID)
			case !t.Absent && j < i:
				tasks[i].Needs = append(tasks[i].Needs, tasks[j].ID)
			}
		}
	}
}

// task declares a thing as it was.
func (it *item) task(id int) plan.Task {
	s := it.before
	if s.Absent && atPath(s.Ref) { // nothing was there, so what is there now says what has to go
		switch cause := it.causes[0]; {
		case it.left:
			s.Ref = it.after.Ref
		case atPath(cause):
			s.Ref.Kind = cause.Kind
		}
	}
	if s.As != nil && s.As.Content != nil && it.after.Veiled {
		s.Veiled = true
	}
	t := s.Task(id)
	t.Triggers = it.addPending
	return t
}

// pending gives a task for each service for which something is pending and is not put back itself, so
// that it is paid.
func pending(from int, tasks []plan.Task) []plan.Task {
	var out []plan.Task
	for _, t := range tasks {
		for _, o := range t.Triggers {
			is := func(have plan.Task) bool { return have.Ref == o.Service }
			if slices.ContainsFunc(tasks, is) || slices.ContainsFunc(out, is) {
				continue
			}
			out = append(out, plan.Task{ID: from + len(out), Ref: o.Service, Attrs: value.Attrs{"optional": true}})
		}
	}
	return out
}

// done notes that a thing is as it was. Once all is that a task had changed, the ledger
// has of it what it had before.
func (u *undoing) done(store *ledger.Store, id int) {
	it := u.items[id]
	if it == nil {
		return
	}
	for _, ref := range it.causes {
		if u.open[ref]--; u.open[ref] == 0 {
			store.Reinstate(ref, u.entry[ref])
		}
	}
}

// moved says why a thing is not put back: it is not as that run left it.
func (u *undoing) moved(ctx context.Context, r *runner, k kind.Kind, t plan.Task) error {
	it := u.items[t.ID]
	if it == nil || !it.left {
		return nil
	}
	after := it.after
	after.Veiled = after.Veiled || it.before.Veiled
	if after.Absent {
		after.Ref = t.Ref
	}
	if after.Ref.Kind != t.Ref.Kind {
		return problem.Errorf("that run left a %s there, which must be restored by hand", after.Ref.Kind)
	}
	left := after.Task(t.ID)
	reading := k.Read(ctx, r.env, []plan.Task{left})[0]
	if reading.Err != nil && !errors.Is(reading.Err, kind.ErrNotYet) {
		return reading.Err
	}
	var changes []plan.Change
	if reading.State != nil {
		changes = slices.DeleteFunc(k.Compare(left, reading.State), due)
	}
	if len(changes) > 0 { // what is as it was before is put back already, by an undo that was cut off
		if now := k.Read(ctx, r.env, []plan.Task{t})[0]; now.State != nil {
			still := map[string]bool{}
			for _, c := range k.Compare(t, now.State) {
				still[c.What] = true
			}
			changes = slices.DeleteFunc(changes, func(c plan.Change) bool {
				return !still[c.What] && !still["existence"]
			})
		}
	}
	if len(changes) > 0 {
		return problem.Errorf("it was modified since that run: %s%s", otherwise(changes), u.who(r, k, it)).
			Remedy("undo the later change first, or restore it by hand")
	}
	if t.Absent && t.Ref.Kind == "dir" {
		return u.occupied(r, t.Ref.Name)
	}
	return nil
}

// relabelChanges says of texts that they become what they were, where that is what is done, and what cannot be as
// it was.
func (u *undoing) relabelChanges(t plan.Task, changes []plan.Change) []plan.Change {
	if u == nil {
		return changes
	}
	relabel(changes, "(before)")
	made := slices.ContainsFunc(changes, func(c plan.Change) bool {
		return c.What == "existence" || c.Was == notYet
	})
	if it := u.items[t.ID]; it != nil && it.before.Names > 1 && !t.Absent && made {
		changes = append(changes, plan.Change{What: "names",
			Was:     fmt.Sprintf("one of %d names of a file", it.before.Names),
			Becomes: "a separate file"})
	}
	return changes
}

// otherwise says in a few words how a thing differs from how a run left it.
func otherwise(changes []plan.Change) string {
	var out []string
	for i, c := range changes {
		if i == 3 {
			out = append(out, fmt.Sprintf("and %d more", len(changes)-i))
			break
		}
		switch {
		case c.What == "existence" && c.Becomes == "absent":
			out = append(out, "it did not exist then")
		case c.What == "existence":
			out = append(out, "it no longer exists")
		case c.What == "content":
			out = append(out, "its content")
		default:
			out = append(out, fmt.Sprintf("%s is %s, but was %s then", c.What, orNothing(c.Was), orNothing(c.Becomes)))
		}
	}
	return strings.Join(out, ", ")
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// occupied says that something is in a folder that was made, which nobody is about to
// take away.
func (u *undoing) occupied(r *runner, at string) error {
	names, err := r.s.m.ReadDir(at)
	if err != nil {
		return nil // the removal says it
	}
	names = slices.DeleteFunc(names, func(name string) bool {
		for _, it := range u.items {
			if it.before.Absent && atPath(it.before.Ref) && it.before.Ref.Name == path.Join(at, name) {
				return true
			}
		}
		return false
	})
	if len(names) == 0 {
		return nil
	}
	return problem.Errorf("it contains something that the run did not create: %s", kind.Some(names)).
		Remedy("move it away, and undo the run again")
}

// when is how a moment is written.
const when = "2006-01-02 15:04 MST"

// who says who changed a thing since, as far as that is known.
func (u *undoing) who(r *runner, k kind.Kind, it *item) string {
	for _, ref := range append([]value.Ref{it.before.Ref}, it.causes...) {
		e, ok := r.store.Entries[ref] // whose time is in whole seconds
		if ok && e.Run != u.run && !e.Since.Before(u.until.Truncate(time.Second)) {
			return fmt.Sprintf(", by the run of %s at %s", e.Who, e.Since.Local().Format(when))
		}
	}
	if by, ok := k.(kind.Author); ok {
		if who, at := by.Who(r.env, it.before.Ref.Name); who != "" && at.After(u.until) {
			return fmt.Sprintf(", %s at %s", who, at.Format(when))
		}
	}
	if !atPath(it.before.Ref) {
		return ""
	}
	d, name, err := r.env.Split(it.before.Ref.Name)
	if err != nil {
		return ""
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if err != nil {
		return ""
	}
	return ", last modified at " + info.Time.Local().Format(when)
}

// keptContent opens a content that the host has kept.
func (r *runner) keptContent(c plan.Content) (io.ReadCloser, error) {
	f, err := r.past.Open(c)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.Errorf("its content is no longer kept").Remedy("restore it by hand")
	}
	return f, err
}

// keptTexts reads several short contents that the host has kept.
func (r *runner) keptTexts(list []plan.Content) (map[string]string, error) {
	out := make(map[string]string, len(list))
	for _, c := range list {
		f, err := r.keptContent(c)
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(f)
		f.Close()
		if err != nil {
			return nil, err
		}
		out[c.SHA256] = string(data)
	}
	return out, nil
}
