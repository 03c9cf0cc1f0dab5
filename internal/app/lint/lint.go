// Package lint checks a project without contacting a host, in one environment after another.
package lint

import (
	"errors"
	"io/fs"
	"slices"

	"jadekettle/internal/app"
	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// Found is what lint found.
type Found struct {
	Problems     problem.Problems
	Advice       []advice.Piece
	Hosts        int // that were checked, once for each environment
	Manifests    int
	Declarations int

	known  map[piece]bool // of advice
	rounds int
	last   *compile.Project
}

// Spoken counts the pieces of advice that are not silenced.
func (f *Found) Spoken() (n int) {
	for i := range f.Advice {
		if !f.Advice[i].Silenced {
			n++
		}
	}
	return n
}

// Project checks a project: in the environment of the call, or else in all that there are.
func Project(s *app.Site) (*Found, error) {
	o, err := s.Options()
	if err != nil {
		return nil, err
	}
	o.Blind = true
	f := &Found{known: map[piece]bool{}}
	if err := s.Required(s.Files); err != nil { // what else is wrong a newer program may understand
		f.Problems.AddErr(value.Place{}, err)
		return f, nil
	}
	for _, env := range environments(s.Env, s.Glance()) {
		o.Env = env
		if err := f.check(s.Files, o); err != nil {
			return nil, err
		}
	}
	if f.last != nil {
		f.Manifests, f.Declarations = f.last.Declarations()
	}
	return f, nil
}

// piece is what makes a piece of advice the same as another.
type piece struct {
	at         value.Place
	code, what string
}

func pieceOf(a advice.Piece) piece { return piece{a.Place, a.Code, a.What} }

// environments gives that of the call, or else all that there are.
func environments(env string, s settings.Settings) []string {
	if env != "" || len(s.Envs) == 0 {
		return []string{env}
	}
	return value.Keys(s.Envs)
}

// everywhere are the pieces of advice that hold only when they hold in every
// environment.
var everywhere = []string{"never-true", "unused-data", "unused-param", "matches-nothing", "unused-layer"}

func (f *Found) check(root fs.FS, o compile.Options) error {
	p, found, err := advice.Check(root, kinds.Schemas(), o)
	var ps *problem.Problems
	if err != nil && !errors.As(err, &ps) {
		return err
	}
	f.Problems.AddErr(value.Place{}, err)
	if p == nil {
		return nil
	}
	f.last = p
	f.Hosts += len(p.Inventory.Hosts)
	if f.rounds++; f.rounds > 1 {
		here := map[piece]bool{}
		for _, a := range found {
			here[pieceOf(a)] = true
		}
		f.Advice = slices.DeleteFunc(f.Advice, func(a advice.Piece) bool {
			return slices.Contains(everywhere, a.Code) && !here[pieceOf(a)]
		})
	}
	for _, a := range found {
		if !f.known[pieceOf(a)] && (f.rounds == 1 || !slices.Contains(everywhere, a.Code)) {
			f.known[pieceOf(a)] = true
			f.Advice = append(f.Advice, a)
		}
	}
	return nil
}

// Codes are the codes of advice.
var Codes = advice.Codes
