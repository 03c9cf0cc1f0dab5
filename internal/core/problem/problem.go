// Package problem holds what is wrong as a value: the place, what is wrong, and
// what to do about it, kept apart from where it arises to where it is shown.
//
// A function that finds something wrong returns
//
//	problem.Errorf("%q is not a mode", s).Remedy("write four octal digits")
//
// and whoever knows the place adds it with [Problems.AddErr]. What wraps a
// problem with %w keeps its remedy: [From] finds it again.
package problem

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/value"
)

// Problem is one thing that is wrong: what, where, and what to do. It is an
// error.
type Problem struct {
	Place value.Place
	What  string        // no full stop
	Do    string        // the remedy; may be empty
	Also  []value.Place // other places that take part, such as the first of two declarations
	Hosts []string      // the hosts for which it is wrong; empty when it does not depend on a host
	Code  string        // of a piece of advice; empty for what is wrong
	Quiet bool          // the line at Place is not to be shown, since it may hold a secret

	cause error
}

// Errorf makes a problem of what is wrong. It formats as fmt.Errorf does, %w
// included.
func Errorf(format string, args ...any) Problem {
	err := fmt.Errorf(format, args...)
	cause := errors.Unwrap(err)
	if _, several := err.(interface{ Unwrap() []error }); several {
		cause = err
	}
	return Problem{What: err.Error(), cause: cause}
}

// Remedy adds what to do.
func (p Problem) Remedy(format string, args ...any) Problem {
	p.Do = fmt.Sprintf(format, args...)
	return p
}

// Meant says which of the candidates was most likely meant by a name, or else what to do.
func (p Problem) Meant(name string, candidates []string, otherwise string) Problem {
	return p.Remedy("%s", Meant(name, candidates, otherwise))
}

// OneOf lists alternatives: a, b or c.
func OneOf(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

// Unwrap gives what Errorf wrapped.
func (p Problem) Unwrap() error { return p.cause }

// From makes a problem of any error. The remedy of a problem that the error
// wraps is kept, and taken off the end of its text.
func From(err error) Problem {
	if p, ok := err.(Problem); ok {
		if inner := (Problem{}); p.Do == "" && errors.As(p.cause, &inner) {
			p.Do = inner.Do
			p.What = strings.TrimSuffix(p.What, inner.tail())
		}
		return p
	}
	var inner Problem
	if !errors.As(err, &inner) {
		return Problem{What: err.Error(), cause: err}
	}
	return Problem{What: strings.TrimSuffix(err.Error(), inner.tail()), Do: inner.Do, cause: err}
}

// tail is how Error ends when there is a remedy.
func (p Problem) tail() string {
	if p.Do == "" {
		return ""
	}
	return "; " + p.Do
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
	return s + p.tail()
}

// Problems gathers what is wrong so that all of it can be reported together.
// The zero value is empty and ready.
type Problems struct{ list []Problem }

// Len reports how many were noted, the same one counted as often as it was.
func (ps *Problems) Len() int { return len(ps.list) }

// Add notes one problem.
func (ps *Problems) Add(p Problem) { ps.list = append(ps.list, p) }

// At notes a problem at a place.
func (ps *Problems) At(at value.Place, what, do string) {
	ps.Add(Problem{Place: at, What: what, Do: do})
}

// AddErr notes an error: its problems when it carries some, else what it says.
// What has no place yet is put at this one.
func (ps *Problems) AddErr(at value.Place, err error) {
	if err == nil {
		return
	}
	var many *Problems
	if errors.As(err, &many) {
		ps.list = append(ps.list, many.list...)
		return
	}
	p := From(err)
	if p.Place == (value.Place{}) {
		p.Place = at
	}
	ps.Add(p)
}

// List gives every problem once, in the order of files and lines.
func (ps *Problems) List() []Problem {
	out := slices.Clone(ps.list)
	slices.SortStableFunc(out, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line),
			cmp.Compare(a.Place.Col, b.Place.Col))
	})
	kept, at := out[:0], map[string]int{}
	for _, p := range out {
		i, known := at[p.identity()]
		if !known {
			at[p.identity()] = len(kept)
			p.Hosts = slices.Clone(p.Hosts)
			kept = append(kept, p)
			continue
		}
		kept[i].Hosts = append(kept[i].Hosts, p.Hosts...)
	}
	for i := range kept {
		kept[i].Hosts = unique(kept[i].Hosts)
	}
	return kept
}

// unique drops what is there twice in a list and keeps the order.
func unique(list []string) []string {
	seen := make(map[string]bool, len(list))
	return slices.DeleteFunc(list, func(s string) bool {
		twice := seen[s]
		seen[s] = true
		return twice
	})
}

// identity is the same for problems that differ in their hosts only.
func (p Problem) identity() string {
	return strings.Join([]string{p.Place.String(), p.Code, p.What, p.Do}, "\x00")
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
		return did(n)
	}
	return otherwise
}

func did(name string) string { return `did you mean "` + name + `"?` }

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
