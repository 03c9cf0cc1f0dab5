package worker

import (
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// lacks says which program a host lacks that a change would run. In a preview one may come with
// what this run would install before.
func (r *runner) lacks(k kind.Kind, t plan.Task, changes []plan.Change) error {
	if p, ok := r.s.m.(machine.Pretender); ok && p.Pretends() {
		return nil
	}
	var what []string
	for _, c := range changes {
		what = append(what, c.What)
	}
	tools := k.Schema().Tools
	if words := t.Attrs.Texts("run"); k.Schema().Name == "command" && len(words) > 0 && !t.Attrs.Has("environment") {
		tools = append(slices.Clip(tools), schema.Tool{Any: words[:1]})
	}
	for _, tool := range tools {
		if !tool.For(t.Attrs, what) || slices.ContainsFunc(tool.Any, r.s.m.Look) || r.env.Run.Preview &&
			r.mayBring(t, tool) {
			continue
		}
		err := problem.Errorf("%s is not installed on this host", strings.Join(tool.Any, ", and neither is "))
		if tool.Package == "" {
			return err.Remedy("declare what provides it")
		}
		return err.Remedy("declare [package.%s], or what provides it on this system", tool.Package)
	}
	return nil
}

// brings are the kinds that put programs on a host.
var brings = []string{"package", "command", "unpack", "checkout", "download", "file", "dir", "link"}

// mayBring says whether something that would change before a task may bring a program.
func (r *runner) mayBring(t plan.Task, tool schema.Tool) bool {
	kinds := brings
	if tool.Package != "" {
		kinds = brings[:2]
	}
	for i := range min(t.ID, len(r.ended)) {
		if r.ended[i] == plan.Changed && slices.Contains(kinds, r.tasks[i].Ref.Kind) {
			return true
		}
	}
	return false
}
