package resolve

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Plan resolves one host. With facts nil it checks what can be checked without
// them: what depends on facts is left unevaluated. The error is a
// *problem.Problems that names the host.
func (p *Project) Plan(h *inventory.Host, f *facts.Facts) (*plan.Plan, error) {
	r := p.resolver(h, f)
	r.tally = p.tally
	r.run()
	if err := r.problems.Err(); err != nil {
		r.problems.On(h.Name)
		return nil, err
	}
	r.implied()
	if err := r.problems.Err(); err != nil {
		r.problems.On(h.Name)
		return nil, err
	}
	r.order()
	return r.plan, nil
}

// resolver makes ready to resolve one host.
func (p *Project) resolver(h *inventory.Host, f *facts.Facts) *resolver {
	r := &resolver{
		project: p,
		host:    h,
		plan:    &plan.Plan{Contents: map[string]plan.Bytes{}},
		byRef:   map[value.Ref]*item{},
		bySpace: map[value.Ref]*item{},
		open:    map[string]bool{},
	}
	tree := f.Tree()
	var err error
	if r.groups, err = p.Inventory.GroupsOf(h, tree); err != nil {
		r.problems.AddErr(h.Place, err)
	}
	if f == nil {
		r.maybe = h.Maybe
	}
	r.vars = &expr.Vars{Host: h.WithGroups(r.groups), Facts: tree, Env: p.Settings.Env, Fleet: p.Fleet}
	data, err := p.Data.For(r.layerHost())
	if err != nil {
		r.problems.AddErr(h.Place, err)
		r.dataless = true
	}
	if data.Values == nil {
		data.Values = map[string]any{}
	}
	r.vars.Data, r.vars.Missing = data.Values, data.Missing
	r.vars.Secrets = p.secretsIn(data.Values)
	r.vars.Blind = p.Data.Blind()
	return r
}

// secretsIn lists the paths to secrets in a tree of data.
func (p *Project) secretsIn(tree map[string]any) [][]string {
	if !p.Data.Sealed() {
		return nil
	}
	return expr.SecretPaths("data", tree)
}

func (r *resolver) layerHost() layers.Host {
	return layers.Host{Vars: r.vars, Groups: groupNames(r.groups), Maybe: groupNames(r.maybe)}
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
		return // every value that is missing now would be told as well
	}
	taken := map[string]bool{}
	take := func(groups []*inventory.Group, maybe bool) {
		for _, g := range groups {
			for _, m := range g.Manifests {
				u := r.project.units[m.Manifest]
				if u == nil || taken[m.Manifest] {
					continue
				}
				taken[m.Manifest] = true
				r.instance(u, &context{group: g, from: m, maybe: maybe}, nil)
			}
		}
	}
	take(r.groups, false)
	take(r.maybe, true)
	r.explicit()
	r.circles()
}

// context is how a declaration came to a host.
type context struct {
	group *inventory.Group
	from  inventory.Use // by which the group gives the manifest
	uses  []usedAt      // from the group's manifest inwards
	maybe bool          // only if facts that are not known say so
	vars  *expr.Vars
	unit  *unit
	given []usedParam // that the use gives
	outer *expr.Vars  // which these are evaluated with
}

// usedAt is a use with the values that it was evaluated with.
type usedAt struct {
	*use
	vars *expr.Vars
}

// instance evaluates a manifest with its params. given are those of a use.
func (r *resolver) instance(u *unit, c *context, given []usedParam) {
	from := c.vars
	c.unit, c.given, c.outer = u, given, from
	if r.explain && len(given) > 0 {
		r.used = append(r.used, c)
	}
	c.vars = r.vars
	if len(u.params) > 0 {
		values := make(map[string]any, len(u.params))
		var missing [][]string
		good := true
		for _, d := range u.params {
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
		c.vars = r.vars.WithParam(values, missing)
	}
	for _, e := range u.entries {
		if e.decl != nil {
			r.declare(c, e.decl)
			continue
		}
		r.use(c, e.use)
	}
}

// use evaluates the manifest that another pulls in.
func (r *resolver) use(c *context, u *use) {
	if u.unit == nil {
		return // reported already
	}
	maybe := c.maybe
	// wanted asks the condition, where there is one.
	wanted := func(vars *expr.Vars) bool {
		yes, known, err := r.ask(u.cond, vars)
		if err != nil {
			r.problems.AddErr(u.Place, err)
			return false
		}
		if known && !yes {
			r.without(u.unit)
			r.plan.LeftOut = append(r.plan.LeftOut, plan.Omitted{Ref: value.Ref{Kind: "use", Name: u.Name}, Place: u.Place,
				Reason: "its condition is false: " + u.cond.Text()})
			return false
		}
		maybe = maybe || !known
		return true
	}
	if u.cond != nil && !u.inner && !wanted(c.vars) {
		return
	}
	each := func(vars *expr.Vars) {
		if u.cond != nil && u.inner && !wanted(vars) {
			return
		}
		inner := &context{group: c.group, from: c.from, uses: append(c.uses[:len(c.uses):len(c.uses)], usedAt{u, vars}),
			maybe: maybe, vars: vars}
		r.instance(u.unit, inner, u.params)
	}
	if err := r.loop(u.loop, c.vars, each); err != nil {
		r.problems.AddErr(u.Place, err)
	}
}

// without notes that what a manifest declares is left out, so that a reference
// to it is no mistake.
func (r *resolver) without(u *unit) {
	for _, e := range u.entries {
		switch {
		case e.use != nil && e.use.unit != nil:
			r.without(e.use.unit)
		case e.decl != nil:
			r.leave(value.Ref{Kind: e.decl.Kind.Name, Name: e.decl.Name}, e.decl.name == nil)
		}
	}
}

// leave notes what is left out. Of one whose name is not evaluated only the
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
// known without facts is not gone through.
func (r *resolver) loop(clauses []clause, vars *expr.Vars, each func(*expr.Vars)) error {
	if len(clauses) == 0 {
		if r.looped++; r.looped > maxLooped {
			return problem.Errorf("the loops of this host go round more than %d times", maxLooped).
				Remedy("loop over shorter lists")
		}
		each(vars)
		return nil
	}
	c := clauses[0]
	v, err := c.list.Eval(vars)
	if err != nil {
		return err
	}
	step := func(vars *expr.Vars) error { return r.loop(clauses[1:], vars, each) }
	switch v := v.(type) {
	case expr.Unknown:
		r.open["*"] = true
		return nil
	case []any:
		for i, item := range v {
			if _, secret := item.(value.Secret); secret {
				return problem.Problem{Place: c.list.At(0), What: "the loop goes over secrets, which would show in names",
					Do: "loop over a list that holds none, and look the secrets up"}
			}
			inner := vars.With(c.names[len(c.names)-1], item)
			if len(c.names) == 2 {
				inner = inner.With(c.names[0], int64(i))
			}
			if err := step(inner); err != nil {
				return err
			}
		}
		return nil
	case map[string]any:
		if len(c.names) == 1 {
			return problem.Problem{Place: c.list.At(0), What: "the loop goes over a table with one variable",
				Do: fmt.Sprintf("write for = \"key, %s in ...\", or go over keys(...) or values(...)", c.names[0])}
		}
		for _, k := range value.Keys(v) {
			if err := step(vars.With(c.names[0], k).With(c.names[1], v[k])); err != nil {
				return err
			}
		}
		return nil
	}
	return problem.Problem{Place: c.list.At(0), What: fmt.Sprintf("the loop goes over %s, not a list or a table",
		value.TypeName(v)), Do: "name a list, such as data.keepers"}
}

// item is a declaration evaluated for one host.
type item struct {
	kind     *schema.Kind
	task     plan.Task
	decl     *decl
	vars     *expr.Vars
	contexts []*context // how it came here, one for each place that declares it
	maybe    bool       // its condition depends on facts not known
	partial  bool       // an attribute depends on facts not known

	needs  []*item  // what it needs, explicit first
	whys   []string // for each of needs, when that is to be explained
	only   []*item  // of these one must have changed
	placed bool
	mark   int // of the last search that came by
}

type resolver struct {
	project  *Project
	host     *inventory.Host
	groups   []*inventory.Group
	maybe    []*inventory.Group // that it is in if its facts say so
	vars     *expr.Vars         // without params
	explain  bool               // keep what was left out, for why
	tally    *tally             // told of conditions; may be nil
	omitted  []*item
	used     []*context      // by uses that give params, when explaining
	dataless bool            // the data could not be put together
	open     map[string]bool // kinds of which some names are not known; * for all
	plan     *plan.Plan
	problems problem.Problems

	items   []*item
	byRef   map[value.Ref]*item
	bySpace map[value.Ref]*item // by name space and name
	left    map[value.Ref]bool
	dropped [][2]*item // implied edges that contradict those written
	search  int
	looped  int // how often loops have gone round
}

// declare evaluates a declaration: the condition when it does not look at the
// loop, then the loop, and for each item the name, the condition, the attributes.
func (r *resolver) declare(c *context, d *decl) {
	maybe := c.maybe
	if d.cond != nil && !d.inner {
		yes, known, err := r.ask(d.cond, c.vars)
		if err != nil {
			r.problems.AddErr(d.Place, err)
			return
		}
		if known && !yes {
			r.leaveOut(c, d, d.Name, d.name == nil, c.vars)
			return
		}
		maybe = maybe || !known
	}
	err := r.loop(d.loop, c.vars, func(vars *expr.Vars) { r.one(c, d, vars, maybe) })
	if err != nil {
		r.problems.AddErr(d.Place, err)
	}
}

// ask evaluates a condition.
func (r *resolver) ask(p *expr.Program, vars *expr.Vars) (yes, known bool, err error) {
	yes, known, err = p.Bool(vars)
	if r.tally != nil {
		r.tally.condition(p, yes, known && err == nil)
	}
	return yes, known, err
}

// one evaluates a declaration for one item of its loop, or without one.
func (r *resolver) one(c *context, d *decl, vars *expr.Vars, maybe bool) {
	if d.cond != nil && d.inner {
		yes, known, err := r.ask(d.cond, vars)
		if err != nil {
			r.problems.AddErr(d.Place, err)
			return
		}
		if known && !yes {
			name, final := r.nameOfOmitted(d, vars)
			r.leaveOut(c, d, name, final, vars)
			return
		}
		maybe = maybe || !known
	}
	name, ok := r.name(d, vars)
	if !ok {
		return
	}
	it := &item{kind: d.Kind, decl: d, maybe: maybe, vars: vars, contexts: []*context{c}}
	it.task = plan.Task{Ref: value.Ref{Kind: d.Kind.Name, Name: name}, Attrs: make(value.Attrs, len(d.attrs)),
		Places: []value.Place{d.Place}, Manifests: []string{d.unit}}
	good := true
	for i := range d.attrs {
		good = r.attr(it, &d.attrs[i]) && good
	}
	if good && !it.partial && d.Kind.Check != nil {
		if blame, err := d.Kind.Check(name, it.task.Attrs); err != nil {
			at := d.Place
			if a, ok := d.Attr(blame); ok {
				at = a.Node.Place
			}
			r.problems.AddErr(at, err)
			return
		}
	}
	it.task.Absent = it.task.Attrs.Bool("absent")
	if good && !it.task.Absent {
		r.required(it)
	}
	r.add(it)
}

// required reports the attributes that the kind wants and that are not given.
func (r *resolver) required(it *item) {
	for _, at := range it.kind.Attrs {
		if _, given := it.decl.Attr(at.Name); at.Required && !given {
			r.problems.AddErr(it.decl.Place, problem.Errorf("%s has no %s, which it needs", it.task.Ref, at.Name).
				By(problem.ShowKind, it.kind.Name))
		}
	}
}

// leaveOut notes what a condition left out. final says that the name is
// evaluated.
func (r *resolver) leaveOut(c *context, d *decl, name string, final bool, vars *expr.Vars) {
	ref := value.Ref{Kind: d.Kind.Name, Name: name}
	r.leave(ref, final)
	if r.explain {
		r.omitted = append(r.omitted, &item{kind: d.Kind, decl: d, vars: vars, contexts: []*context{c},
			task: plan.Task{Ref: ref}})
	}
	r.plan.LeftOut = append(r.plan.LeftOut, plan.Omitted{Ref: ref, Place: d.Place, Reason: "its condition is false: " +
		d.cond.Text()})
}

// nameOfOmitted names an item that is left out, by what is written where the
// name cannot be evaluated: nobody looks further at what is left out.
func (r *resolver) nameOfOmitted(d *decl, vars *expr.Vars) (name string, final bool) {
	if d.name == nil {
		return d.Name, true
	}
	v, err := d.name.Eval(vars)
	text, ok := v.(string)
	if err != nil || !ok {
		return d.Name, false
	}
	if name, err = d.Kind.Canon(text); err != nil {
		return text, false
	}
	return name, true
}

func (r *resolver) name(d *decl, vars *expr.Vars) (string, bool) {
	if d.name == nil {
		return d.Name, d.Name != ""
	}
	v, err := d.name.Eval(vars)
	if err != nil {
		r.problems.AddErr(d.Place, err)
		return "", false
	}
	switch v.(type) {
	case expr.Unknown:
		r.open[d.Kind.Name] = true
		return "", false
	case string:
	case value.Secret:
		r.problems.At(d.Place, "the name is made of a secret, and names are shown", "make it of something else")
		return "", false
	default:
		r.problems.At(d.Place, fmt.Sprintf("the name gives %s, not text", value.TypeName(v)), "")
		return "", false
	}
	name, err := d.Kind.Canon(v.(string))
	if err != nil {
		r.problems.AddErr(d.Place, fmt.Errorf("%s: %w", d.Kind.Name, err))
		return "", false
	}
	return name, true
}

// attr evaluates one attribute into the item.
func (r *resolver) attr(it *item, a *attr) bool {
	if a.bad {
		return false
	}
	v := a.fixed
	if a.dynamic != nil {
		raw, err := a.dynamic(it.vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if _, ok := raw.(expr.Unknown); ok {
			it.partial = true
			return true
		}
		if v, err = a.Schema.Value(raw); err != nil {
			r.problems.AddErr(a.Node.Place, fitting(err, raw))
			return false
		}
	}
	it.task.Attrs[a.Schema.Name] = v
	switch v := v.(type) {
	case string:
		return r.content(it, a, v)
	case value.Secret:
		if a.Schema.Type == schema.Body {
			r.hold(it, v.Reveal(), true)
		}
	}
	return true
}

// fitting replaces the remedy for a number that an expression gave where text
// is wanted.
func fitting(err error, raw any) error {
	switch raw.(type) {
	case int64, float64, bool:
		if p := problem.From(err); strings.HasPrefix(p.Do, "write ") {
			return p.Remedy("make it text: ${string(...)}")
		}
	}
	return err
}

// maxMask bounds a secret that travels to be masked besides the content that it
// went into, in bytes: the worker masks the content itself, whole and by line.
const maxMask = 16 << 10

// hold gives a task its content, with what is to be hidden of it.
func (r *resolver) hold(it *item, text string, secret bool) {
	c := contentOf(text)
	if c.Secret = secret; secret {
		for _, s := range it.vars.SecretsIn(text) {
			if len(s.Reveal()) <= maxMask {
				it.task.Masks = append(it.task.Masks, s)
			}
		}
	}
	it.task.Content = &c
	r.plan.Contents[c.SHA256] = plan.Bytes{Text: text}
}

// content turns the attributes that say what a file holds into a Content.
func (r *resolver) content(it *item, a *attr, text string) bool {
	switch a.Schema.Type {
	case schema.Body:
		r.hold(it, text, false)
	case schema.Copy:
		name := path.Join(it.decl.dir, text)
		c, err := r.project.copyOf(name)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		it.task.Content = &c
		r.plan.Contents[c.SHA256] = plan.Bytes{Path: name}
	case schema.Template:
		t := a.template
		if t == nil {
			var err error
			if t, err = r.project.template(path.Join(it.decl.dir, text)); err != nil {
				r.problems.AddErr(a.Node.Place, err)
				return false
			}
		}
		out, known, secret, err := t.Execute(it.vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if !known {
			it.partial = true
			return true
		}
		r.hold(it, out, secret)
	}
	return true
}

// add puts an item into the host's set, joining equal declarations.
func (r *resolver) add(it *item) {
	key := value.Ref{Kind: it.kind.NameSpace(), Name: it.task.Ref.Name}
	first := r.bySpace[key]
	if first != nil && first.decl == it.decl && first.contexts[0] == it.contexts[0] {
		r.problems.At(it.decl.Place, fmt.Sprintf("the loop gives %s twice", it.task.Ref),
			"make each name another one, or go over unique(...)")
		return
	}
	if first == nil {
		r.bySpace[key] = it
		r.byRef[it.task.Ref] = it
		r.items = append(r.items, it)
		return
	}
	if first.maybe || it.maybe {
		if r.byRef[it.task.Ref] == nil {
			r.byRef[it.task.Ref] = it
		}
		return // perhaps only one of them holds; the facts will tell
	}
	if diff := difference(first, it); diff != "" {
		also := first.task.Places[0]
		r.problems.Add(problem.Problem{Place: it.decl.Place,
			What: fmt.Sprintf("%s is declared in two ways: %s; first at %s", it.task.Ref, diff, also),
			Do:   "say it once, or make both equal", Also: []value.Place{also}})
		return
	}
	first.contexts = append(first.contexts, it.contexts...)
	if slices.Contains(first.task.Places, it.decl.Place) {
		return // one manifest, used twice
	}
	first.task.Places = append(first.task.Places, it.decl.Place)
	first.task.Manifests = append(first.task.Manifests, it.task.Manifests...)
}

// difference says in what two declarations of one thing differ, or "".
func difference(a, b *item) string {
	if a.kind != b.kind {
		return fmt.Sprintf("as a %s and as a %s", a.kind.Name, b.kind.Name)
	}
	if a.partial || b.partial {
		return ""
	}
	names := map[string]bool{}
	for k := range a.task.Attrs {
		names[k] = true
	}
	for k := range b.task.Attrs {
		names[k] = true
	}
	for _, k := range value.Keys(names) {
		if isContent(a.kind, k) {
			continue // what they come to is compared below
		}
		if !value.Equal(a.task.Attrs[k], b.task.Attrs[k]) {
			if _, secret := a.task.Attrs.Secret(k); secret {
				return k + " differs"
			}
			return fmt.Sprintf("%s is %s and %s", k, written(a.task.Attrs, k), written(b.task.Attrs, k))
		}
	}
	ca, cb := a.task.Content, b.task.Content
	if (ca == nil) != (cb == nil) || ca != nil && ca.SHA256 != cb.SHA256 {
		return "the content differs"
	}
	return ""
}

// isContent says whether an attribute only serves to make a Content.
func isContent(k *schema.Kind, name string) bool {
	a, _ := k.Attr(name)
	return a.Type == schema.Body || a.Type == schema.Template || a.Type == schema.Copy
}

func written(a value.Attrs, name string) string {
	v, there := a[name]
	if !there {
		return "not set"
	}
	return schema.Literal(v)
}

// explicit adds the edges that are written: after, before, restart_on, reload_on.
func (r *resolver) explicit() {
	for _, it := range r.items {
		for _, a := range it.decl.attrs {
			if a.Schema.Type != schema.RefTo {
				continue
			}
			it.task.Follows = it.task.Follows || a.Schema.Name == schema.OnlyAfter
			for _, text := range it.task.Attrs.Texts(a.Schema.Name) {
				other := r.lookup(it, &a, text)
				if other == nil {
					continue
				}
				if a.Schema.Owes != "" {
					other.task.Owes = append(other.task.Owes, plan.Owed{Service: it.task.Ref, Action: a.Schema.Owes})
				}
				if a.Schema.Name == schema.OnlyAfter {
					it.only = append(it.only, other)
				}
				if a.Schema.Turned {
					r.need(other, it, a.Schema.Name+" of "+it.task.Ref.String())
					continue
				}
				r.need(it, other, a.Schema.Name)
			}
		}
	}
}

// need notes that one item needs another, and why.
func (r *resolver) need(it, other *item, why string) {
	if slices.Contains(it.needs, other) {
		return
	}
	it.needs = append(it.needs, other)
	if r.explain {
		it.whys = append(it.whys, why)
	}
}

// lookup finds what a reference names. What was left out gives nil; what is not
// there at all is a problem.
func (r *resolver) lookup(it *item, a *attr, text string) *item {
	at := a.Node.Place
	for _, n := range a.Node.Items {
		if n.Value == text {
			at = n.Place
		}
	}
	ref, err := r.project.schemas.ParseRef(text)
	if err != nil {
		r.problems.AddErr(at, err)
		return nil
	}
	if other := r.byRef[ref]; other != nil {
		return other
	}
	if r.left[ref] || r.open["*"] || r.open[ref.Kind] {
		return nil
	}
	var names []string
	for _, other := range r.items {
		names = append(names, other.task.Ref.String())
	}
	r.problems.At(at, fmt.Sprintf("%s of %s names %s, which is not declared there", a.Schema.Name, it.task.Ref, ref),
		problem.Meant(ref.String(), names, "declare it, or take the reference out"))
	return nil
}

// circles reports circles among the written edges.
func (r *resolver) circles() {
	const (
		onPath = 1
		done   = 2
	)
	state := map[*item]int{}
	var path []*item
	var visit func(it *item)
	visit = func(it *item) {
		state[it] = onPath
		path = append(path, it)
		for _, n := range it.needs {
			switch state[n] {
			case 0:
				visit(n)
			case onPath:
				var names []string
				for _, on := range path[slices.Index(path, n):] {
					names = append(names, on.task.Ref.String())
				}
				names = append(names, n.task.Ref.String())
				r.problems.At(it.decl.Place, "these need one another in a circle: "+strings.Join(names, " needs "),
					"take one of the references out")
			}
		}
		path = path[:len(path)-1]
		state[it] = done
	}
	for _, it := range r.items {
		if state[it] == 0 {
			visit(it)
		}
	}
}

// implied adds the edges that kinds imply, dropping those that contradict what
// is there. When both ends are absent the edge turns round; a need for what is
// to be absent is none.
func (r *resolver) implied() {
	declared := func(ref value.Ref) bool { return r.byRef[ref] != nil }
	for _, it := range r.items {
		if it.kind.Needs == nil {
			continue
		}
		for _, ref := range it.kind.Needs(schema.Needer{Ref: it.task.Ref, Attrs: it.task.Attrs, Declared: declared}) {
			other := r.byRef[ref]
			if other == nil || other == it {
				continue
			}
			from, to := it, other
			if it.task.Absent && other.task.Absent {
				from, to = other, it
			} else if other.task.Absent || it.task.Absent {
				r.buried(it, other)
				continue
			}
			if !r.reaches(to, from) {
				r.need(from, to, "implied")
			} else if r.explain {
				r.dropped = append(r.dropped, [2]*item{from, to})
			}
		}
	}
}

// buried reports what is declared below something that is declared absent.
func (r *resolver) buried(it, other *item) {
	if it.task.Absent || it.maybe || other.maybe || it.kind.NameSpace() != other.kind.NameSpace() {
		return
	}
	at := other.task.Places[0]
	r.problems.Add(problem.Problem{Place: it.decl.Place,
		What: fmt.Sprintf("%s lies below %s, which is declared absent at %s", it.task.Ref, other.task.Ref, at),
		Do:   "take one of them out", Also: []value.Place{at}})
}

// reaches says whether from needs to, through any number of steps.
func (r *resolver) reaches(from, to *item) bool {
	r.search++
	var visit func(it *item) bool
	visit = func(it *item) bool {
		if it == to {
			return true
		}
		if it.mark == r.search {
			return false
		}
		it.mark = r.search
		return slices.ContainsFunc(it.needs, visit)
	}
	return visit(from)
}

// order places the items: in the order declared, each just after what it needs
// and is not placed yet. Tasks get their final numbers.
func (r *resolver) order() {
	index := make(map[*item]int, len(r.items))
	for i, it := range r.items {
		index[it] = i
	}
	var placed []*item
	var place func(it *item)
	place = func(it *item) {
		if it.placed {
			return
		}
		it.placed = true
		needs := slices.Clone(it.needs)
		slices.SortFunc(needs, func(a, b *item) int { return cmp.Compare(index[a], index[b]) })
		for _, n := range needs {
			place(n)
		}
		it.task.ID = len(placed)
		placed = append(placed, it)
	}
	for _, it := range r.items {
		place(it)
	}
	ids := func(list []*item) []int {
		var out []int
		for _, it := range list {
			out = append(out, it.task.ID)
		}
		slices.Sort(out)
		return out
	}
	r.plan.Tasks = make([]plan.Task, len(placed))
	for i, it := range placed {
		it.task.Needs = ids(it.needs)
		it.task.Only = ids(it.only)
		it.task.Labels = it.task.Attrs.Texts(schema.Labels)
		for name := range it.task.Attrs {
			if a, _ := it.kind.Attr(name); name == "absent" || name == schema.Labels || a.Type == schema.RefTo ||
				isContent(it.kind, name) {
				delete(it.task.Attrs, name) // the plan says it in other fields
			}
		}
		r.plan.Tasks[i] = it.task
	}
}
