package screen

import (
	"fmt"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

// Difference tells how a task differs, with all hosts on which it does so alike.
func (v *Run) Difference(names []string, ref value.Ref, how, place string, changes []plan.Change) {
	v.printf(Loud, "%s  %s  %s", hosts(names), Line(ref.String()), how)
	v.changes(changes)
	v.printf(Quiet, "    %s", Line(place))
}

// Moved tells the same of several hosts in one line; nothing where there are none.
func (v *Run) Moved(what string, names []string) {
	if len(names) > 0 {
		v.printf(Plain, "%s", fmt.Sprintf("%s  %s", hosts(names), what))
	}
}
