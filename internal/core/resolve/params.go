package resolve

import (
	"fmt"
	"slices"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
)

// ParamStep is one place that may give a value to a param, in the order in
// which they are asked.
type ParamStep struct {
	From  string      `json:"from" doc:"The source: a use, the command line, the host, from, or the default."`
	Place value.Place `json:"place" doc:"Where it is written."`
	Says  bool        `json:"says" doc:"Whether it sets a value."`
	Value any         `json:"value" doc:"The value it sets."`
	Seen  any         `json:"seen" doc:"What expressions see, if that is a different form; null otherwise."`
	Used  bool        `json:"used" doc:"Whether this value is used."`
	Text  string      `json:"-"` // as it is written, when that is an expression
}

// ofCall is the source that goes before all others.
const ofCall = "the command line"

// param gives the value of a param for the host: from the call, from the use
// that pulls the manifest in, from the host, its groups, the data, the default.
func (r *resolver) param(u *compile.Unit, d *param.Decl, given []compile.Gift, outer *expr.Vars) (any, error) {
	sources, err := r.ParamSources(u, d, given, outer, false)
	if err != nil {
		return nil, err
	}
	for _, s := range sources {
		if !s.Says {
			continue
		}
		if _, unknown := s.Value.(expr.Unknown); unknown {
			return s.Value, nil
		}
		v, err := d.Check(s.Value)
		if err != nil && s.From == ofCall {
			return expr.Unknown{}, nil // reported when the project was read
		}
		if err != nil {
			p := problem.Problem{Place: s.Place}
			if d.From != nil && s.Place == d.From.At(0) { // what is wrong is the value that it leads to
				if from, err := r.paramOfFrom(d, true); err == nil {
					p.Place = from.Place
				}
			}
			said := problem.From(err)
			p.What, p.Do = fmt.Sprintf("the param %s.%s from %s: %s", u.Name, d.Name, s.From, said.What), said.Do
			return nil, p
		}
		return v, nil
	}
	if r.Vars.Blind {
		return expr.Unknown{}, nil
	}
	return nil, problem.Problem{Place: d.Place, What: fmt.Sprintf("the param %s.%s has no value and no default",
		u.Name, d.Name),
		Do: fmt.Sprintf("set params.%s.%s in a group or a host, or give the param a default: `--param %s=VALUE`",
			u.Name, d.Name, shell.Quote(u.Name+"."+d.Name))}
}

// ParamSources lists who gives a value. Unless all is wanted it ends at the
// first that does.
func (h *Traced) ParamSources(u *compile.Unit, d *param.Decl, given []compile.Gift, outer *expr.Vars,
	all bool) ([]ParamStep, error) {
	var out []ParamStep
	add := func(s ParamStep) bool {
		s.Used = s.Says && !slices.ContainsFunc(out, func(o ParamStep) bool { return o.Says })
		if all || s.Says {
			out = append(out, s)
		}
		return s.Says && !all
	}
	text, called := h.Project.Called(u.Name, d.Name)
	var v any
	if called {
		v, _ = d.FromText(text) // checked when the project was read
	}
	if add(ParamStep{From: ofCall, Value: v, Says: called}) {
		return out, nil
	}
	for _, g := range given {
		if g.Param != d.Name {
			continue
		}
		v, err := g.Value(outer)
		if err != nil {
			return nil, err
		}
		if add(ParamStep{From: "the use", Place: g.Place, Value: v, Says: true}) {
			return out, nil
		}
	}
	own, err := h.paramOfHost(u, d)
	if err != nil {
		return nil, err
	}
	if add(own) {
		return out, nil
	}
	groups, err := h.paramOfGroups(u, d, all)
	if err != nil {
		return nil, err
	}
	for _, s := range groups {
		if add(s) {
			return out, nil
		}
	}
	if d.From != nil {
		from, err := h.paramOfFrom(d, all)
		if err != nil {
			return nil, err
		}
		if add(from) {
			return out, nil
		}
	}
	add(ParamStep{From: "the default", Place: d.Place, Value: d.Default, Says: d.HasDefault})
	return out, nil
}

func (h *Traced) paramOfHost(u *compile.Unit, d *param.Decl) (ParamStep, error) {
	s := ParamStep{From: "host " + h.Host.Name}
	for _, g := range h.Host.Params {
		if g.Manifest == u.Name && g.Param == d.Name {
			v, err := h.giveParam(g)
			s.Place, s.Value, s.Says, s.Text = g.Node.Place, v, err == nil, expressionOf(g.Node)
			return s, err
		}
	}
	return s, nil
}

// expressionOf gives the text of a node that holds an expression.
func expressionOf(n *manifest.Node) string {
	if text, ok := n.Value.(string); ok && manifest.Interpolated(text) {
		return text
	}
	return ""
}

func (h *Traced) giveParam(g inventory.Given) (any, error) {
	e := h.Project.Given[g.Node]
	if e.Value == nil || e.Failed {
		return expr.Unknown{}, nil // reported when the project was read
	}
	vars := h.Vars
	if g.Ranged {
		vars = vars.With("n", g.N)
	}
	return e.Value(vars)
}

// paramOfGroups asks the groups, the innermost first. Two of one depth must
// not differ.
func (h *Traced) paramOfGroups(u *compile.Unit, d *param.Decl, all bool) ([]ParamStep, error) {
	for _, g := range h.Maybe {
		if slices.ContainsFunc(g.Params, func(g inventory.Given) bool {
			return g.Manifest == u.Name &&
				g.Param == d.Name
		}) {
			return []ParamStep{{From: "group " + g.Name, Value: expr.Unknown{}, Says: true}}, nil
		}
	}
	var out []ParamStep
	innermost := -1 // the depth of what wins; further out groups may differ, since none of them counts
	for i := len(h.Groups) - 1; i >= 0; i-- {
		g := h.Groups[i]
		for _, given := range g.Params {
			if given.Manifest != u.Name || given.Param != d.Name {
				continue
			}
			if len(out) > 0 && g.Depth < innermost && !all {
				return out[:1], nil
			}
			v, err := h.giveParam(given)
			if err != nil {
				return nil, err
			}
			if len(out) > 0 && g.Depth == innermost && !value.Equal(out[len(out)-1].Value, v) {
				first := out[len(out)-1]
				return nil, problem.Problem{Place: given.Node.Place, Also: []value.Place{first.Place},
					What: fmt.Sprintf("the param %s.%s has different values in %s and group %s, which are at the "+
						"same depth; first at %s",
						u.Name, d.Name, first.From, g.Name, first.Place),
					Do: "set it on the host, or put one group inside the other"}
			}
			if len(out) == 0 {
				innermost = g.Depth
			}
			out = append(out, ParamStep{From: "group " + g.Name, Place: given.Node.Place, Value: v, Says: true,
				Text: expressionOf(given.Node)})
		}
	}
	if len(out) > 1 && !all {
		out = out[:1]
	}
	return out, nil
}

// paramOfFrom evaluates a param's own from. It is passed over where a step of
// what it reads is not there.
func (h *Traced) paramOfFrom(d *param.Decl, place bool) (ParamStep, error) {
	s := ParamStep{From: "its from, " + d.From.Text(), Place: d.From.At(0)}
	if d.From.Lacks(h.Vars) {
		return s, nil
	}
	v, err := d.From.Eval(h.Vars)
	if err != nil {
		return s, err
	}
	s.Value, s.Says = v, true
	for _, path := range d.From.Reads() {
		if place && len(path) > 1 && path[0] == "data" {
			if at := h.PlaceOfData(path[1:]); at.File != "" {
				s.Place = at
			}
		}
	}
	return s, nil
}

// PlaceOfData finds where the host's value at a path comes from.
func (h *Traced) PlaceOfData(at []string) value.Place {
	out := value.Place{}
	steps, err := h.Project.Data.Explain(h.Layers(), at)
	for _, step := range steps {
		if err == nil && step.Used {
			out = step.Place
		}
	}
	return out
}
