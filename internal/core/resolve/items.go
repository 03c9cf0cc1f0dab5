package resolve

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// declare evaluates a declaration: the condition when it does not look at the
// loop, then the loop, and for each item the name, the condition, the attributes.
func (r *resolver) declare(c *Context, d *compile.Decl) {
	maybe := c.Maybe
	if d.Cond != nil && !d.Inner {
		yes, known, err := r.ask(d.Cond, c.Vars)
		if err != nil {
			r.problems.AddErr(d.Place, err)
			return
		}
		if known && !yes {
			r.skip(c, d, d.Name, d.Naming == nil, c.Vars)
			return
		}
		maybe = maybe || !known
	}
	err := r.loop(d.Loop, d.Kind.Name, c.Vars, func(vars *expr.Vars) { r.one(c, d, vars, maybe) })
	if err != nil {
		r.problems.AddErr(d.Place, err)
	}
}

// ask evaluates a condition.
func (r *resolver) ask(p *expr.Program, vars *expr.Vars) (yes, known bool, err error) {
	yes, known, err = p.Bool(vars)
	if r.asked != nil {
		r.asked(p, yes, known && err == nil)
	}
	return yes, known, err
}

// one evaluates a declaration for one item of its loop, or without one.
func (r *resolver) one(c *Context, d *compile.Decl, vars *expr.Vars, maybe bool) {
	if d.Cond != nil && d.Inner {
		yes, known, err := r.ask(d.Cond, vars)
		if err != nil {
			r.problems.AddErr(d.Place, err)
			return
		}
		if known && !yes {
			name, final := r.nameOfOmitted(d, vars)
			r.skip(c, d, name, final, vars)
			return
		}
		maybe = maybe || !known
	}
	name, ok := r.name(d, vars)
	if !ok {
		return
	}
	it := &Item{Kind: d.Kind, Decl: d, Maybe: maybe, Vars: vars, Contexts: []*Context{c}}
	it.Task = plan.Task{Ref: value.Ref{Kind: d.Kind.Name, Name: name}, Attrs: make(value.Attrs, len(d.Values)),
		Places: []value.Place{d.Place}, Manifests: []string{d.Unit}}
	if d.Kind.Signs && !r.Project.Scratch {
		it.Task.From = d.Place.File
	}
	good := true
	for i := range d.Values {
		good = r.attr(it, &d.Values[i]) && good
	}
	if d.Kind.Program != "" {
		good = r.program(it) && good
	}
	if good && !it.Partial && d.Kind.Check != nil {
		if blame, err := d.Kind.Check(name, it.Task.Attrs); err != nil {
			at := d.Place
			if a, ok := d.Attr(blame); ok {
				at = a.Node.Place
			}
			r.problems.AddErr(at, err)
			return
		}
	}
	if err := checkTries(it); err != nil && good {
		at, _ := d.Attr(schema.Retries)
		r.problems.AddErr(at.Node.Place, err)
		return
	}
	it.Task.Absent = it.Task.Attrs.Bool("absent")
	if good && !it.Task.Absent {
		r.required(it)
	}
	r.add(it)
}

// program gives a task of a custom kind its program, and the values that
// hold where nothing is declared.
func (r *resolver) program(it *Item) bool {
	c, err := r.Project.Copy(it.Kind.Program)
	if err != nil {
		r.problems.AddErr(it.Decl.Place, err)
		return false
	}
	it.Task.Program = &c
	r.plan.Contents[c.SHA256] = plan.Bytes{Path: it.Kind.Program}
	for _, a := range it.Kind.Attrs {
		if a.Fill != nil && !it.Task.Attrs.Has(a.Name) {
			it.Task.Attrs[a.Name] = a.Fill
		}
	}
	return true
}

// required reports the attributes that the kind wants and that are not given.
func (r *resolver) required(it *Item) {
	for _, at := range it.Kind.Attrs {
		if !at.Required {
			continue
		}
		if _, given := it.Decl.Attr(at.Name); !given {
			r.problems.AddErr(it.Decl.Place, problem.Errorf("missing required attribute %[2]q in %[1]s",
				it.Task.Ref, at.Name).
				Remedy("`jadekettle kinds %s` lists its attributes", it.Kind.Name))
		}
	}
}

// skip notes what a condition skipped. final says that the name is
// evaluated.
func (r *resolver) skip(c *Context, d *compile.Decl, name string, final bool, vars *expr.Vars) {
	ref := value.Ref{Kind: d.Kind.Name, Name: name}
	r.leave(ref, final)
	if r.explain {
		r.Omitted = append(r.Omitted, &Item{Kind: d.Kind, Decl: d, Vars: vars, Contexts: []*Context{c},
			Task: plan.Task{Ref: ref}})
	}
	r.plan.Skipped = append(r.plan.Skipped, plan.Omitted{Ref: ref, Place: d.Place, Reason: "its condition is false: " +
		d.Cond.Text()})
}

// nameOfOmitted names an item that is skipped, by what is written where the
// name cannot be evaluated: nobody looks further at what is skipped.
func (r *resolver) nameOfOmitted(d *compile.Decl, vars *expr.Vars) (name string, final bool) {
	if d.Naming == nil {
		return d.Name, true
	}
	v, err := d.Naming.Eval(vars)
	text, ok := v.(string)
	if err != nil || !ok {
		return d.Name, false
	}
	if name, err = d.Kind.Canon(text); err != nil {
		return text, false
	}
	return name, true
}

func (r *resolver) name(d *compile.Decl, vars *expr.Vars) (string, bool) {
	if d.Naming == nil {
		return d.Name, d.Name != ""
	}
	v, err := d.Naming.Eval(vars)
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
		r.problems.At(d.Place, "the name contains a secret, but names are shown", "use something else")
		return "", false
	default:
		r.problems.At(d.Place, fmt.Sprintf("the name is %s, not a string", value.TypeName(v)), "")
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
func (r *resolver) attr(it *Item, a *compile.Attr) bool {
	if a.Bad {
		return false
	}
	v := a.Fixed
	if a.Dynamic != nil {
		raw, err := a.Dynamic(it.Vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if _, ok := raw.(expr.Unknown); ok {
			it.Partial = true
			return true
		}
		if v, err = a.Schema.Value(raw); err != nil {
			r.problems.AddErr(a.Node.Place, fitting(err, raw))
			return false
		}
	}
	it.Task.Attrs[a.Schema.Name] = v
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
			return p.Remedy("convert it: ${string(...)}")
		}
	}
	return err
}

// maxMask bounds a secret that travels to be masked besides the content that it
// went into, in bytes: the worker masks the content itself, whole and by line.
const maxMask = 16 << 10

// hold gives a task its content, with what is to be hidden of it. Its hash is made when it is asked for, or with the
// order.
func (r *resolver) hold(it *Item, text string, secret bool) {
	if secret {
		for _, s := range it.Vars.SecretsIn(text) {
			if len(s.Reveal()) <= maxMask {
				it.Task.Masks = append(it.Task.Masks, s)
			}
		}
	}
	it.Task.Content = &plan.Content{Size: int64(len(text)), Secret: secret}
	it.held, it.text = true, text
}

// hash gives the hash of the content of its task.
func (it *Item) hash() string {
	c := it.Task.Content
	if c.SHA256 == "" {
		sum := sha256.Sum256([]byte(it.text))
		c.SHA256 = hex.EncodeToString(sum[:])
	}
	return c.SHA256
}

// content turns the attributes that say what a file holds into a Content.
func (r *resolver) content(it *Item, a *compile.Attr, text string) bool {
	switch a.Schema.Type {
	case schema.Body:
		r.hold(it, text, false)
	case schema.Copy, schema.Origin:
		if a.Schema.Type == schema.Origin && !schema.Beside(text) {
			return true
		}
		name := path.Join(it.Decl.Dir, text)
		c, err := r.Project.Copy(name)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		it.Task.Content = &c
		r.plan.Contents[c.SHA256] = plan.Bytes{Path: name}
	case schema.Tree:
		return r.tree(it, a, text)
	case schema.Template:
		t := a.Template
		if t == nil {
			var err error
			if t, err = r.Project.Template(path.Join(it.Decl.Dir, text)); err != nil {
				r.problems.AddErr(a.Node.Place, err)
				return false
			}
		}
		out, known, secret, err := t.Execute(it.Vars)
		if err != nil {
			r.problems.AddErr(a.Node.Place, err)
			return false
		}
		if !known {
			it.Partial = true
			return true
		}
		r.hold(it, out, secret)
	}
	return true
}

// add puts an item into the host's set, joining equal declarations.
func (r *resolver) add(it *Item) {
	key := value.Ref{Kind: it.Kind.NameSpace(), Name: it.Task.Ref.Name}
	first := r.bySpace[key]
	if first != nil && first.Decl == it.Decl && first.Contexts[0] == it.Contexts[0] {
		r.problems.At(it.Decl.Place, fmt.Sprintf("the loop produces %s twice", it.Task.Ref),
			"make each name different, or loop over unique(...)")
		return
	}
	if first == nil {
		r.bySpace[key] = it
		r.byRef[it.Task.Ref] = it
		r.Items = append(r.Items, it)
		return
	}
	if first.Maybe || it.Maybe {
		if r.byRef[it.Task.Ref] == nil {
			r.byRef[it.Task.Ref] = it
		}
		return // perhaps only one of them holds; the facts will show
	}
	if diff := difference(first, it); diff != "" {
		also := first.Task.Places[0]
		r.problems.Add(problem.Problem{Place: it.Decl.Place,
			What: fmt.Sprintf("conflicting declarations: %s; first at %s", diff, also),
			Do:   "keep one, or make both equal", Also: []value.Place{also}})
		return
	}
	first.Contexts = append(first.Contexts, it.Contexts...)
	if slices.Contains(first.Task.Places, it.Decl.Place) {
		return // one manifest, used twice
	}
	first.Task.Places = append(first.Task.Places, it.Decl.Place)
	first.Task.Manifests = append(first.Task.Manifests, it.Task.Manifests...)
}

// difference says how two declarations of one thing differ, or "".
func difference(a, b *Item) string {
	if a.Kind != b.Kind {
		return fmt.Sprintf("%s is both a %s and a %s", b.Task.Ref.Name, a.Kind.Name, b.Kind.Name)
	}
	if a.Partial || b.Partial {
		return ""
	}
	names := map[string]bool{}
	for k := range a.Task.Attrs {
		names[k] = true
	}
	for k := range b.Task.Attrs {
		names[k] = true
	}
	for _, k := range value.Keys(names) {
		if isContent(a.Kind, k) {
			continue // what they come to is compared below
		}
		if !value.Equal(a.Task.Attrs[k], b.Task.Attrs[k]) {
			if _, secret := a.Task.Attrs.Secret(k); secret {
				return fmt.Sprintf("%s has different secrets as its %s", b.Task.Ref, k)
			}
			return fmt.Sprintf("%s of %s is both %s and %s", k, b.Task.Ref, written(a.Task.Attrs, k),
				written(b.Task.Attrs, k))
		}
	}
	ca, cb := a.Task.Content, b.Task.Content
	if (ca == nil) != (cb == nil) || ca != nil && a.hash() != b.hash() {
		return b.Task.Ref.String() + " has different contents"
	}
	if !slices.Equal(a.Task.Tree, b.Task.Tree) {
		return b.Task.Ref.String() + " is copied from different directories"
	}
	return ""
}

// tree makes a folder of the project that of a task.
func (r *resolver) tree(it *Item, a *compile.Attr, text string) bool {
	folder := path.Join(it.Decl.Dir, text)
	leaves, err := r.Project.Tree(folder)
	if err != nil {
		r.problems.AddErr(a.Node.Place, err)
		return false
	}
	it.Task.Tree = leaves
	for _, l := range leaves {
		r.plan.Contents[l.SHA256] = plan.Bytes{Path: path.Join(folder, l.Path)}
	}
	return true
}

// isContent says whether an attribute only serves to make a Content.
func isContent(k *schema.Kind, name string) bool {
	a, _ := k.Attr(name)
	return a.Type == schema.Body || a.Type == schema.Template || a.Type == schema.Copy || a.Type == schema.Tree
}

func written(a value.Attrs, name string) string {
	v, there := a[name]
	if !there {
		return "not set"
	}
	return value.Shown(v)
}
