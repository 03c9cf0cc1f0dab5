package text

import (
	"fmt"
	"io"

	"jadekettle/internal/app/compare"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

// Difference shows how a task differs, with all hosts on which it does so alike.
func (v *Run) Difference(names []string, ref value.Ref, how, place string, changes []plan.Change) {
	v.printf(Loud, "%s  %s  %s", hosts(names), Line(ref.String()), how)
	v.changes(changes)
	v.printf(Quiet, "    %s", Line(place))
}

// Moved shows the same of several hosts in one line; nothing where there are none.
func (v *Run) Moved(what string, names []string) {
	if len(names) > 0 {
		v.printf(Plain, "%s", fmt.Sprintf("%s  %s", hosts(names), what))
	}
}

// Compared shows a comparison: with whole every difference and every line of it.
func Compared(w io.Writer, src *Sources, width int, c *compare.Comparison, whole bool) {
	v := &Run{W: w, Preview: true, Width: width, Sources: src}
	groups := c.Folded
	if whole {
		v.Detail, groups = Whole, c.Groups
	}
	for _, g := range groups() {
		at := g.Task().Places[0].String()
		if g.Becomes == nil { // it is only there
			at += " in " + c.From()
		}
		v.Difference(c.Names(g), g.Ref, string(g.How), at, g.Changes)
		v.Moved("  and in the same way, with other values", c.More(g))
	}
	v.Moved("new host", c.Come)
	v.Moved("removed host", c.Gone)
	if len(groups())+len(c.Come)+len(c.Gone) > 0 {
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w, Paint(Loud, fmt.Sprintf("from %s to %s: %s, %d differ, %d do not", Line(c.From()),
		Line(c.To()), Count(len(c.Hosts), "host"), len(c.Hosts)-c.Alike(), c.Alike())))
	if len(c.Unread) > 0 {
		v.Moved("its facts were never collected, so anything that depends on them is not compared", c.Unread)
	}
	v.Moved("a fact that its plan needs was never collected, so anything that depends on it is not compared", c.Partly)
}
