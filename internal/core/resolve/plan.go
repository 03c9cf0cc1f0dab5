package resolve

import (
	"fmt"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Plan resolves one host. Without facts it checks what can be checked without
// them: what depends on facts is left unevaluated. The error is a
// *problem.Problems that names the host.
func Plan(p *compile.Project, h *inventory.Host, known Known) (*plan.Plan, error) {
	r := begin(p, h, known)
	if err := r.all(); err != nil {
		r.problems.On(h.Name)
		return nil, err
	}
	r.order()
	return r.plan, nil
}

// Trace resolves one host and remembers where everything came from. What is
// wrong with the project does not stop it; the error reports it.
func Trace(p *compile.Project, h *inventory.Host, known Known) (*Traced, error) {
	r, err := trace(p, h, known)
	if r.Ordered = err == nil; r.Ordered {
		r.order()
	}
	return &r.Traced, err
}

// Check does what Trace does, without the order of tasks.
func Check(p *compile.Project, h *inventory.Host, known Known) (*Traced, error) {
	r, err := trace(p, h, known)
	return &r.Traced, err
}

func trace(p *compile.Project, h *inventory.Host, known Known) (*resolver, error) {
	r := begin(p, h, known)
	r.explain = true
	return r, r.all()
}

// all evaluates every declaration of the host and joins them.
func (r *resolver) all() error {
	if _, _, err := ElevatePassword(r.Project, r.Host); err != nil && !r.dataless {
		r.problems.AddErr(r.Host.Connect.Place, err)
	}
	r.run()
	if err := r.problems.Err(); err != nil {
		return err
	}
	if r.Vars.Facts != nil {
		r.guardSecrets()
	}
	r.implied()
	r.parts()
	r.numbers()
	r.trees()
	r.contradictions()
	r.single()
	return r.problems.Err()
}

// begin makes ready to resolve one host.
func begin(p *compile.Project, h *inventory.Host, known Known) *resolver {
	r := &resolver{
		Traced: Traced{Host: h, Project: p},
		asked:  known.Asked,
		plan:   &plan.Plan{Contents: map[string]plan.Bytes{}},
		open:   map[string]bool{},
	}
	tree := known.Facts.Tree()
	var err error
	if r.Groups, err = p.Inventory.GroupsOf(h, tree); err != nil {
		r.problems.AddErr(h.Place, err)
	}
	if known.Facts == nil {
		r.Maybe = h.Maybe
	}
	r.Vars = &expr.Vars{Host: h.WithGroups(r.Groups), Facts: tree, Env: p.Settings.Env, Fleet: known.Fleet}
	data, err := p.Data.For(r.Layers())
	if err != nil {
		r.problems.AddErr(h.Place, err)
		r.dataless = true
	}
	if data.Values == nil {
		data.Values = map[string]any{}
	}
	r.Vars.Data, r.Vars.Missing = data.Values, data.Missing
	if r.Vars.Input = p.Input(); r.Vars.Input == nil && known.Facts == nil { // a job may still be asked
		r.Vars.Missing = append(r.Vars.Missing[:len(r.Vars.Missing):len(r.Vars.Missing)], []string{"input"})
	}
	r.Vars.Secrets = append(secretsIn(p, data.Values), expr.SecretPaths("input", r.Vars.Input)...)
	r.Vars.Blind = p.Data.Blind()
	return r
}

// secretsIn lists the paths to secrets in a tree of data.
func secretsIn(p *compile.Project, tree map[string]any) [][]string {
	if !p.Data.Encrypted() {
		return nil
	}
	return expr.SecretPaths("data", tree)
}

// Layers is the host as the layers of data see it.
func (h *Traced) Layers() layers.View {
	return layers.View{Vars: h.Vars, Groups: groupNames(h.Groups), Maybe: groupNames(h.Maybe)}
}

func groupNames(groups []*inventory.Group) []string {
	var out []string
	for _, g := range groups {
		out = append(out, g.Name)
	}
	return out
}

// run evaluates every declaration of the host and joins them by what is
// written.
func (r *resolver) run() {
	if r.dataless {
		return // every value that is missing now would be reported as well
	}
	r.expect()
	taken := map[string]bool{}
	take := func(groups []*inventory.Group, maybe bool) {
		for _, g := range groups {
			for _, m := range g.Manifests {
				u := r.Project.Units[m.Manifest]
				if u == nil || taken[m.Manifest] {
					continue
				}
				taken[m.Manifest] = true
				r.instance(u, &Context{Group: g, From: m, Maybe: maybe}, nil)
			}
		}
	}
	take(r.Groups, false)
	take(r.Maybe, true)
	r.explicit()
	r.circles()
}

// expect makes room for what the manifests of the host's groups declare, as far as that shows.
func (r *resolver) expect() {
	n := 0
	for _, g := range r.Groups {
		for _, m := range g.Manifests {
			if u := r.Project.Units[m.Manifest]; u != nil {
				n += len(u.Entries)
			}
		}
	}
	r.Items = make([]*Item, 0, n)
	r.byRef, r.bySpace = make(map[value.Ref]*Item, n), make(map[value.Ref]*Item, n)
}

// instance evaluates a manifest with its params. given are those of a use.
func (r *resolver) instance(u *compile.Unit, c *Context, given []compile.Gift) {
	from := c.Vars
	c.Unit, c.Given, c.Outer = u, given, from
	if r.explain && len(given) > 0 {
		r.Used = append(r.Used, c)
	}
	c.Vars = r.Vars
	if all := r.Vars.Fleet; u.TrustFacts && all != nil && all.All != nil {
		c.Vars = r.Vars.WithFleet(all.All)
	}
	if len(u.Params) > 0 {
		values := make(map[string]any, len(u.Params))
		var missing [][]string
		good := true
		for _, d := range u.Params {
			v, err := r.param(u, d, given, from)
			switch {
			case err != nil:
				r.problems.AddErr(d.Place, err)
				good = false
			case v == expr.Unknown{}:
				missing = append(missing, []string{"param", d.Name})
			default:
				values[d.Name] = v
			}
		}
		if !good {
			return
		}
		c.Vars = c.Vars.WithParam(values, missing)
	}
	for _, e := range u.Entries {
		if e.Decl != nil {
			r.declare(c, e.Decl)
			continue
		}
		r.use(c, e.Use)
	}
}

// use evaluates the manifest that another pulls in.
func (r *resolver) use(c *Context, u *compile.Use) {
	if u.Unit == nil {
		return // reported already
	}
	maybe := c.Maybe
	// wanted asks the condition, where there is one.
	wanted := func(vars *expr.Vars) bool {
		yes, known, err := r.ask(u.Cond, vars)
		if err != nil {
			r.problems.AddErr(u.Place, err)
			return false
		}
		if known && !yes {
			r.without(u.Unit)
			r.plan.Skipped = append(r.plan.Skipped, plan.Omitted{Ref: value.Ref{Kind: "use", Name: u.Name},
				Place:  u.Place,
				Reason: "its condition is false: " + u.Cond.Text()})
			return false
		}
		maybe = maybe || !known
		return true
	}
	if u.Cond != nil && !u.Inner && !wanted(c.Vars) {
		return
	}
	each := func(vars *expr.Vars) {
		if u.Cond != nil && u.Inner && !wanted(vars) {
			return
		}
		inner := &Context{Group: c.Group, From: c.From, Uses: append(c.Uses[:len(c.Uses):len(c.Uses)], UsedAt{u, vars}),
			Maybe: maybe, Vars: vars}
		r.instance(u.Unit, inner, u.Gives)
	}
	if err := r.loop(u.Loop, "*", c.Vars, each); err != nil {
		r.problems.AddErr(u.Place, err)
	}
}

// without notes that what a manifest declares is skipped, so that a reference
// to it is not a mistake.
func (r *resolver) without(u *compile.Unit) {
	for _, e := range u.Entries {
		switch {
		case e.Use != nil && e.Use.Unit != nil:
			r.without(e.Use.Unit)
		case e.Decl != nil:
			r.leave(value.Ref{Kind: e.Decl.Kind.Name, Name: e.Decl.Name}, e.Decl.Naming == nil)
		}
	}
}

// leave notes what is skipped. Of one whose name is not evaluated only the
// kind is known.
func (r *resolver) leave(ref value.Ref, final bool) {
	if !final {
		r.open[ref.Kind] = true
		return
	}
	if r.left == nil {
		r.left = map[value.Ref]bool{}
	}
	r.left[ref] = true
}

// maxLooped bounds how often all loops of one host go round together.
const maxLooped = 200_000

// loop goes through the clauses of a for, from left to right. What cannot be
// known without facts is not gone through: what it might declare, of a kind or of
// any, is open then.
func (r *resolver) loop(clauses []compile.Clause, kind string, vars *expr.Vars, each func(*expr.Vars)) error {
	if len(clauses) == 0 {
		if r.looped++; r.looped > maxLooped {
			return problem.Errorf("the loops of this host run more than %d times", maxLooped).
				Remedy("loop over shorter lists")
		}
		each(vars)
		return nil
	}
	c := clauses[0]
	v, err := c.List.Eval(vars)
	if err != nil {
		return err
	}
	step := func(vars *expr.Vars) error { return r.loop(clauses[1:], kind, vars, each) }
	switch v := v.(type) {
	case expr.Unknown:
		r.open[kind] = true
		return nil
	case []any:
		for i, item := range v {
			if _, secret := item.(value.Secret); secret {
				return problem.Problem{Place: c.List.At(0), What: "the loop uses secrets, which would appear in names",
					Do: "loop over a list without secrets, and look the secrets up"}
			}
			inner := vars.With(c.Names[len(c.Names)-1], item)
			if len(c.Names) == 2 {
				inner = inner.With(c.Names[0], int64(i))
			}
			if err := step(inner); err != nil {
				return err
			}
		}
		return nil
	case map[string]any:
		if len(c.Names) == 1 {
			return problem.Problem{Place: c.List.At(0), What: "a loop over a table needs two variables",
				Do: fmt.Sprintf("write for = \"key, %s in ...\", or loop over keys(...) or values(...)", c.Names[0])}
		}
		for _, k := range value.Keys(v) {
			if err := step(vars.With(c.Names[0], k).With(c.Names[1], v[k])); err != nil {
				return err
			}
		}
		return nil
	}
	return problem.Problem{Place: c.List.At(0), What: fmt.Sprintf("cannot loop over %s; use a list or a table",
		value.TypeName(v)), Do: "for example, data.keepers"}
}
