package resolve

import (
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/value"
)

// ReadsSecret says whether a secret goes into what a declaration says.
func (it *Item) ReadsSecret() bool {
	for _, v := range it.Task.Attrs {
		if value.HoldsSecret(v) {
			return true
		}
	}
	return len(it.Task.Masks) > 0 ||
		slices.ContainsFunc(it.Decl.Values, func(a compile.Attr) bool { return it.Vars.Touches(a.Reads()) })
}

// lured gives the groups that a host is in by nothing but facts that it reports itself, and that
// nobody says are to be trusted.
func (r *resolver) lured() []*inventory.Group {
	trusted := map[*inventory.Group]bool{}
	for _, g := range r.Groups {
		if g.ByFacts && g.TrustFacts {
			for at := g; at != nil; at, _ = r.Project.Inventory.Group(at.Inside) {
				trusted[at] = true
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(r.Groups), func(g *inventory.Group) bool {
		return slices.Contains(r.Host.Groups, g) || trusted[g]
	})
}

// guardSecrets refuses secrets that a host would come to by the facts that it reports itself: it
// may report what it likes.
func (r *resolver) guardSecrets() {
	groups := r.lured()
	if len(groups) == 0 {
		return
	}
	refuse := func(at value.Place, g *inventory.Group) {
		r.problems.At(at, "these secrets would be given to "+r.Host.Name+" because it is in the group "+g.Name+
			", whose membership is decided by facts that the host reports about itself",
			"list the group's members, or set trust_facts = true on the group that has the where condition")
	}
	for _, name := range r.Project.Data.Names() {
		i := slices.IndexFunc(groups, func(g *inventory.Group) bool { return g.Name == path.Base(name) })
		if i < 0 || !r.Project.Data.ByGroup(name) {
			continue
		}
		for _, f := range r.Project.Data.Files(name) {
			if strings.HasSuffix(f, layers.Encrypted) {
				refuse(value.Place{File: f, Line: 1, Col: 1}, groups[i])
			}
		}
	}
	for _, g := range groups {
		for _, given := range g.Params {
			if r.Vars.Touches(compile.ReadsOf(r.Project.Given[given.Node].Texts)) {
				refuse(given.Node.Place, g)
			}
		}
	}
	for _, it := range r.Items {
		at := slices.IndexFunc(it.Contexts, func(c *Context) bool { return !slices.Contains(groups, c.Group) })
		if at < 0 && it.ReadsSecret() {
			refuse(it.Decl.Place, it.Contexts[0].Group)
		}
	}
}
