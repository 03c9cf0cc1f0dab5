package resolve

import (
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Explanation is a host resolved with a memory of where everything came from.
type Explanation struct {
	Host   *inventory.Host
	Groups []*inventory.Group
	Known  bool // its facts are known

	r       *resolver
	ordered bool // the project is right, so that tasks have their order
}

// Explain resolves one host so that questions about it can be answered. What
// is wrong with the project does not stop it; the error tells of it.
func (p *Project) Explain(h *inventory.Host, f *facts.Facts) (*Explanation, error) {
	r := p.resolver(h, f)
	r.explain = true
	r.run()
	err := r.problems.Err()
	if err == nil {
		r.implied()
		r.order()
	}
	return &Explanation{Host: h, Groups: r.groups, Known: f != nil, r: r, ordered: err == nil}, err
}

// Way is one way by which a declaration came to a host.
type Way struct {
	Group    string      // the group that gives the manifest
	By       string      // by what the host is a member of it
	Given    value.Place // where the group names the manifest
	Manifest string      // that the group names
	Uses     []UseStep   // from that manifest inwards
	Place    value.Place // of the declaration
}

// UseStep is one [use.NAME] on a way.
type UseStep struct {
	Name  string
	Place value.Place
}

// Seen is a value that something looked at, and where that comes from.
type Seen struct {
	Name  string
	Value any // expr.Unknown{} when its facts are not known
	There bool
	Place value.Place
}

// Condition is one condition with what it saw.
type Condition struct {
	Text  string
	Place value.Place
	Gives string // true, false, or why that is not known
	Saw   []Seen
}

// Attribute is one attribute with where its value comes from.
type Attribute struct {
	Name    string
	Value   any
	Written string // as it stands in the manifest, when that is not the value itself
	Place   value.Place
	Saw     []Seen
}

// Edge is what a task waits for, or what waits for it.
type Edge struct {
	Ref value.Ref
	Why string // the attribute that says so, or "implied"
}

// Why is all that is known of one declaration on a host.
type Why struct {
	Ref        value.Ref
	State      string // declared, "perhaps declared", "left out", or "not declared"
	Reason     string // for what is not declared
	Order      int    // counted from 1, of how many
	Of         int
	Ways       []Way
	Loop       []Seen
	Conditions []Condition
	Attributes []Attribute
	Waits      []Edge
	Awaited    []Edge
	Dropped    []Edge // implied edges that contradict what is written
}

// Declared lists everything the host is given, in the order of its run, and
// then what conditions left out.
func (e *Explanation) Declared() []Why {
	var out []Why
	items := slices.Clone(e.r.items)
	slices.SortStableFunc(items, func(a, b *item) int { return a.task.ID - b.task.ID })
	for _, it := range items {
		out = append(out, Why{Ref: it.task.Ref, State: it.state(), Ways: e.ways(it)})
	}
	for _, it := range e.r.omitted {
		out = append(out, Why{Ref: it.task.Ref, State: string(plan.LeftOut), Ways: e.ways(it),
			Reason: "its condition is false: " + it.decl.cond.Text()})
	}
	return out
}

// Perhaps is the state of what facts decide that are not known.
const Perhaps = "perhaps declared"

func (it *item) state() string {
	if it.maybe {
		return Perhaps
	}
	return "declared"
}

func (e *Explanation) ways(it *item) []Way {
	var out []Way
	for _, c := range it.contexts {
		w := Way{Group: c.group.Name, Given: c.from.Place, Manifest: c.from.Manifest, Place: it.decl.Place}
		w.By = e.r.project.Inventory.Why(e.Host, c.group, e.r.vars.Facts)
		for _, u := range c.uses {
			w.Uses = append(w.Uses, UseStep{u.Name, u.Place})
		}
		if len(out) < len(it.task.Places) {
			w.Place = it.task.Places[len(out)]
		}
		out = append(out, w)
	}
	return out
}

// Why answers for one declaration.
func (e *Explanation) Why(ref value.Ref) Why {
	for _, it := range e.r.items {
		if it.task.Ref == ref {
			return e.of(it)
		}
	}
	for _, it := range e.r.omitted {
		if it.task.Ref == ref {
			w := e.of(it)
			w.State, w.Attributes = string(plan.LeftOut), nil
			return w
		}
	}
	return Why{Ref: ref, State: "not declared", Reason: e.nowhere(ref)}
}

func (e *Explanation) of(it *item) Why {
	w := Why{Ref: it.task.Ref, State: it.state(), Ways: e.ways(it)}
	if e.ordered {
		w.Order, w.Of = it.task.ID+1, len(e.r.items)
	}
	for _, name := range it.decl.scope.Locals {
		v, there := it.vars.Lookup([]string{name})
		w.Loop = append(w.Loop, Seen{Name: name, Value: v, There: there})
	}
	for _, c := range it.contexts {
		for _, u := range c.uses {
			if u.cond != nil {
				w.Conditions = append(w.Conditions, e.condition(u.cond, u.vars, nil))
			}
			for _, cl := range u.loop {
				for _, name := range cl.names {
					v, there := u.vars.Lookup([]string{name})
					w.Loop = append(w.Loop, Seen{Name: name, Value: v, There: there})
				}
			}
		}
	}
	if it.decl.cond != nil {
		w.Conditions = append(w.Conditions, e.condition(it.decl.cond, it.vars, it.contexts[0]))
	}
	for i := range it.decl.attrs {
		w.Attributes = append(w.Attributes, e.attribute(it, &it.decl.attrs[i]))
	}
	for i, n := range it.needs {
		w.Waits = append(w.Waits, Edge{n.task.Ref, it.whys[i]})
	}
	for _, other := range e.r.items {
		for i, n := range other.needs {
			if n == it {
				w.Awaited = append(w.Awaited, Edge{other.task.Ref, other.whys[i]})
			}
		}
	}
	for _, d := range e.r.dropped {
		if d[0] == it {
			w.Dropped = append(w.Dropped, Edge{d[1].task.Ref, "implied"})
		}
	}
	return w
}

func (e *Explanation) condition(p *expr.Program, vars *expr.Vars, c0 *context) Condition {
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
func (e *Explanation) seen(list []expr.Seen, vars *expr.Vars, c *context) []Seen {
	var out []Seen
	for _, s := range list {
		path := strings.Split(s.Name, ".")
		seen := Seen{Name: s.Name, Value: s.Value, There: s.There}
		if slices.ContainsFunc(vars.Missing, func(m []string) bool {
			return slices.Equal(m,
				path[:min(len(m), len(path))])
		}) {
			seen.Value = expr.Unknown{}
		}
		if path[0] == "data" && len(path) > 1 {
			seen.Place = e.r.placeOfData(path[1:])
		}
		if path[0] == "param" && len(path) > 1 && c != nil {
			seen.Place = e.placeOfParam(c, path[1])
		}
		out = append(out, seen)
	}
	return out
}

// placeOfParam finds who gave the value of a param to a manifest.
func (e *Explanation) placeOfParam(c *context, name string) value.Place {
	d := c.unit.param(name)
	if d == nil {
		return value.Place{}
	}
	list, err := e.r.paramSources(c.unit, d, c.given, c.outer, true)
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

func (e *Explanation) attribute(it *item, a *attr) Attribute {
	out := Attribute{Name: a.Schema.Name, Place: a.Node.Place}
	switch v, there := it.task.Attrs[a.Schema.Name]; {
	case there:
		out.Value = v
	case a.fixed != nil:
		out.Value = a.fixed // an edge or the like, which the plan says elsewhere
	case a.dynamic != nil:
		v, err := a.dynamic(it.vars)
		if out.Value = v; err != nil {
			out.Value = expr.Unknown{}
		}
	}
	if text, ok := a.Node.Value.(string); ok && a.dynamic != nil && text != out.Value {
		out.Written = text
	}
	var saw []expr.Seen
	for _, t := range a.texts {
		for _, p := range t.Programs() {
			saw = append(saw, p.Saw(it.vars)...)
		}
	}
	out.Saw = e.seen(saw, it.vars, it.contexts[0])
	if a.template != nil {
		for _, path := range a.template.Reads() {
			name := strings.Join(path, ".")
			if slices.ContainsFunc(out.Saw, func(s Seen) bool { return s.Name == name }) || path[0] == "fleet" {
				continue
			}
			v, there := it.vars.Lookup(path)
			if path[0] == "facts" && !e.Known {
				v, there = expr.Unknown{}, true
			}
			out.Saw = append(out.Saw, e.seen([]expr.Seen{{Name: name, Value: v, There: there}}, it.vars, it.contexts[0])...)
		}
	}
	return out
}

// nowhere says why a declaration is not on the host at all.
func (e *Explanation) nowhere(ref value.Ref) string {
	p := e.r.project
	for _, name := range value.Keys(p.units) {
		for _, en := range p.units[name].entries {
			if en.decl == nil || en.decl.Kind.Name != ref.Kind {
				continue
			}
			if en.decl.Name == ref.Name || en.decl.name != nil {
				groups := p.groupsThatGive(name)
				if en.decl.Name != ref.Name && slices.ContainsFunc(groups, e.in) {
					continue // its loop or name gives other things here
				}
				where := fmt.Sprintf("%s of the manifest %s", en.decl.Place, name)
				if len(groups) == 0 {
					return "it may be declared at " + where + ", which no group gives to any host"
				}
				if en.decl.Name == ref.Name || !slices.ContainsFunc(groups, e.in) {
					what := "it is declared"
					if en.decl.name != nil {
						what = "it may be declared"
					}
					return fmt.Sprintf("%s at %s, which comes by the %s; %s is in none of these", what, where,
						oneOrMore("group", groups), e.Host.Name)
				}
			}
		}
	}
	var names []string
	for _, it := range e.r.items {
		names = append(names, it.task.Ref.String())
	}
	return strings.TrimSuffix("no manifest of this host declares it; "+problem.Meant(ref.String(), names, ""), "; ")
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
func (p *Project) groupsThatGive(name string) []string {
	gives := map[string]bool{name: true}
	for again := true; again; {
		again = false
		for _, m := range value.Keys(p.units) {
			for _, en := range p.units[m].entries {
				if en.use != nil && en.use.unit != nil && gives[en.use.unit.Name] && !gives[m] {
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
	steps, err = e.r.project.Data.Explain(e.r.layerHost(), path)
	v, there = e.r.vars.Lookup(append([]string{"data"}, path...))
	return steps, v, there, err
}

// DataNames lists the names at a path of the host's data, or nil.
func (e *Explanation) DataNames(path []string) []string {
	v, _ := e.r.vars.Lookup(append([]string{"data"}, path...))
	m, _ := v.(map[string]any)
	return value.Keys(m)
}

// Param answers for a param of a manifest on the host.
func (e *Explanation) Param(manifest, name string) ([]ParamStep, error) {
	u := e.r.project.units[manifest]
	if u == nil {
		return nil, problem.Errorf("there is no manifest %q", manifest).Meant(manifest, value.Keys(e.r.project.units),
			problem.ShowHost, e.Host.Name)
	}
	d := u.param(name)
	if d == nil {
		return nil, problem.Errorf("the manifest %s has no param %q", manifest, name).
			Remedy("%s", problem.Meant(name, u.paramNames(), "it has "+orNone(u.paramNames())))
	}
	var list []ParamStep
	var err error
	for _, c := range e.r.used { // what a use gives goes before the rest
		if c.unit == u && slices.ContainsFunc(c.given, func(g usedParam) bool { return g.name == name }) {
			more, failed := e.r.paramSources(u, d, c.given, c.outer, true)
			if err = failed; err != nil {
				return nil, err
			}
			for _, s := range more {
				if !slices.ContainsFunc(list, func(o ParamStep) bool { return o.From == s.From && o.Place == s.Place }) {
					list = append(list, s)
				}
			}
		}
	}
	if len(list) == 0 {
		list, err = e.r.paramSources(u, d, nil, nil, true)
	}
	for i := range list {
		if seen, err := d.Check(list[i].Value); err == nil && list[i].Says && !value.Equal(seen, list[i].Value) {
			list[i].Seen = seen
		}
	}
	return list, err
}

// Refs lists what is declared anywhere in the project under a name that is not
// made of expressions, for completion.
func (p *Project) Refs() []string {
	var out []string
	for _, name := range value.Keys(p.units) {
		for _, en := range p.units[name].entries {
			if en.decl != nil && en.decl.name == nil {
				out = append(out, value.Ref{Kind: en.decl.Kind.Name, Name: en.decl.Name}.String())
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Manifests lists the project's manifests with what each is for.
func (p *Project) Manifests() []string { return value.Keys(p.units) }

// ManifestDoc is what a manifest says of itself.
type ManifestDoc struct {
	Name   string
	About  string
	Params []*param.Decl
}

// Of tells of the manifests of one source, or with an empty name of the
// project's own.
func (p *Project) Of(source string) []ManifestDoc {
	var out []ManifestDoc
	for _, name := range value.Keys(p.units) {
		if u := p.units[name]; u.Source == source {
			out = append(out, ManifestDoc{name, u.About, u.params})
		}
	}
	return out
}

// ManifestFile gives the file of a manifest.
func (p *Project) ManifestFile(name string) (string, bool) {
	u := p.units[name]
	if u == nil {
		return "", false
	}
	return u.File, true
}

// Shown writes a value in one line, secrets hidden.
func Shown(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case expr.Unknown:
		return "not known without facts"
	case value.Secret:
		return value.Hidden
	case string:
		return fmt.Sprintf("%q", v)
	case []any:
		parts := make([]string, len(v))
		for i, item := range v {
			parts[i] = Shown(item)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, k := range value.Keys(v) {
			parts = append(parts, k+" = "+Shown(v[k]))
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	return schema.Literal(v)
}
