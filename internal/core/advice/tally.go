package advice

import (
	"sync"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/value"
)

// Tally remembers of each condition what it gave, over many hosts. The zero
// Tally is ready.
type Tally struct {
	mu   sync.Mutex
	seen map[*expr.Program]*outcomes
}

type outcomes struct{ yes, no, unknown bool }

// Asked takes up what a condition gave on one host; it is what a resolve.Known
// wants.
func (t *Tally) Asked(p *expr.Program, yes, known bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.seen == nil {
		t.seen = map[*expr.Program]*outcomes{}
	}
	o := t.seen[p]
	if o == nil {
		o = &outcomes{}
		t.seen[p] = o
	}
	switch {
	case !known:
		o.unknown = true
	case yes:
		o.yes = true
	default:
		o.no = true
	}
}

// Outcome is one condition of the project and what it gave.
type Outcome struct {
	Text        string
	Place       value.Place
	True, False bool
	Meant       string // the reason why it need not have been both
}

// OneSided is the code by which a condition is marked that is never both true
// and false in a rehearsal.
const OneSided = "one-sided"

// Outcomes lists every condition of the project, in the order of files and
// lines, what it gave.
func (t *Tally) Outcomes(p *compile.Project) []Outcome {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []Outcome
	m := marks{p: p}
	conditions(p, func(c *expr.Program) {
		o := Outcome{Text: c.Text(), Place: c.At(0)}
		if seen := t.seen[c]; seen != nil {
			o.True, o.False = seen.yes, seen.no
		}
		o.Meant, _ = m.meant(o.Place, OneSided)
		out = append(out, o)
	})
	return out
}

// conditions goes through every if of the project's manifests.
func conditions(p *compile.Project, each func(*expr.Program)) {
	for _, name := range value.Keys(p.Units) {
		for _, e := range p.Units[name].Entries {
			switch {
			case e.Decl != nil && e.Decl.Cond != nil:
				each(e.Decl.Cond)
			case e.Use != nil && e.Use.Cond != nil:
				each(e.Use.Cond)
			}
		}
	}
}
