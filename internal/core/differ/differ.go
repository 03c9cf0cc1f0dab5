// Package differ reports how two plans of one host differ: what a change of a project will
// do, before anything is contacted.
package differ

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// How is the way in which a task differs.
type How string

// The ways.
const (
	New     How = "new"     // only the later plan has it
	Gone    How = "gone"    // only the earlier plan has it
	Differs How = "differs" // both have it, and not alike
)

// Difference is one task that differs between two plans.
type Difference struct {
	Ref     value.Ref
	How     How
	Was     *plan.Task // in the earlier plan; nil when it is new
	Becomes *plan.Task // in the later plan; nil when it is gone
	Changes []plan.Change
}

// Task is the later task, or the earlier one where there is no later.
func (d *Difference) Task() *plan.Task { return cmp.Or(d.Becomes, d.Was) }

// Key is the same for differences that are alike, on whichever hosts. Of a text that
// changes by a Diff, the lines count that come and go, and not those around them, which
// may be about the host.
func (d *Difference) Key() string {
	var b strings.Builder
	b.WriteString(string(d.How) + "\x00" + d.Ref.String())
	unseen := false // a content changes that is shown by its size alone
	for _, c := range d.Changes {
		b.WriteString("\x00" + c.What + "\x00")
		if c.Diff == "" {
			b.WriteString(c.Was + "\x00" + c.Becomes)
			unseen = unseen || c.What == "content"
			continue
		}
		for line := range strings.Lines(c.Diff) {
			if line[0] == '+' || line[0] == '-' {
				b.WriteString(line)
			}
		}
	}
	for _, t := range []*plan.Task{d.Was, d.Becomes} {
		if t != nil && t.Content != nil && !t.Content.Secret && unseen {
			b.WriteString("\x00" + t.Content.SHA256)
		}
	}
	return b.String()
}

// Plans lists what differs, in the order of the later plan, what is gone last.
func Plans(earlier, later *plan.Plan) []*Difference {
	had := make(map[value.Ref]*plan.Task, len(earlier.Tasks))
	for i := range earlier.Tasks {
		had[earlier.Tasks[i].Ref] = &earlier.Tasks[i]
	}
	var out []*Difference
	for i := range later.Tasks {
		t := &later.Tasks[i]
		old := had[t.Ref]
		delete(had, t.Ref)
		if old == nil {
			out = append(out, &Difference{Ref: t.Ref, How: New, Becomes: t})
			continue
		}
		if changes := changes(earlier, later, old, t); len(changes) > 0 {
			out = append(out, &Difference{t.Ref, Differs, old, t, changes})
		}
	}
	for i := range earlier.Tasks {
		if t := &earlier.Tasks[i]; had[t.Ref] != nil {
			out = append(out, &Difference{Ref: t.Ref, How: Gone, Was: t})
		}
	}
	return out
}

// changes says what differs of one task.
func changes(earlier, later *plan.Plan, a, b *plan.Task) []plan.Change {
	var out []plan.Change
	change := func(what, was, becomes string) {
		out = append(out, plan.Change{What: what, Was: cmp.Or(was, "none"), Becomes: cmp.Or(becomes, "none")})
	}
	if a.Absent != b.Absent {
		change("absent", yes(a.Absent), yes(b.Absent))
	}
	if !value.Equal(map[string]any(a.Attrs), map[string]any(b.Attrs)) {
		for _, name := range value.Keys(union(a.Attrs, b.Attrs)) {
			if !value.Equal(a.Attrs[name], b.Attrs[name]) {
				was, becomes := said(a.Attrs, name), said(b.Attrs, name)
				if was == becomes { // two secrets, or what holds them
					becomes = "another one"
				}
				change(name, was, becomes)
			}
		}
	}
	if x, y := content(a.Content), content(b.Content); x != y {
		out = append(out, contentChange(a.Content, b.Content))
	}
	if !slices.Equal(a.Tree, b.Tree) {
		out = append(out, trees(a.Tree, b.Tree)...)
	}
	if x, y := content(a.Program), content(b.Program); x != y {
		change("program", "another one", "that of kinds/"+b.Ref.Kind)
	}
	if a.OnRemoval != b.OnRemoval {
		change(schema.OnRemoval, cmp.Or(a.OnRemoval, schema.Keep), cmp.Or(b.OnRemoval, schema.Keep))
	}
	if a.Tries != b.Tries {
		change("tries", tries(a.Tries), tries(b.Tries))
	}
	if !slices.Equal(a.Triggers, b.Triggers) {
		change("triggers", pending(a.Triggers), pending(b.Triggers))
	}
	for _, list := range []struct {
		what string
		a, b []int
	}{{"needs", a.Needs, b.Needs}, {"only if changed", a.Only, b.Only}} {
		if was, becomes := refs(earlier, list.a), refs(later, list.b); was != becomes {
			change(list.what, was, becomes)
		}
	}
	return out
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func union(a, b value.Attrs) map[string]bool {
	out := make(map[string]bool, len(a)+len(b))
	for name := range a {
		out[name] = true
	}
	for name := range b {
		out[name] = true
	}
	return out
}

func said(a value.Attrs, name string) string {
	v, ok := a[name]
	if !ok {
		return "not declared"
	}
	if text, ok := v.(string); ok {
		return text
	}
	return value.Shown(v)
}

func content(c *plan.Content) plan.Content {
	if c == nil {
		return plan.Content{}
	}
	return *c
}

func contentChange(a, b *plan.Content) plan.Change {
	x, y := content(a), content(b)
	if x.Secret || y.Secret {
		return plan.Change{What: "content", Was: "another one", Becomes: value.Hidden, Secret: true}
	}
	size := func(c *plan.Content) string {
		if c == nil {
			return "not declared"
		}
		return fmt.Sprintf("%d bytes", c.Size)
	}
	return plan.Change{What: "content", Was: size(a), Becomes: size(b)}
}

func trees(a, b []plan.Leaf) []plan.Change {
	had := make(map[string]plan.Leaf, len(a))
	for _, l := range a {
		had[l.Path] = l
	}
	var out []plan.Change
	for _, l := range b {
		old, there := had[l.Path]
		delete(had, l.Path)
		switch {
		case !there:
			out = append(out, plan.Change{What: l.Path, Was: "not declared", Becomes: fmt.Sprintf("%d bytes", l.Size)})
		case old != l:
			out = append(out, plan.Change{What: l.Path, Was: fmt.Sprintf("%d bytes", old.Size),
				Becomes: fmt.Sprintf("%d other bytes", l.Size)})
		}
	}
	for _, p := range value.Keys(had) {
		out = append(out, plan.Change{What: p, Was: fmt.Sprintf("%d bytes", had[p].Size), Becomes: "not declared"})
	}
	return out
}

func tries(t plan.Tries) string {
	text := fmt.Sprintf("%d, %v apart", 1+t.More, t.Every)
	if t.More == 0 {
		text = "1"
	}
	if t.Limit > 0 {
		text += fmt.Sprintf(", each within %v", t.Limit)
	}
	return text
}

func pending(list []plan.Pending) string {
	var out []string
	for _, o := range list {
		out = append(out, o.Action+" of "+o.Service.String())
	}
	return strings.Join(out, ", ")
}

func refs(p *plan.Plan, ids []int) string {
	var out []string
	for _, id := range ids {
		out = append(out, p.Tasks[id].Ref.String())
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}
