// Package resolve turns a project into one plan per host. It is a function of
// the project's files, the catalogue of kinds, a host and its facts: it reads
// no clock, no network, and no disk but the project through an fs.FS.
package resolve

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
)

// Options are what a call adds to a project.
type Options struct {
	Env    string            // the environment; empty means the default one
	Params map[string]string // values for params, by manifest.name
	// Open decrypts a sealed file of data. Nil means that nothing can be.
	Open func(name string, sealed []byte) ([]byte, error)
	// Reading is told of the settings and the inventory as soon as both are known,
	// while manifests are still to be read. May be nil.
	Reading func(Settings, *inventory.Inventory)
	// Blind checks a project although some of its sealed files cannot be opened
	// here: what depends on them is left open.
	Blind bool
}

// Project is a project read once and compiled, ready to give the plan of any
// number of hosts, from many goroutines.
type Project struct {
	Settings  Settings
	Inventory *inventory.Inventory
	Data      *layers.Data
	Sources   []source.Pin
	// Fleet is what is known of all hosts. It is set before the first Plan when
	// ReadsFleet says that something asks for it.
	Fleet *expr.Fleet

	files    fs.FS
	schemas  schema.Kinds
	tally    *tally // told of conditions by every Plan; may be nil
	options  Options
	units    map[string]*unit // by manifest
	given    map[*manifest.Node]evaluator
	advice   problem.Problems
	sound    map[string]string // folders of the sources that are as pinned
	services bool
	// Project files, each read once, by path: of func() (plan.Content, error)
	// and func() (*expr.Template, error).
	copies, templates sync.Map
}

// unit is a manifest compiled.
type unit struct {
	*manifest.Manifest
	params  []*param.Decl
	entries []entry
}

// entry is a declaration or a use, compiled.
type entry struct {
	decl *decl
	use  *use
}

// use is a [use.NAME] compiled.
type use struct {
	*manifest.Use
	unit   *unit
	cond   *expr.Program
	loop   []clause
	inner  bool // the condition names a variable of the loop
	params []usedParam
}

type usedParam struct {
	name  string
	place value.Place
	eval  evaluator
}

// clause is one "name in list" of a for.
type clause struct {
	names []string // one, or two for key and value
	list  *expr.Program
}

// Load reads and compiles a project. The error holds every problem that can be
// seen without a host; the project that comes with an error is only good for
// Check, and nil when too little could be read.
func Load(files fs.FS, schemas schema.Kinds, options Options) (*Project, error) {
	var ps problem.Problems
	p := &Project{files: files, schemas: schemas, options: options, units: map[string]*unit{},
		given: map[*manifest.Node]evaluator{}}
	p.Settings = loadSettings(files, &ps)
	if err := p.Settings.choose(options.Env); err != nil {
		ps.AddErr(value.Place{}, err)
		return nil, ps.Err()
	}
	inv, whole := inventory.Load(files, p.Settings.Inventory, p.Settings.Env, &ps)
	p.Inventory = inv
	if options.Reading != nil && whole && ps.Err() == nil {
		options.Reading(p.Settings, inv)
	}
	p.Data = layers.Load(files, layers.Config{Layers: p.Settings.Layers, Places: p.Settings.layerPlaces,
		Lists: p.Settings.Lists, Env: p.Settings.Env, Open: options.Open, Blind: options.Blind}, &ps)
	p.Sources = source.Read(files, &ps)
	p.sound = source.Load(files, p.Sources, &ps)
	manifests, ok := manifest.Load(files, p.sound, schemas, &ps)
	whole = whole && ok
	p.compileAll(manifests, &ps)
	p.checkGiven(&ps)
	for _, g := range inv.Groups {
		for _, use := range g.Manifests {
			if _, ok := manifests[use.Manifest]; !ok && !p.unsound(use.Manifest) {
				ps.At(use.Place, fmt.Sprintf("group %s names the manifest %q, which is not there", g.Name, use.Manifest),
					p.noManifest(use.Manifest))
			}
		}
	}
	if whole {
		p.checkHostData(&ps)
	}
	wrong, advice := ps.Split()
	p.advice.AddErr(value.Place{}, advice.Err())
	if !whole {
		return nil, wrong.Err()
	}
	return p, wrong.Err()
}

// unsound says whether a manifest is of a source whose copy is not as pinned,
// which is told already.
func (p *Project) unsound(name string) bool {
	src, _, ok := strings.Cut(name, "/")
	return ok && p.sound[src] == "" && slices.ContainsFunc(p.Sources, func(s source.Pin) bool { return s.Name == src })
}

func (p *Project) noManifest(name string) string {
	do := "make " + path.Join(manifest.Dir, name+".toml")
	if src, _, ok := strings.Cut(name, "/"); ok {
		do = "add the source " + src + ", which would bring it"
	}
	return problem.Meant(name, value.Keys(p.units), do)
}

// checkHostData reports data for hosts that no environment has.
func (p *Project) checkHostData(ps *problem.Problems) {
	if !slices.Contains(p.Settings.Layers, hostLayer) {
		return
	}
	var unknown []string
	for _, layer := range p.Data.Names() {
		if name, ok := strings.CutPrefix(layer, "host/"); ok {
			if _, there := p.Inventory.Host(name); !there {
				unknown = append(unknown, name)
			}
		}
	}
	if len(unknown) == 0 {
		return // the other environments' inventories need not be read
	}
	names := p.Inventory.HostNames()
	for _, e := range p.Settings.Envs {
		if len(e.Inventory) > 0 {
			other, _ := inventory.Load(p.files, e.Inventory, "", &problem.Problems{})
			names = append(names, other.HostNames()...)
		}
	}
	for _, name := range unknown {
		if !slices.Contains(names, name) {
			ps.At(value.Place{File: p.Data.Files("host/" + name)[0]}, fmt.Sprintf("this is data for %q, which is no host", name),
				problem.Meant(name, names, "declare the host or remove the file"))
		}
	}
}

const hostLayer = "host/${host.name}"

// compileAll compiles the manifests and joins those that use others.
func (p *Project) compileAll(manifests map[string]*manifest.Manifest, ps *problem.Problems) {
	for _, name := range value.Keys(manifests) {
		u := &unit{Manifest: manifests[name]}
		for _, k := range u.Params {
			if d, ok := param.Read(k, ps); ok {
				u.params = append(u.params, d)
			}
		}
		p.units[name] = u
	}
	for _, name := range value.Keys(p.units) {
		u := p.units[name]
		for _, e := range u.Entries {
			if e.Use != nil {
				u.entries = append(u.entries, entry{use: p.compileUse(u, e.Use, ps)})
				continue
			}
			u.entries = append(u.entries, entry{decl: p.compile(u.Manifest, e.Decl, ps)})
		}
	}
	p.circlesOfUse(ps)
}

func (u *unit) param(name string) *param.Decl {
	for _, d := range u.params {
		if d.Name == name {
			return d
		}
	}
	return nil
}

func (u *unit) paramNames() []string {
	var out []string
	for _, d := range u.params {
		out = append(out, d.Name)
	}
	return out
}

func (p *Project) compileUse(in *unit, m *manifest.Use, ps *problem.Problems) *use {
	u := &use{Use: m}
	name := m.Manifest
	if in.Source != "" && !strings.Contains(name, "/") {
		name = in.Source + "/" + name // a source's manifests use one another by their own names
	}
	if u.unit = p.units[name]; u.unit == nil && !p.unsound(name) {
		ps.At(m.At, fmt.Sprintf("use.%s names the manifest %q, which is not there", m.Name, m.Manifest), p.noManifest(name))
	}
	scope := expr.Scope{}
	u.loop, scope = p.compileLoop(m.For, scope, ps)
	if m.If != nil {
		text, _ := m.If.Value.(string)
		prog, err := expr.Compile(text, m.If.At, scope)
		ps.AddErr(m.If.Place, err)
		if err == nil {
			u.cond = prog
			u.inner = slices.ContainsFunc(scope.Locals, prog.ReadsRoot)
			p.services = p.services || prog.ReadsFact("services")
		}
	}
	for _, k := range m.Params {
		if u.unit != nil && u.unit.param(k.Name) == nil {
			ps.At(k.Place, fmt.Sprintf("the manifest %s has no param %q", name, k.Name),
				problem.Meant(k.Name, u.unit.paramNames(), "it has "+orNone(u.unit.paramNames())))
			continue
		}
		e, err := p.compileNode(k.Node, "", scope)
		if err != nil {
			ps.AddErr(k.Node.Place, err)
			continue
		}
		u.params = append(u.params, usedParam{k.Name, k.Node.Place, e})
	}
	return u
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// compileLoop compiles a for: one clause or a list of them. The scope that
// comes back has its variables.
func (p *Project) compileLoop(n *manifest.Node, scope expr.Scope, ps *problem.Problems) ([]clause, expr.Scope) {
	if n == nil {
		return nil, scope
	}
	nodes := []*manifest.Node{n}
	if n.Kind == manifest.List {
		nodes = n.Items
	}
	var out []clause
	for _, n := range nodes {
		text, _ := n.Value.(string)
		head, list, ok := strings.Cut(text, " in ")
		var c clause
		for name := range strings.SplitSeq(head, ",") {
			c.names = append(c.names, strings.TrimSpace(name))
		}
		good := ok && len(c.names) <= 2
		for _, name := range c.names {
			good = good && variable.MatchString(name)
		}
		if !good {
			ps.At(n.Place, fmt.Sprintf("%q is no loop", text),
				`write for = "item in data.list", or for = "key, item in data.table"`)
			continue
		}
		for _, name := range c.names {
			if slices.Contains(expr.Roots, name) || slices.Contains(scope.Locals, name) {
				ps.At(n.Place, fmt.Sprintf("the variable %s hides another of that name", name), "choose another name")
				good = false
			}
		}
		if !good {
			continue
		}
		shift := len(head) + len(" in ")
		prog, err := expr.Compile(list, func(o int) value.Place { return n.At(shift + o) }, scope)
		scope = scope.And(c.names...)
		if err != nil {
			ps.AddErr(n.Place, err)
			continue
		}
		p.services = p.services || prog.ReadsFact("services")
		c.list = prog
		out = append(out, c)
	}
	return out, scope
}

// circlesOfUse reports manifests that use themselves, and takes such uses out
// so that every way through them ends.
func (p *Project) circlesOfUse(ps *problem.Problems) {
	state := map[*unit]int{}
	var way []string
	var visit func(u *unit)
	visit = func(u *unit) {
		state[u] = 1
		way = append(way, u.Name)
		for _, e := range u.entries {
			if e.use == nil || e.use.unit == nil {
				continue
			}
			switch state[e.use.unit] {
			case 0:
				visit(e.use.unit)
			case 1:
				circle := append(slices.Clone(way[slices.Index(way, e.use.unit.Name):]), e.use.unit.Name)
				ps.At(e.use.Place, "manifests use one another in a circle: "+strings.Join(circle, " uses "),
					"take one of the uses out")
				e.use.unit = nil
			}
		}
		way = way[:len(way)-1]
		state[u] = 2
	}
	for _, name := range value.Keys(p.units) {
		if state[p.units[name]] == 0 {
			visit(p.units[name])
		}
	}
}

// checkGiven compiles the values that groups and hosts give to params, and the
// call's own.
func (p *Project) checkGiven(ps *problem.Problems) {
	scope := expr.Scope{Roots: []string{"host", "facts", "data", "env"}, What: "a value for a param"}
	take := func(list []inventory.Given, who string) {
		for _, g := range list {
			if _, done := p.given[g.Node]; done {
				continue
			}
			u := p.units[g.Manifest]
			switch {
			case u == nil:
				ps.At(g.Node.Place, fmt.Sprintf("%s gives params to the manifest %q, which is not there", who, g.Manifest),
					problem.Meant(g.Manifest, value.Keys(p.units), "take them out"))
				continue
			case u.param(g.Param) == nil:
				ps.At(g.Node.Place, fmt.Sprintf("the manifest %s has no param %q", g.Manifest, g.Param),
					problem.Meant(g.Param, u.paramNames(), "it has "+orNone(u.paramNames())))
				continue
			}
			s := scope
			if g.Ranged {
				s = s.And("n")
			}
			e, err := p.compileNode(g.Node, "", s)
			if err != nil {
				ps.AddErr(g.Node.Place, err)
			}
			if err != nil || e.dynamic {
				p.given[g.Node] = e
				continue
			}
			v, _ := e.value(nil) // a literal needs no variables and cannot fail
			if text, ok := v.(string); ok && text != "" && u.param(g.Param).Type == "secret" {
				p.advice.Add(problem.Problem{Place: g.Node.Place, Code: "plain-secret",
					What: fmt.Sprintf("the secret of the param %s.%s stands in plain text", g.Manifest, g.Param),
					Do:   "seal it, and write ${data.NAME} here", Way: problem.SealSecret})
			}
			if _, err := u.param(g.Param).Check(v); err != nil {
				ps.AddErr(g.Node.Place, fmt.Errorf("the param %s.%s: %w", g.Manifest, g.Param, err))
				e.failed = true
			}
			p.given[g.Node] = e
		}
	}
	for _, g := range p.Inventory.Groups {
		take(g.Params, "group "+g.Name)
	}
	for _, h := range p.Inventory.Hosts {
		take(h.Params, "host "+h.Name)
	}
	for _, key := range value.Keys(p.options.Params) {
		at := strings.LastIndexByte(key, '.')
		u := p.units[key[:max(at, 0)]]
		if u == nil || u.param(key[at+1:]) == nil {
			ps.AddErr(value.Place{}, problem.Errorf("%s names no param of a manifest", key).
				By(problem.GiveParam, "MANIFEST.NAME"))
			continue
		}
		v, err := u.param(key[at+1:]).FromText(p.options.Params[key])
		if u.param(key[at+1:]).Type == "secret" {
			err = problem.Errorf("a secret on a command line can be seen by everyone on this machine").Remedy("seal it").
				By(problem.SealSecret)
		}
		if err == nil {
			_, err = u.param(key[at+1:]).Check(v)
		}
		if err != nil {
			ps.AddErr(value.Place{}, fmt.Errorf("--param %s: %w", key, err))
		}
	}
}

// Check resolves every host without facts and gives every problem that this
// shows, on top of those that Load gave.
func Check(files fs.FS, schemas schema.Kinds, options Options) (*Project, error) {
	p, err := Load(files, schemas, options)
	if p == nil {
		return nil, err
	}
	var ps problem.Problems
	ps.AddErr(value.Place{}, err)
	ps.AddErr(value.Place{}, p.Data.ReadAll().Err())
	if p.ReadsFleet() {
		p.Fleet = p.Snapshot(nil)
	}
	w := newTally()
	for _, h := range p.Inventory.Hosts {
		r := p.resolver(h, nil)
		r.tally, r.explain = w, true
		r.run()
		if r.problems.Err() == nil {
			r.implied()
		}
		w.host(r)
		r.problems.On(h.Name)
		ps.AddErr(h.Place, r.problems.Err())
	}
	wrong, advice := ps.Split()
	p.advice.AddErr(value.Place{}, advice.Err())
	if wrong.Err() == nil {
		p.advise(w)
	}
	return p, wrong.Err()
}

// CheckHosts resolves hosts as far as that goes without facts, and gives every
// problem that this shows.
func (p *Project) CheckHosts(hosts []*inventory.Host) error {
	var ps problem.Problems
	for _, h := range hosts {
		_, err := p.Plan(h, nil)
		ps.AddErr(h.Place, err)
	}
	return ps.Err()
}

// ReadsServices says whether anything reads facts.services, which a host reads
// only when asked to.
func (p *Project) ReadsServices() bool { return p.services }

// ReadsFleet says whether anything may read what is known of other hosts.
func (p *Project) ReadsFleet() bool {
	for _, u := range p.units {
		for _, e := range u.entries {
			if e.decl != nil && e.decl.readsFleet() || e.use != nil && e.use.readsFleet() {
				return true
			}
		}
	}
	return false
}

func (d *decl) readsFleet() bool {
	return readsFleet(d.cond, d.loop) || slices.ContainsFunc(d.attrs, func(a attr) bool {
		if a.Schema.Type == schema.Template && (a.template == nil || readsRoot(a.template.Reads(), "fleet")) {
			return true
		}
		return slices.ContainsFunc(a.texts, func(t *expr.Text) bool {
			return slices.ContainsFunc(t.Programs(), func(p *expr.Program) bool { return p.ReadsRoot("fleet") })
		})
	})
}

func (u *use) readsFleet() bool {
	return readsFleet(u.cond, u.loop) || slices.ContainsFunc(u.params, func(p usedParam) bool {
		return slices.ContainsFunc(p.eval.texts, func(t *expr.Text) bool {
			return slices.ContainsFunc(t.Programs(), func(p *expr.Program) bool { return p.ReadsRoot("fleet") })
		})
	})
}

func readsFleet(cond *expr.Program, loop []clause) bool {
	return cond != nil && cond.ReadsRoot("fleet") || slices.ContainsFunc(loop,
		func(c clause) bool { return c.list.ReadsRoot("fleet") })
}

func readsRoot(paths [][]string, root string) bool {
	return slices.ContainsFunc(paths, func(p []string) bool { return p[0] == root })
}

// Declarations counts what the project's manifests declare.
func (p *Project) Declarations() (manifests, declarations int) {
	for _, u := range p.units {
		for _, e := range u.entries {
			if e.decl != nil {
				declarations++
			}
		}
	}
	return len(p.units), declarations
}

// Open gives the bytes of a content.
func (p *Project) Open(s plan.Bytes) (io.ReadCloser, error) {
	if s.Path == "" {
		return io.NopCloser(strings.NewReader(s.Text)), nil
	}
	return p.files.Open(s.Path)
}

// decl is a declaration compiled: what does not depend on the host is
// evaluated already.
type decl struct {
	*manifest.Decl
	dir   string
	unit  string // the manifest
	cond  *expr.Program
	inner bool // the condition names a variable of the loop
	loop  []clause
	scope expr.Scope
	name  *expr.Text // nil when Decl.Name is final
	attrs []attr
}

type attr struct {
	manifest.Attr
	fixed    any // the checked value, when it is the same for every host
	dynamic  func(*expr.Vars) (any, error)
	template *expr.Template // of a fixed template path
	texts    []*expr.Text   // the expressions in it
	bad      bool           // reported already
}

func (p *Project) compile(m *manifest.Manifest, d *manifest.Decl, ps *problem.Problems) *decl {
	out := &decl{Decl: d, dir: m.Dir, unit: m.Name}
	if a, ok := d.Attr(schema.For); ok {
		out.loop, out.scope = p.compileLoop(a.Node, expr.Scope{}, ps)
	}
	if manifest.Interpolated(d.Name) {
		var err error
		out.name, err = expr.ParseText(d.Name, func(int) value.Place { return d.Place }, "", out.scope)
		ps.AddErr(d.Place, err)
		if err == nil && out.name.ReadsFact("services") {
			p.services = true
		}
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
			prog, err := expr.Compile(text, a.Node.At, out.scope)
			ps.AddErr(a.Node.Place, err)
			if err == nil {
				out.cond = prog
				out.inner = slices.ContainsFunc(out.scope.Locals, prog.ReadsRoot)
				p.services = p.services || prog.ReadsFact("services")
			}
			continue
		}
		out.attrs = append(out.attrs, p.compileAttr(out, a, ps))
	}
	return out
}

func (p *Project) compileAttr(d *decl, a manifest.Attr, ps *problem.Problems) attr {
	out := attr{Attr: a}
	keep := ""
	if a.Schema.Type == schema.Command {
		keep = expr.Candidate
	}
	if a.Schema.Name == schema.Labels { // words, not evaluated
		out.fixed = a.Node.Plain()
		return out
	}
	eval, err := p.compileNode(a.Node, keep, d.scope)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.bad = true
		return out
	}
	if eval.dynamic {
		out.dynamic, out.texts = eval.value, eval.texts
		p.services = p.services || a.Schema.Type == schema.Template // which one, and what it reads, a host will tell
		return out
	}
	v, _ := eval.value(nil) // a literal needs no variables and cannot fail
	out.fixed, err = a.Schema.Value(v)
	if err != nil {
		ps.AddErr(a.Node.Place, err)
		out.bad = true
		return out
	}
	if rel, ok := out.fixed.(string); ok && a.Schema.Type == schema.Template {
		out.template, err = p.template(path.Join(d.dir, rel))
		ps.AddErr(a.Node.Place, err)
		out.bad = err != nil
		p.services = p.services || err == nil && out.template.ReadsFact("services")
	}
	if rel, ok := out.fixed.(string); ok && a.Schema.Type == schema.Copy {
		if _, err := p.copyOf(path.Join(d.dir, rel)); err != nil {
			ps.AddErr(a.Node.Place, err)
			out.bad = true
		}
	}
	return out
}

// evaluator is a value that may depend on the host.
type evaluator struct {
	value   func(*expr.Vars) (any, error)
	dynamic bool
	failed  bool // reported already
	texts   []*expr.Text
}

func (p *Project) compileNode(n *manifest.Node, keep string, scope expr.Scope) (evaluator, error) {
	if text, ok := n.Value.(string); ok && n.Kind == manifest.Scalar && manifest.Interpolated(text) {
		t, err := expr.ParseText(text, n.At, keep, scope)
		if err != nil {
			return evaluator{}, err
		}
		p.services = p.services || t.ReadsFact("services")
		return evaluator{value: t.Eval, dynamic: true, texts: []*expr.Text{t}}, nil
	}
	if n.Kind == manifest.Scalar {
		v := n.Plain()
		return evaluator{value: func(*expr.Vars) (any, error) { return v, nil }}, nil
	}
	var keys []string
	nodes := n.Items
	for _, k := range n.Keys {
		keys, nodes = append(keys, k.Name), append(nodes, k.Node)
	}
	var items []evaluator
	out := evaluator{}
	for _, item := range nodes {
		e, err := p.compileNode(item, keep, scope)
		if err != nil {
			return evaluator{}, err
		}
		items = append(items, e)
		out.dynamic = out.dynamic || e.dynamic
		out.texts = append(out.texts, e.texts...)
	}
	if !out.dynamic {
		v := n.Plain()
		out.value = func(*expr.Vars) (any, error) { return v, nil }
		return out, nil
	}
	out.value = func(vars *expr.Vars) (any, error) {
		list := make([]any, len(items))
		for i, item := range items {
			v, err := item.value(vars)
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

// maxTemplate bounds a template's source, in bytes.
const maxTemplate = 4 << 20

// template compiles a template of the project. An error of the template itself
// has its place; any other is one of whatever names it.
func (p *Project) template(name string) (*expr.Template, error) {
	t, _ := p.templates.LoadOrStore(name, sync.OnceValues(func() (*expr.Template, error) {
		info, err := fs.Stat(p.files, name)
		if err != nil {
			return nil, problem.Errorf("the template %s cannot be read", name).Remedy("%s", nearestFile(p.files, name))
		}
		if info.IsDir() || info.Size() > maxTemplate {
			return nil, problem.Errorf("the template %s is a folder or larger than 4 MiB", name).
				Remedy("use copy for large files")
		}
		text, err := fs.ReadFile(p.files, name)
		if err != nil {
			return nil, err
		}
		return expr.ParseTemplate(name, string(text))
	}))
	return t.(func() (*expr.Template, error))()
}

func nearestFile(files fs.FS, name string) string {
	entries, _ := fs.ReadDir(files, path.Dir(name))
	var names []string
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return problem.Meant(path.Base(name), names, "it is looked for in "+path.Dir(name))
}

// copyOf gives the hash of a project file, reading each file once.
func (p *Project) copyOf(name string) (plan.Content, error) {
	f, _ := p.copies.LoadOrStore(name, sync.OnceValues(func() (plan.Content, error) {
		f, err := p.files.Open(name)
		if err != nil {
			return plan.Content{}, problem.Errorf("the file %s cannot be read", name).Remedy("%s", nearestFile(p.files, name))
		}
		defer f.Close()
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
			return plan.Content{}, fmt.Errorf("%s is no regular file", name)
		}
		h := sha256.New()
		n, err := io.Copy(h, f)
		if err != nil {
			return plan.Content{}, fmt.Errorf("read %s: %w", name, err)
		}
		return plan.Content{SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, nil
	}))
	return f.(func() (plan.Content, error))()
}

func contentOf(text string) plan.Content {
	sum := sha256.Sum256([]byte(text))
	return plan.Content{SHA256: hex.EncodeToString(sum[:]), Size: int64(len(text))}
}
