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
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Plan resolves one host. With facts nil it checks what can be checked without
// them: what depends on facts is left unevaluated. The error is a
// *value.Problems that names the host.
func (p *Project) Plan(h *inventory.Host, f *facts.Facts) (*plan.Plan, error) {
	r := resolver{
		project: p,
		host:    h,
		vars:    &expr.Vars{Host: h.Vars, Data: p.data.For(h.Name)},
		plan:    &plan.Plan{Contents: map[string]plan.Source{}},
		byRef:   map[value.Ref]*item{},
		bySpace: map[value.Ref]*item{},
	}
	if f != nil {
		r.vars.Facts = f.Tree()
	}
	for _, name := range manifestsOf(h) {
		for _, d := range p.decls[name] {
			r.declare(name, d)
		}
	}
	r.explicit()
	r.circles()
	if err := r.problems.Err(); err != nil {
		r.problems.On(h.Name)
		return nil, err
	}
	r.implied()
	r.order()
	return r.plan, nil
}

// item is a declaration evaluated for one host.
type item struct {
	kind    *schema.Kind
	task    plan.Task
	decl    *decl
	maybe   bool // its condition depends on facts not known
	partial bool // an attribute depends on facts not known

	needs  []*item // what it needs, explicit first
	placed bool
	mark   int // of the last search that came by
}

type resolver struct {
	project  *Project
	host     *inventory.Host
	vars     *expr.Vars
	plan     *plan.Plan
	problems value.Problems

	items   []*item
	byRef   map[value.Ref]*item
	bySpace map[value.Ref]*item // by name space and name
	left    map[value.Ref]bool
	search  int
}

func (r *resolver) declare(manifest string, d *decl) {
	maybe := false
	if d.cond != nil {
		yes, known, err := d.cond.Bool(r.vars)
		if err != nil {
			r.problems.AddErr(d.Place, err)
			return
		}
		if known && !yes {
			r.leaveOut(d)
			return
		}
		maybe = !known
	}
	name, ok := r.name(d)
	if !ok {
		return
	}
	it := &item{kind: d.Kind, decl: d, maybe: maybe}
	it.task = plan.Task{Ref: value.Ref{Kind: d.Kind.Name, Name: name}, Attrs: make(value.Attrs, len(d.attrs)), Places: []value.Place{d.Place}, Manifests: []string{manifest}}
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
	r.add(it)
}

func (r *resolver) leaveOut(d *decl) {
	ref := value.Ref{Kind: d.Kind.Name, Name: d.Name}
	if d.name == nil {
		if r.left == nil {
			r.left = map[value.Ref]bool{}
		}
		r.left[ref] = true
	}
	r.plan.LeftOut = append(r.plan.LeftOut, plan.Omitted{Ref: ref, Place: d.Place, Reason: "its condition is false: " + d.cond.Text()})
}

func (r *resolver) name(d *decl) (string, bool) {
	if d.name == nil {
		return d.Name, d.Name != ""
	}
	v, err := d.name.Eval(r.vars)
	if err != nil {
		r.problems.AddErr(d.Place, err)
		return "", false
	}
	switch v.(type) {
	case expr.Unknown:
		return "", false
	case string:
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
		raw, err := a.dynamic(r.vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if _, ok := raw.(expr.Unknown); ok {
			it.partial = true
			return true
		}
		if v, err = a.Schema.Value(raw); err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
	}
	it.task.Attrs[a.Schema.Name] = v
	text, isText := v.(string)
	if !isText {
		return true
	}
	return r.content(it, a, text)
}

// content turns the attributes that say what a file holds into a Content.
func (r *resolver) content(it *item, a *attr, text string) bool {
	var c plan.Content
	var from plan.Source
	switch a.Schema.Type {
	case schema.Body:
		c, from = contentOf(text), plan.Source{Text: text}
	case schema.Copy:
		from.Path = path.Join(it.decl.dir, text)
		var err error
		if c, err = r.project.copyOf(from.Path); err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
	case schema.Template:
		t := a.template
		if t == nil {
			var err error
			if t, err = r.project.template(path.Join(it.decl.dir, text)); err != nil {
				r.problems.AddErr(a.Node.Place, err)
				return false
			}
		}
		out, known, err := t.Execute(r.vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if !known {
			it.partial = true
			return true
		}
		c, from = contentOf(out), plan.Source{Text: out}
	default:
		return true
	}
	it.task.Content = &c
	r.plan.Contents[c.SHA256] = from
	return true
}

// add puts an item into the host's set, joining equal declarations.
func (r *resolver) add(it *item) {
	key := value.Ref{Kind: it.kind.NameSpace(), Name: it.task.Ref.Name}
	first := r.bySpace[key]
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
		r.problems.Add(value.Problem{Place: it.decl.Place, What: fmt.Sprintf("%s is declared in two ways: %s; first at %s", it.task.Ref, diff, also),
			Do: "say it once, or make both equal", Also: []value.Place{also}})
		return
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
			for _, text := range it.task.Attrs.Texts(a.Schema.Name) {
				other := r.lookup(it, &a, text)
				if other == nil {
					continue
				}
				switch a.Schema.Name {
				case "before":
					other.need(it)
				case "restart_on":
					other.task.Owes = append(other.task.Owes, plan.Owed{Service: it.task.Ref, Action: plan.Restart})
					it.need(other)
				case "reload_on":
					other.task.Owes = append(other.task.Owes, plan.Owed{Service: it.task.Ref, Action: plan.Reload})
					it.need(other)
				default:
					it.need(other)
				}
			}
		}
	}
}

func (it *item) need(other *item) {
	if !slices.Contains(it.needs, other) {
		it.needs = append(it.needs, other)
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
	ref, err := r.project.catalog.ParseRef(text)
	if err != nil {
		r.problems.AddErr(at, err)
		return nil
	}
	if other := r.byRef[ref]; other != nil {
		return other
	}
	if r.left[ref] {
		return nil
	}
	var names []string
	for _, other := range r.items {
		names = append(names, other.task.Ref.String())
	}
	r.problems.At(at, fmt.Sprintf("%s of %s names %s, which is not declared there", a.Schema.Name, it.task.Ref, ref),
		value.Meant(ref.String(), names, "declare it, or take the reference out"))
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
				r.problems.At(it.decl.Place, "these need one another in a circle: "+strings.Join(names, " needs "), "take one of the references out")
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
				continue
			}
			if !r.reaches(to, from) {
				from.need(to)
			}
		}
	}
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
		it.task.Labels = it.task.Attrs.Texts(schema.Labels)
		for name := range it.task.Attrs {
			if a, _ := it.kind.Attr(name); name == "absent" || name == schema.Labels || a.Type == schema.RefTo || isContent(it.kind, name) {
				delete(it.task.Attrs, name) // the plan says it in other fields
			}
		}
		r.plan.Tasks[i] = it.task
	}
}
