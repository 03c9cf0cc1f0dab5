package compile

import (
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/schema"
)

// Reads are the names that something looks at, such as facts.os.id.
type Reads struct {
	Paths [][]string // each from its root on
	// Open says that a template is named by an expression: what it looks at
	// only a host reports.
	Open bool
}

// At says whether something at, below or above a path may be looked at.
func (r Reads) At(path ...string) bool {
	return r.Open || slices.ContainsFunc(r.Paths, func(p []string) bool {
		n := min(len(p), len(path))
		return slices.Equal(p[:n], path[:n])
	})
}

// AtAny says whether something at, below or above one of the paths may be
// looked at.
func (r Reads) AtAny(paths [][]string) bool {
	return slices.ContainsFunc(paths, func(p []string) bool { return r.At(p...) })
}

func (r *Reads) program(p *expr.Program) {
	if p != nil {
		r.Paths = append(r.Paths, p.Reads()...)
	}
}

func (r *Reads) texts(list []*expr.Text) { r.Paths = append(r.Paths, ReadsOf(list)...) }

func (r *Reads) loop(list []Clause) {
	for _, c := range list {
		r.program(c.List)
	}
}

// ReadsOf lists the paths that the expressions in texts look at.
func ReadsOf(texts []*expr.Text) [][]string {
	var out [][]string
	for _, t := range texts {
		for _, p := range t.Programs() {
			out = append(out, p.Reads()...)
		}
	}
	return out
}

// Reads lists the paths that an attribute looks at, its template's as well.
func (a *Attr) Reads() [][]string {
	out := ReadsOf(a.Texts)
	if a.Template != nil {
		out = append(out, a.Template.Reads()...)
	}
	return out
}

// Reads lists what the manifest looks at, apart from its params and from the
// manifests that it uses.
func (u *Unit) Reads() Reads { return u.reads }

// ReadsThrough lists what the manifest, its params and all that it uses look at.
func (u *Unit) ReadsThrough() Reads { return u.through }

func (u *Unit) find() Reads {
	var r Reads
	for _, e := range u.Entries {
		if e.Use != nil {
			r.program(e.Use.Cond)
			r.loop(e.Use.Loop)
			for _, g := range e.Use.Gives {
				r.texts(g.Texts)
			}
			continue
		}
		d := e.Decl
		r.program(d.Cond)
		r.loop(d.Loop)
		if d.Naming != nil {
			r.texts([]*expr.Text{d.Naming})
		}
		for i := range d.Values {
			a := &d.Values[i]
			r.Paths = append(r.Paths, a.Reads()...)
			r.Open = r.Open || a.Schema.Type == schema.Template && a.Template == nil
		}
	}
	return r
}

// look notes what everything looks at, once all is compiled.
func (p *Project) look() {
	for _, u := range p.Units {
		u.reads = u.find()
		p.reads.add(u.reads)
		p.reads.params(u)
	}
	seen := map[*Unit]bool{}
	for _, u := range p.Units {
		u.join(seen)
	}
	for _, e := range p.Given {
		p.reads.texts(e.Texts)
	}
	for _, g := range p.Inventory.Groups {
		p.reads.program(g.Where)
	}
	asked := map[string]bool{}
	for _, h := range p.Inventory.Hosts {
		at := h.Connect.ElevatePassword
		if name := strings.Join(at, "."); at != nil && !asked[name] {
			asked[name] = true
			p.reads.Paths = append(p.reads.Paths, append([]string{"data"}, at...))
		}
	}
}

// join puts together what a manifest looks at with all that it uses. No
// manifest uses itself: circles were taken out.
func (u *Unit) join(seen map[*Unit]bool) {
	if seen[u] {
		return
	}
	seen[u] = true
	u.through.add(u.reads)
	u.through.params(u)
	for _, e := range u.Entries {
		if e.Use != nil && e.Use.Unit != nil {
			e.Use.Unit.join(seen)
			u.through.add(e.Use.Unit.through)
		}
	}
	u.through.compact()
}

// compact takes out what is there twice: a manifest may be used in many ways.
func (r *Reads) compact() {
	seen := make(map[string]bool, len(r.Paths))
	r.Paths = slices.DeleteFunc(r.Paths, func(p []string) bool {
		key := strings.Join(p, "\x00")
		twice := seen[key]
		seen[key] = true
		return twice
	})
}

func (r *Reads) add(more Reads) {
	r.Paths = append(r.Paths, more.Paths...)
	r.Open = r.Open || more.Open
}

func (r *Reads) params(u *Unit) {
	for _, d := range u.Params {
		r.program(d.From)
	}
}

// Reads says whether anything in the project may look at a path, such as
// facts.services, at something below it, or at what it is part of.
func (p *Project) Reads(path ...string) bool { return p.reads.At(path...) }
