package value

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Problem is one thing that is wrong in a project: what, where, and what to do.
type Problem struct {
	Place Place
	What  string   // one line, no full stop
	Do    string   // the remedy, one line; may be empty
	Also  []Place  // other places that take part, such as the first of two declarations
	Hosts []string // the hosts for which it is wrong; empty when it does not depend on a host
	Code  string   // of a piece of advice; empty for what is wrong
}

// For names the hosts for which it is wrong, as in "gauge-01 and 3 more".
func (p Problem) For() string {
	switch n := len(p.Hosts); {
	case n == 0:
		return ""
	case n <= 2:
		return strings.Join(p.Hosts, " and ")
	default:
		return fmt.Sprintf("%s and %d more", p.Hosts[0], n-1)
	}
}

// Error gives the problem in one line.
func (p Problem) Error() string {
	s := p.What
	if on := p.For(); on != "" {
		s += " (for " + on + ")"
	}
	if at := p.Place.String(); at != "" {
		s = at + ": " + s
	}
	if p.Do != "" {
		s += "; " + p.Do
	}
	return s
}

// Problems gathers what is wrong so that all of it can be reported together.
// The zero value is empty and ready.
type Problems struct{ list []Problem }

// Add notes one problem.
func (ps *Problems) Add(p Problem) { ps.list = append(ps.list, p) }

// At notes a problem at a place.
func (ps *Problems) At(at Place, what, do string) { ps.Add(Problem{Place: at, What: what, Do: do}) }

// AddErr notes an error: its problems when it carries some, else its text, in
// which the remedy follows after the first semicolon.
func (ps *Problems) AddErr(at Place, err error) {
	switch err := err.(type) {
	case nil:
	case *Problems:
		ps.list = append(ps.list, err.list...)
	case Problem:
		if err.Place == (Place{}) {
			err.Place = at
		}
		ps.Add(err)
	default:
		what, do, _ := strings.Cut(err.Error(), "; ")
		ps.At(at, what, do)
	}
}

// List gives every problem once, in the order of files and lines.
func (ps *Problems) List() []Problem {
	out := slices.Clone(ps.list)
	slices.SortStableFunc(out, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line), cmp.Compare(a.Place.Col, b.Place.Col))
	})
	kept := out[:0]
	for _, p := range out {
		if i := slices.IndexFunc(kept, p.same); i >= 0 {
			for _, h := range p.Hosts {
				if !slices.Contains(kept[i].Hosts, h) {
					kept[i].Hosts = append(kept[i].Hosts, h)
				}
			}
			continue
		}
		kept = append(kept, p)
	}
	return kept
}

func (p Problem) same(q Problem) bool {
	return p.Place == q.Place && p.Code == q.Code && p.What == q.What && p.Do == q.Do
}

// Split parts what is wrong from advice.
func (ps *Problems) Split() (wrong, advice *Problems) {
	wrong, advice = &Problems{}, &Problems{}
	for _, p := range ps.list {
		if p.Code != "" {
			advice.Add(p)
			continue
		}
		wrong.Add(p)
	}
	return wrong, advice
}

// On notes for which host all of these are wrong.
func (ps *Problems) On(host string) {
	for i := range ps.list {
		ps.list[i].Hosts = []string{host}
	}
}

// Err gives nil when nothing is wrong, so that a Problems can end a function.
func (ps *Problems) Err() error {
	if len(ps.list) == 0 {
		return nil
	}
	return ps
}

// Error gives one problem a line.
func (ps *Problems) Error() string {
	var b strings.Builder
	for i, p := range ps.List() {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(p.Error())
	}
	return b.String()
}

// Nearest gives the candidate that was most likely meant by name, or "" when
// none is near. It counts insertions, deletions, changes and swaps of
// neighbouring letters.
func Nearest(name string, candidates []string) string {
	long := len([]rune(name))
	best, bestAt := "", min(long/3+2, long)
	for _, c := range candidates {
		if d := distance([]rune(name), []rune(c)); d < bestAt {
			best, bestAt = c, d
		}
	}
	return best
}

// Meant gives `did you mean "x"?`, or otherwise when no candidate is near.
func Meant(name string, candidates []string, otherwise string) string {
	if n := Nearest(name, candidates); n != "" {
		return `did you mean "` + n + `"?`
	}
	return otherwise
}

func distance(a, b []rune) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
