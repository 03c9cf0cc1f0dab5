package schema

import (
	"slices"

	"jadekettle/internal/core/value"
)

// Tool is a program that a change of a kind runs on the host.
type Tool struct {
	When    []string // the changes that run it, by their What; none for any
	Any     []string // one of these is enough; a name, or a path
	Package string   // what brings it on Debian
	If      func(value.Attrs) bool
}

// For says whether a change of these runs the tool.
func (t *Tool) For(a value.Attrs, changes []string) bool {
	if t.If != nil && !t.If(a) {
		return false
	}
	return len(t.When) == 0 || slices.ContainsFunc(changes, func(c string) bool { return slices.Contains(t.When, c) })
}
