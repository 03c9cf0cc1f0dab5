package resolve

import (
	"sync"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
)

// Plans makes the plans of a run. All hosts are checked before any is touched,
// and a plan that no fact can change is whole with that: it is kept until it is
// asked for.
type Plans struct {
	Project *compile.Project
	Fleet   *expr.Fleet
	Asked   func(cond *expr.Program, yes, known bool) // as in Known

	mu   sync.Mutex
	kept map[*inventory.Host]*plan.Plan
	held int // bytes, about
}

// maxKept bounds the plans that are kept, in bytes. A host more is resolved
// twice.
const maxKept = 64 << 20

// Check resolves hosts as far as that goes without facts, and gives every
// problem that this shows.
func (p *Plans) Check(hosts []*inventory.Host) error {
	var ps problem.Problems
	Each(hosts, func(h *inventory.Host) error {
		r := begin(p.Project, h, Known{Fleet: p.Fleet, Asked: p.Asked})
		if r.all() != nil {
			r.problems.On(h.Name)
			return r.problems.Err()
		}
		if h.Disabled == "" && r.factless() {
			p.keep(h, r)
		}
		return nil
	}, func(h *inventory.Host, err error) { ps.AddErr(h.Place, err) })
	return ps.Err()
}

func (p *Plans) keep(h *inventory.Host, r *resolver) {
	p.mu.Lock()
	full := p.held >= maxKept
	p.mu.Unlock()
	if full {
		return
	}
	r.order()
	made := r.plan
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil {
		p.kept = map[*inventory.Host]*plan.Plan{}
	}
	p.kept[h] = made
	p.held += weight(made)
}

// weight is about what a plan takes in memory, in bytes.
func weight(p *plan.Plan) int {
	n := 1 << 10
	for _, t := range p.Tasks {
		n += 512 + 64*len(t.Attrs)
	}
	for _, b := range p.Contents {
		n += 128 + len(b.Text)
	}
	return n
}

// Early gives the plan of a host that needs none of its facts for it, once;
// false when there is none.
func (p *Plans) Early(h *inventory.Host) (*plan.Plan, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	made, ok := p.kept[h]
	if ok {
		delete(p.kept, h)
		p.held -= weight(made)
	}
	return made, ok
}

// Of gives the plan of a host for its facts.
func (p *Plans) Of(h *inventory.Host, f *facts.Facts) (*plan.Plan, error) {
	return Plan(p.Project, h, Known{Facts: f, Fleet: p.Fleet, Asked: p.Asked})
}

// factless says whether the host's facts can change nothing in its plan: it is
// in no group by its facts, and nothing that it is given looks at facts or at
// data that facts choose.
func (r *resolver) factless() bool {
	if len(r.Host.Maybe) > 0 || r.Vars.Blind {
		return false
	}
	reads := func(all compile.Reads) bool { return all.At("facts") || all.AtAny(r.Vars.Missing) }
	for _, g := range r.Groups {
		for _, m := range g.Manifests {
			if u := r.Project.Units[m.Manifest]; u != nil && reads(u.ReadsThrough()) {
				return false
			}
		}
		if r.given(g.Params, reads) {
			return false
		}
	}
	return !r.given(r.Host.Params, reads)
}

// given says whether a value given to a param reads something.
func (r *resolver) given(list []inventory.Given, reads func(compile.Reads) bool) bool {
	for _, g := range list {
		if reads(compile.Reads{Paths: compile.ReadsOf(r.Project.Given[g.Node].Texts)}) {
			return true
		}
	}
	return false
}
