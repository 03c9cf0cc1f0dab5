package compile

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Unit is a manifest compiled.
type Unit struct {
	*manifest.Manifest
	Params  []*param.Decl
	Entries []Entry

	reads, through Reads
}

// Entry is a declaration or a use, compiled; the other is nil.
type Entry struct {
	Decl *Decl
	Use  *Use
}

// Use is a [use.NAME] compiled.
type Use struct {
	*manifest.Use
	Unit  *Unit // nil when there is no such manifest
	Cond  *expr.Program
	Loop  []Clause
	Inner bool // the condition names a variable of the loop
	Gives []Gift
}

// Gift is a value that a use gives to a param.
type Gift struct {
	Param string
	Place value.Place
	Evaluator
}

// Clause is one "name in list" of a for.
type Clause struct {
	Names []string // one, or two for key and value
	List  *expr.Program
}

// Decl is a declaration compiled: what does not depend on the host is
// evaluated already.
type Decl struct {
	*manifest.Decl
	Dir    string
	Unit   string // the manifest
	Cond   *expr.Program
	Inner  bool // the condition names a variable of the loop
	Loop   []Clause
	Scope  expr.Scope
	Naming *expr.Text // nil when Decl.Name is final
	Values []Attr     // all but about, for and if, in the order written
}

// Attr is one attribute of a declaration.
type Attr struct {
	manifest.Attr
	Fixed    any                           // the checked value, when it is the same for every host
	Dynamic  func(*expr.Vars) (any, error) // else what gives it
	Template *expr.Template                // of a fixed template path
	Texts    []*expr.Text                  // the expressions in it
	Bad      bool                          // reported already
}

// Evaluator is a value that may depend on the host.
type Evaluator struct {
	Value   func(*expr.Vars) (any, error)
	Dynamic bool
	Failed  bool // reported already
	Texts   []*expr.Text
}

// compileAll compiles the manifests and joins those that use others.
func (p *Project) compileAll(manifests map[string]*manifest.Manifest, ps *problem.Problems) {
	for _, name := range value.Keys(manifests) {
		u := &Unit{Manifest: manifests[name]}
		for _, k := range u.Manifest.Params {
			if d, ok := param.Read(k, ps); ok {
				u.Params = append(u.Params, d)
			}
		}
		p.Units[name] = u
	}
	for _, name := range value.Keys(p.Units) {
		u := p.Units[name]
		for _, e := range u.Manifest.Entries {
			if e.Use != nil {
				u.Entries = append(u.Entries, Entry{Use: p.compileUse(u, e.Use, ps)})
				continue
			}
			u.Entries = append(u.Entries, Entry{Decl: p.compile(u.Manifest, e.Decl, ps)})
		}
	}
	p.circlesOfUse(ps)
}

// Param gives a param by its name, or nil.
func (u *Unit) Param(name string) *param.Decl {
	for _, d := range u.Params {
		if d.Name == name {
			return d
		}
	}
	return nil
}

// ParamNames lists the params in the order written.
func (u *Unit) ParamNames() []string {
	var out []string
	for _, d := range u.Params {
		out = append(out, d.Name)
	}
	return out
}

func (p *Project) compileUse(in *Unit, m *manifest.Use, ps *problem.Problems) *Use {
	u := &Use{Use: m}
	name := m.Manifest
	if in.Source != "" && !strings.Contains(name, "/") {
		name = in.Source + "/" + name // a source's manifests use one another by their own names
	}
	if u.Unit = p.Units[name]; u.Unit == nil && !p.unsound(name) {
		ps.At(m.At, fmt.Sprintf("use.%s refers to the manifest %q, which does not exist", m.Name, m.Manifest),
			p.noManifest(name))
	}
	scope := expr.Scope{}
	u.Loop, scope = p.compileLoop(m.For, scope, ps)
	if m.If != nil {
		text, _ := m.If.Value.(string)
		prog, err := expr.Compile(text, m.If.At, scope)
		ps.AddErr(m.If.Place, err)
		if err == nil {
			u.Cond = prog
			u.Inner = slices.ContainsFunc(scope.Locals, prog.ReadsRoot)
		}
	}
	for _, k := range m.Params {
		if u.Unit != nil && u.Unit.Param(k.Name) == nil {
			ps.At(k.Place, fmt.Sprintf("unknown param %[2]q in the manifest %[1]s", name, k.Name),
				problem.Meant(k.Name, u.Unit.ParamNames(), "available: "+OrNone(u.Unit.ParamNames())))
			continue
		}
		e, err := p.compileNode(k.Node, "", scope)
		if err != nil {
			ps.AddErr(k.Node.Place, err)
			continue
		}
		u.Gives = append(u.Gives, Gift{k.Name, k.Node.Place, e})
	}
	return u
}

// OrNone lists names, for a message.
func OrNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

var variable = lazy.Regexp(`^[A-Za-z_][A-Za-z0-9_]*$`)

// compileLoop compiles a for: one clause or a list of them. The scope that
// comes back has its variables.
func (p *Project) compileLoop(n *manifest.Node, scope expr.Scope, ps *problem.Problems) ([]Clause, expr.Scope) {
	if n == nil {
		return nil, scope
	}
	nodes := []*manifest.Node{n}
	if n.Kind == manifest.List {
		nodes = n.Items
	}
	var out []Clause
	for _, n := range nodes {
		text, _ := n.Value.(string)
		head, list, ok := strings.Cut(text, " in ")
		var c Clause
		for name := range strings.SplitSeq(head, ",") {
			c.Names = append(c.Names, strings.TrimSpace(name))
		}
		good := ok && len(c.Names) <= 2
		for _, name := range c.Names {
			good = good && variable().MatchString(name)
		}
		if !good {
			ps.At(n.Place, fmt.Sprintf("%q is not a valid loop", text),
				`write for = "item in data.list", or for = "key, item in data.table"`)
			continue
		}
		for _, name := range c.Names {
			if slices.Contains(expr.Roots, name) || slices.Contains(scope.Locals, name) {
				ps.At(n.Place, fmt.Sprintf("the variable %s hides another variable of that name", name),
					"choose another name")
				good = false
			}
		}
		if !good {
			continue
		}
		shift := len(head) + len(" in ")
		prog, err := expr.Compile(list, func(o int) value.Place { return n.At(shift + o) }, scope)
		scope = scope.And(c.Names...)
		if err != nil {
			ps.AddErr(n.Place, err)
			continue
		}
		c.List = prog
		out = append(out, c)
	}
	return out, scope
}

// circlesOfUse reports manifests that use themselves, and takes such uses out
// so that every way through them ends.
func (p *Project) circlesOfUse(ps *problem.Problems) {
	state := map[*Unit]int{}
	var way []string
	var visit func(u *Unit)
	visit = func(u *Unit) {
		state[u] = 1
		way = append(way, u.Name)
		for _, e := range u.Entries {
			if e.Use == nil || e.Use.Unit == nil {
				continue
			}
			switch state[e.Use.Unit] {
			case 0:
				visit(e.Use.Unit)
			case 1:
				circle := append(slices.Clone(way[slices.Index(way, e.Use.Unit.Name):]), e.Use.Unit.Name)
				ps.At(e.Use.Place, "manifests include each other in a cycle: "+strings.Join(circle, " uses "),
					"remove one of these uses")
				e.Use.Unit = nil
			}
		}
		way = way[:len(way)-1]
		state[u] = 2
	}
	for _, name := range value.Keys(p.Units) {
		if state[p.Units[name]] == 0 {
			visit(p.Units[name])
		}
	}
}

func (p *Project) compile(m *manifest.Manifest, d *manifest.Decl, ps *problem.Problems) *Decl {
	out := &Decl{Decl: d, Dir: m.Dir, Unit: m.Name}
	if a, ok := d.Attr(schema.For); ok {
		out.Loop, out.Scope = p.compileLoop(a.Node, expr.Scope{}, ps)
	}
	if manifest.Interpolated(d.Name) {
		var err error
		out.Naming, err = expr.ParseText(d.Name, func(int) value.Place { return d.Place }, "", out.Scope)
		ps.AddErr(d.Place, err)
	}
	for _, a := range d.Attrs {
		switch a.Schema.Name {
		case "about", schema.For:
			continue
		case schema.If:
			text, ok := a.Node.Value.(string)
			if !ok {
				continue // its type was reported
			}
			prog, err := expr.Compile(text, a.Node.At, out.Scope)
			ps.AddErr(a.Node.Place, err)
			if err == nil {
				out.Cond = prog
				out.Inner = slices.ContainsFunc(out.Scope.Locals, prog.ReadsRoot)
			}
			continue
		}
		out.Values = append(out.Values, p.compileAttr(out, a, ps))
	}
	return out
}

func (p *Project) compileAttr(d *Decl, a manifest.Attr, ps *problem.Problems) Attr {
	out := Attr{Attr: a}
	keep := ""
	if a.Schema.Type == schema.Command {
		keep = expr.Candidate
	}
	if a.Schema.Name == schema.Labels { // words, not evaluated
		out.Fixed = a.Node.Plain()
		return out
	}
	eval, err := p.compileNode(a.Node, keep, d.Scope)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.Bad = true
		return out
	}
	if eval.Dynamic {
		out.Dynamic, out.Texts = eval.Value, eval.Texts
		return out
	}
	v, _ := eval.Value(nil) // a literal needs no variables and cannot fail
	out.Fixed, err = a.Schema.Value(v)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.Bad = true
		return out
	}
	if rel, ok := out.Fixed.(string); ok && a.Schema.Type == schema.Template {
		out.Template, err = p.Template(path.Join(d.Dir, rel))
		ps.AddErr(a.Node.Place, err)
		out.Bad = err != nil
	}
	if rel, ok := out.Fixed.(string); ok {
		if err := p.beside(a.Schema.Type, path.Join(d.Dir, rel), rel); err != nil {
			ps.AddErr(a.Node.Place, err)
			out.Bad = true
		}
	}
	return out
}

// beside says why what is to lie in the manifest's folder cannot be read.
func (p *Project) beside(t schema.Type, name, rel string) (err error) {
	switch {
	case t == schema.Copy, t == schema.Origin && schema.Beside(rel):
		_, err = p.Copy(name)
	case t == schema.Tree:
		_, err = p.Tree(name)
	}
	return err
}

func (p *Project) compileNode(n *manifest.Node, keep string, scope expr.Scope) (Evaluator, error) {
	if text, ok := n.Value.(string); ok && n.Kind == manifest.Scalar && manifest.Interpolated(text) {
		t, err := expr.ParseText(text, n.At, keep, scope)
		if err != nil {
			return Evaluator{}, err
		}
		return Evaluator{Value: t.Eval, Dynamic: true, Texts: []*expr.Text{t}}, nil
	}
	if n.Kind == manifest.Scalar {
		v := n.Plain()
		return Evaluator{Value: func(*expr.Vars) (any, error) { return v, nil }}, nil
	}
	var keys []string
	nodes := n.Items
	for _, k := range n.Keys {
		keys, nodes = append(keys, k.Name), append(nodes, k.Node)
	}
	var items []Evaluator
	out := Evaluator{}
	for _, item := range nodes {
		e, err := p.compileNode(item, keep, scope)
		if err != nil {
			return Evaluator{}, err
		}
		items = append(items, e)
		out.Dynamic = out.Dynamic || e.Dynamic
		out.Texts = append(out.Texts, e.Texts...)
	}
	if !out.Dynamic {
		v := n.Plain()
		out.Value = func(*expr.Vars) (any, error) { return v, nil }
		return out, nil
	}
	out.Value = func(vars *expr.Vars) (any, error) {
		list := make([]any, len(items))
		for i, item := range items {
			v, err := item.Value(vars)
			if err != nil {
				return nil, err
			}
			if _, ok := v.(expr.Unknown); ok {
				return v, nil
			}
			list[i] = v
		}
		if n.Kind == manifest.List {
			return list, nil
		}
		table := make(map[string]any, len(keys))
		for i, k := range keys {
			table[k] = list[i]
		}
		return table, nil
	}
	return out, nil
}
