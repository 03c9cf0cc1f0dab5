// Package explain answers "why?": how a declaration came to a host, what its
// conditions saw, where its values come from, what it waits for, and why what is
// not there is not.
package explain

import (
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
)

// Explanation is a host resolved, ready to answer questions about it.
type Explanation struct {
	*resolve.Traced
	Known bool // its facts are known
}

// Of resolves one host so that questions about it can be answered. What is
// wrong with the project does not stop it; the error reports it.
func Of(p *compile.Project, h *inventory.Host, known resolve.Known) (*Explanation, error) {
	traced, err := resolve.Trace(p, h, known)
	return &Explanation{traced, known.Facts != nil}, err
}

// Way is one way by which a declaration came to a host.
type Way struct {
	Group    string      `json:"group" doc:"The group that has the manifest."`
	By       string      `json:"by" doc:"What makes the host a member; given by why."`
	Given    value.Place `json:"given" doc:"Where the group names the manifest; given by why."`
	Manifest string      `json:"manifest" doc:"The manifest that the group names."`
	Uses     []UseStep   `json:"uses" doc:"The manifests included on the way, first to last."`
	Place    value.Place `json:"place" doc:"Where the declaration is written."`
}

// UseStep is one [use.NAME] on a way.
type UseStep struct {
	Name  string
	Place value.Place
}

// MarshalText gives the name alone, which is what documents list.
func (u UseStep) MarshalText() ([]byte, error) { return []byte(u.Name), nil }

// Seen is a value that something looked at, and where that comes from.
type Seen struct {
	Name  string      `json:"name" doc:"Its name in the expression."`
	There bool        `json:"exists" doc:"Whether the value exists."`
	Value string      `json:"value" doc:"The value, in words; secrets are hidden."`
	Place value.Place `json:"place" doc:"Where it is written."`
}

// Condition is one condition with what it saw.
type Condition struct {
	Text  string      `json:"text" doc:"The expression."`
	Place value.Place `json:"place" doc:"Where it is written."`
	Gives string      `json:"gives" doc:"Its result on this host."` // true, false, or why that is not known
	Saw   []Seen      `json:"saw" doc:"The values that it read."`
}

// Attribute is one attribute with where its value comes from.
type Attribute struct {
	Name    string      `json:"name" doc:"The attribute."`
	Value   string      `json:"value" doc:"Its value, in words; secrets are hidden."`
	Written string      `json:"written" doc:"The expression or template that produced it, if any."`
	Place   value.Place `json:"place" doc:"Where it is written."`
	Saw     []Seen      `json:"saw" doc:"The values that it read."`
}

// Edge is what a task waits for, or what waits for it.
type Edge struct {
	record.Ref
	Why string `json:"why" doc:"The reason for the order."` // the attribute that says so, or "implied"
}

// Declared is one declaration for a host.
type Declared struct {
	record.Ref
	State  string `json:"state" doc:"declared, not declared, may apply (depends on facts), or skipped."`
	Reason string `json:"reason" doc:"Why it is not declared, or only may apply."`
	Ways   []Way  `json:"ways" doc:"How it reaches the host."`
}

// Why is all that is known of one declaration on a host.
type Why struct {
	Declared
	Order      int         `json:"-"` // counted from 1, of how many
	Of         int         `json:"-"`
	Unknown    bool        `json:"-"` // no manifest of the project declares anything of this name
	Loop       []Seen      `json:"loop" doc:"The loop item it was created for."`
	Conditions []Condition `json:"conditions" doc:"The conditions that apply to it."`
	Attributes []Attribute `json:"attributes" doc:"Its attributes."`
	Waits      []Edge      `json:"depends_on" doc:"What is done before it."`
	Awaited    []Edge      `json:"required_by" doc:"What is done after it."`
	Dropped    []Edge      `json:"dropped" doc:"Automatic orderings that were dropped to avoid a cycle."`
}

// Declared lists everything the host is given, in the order of its run, and
// then what conditions skipped.
func (e *Explanation) Declared() []Declared {
	var out []Declared
	items := slices.Clone(e.Items)
	slices.SortStableFunc(items, func(a, b *resolve.Item) int { return a.Task.ID - b.Task.ID })
	for _, it := range items {
		out = append(out, Declared{Ref: record.Ref(it.Task.Ref), State: state(it), Ways: e.ways(it)})
	}
	for _, it := range e.Omitted {
		out = append(out, Declared{Ref: record.Ref(it.Task.Ref), State: string(plan.Skipped), Ways: e.ways(it),
			Reason: "its condition is false: " + it.Decl.Cond.Text()})
	}
	return out
}

// Perhaps is the state of what facts decide that are not known.
const Perhaps = "may apply"

func state(it *resolve.Item) string {
	if it.Maybe {
		return Perhaps
	}
	return "declared"
}

func (e *Explanation) ways(it *resolve.Item) []Way {
	var out []Way
	for _, c := range it.Contexts {
		w := Way{Group: c.Group.Name, Given: c.From.Place, Manifest: c.From.Manifest, Place: it.Decl.Place}
		w.By = e.Project.Inventory.Why(e.Host, c.Group, e.Vars.Facts)
		for _, u := range c.Uses {
			w.Uses = append(w.Uses, UseStep{u.Name, u.Place})
		}
		if len(out) < len(it.Task.Places) {
			w.Place = it.Task.Places[len(out)]
		}
		out = append(out, w)
	}
	return out
}

// Why answers for one declaration.
func (e *Explanation) Why(ref value.Ref) Why {
	for _, it := range e.Items {
		if it.Task.Ref == ref {
			return e.of(it)
		}
	}
	for _, it := range e.Omitted {
		if it.Task.Ref == ref {
			w := e.of(it)
			w.State, w.Attributes = string(plan.Skipped), nil
			return w
		}
	}
	reason, known := e.nowhere(ref)
	return Why{Declared: Declared{Ref: record.Ref(ref), State: "not declared", Reason: reason}, Unknown: !known}
}

func (e *Explanation) of(it *resolve.Item) Why {
	w := Why{Declared: Declared{Ref: record.Ref(it.Task.Ref), State: state(it), Ways: e.ways(it)}}
	if e.Ordered {
		w.Order, w.Of = it.Task.ID+1, len(e.Items)
	}
	for _, name := range it.Decl.Scope.Locals {
		v, there := it.Vars.Lookup([]string{name})
		w.Loop = append(w.Loop, Seen{Name: name, Value: value.Shown(v), There: there})
	}
	for _, c := range it.Contexts {
		for _, u := range c.Uses {
			if u.Cond != nil {
				w.Conditions = append(w.Conditions, e.condition(u.Cond, u.Vars, nil))
			}
			for _, cl := range u.Loop {
				for _, name := range cl.Names {
					v, there := u.Vars.Lookup([]string{name})
					w.Loop = append(w.Loop, Seen{Name: name, Value: value.Shown(v), There: there})
				}
			}
		}
	}
	if it.Decl.Cond != nil {
		w.Conditions = append(w.Conditions, e.condition(it.Decl.Cond, it.Vars, it.Contexts[0]))
	}
	for i := range it.Decl.Values {
		w.Attributes = append(w.Attributes, e.attribute(it, &it.Decl.Values[i]))
	}
	for i, n := range it.Needs {
		w.Waits = append(w.Waits, Edge{record.Ref(n.Task.Ref), it.Whys[i]})
	}
	for _, other := range e.Items {
		for i, n := range other.Needs {
			if n == it {
				w.Awaited = append(w.Awaited, Edge{record.Ref(other.Task.Ref), other.Whys[i]})
			}
		}
	}
	for _, d := range e.Dropped {
		if d[0] == it {
			w.Dropped = append(w.Dropped, Edge{record.Ref(d[1].Task.Ref), "implied"})
		}
	}
	return w
}

func (e *Explanation) condition(p *expr.Program, vars *expr.Vars, c0 *resolve.Context) Condition {
	c := Condition{Text: p.Text(), Place: p.At(0), Saw: e.seen(p.Saw(vars), vars, c0)}
	yes, known, err := p.Bool(vars)
	switch {
	case err != nil:
		c.Gives = "an error"
	case !known:
		c.Gives = "not known without facts"
	case yes:
		c.Gives = "true"
	default:
		c.Gives = "false"
	}
	return c
}

// seen adds where data and params come from.
func (e *Explanation) seen(list []expr.Seen, vars *expr.Vars, c *resolve.Context) []Seen {
	var out []Seen
	for _, s := range list {
		path := strings.Split(s.Name, ".")
		seen := Seen{Name: s.Name, Value: value.Shown(s.Value), There: s.There}
		if slices.ContainsFunc(vars.Missing, func(m []string) bool {
			return slices.Equal(m,
				path[:min(len(m), len(path))])
		}) {
			seen.Value = value.Shown(expr.Unknown{})
		}
		if path[0] == "data" && len(path) > 1 {
			seen.Place = e.PlaceOfData(path[1:])
		}
		if path[0] == "param" && len(path) > 1 && c != nil {
			seen.Place = e.placeOfParam(c, path[1])
		}
		out = append(out, seen)
	}
	return out
}

// placeOfParam finds who gave the value of a param to a manifest.
func (e *Explanation) placeOfParam(c *resolve.Context, name string) value.Place {
	d := c.Unit.Param(name)
	if d == nil {
		return value.Place{}
	}
	list, err := e.ParamSources(c.Unit, d, c.Given, c.Outer, true)
	if err != nil {
		return value.Place{}
	}
	for _, s := range list {
		if s.Used {
			return s.Place
		}
	}
	return value.Place{}
}

func (e *Explanation) attribute(it *resolve.Item, a *compile.Attr) Attribute {
	out := Attribute{Name: a.Schema.Name, Place: a.Node.Place}
	v, there := it.Task.Attrs[a.Schema.Name]
	switch {
	case there:
	case a.Fixed != nil:
		v = a.Fixed // an edge or the like, which the plan says elsewhere
	case a.Dynamic != nil:
		var err error
		if v, err = a.Dynamic(it.Vars); err != nil {
			v = expr.Unknown{}
		}
	}
	out.Value = value.Shown(v)
	if text, ok := a.Node.Value.(string); ok && a.Dynamic != nil && text != v {
		out.Written = text
	}
	var saw []expr.Seen
	for _, t := range a.Texts {
		for _, p := range t.Programs() {
			saw = append(saw, p.Saw(it.Vars)...)
		}
	}
	out.Saw = e.seen(saw, it.Vars, it.Contexts[0])
	if a.Template != nil {
		for _, path := range a.Template.Reads() {
			name := strings.Join(path, ".")
			if slices.ContainsFunc(out.Saw, func(s Seen) bool { return s.Name == name }) || path[0] == "fleet" {
				continue
			}
			v, there := it.Vars.Lookup(path)
			if path[0] == "facts" && !e.Known {
				v, there = expr.Unknown{}, true
			}
			out.Saw = append(out.Saw, e.seen([]expr.Seen{{Name: name, Value: v, There: there}}, it.Vars,
				it.Contexts[0])...)
		}
	}
	return out
}

// nowhere says why a declaration is not on the host at all.
func (e *Explanation) nowhere(ref value.Ref) (reason string, known bool) {
	p := e.Project
	for _, name := range value.Keys(p.Units) {
		for _, en := range p.Units[name].Entries {
			if en.Decl == nil || en.Decl.Kind.Name != ref.Kind {
				continue
			}
			if en.Decl.Name == ref.Name || en.Decl.Naming != nil {
				groups := groupsThatGive(p, name)
				if en.Decl.Name != ref.Name && slices.ContainsFunc(groups, e.in) {
					continue // its loop or name gives other things here
				}
				where := fmt.Sprintf("%s of the manifest %s", en.Decl.Place, name)
				if len(groups) == 0 {
					return "it may be declared at " + where + ", which no group assigns to any host", true
				}
				if en.Decl.Name == ref.Name || !slices.ContainsFunc(groups, e.in) {
					what := "it is declared"
					if en.Decl.Naming != nil {
						what = "it may be declared"
					}
					return fmt.Sprintf("%s at %s, which is assigned by the %s; %s is in none of these", what, where,
						oneOrMore("group", groups), e.Host.Name), true
				}
			}
		}
	}
	var names []string
	for _, it := range e.Items {
		names = append(names, it.Task.Ref.String())
	}
	return strings.TrimSuffix("no manifest of this host declares it; "+problem.Meant(ref.String(), names, ""), "; "),
		false
}

func oneOrMore(noun string, names []string) string {
	if len(names) == 1 {
		return noun + " " + names[0]
	}
	return noun + "s " + strings.Join(names, ", ")
}

func (e *Explanation) in(group string) bool {
	return slices.ContainsFunc(e.Groups, func(g *inventory.Group) bool { return g.Name == group })
}

// groupsThatGive lists the groups that give a manifest, itself or through others
// that use it.
func groupsThatGive(p *compile.Project, name string) []string {
	gives := map[string]bool{name: true}
	for again := true; again; {
		again = false
		for _, m := range value.Keys(p.Units) {
			for _, en := range p.Units[m].Entries {
				if en.Use != nil && en.Use.Unit != nil && gives[en.Use.Unit.Name] && !gives[m] {
					gives[m], again = true, true
				}
			}
		}
	}
	var out []string
	for _, g := range p.Inventory.Groups {
		if slices.ContainsFunc(g.Manifests, func(u inventory.Use) bool { return gives[u.Manifest] }) {
			out = append(out, g.Name)
		}
	}
	return out
}

// Data answers for a value of the host's data: what each layer says, and what
// comes out; there is false when nothing does.
func (e *Explanation) Data(path []string) (steps []layers.Step, v any, there bool, err error) {
	steps, err = e.Project.Data.Explain(e.Layers(), path)
	v, there = e.Vars.Lookup(append([]string{"data"}, path...))
	return steps, v, there, err
}

// DataNames lists the names at a path of the host's data, or nil.
func (e *Explanation) DataNames(path []string) []string {
	v, _ := e.Vars.Lookup(append([]string{"data"}, path...))
	m, _ := v.(map[string]any)
	return value.Keys(m)
}

// Param answers for a param of a manifest on the host.
func (e *Explanation) Param(manifest, name string) ([]resolve.ParamStep, error) {
	u := e.Project.Units[manifest]
	if u == nil {
		return nil, problem.Errorf("unknown manifest %q", manifest).Meant(manifest, value.Keys(e.Project.Units),
			"`jadekettle hosts show "+e.Host.Name+"` shows what applies to it")
	}
	d := u.Param(name)
	if d == nil {
		return nil, problem.Errorf("unknown param %[2]q in the manifest %[1]s", manifest, name).
			Meant(name, u.ParamNames(), "available: "+compile.OrNone(u.ParamNames()))
	}
	var list []resolve.ParamStep
	var err error
	for _, c := range e.Used { // what a use gives goes before the rest
		if c.Unit == u && slices.ContainsFunc(c.Given, func(g compile.Gift) bool { return g.Param == name }) {
			more, failed := e.ParamSources(u, d, c.Given, c.Outer, true)
			if err = failed; err != nil {
				return nil, err
			}
			for _, s := range more {
				if !slices.ContainsFunc(list, func(o resolve.ParamStep) bool {
					return o.From == s.From &&
						o.Place == s.Place
				}) {
					list = append(list, s)
				}
			}
		}
	}
	if len(list) == 0 {
		list, err = e.ParamSources(u, d, nil, nil, true)
	}
	for i := range list {
		if seen, err := d.Check(list[i].Value); err == nil && list[i].Says && !value.Equal(seen, list[i].Value) {
			list[i].Seen = seen
		}
	}
	return list, err
}
