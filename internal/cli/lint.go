package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/sarif"
	screen "jadekettle/internal/present/text"
)

func (a *App) lintCommand() *cobra.Command {
	strict := false
	c := &cobra.Command{
		Use: "lint", Short: "Check the project without contacting a host", GroupID: "work", Args: cobra.NoArgs,
		Annotations: map[string]string{moreOutputs: "sarif"},
		Long: "Lint reads the whole project, resolves it for every host as far as that goes without facts, and\n" +
			"prints every problem with its file, line and column. It ends with 2 when there is one. Without --env it does\n" +
			"so for every environment.\n\n" +
			"Besides, it gives advice, each piece with a code. Advice that is not to be followed is silenced in place,\n" +
			"with a reason, on the line itself or in a comment above it or its table:\n\n" +
			"  # jadekettle meant CODE: why\n  # jadekettle meant CODE in this file: why\n\n" + codesHelp(),
		RunE: func(*cobra.Command, []string) error { return a.lint(strict) },
	}
	a.fromFlag(c)
	c.Flags().BoolVar(&strict, "strict", false, "end with 2 when there is advice, too")
	return c
}

func codesHelp() string {
	out := "The codes:\n"
	for _, c := range advice.Codes {
		out += fmt.Sprintf("  %-21s %s\n", c.Code, c.Doc)
	}
	return out
}

func (a *App) lint(strict bool) error {
	dir, root, err := a.anyProject()
	if err != nil {
		return err
	}
	o, err := a.options(dir)
	if err != nil {
		return err
	}
	o.Blind = true
	l := &linted{known: map[piece]bool{}}
	if err := required(root); err != nil { // what else is wrong a newer program may understand
		l.problems.AddErr(value.Place{}, err)
	} else {
		for _, env := range envsToLint(a.env, settings.Glance(root)) {
			o.Env = env
			if err := l.check(root, o); err != nil {
				return err
			}
		}
	}
	ps, advice := &l.problems, l.advice
	err = ps.Err()
	spoken := 0
	for _, ad := range advice {
		if !ad.Silenced {
			spoken++
		}
	}
	if err != nil || strict && spoken > 0 {
		a.code = exitWrong
	}
	switch a.output {
	case "json":
		return a.document(document.Lint{Head: document.One, Problems: document.Problems(ps.List()),
			Advice: adviceDocs(advice)})
	case "sarif":
		return a.document(sarif.Log(Version, ps.List(), advice))
	}
	a.advice(advice)
	if err != nil {
		a.complain(ps)
		return nil
	}
	manifests, decls := l.last.Declarations()
	found := "no problem"
	if spoken > 0 {
		found += " and " + screen.Count(spoken, "piece") + " of advice"
	}
	fmt.Fprintf(a.Out, "%s in %s, %s and %s\n", found, screen.Count(l.hosts, "host"),
		screen.Count(manifests, "manifest"), screen.Count(decls, "declaration"))
	return nil
}

// linted is what lint found in one environment after another.
type linted struct {
	problems problem.Problems
	advice   []advice.Piece
	hosts    int
	known    map[piece]bool // of advice
	rounds   int
	last     *compile.Project
}

// piece is what makes a piece of advice the same as another.
type piece struct {
	at         value.Place
	code, what string
}

func pieceOf(a advice.Piece) piece { return piece{a.Place, a.Code, a.What} }

// envsToLint gives the environment of the call, or else all that there are.
func envsToLint(env string, s settings.Settings) []string {
	if env != "" || len(s.Envs) == 0 {
		return []string{env}
	}
	return value.Keys(s.Envs)
}

// everywhere are the pieces of advice that hold only when they hold in every
// environment.
var everywhere = []string{"never-holds", "unread-data", "unused-param", "matches-nothing", "layer-of-nobody"}

func (l *linted) check(root fs.FS, o compile.Options) error {
	p, found, err := advice.Check(root, kinds.Schemas(), o)
	var ps *problem.Problems
	if err != nil && !errors.As(err, &ps) {
		return err
	}
	l.problems.AddErr(value.Place{}, err)
	if p == nil {
		return nil
	}
	l.last = p
	l.hosts += len(p.Inventory.Hosts)
	if l.rounds++; l.rounds > 1 {
		here := map[piece]bool{}
		for _, a := range found {
			here[pieceOf(a)] = true
		}
		l.advice = slices.DeleteFunc(l.advice, func(a advice.Piece) bool {
			return slices.Contains(everywhere, a.Code) && !here[pieceOf(a)]
		})
	}
	for _, a := range found {
		if !l.known[pieceOf(a)] && (l.rounds == 1 || !slices.Contains(everywhere, a.Code)) {
			l.known[pieceOf(a)] = true
			l.advice = append(l.advice, a)
		}
	}
	return nil
}

// advice prints what is worth a look, each with its line.
func (a *App) advice(list []advice.Piece) {
	dir, _ := a.folder()
	src := &screen.Sources{Dir: dir}
	count := map[string]int{}
	for _, ad := range list {
		if ad.Silenced {
			continue
		}
		if count[ad.Code]++; count[ad.Code] > maxAlike {
			continue
		}
		fmt.Fprint(a.Err, screen.Head(ad.Place, screen.Plain, screen.Line("advice "+ad.Code+": "+ad.What), a.Width))
		src.Excerpt(a.Err, ad.Place)
		if ad.Do != "" {
			fmt.Fprint(a.Err, screen.Wrap(screen.Line(ad.Do), "        ", a.Width))
		}
		fmt.Fprintln(a.Err)
	}
	for _, code := range value.Keys(count) {
		if more := count[code] - maxAlike; more > 0 {
			fmt.Fprintf(a.Err, "advice %s: %d more; `jadekettle lint --output json` lists all\n\n", code, more)
		}
	}
}

// maxAlike is how many pieces of advice of one code are shown.
const maxAlike = 50

func adviceDocs(list []advice.Piece) []document.Advice {
	out := []document.Advice{}
	for _, ad := range list {
		out = append(out, document.Advice{Code: ad.Code, File: ad.Place.File, Line: ad.Place.Line,
			Column: ad.Place.Col, What: ad.What, Do: ad.Do, Silenced: ad.Silenced, Reason: ad.Reason})
	}
	return out
}
