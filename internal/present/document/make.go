package document

import (
	"slices"
	"strings"

	"jadekettle/internal/app/compare"
	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/source"
)

// NewLint makes the document of what lint found.
func NewLint(ps []problem.Problem, list []advice.Piece) Lint {
	out := Lint{Head: One, Problems: Problems(ps)}
	for _, ad := range list {
		out.Advice = append(out.Advice, Advice{Code: ad.Code, File: ad.Place.File, Line: ad.Place.Line,
			Column: ad.Place.Col, What: ad.What, Do: ad.Do, Silenced: ad.Silenced, Reason: ad.Reason})
	}
	return out
}

// NewExecuted makes the document of what a command came to.
func NewExecuted(command []string, hosts []*record.Host) Executed {
	out := Executed{Head: One, Command: command}
	for _, h := range hosts {
		one := ExecutedHost{Name: h.Name, State: string(h.State), Message: h.Message, Do: h.Do}
		if e := h.Executed; e != nil {
			one.Ended, one.Code, one.Output, one.Seconds = e.Ended, e.Code, e.Output, e.Seconds
			one.Message = strings.TrimSpace(one.Message + e.Wrong)
		}
		out.Hosts = append(out.Hosts, one)
	}
	return out
}

// NewCompared makes the document of a comparison.
func NewCompared(c *compare.Comparison) Compared {
	out := Compared{Head: One, From: c.From(), To: c.To(), Hosts: len(c.Hosts), Alike: c.Alike(), New: c.Come,
		Gone: c.Gone, Unread: slices.Concat(c.Unread, c.Partly)}
	for _, g := range c.Groups() {
		place := g.Task().Places[0]
		out.Differences = append(out.Differences, Difference{Kind: g.Ref.Kind, Name: g.Ref.Name, How: string(g.How),
			Hosts: c.Names(g), Manifest: place.File, Line: place.Line, Changes: g.Changes})
	}
	return out
}

// NewSourceShown makes the document of what a source brings.
func NewSourceShown(pin source.Pin, list []compile.ManifestDoc, texts []string) SourceShown {
	return SourceShown{Head: One, Source: pin.Name, Commit: pin.Commit, Manifests: list, Documents: texts}
}

// NewKinds makes the document of kinds.
func NewKinds(list ...*schema.Kind) Kinds {
	out := Kinds{Head: One}
	for _, k := range list {
		out.Kinds = append(out.Kinds, kindDoc(k))
	}
	return out
}

func kindDoc(k *schema.Kind) Kind {
	return Kind{Name: k.Name, Area: k.Area, About: k.About, Doc: k.Doc, Examples: k.Examples,
		Attributes: slices.Concat(k.RequiredFirst(), k.Common())}
}

// NewFunctions makes the document of functions.
func NewFunctions(list []expr.Func) Functions {
	out := Functions{Head: One}
	for _, f := range list {
		out.Functions = append(out.Functions, Function{Name: f.Name, Area: f.Area, Call: f.Signature(), Gives: f.Gives,
			Doc: f.Doc, Examples: f.Uses})
	}
	return out
}

// Search looks for words, all of them, in names and documentation; what has
// them in its name comes first.
func Search(schemas schema.Kinds, words []string) []Finding {
	var inName, inText []Finding
	look := func(name, where, about, more string) {
		name1, all := strings.ToLower(name), strings.ToLower(name+" "+about+" "+more)
		hit, named := true, true
		for _, w := range words {
			w = strings.ToLower(w)
			hit, named = hit && strings.Contains(all, w), named && strings.Contains(name1, w)
		}
		if named {
			inName = append(inName, Finding{name, where, about})
		} else if hit {
			inText = append(inText, Finding{name, where, about})
		}
	}
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		look(k.Name, "kind", k.About, k.Doc)
		for _, at := range k.Attrs {
			look(k.Name+"."+at.Name, "attribute", at.Doc, "")
		}
	}
	for _, at := range schema.Common {
		look(at.Name, "attribute of every kind", at.Doc, "")
	}
	for _, f := range expr.Functions() {
		look(f.Signature(), "function", f.Doc, f.Area)
	}
	return append(inName, inText...)
}
