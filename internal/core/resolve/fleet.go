package resolve

import (
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
)

// Snapshot gathers what is known of all hosts for fleet.hosts and fleet.members.
// last gives the facts of a host as they were last read, and their age in
// seconds; nil when no facts are kept.
func Snapshot(p *compile.Project, last func(host string) (f *facts.Facts, age int64, ok bool)) *expr.Fleet {
	out := &expr.Fleet{Groups: map[string][]any{}, Known: last != nil}
	out.Sure = true
	for _, g := range p.Inventory.Groups {
		out.Groups[g.Name] = []any{}
		out.Sure = out.Sure && !g.ByFacts
	}
	for _, h := range p.Inventory.Hosts {
		var tree map[string]any
		entry := make(map[string]any, len(h.Vars)+2)
		for k, v := range h.Vars {
			entry[k] = v
		}
		if last != nil {
			if f, age, ok := last(h.Name); ok {
				tree = f.Tree()
				entry["facts"], entry["facts_age"] = tree, age
			}
		}
		groups, err := p.Inventory.GroupsOf(h, tree)
		if err != nil {
			groups = h.Groups // said where the host itself is resolved
		}
		entry["groups"] = h.WithGroups(groups)["groups"]
		out.Hosts = append(out.Hosts, entry)
		for _, g := range groups {
			out.Groups[g.Name] = append(out.Groups[g.Name], entry)
		}
	}
	return out
}
