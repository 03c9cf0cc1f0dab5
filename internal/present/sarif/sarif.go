// Package sarif writes what is wrong and what is worth a look as SARIF 2.1.0, the
// Static Analysis Results Interchange Format (OASIS), for the tools that show
// such findings beside the code.
package sarif

import (
	"net/url"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/problem"
)

// Log writes problems and advice as SARIF 2.1.0 (OASIS), for the tools that
// show such findings beside the code.
func Log(version string, problems []problem.Problem, pieces []advice.Piece) map[string]any {
	rules := []any{map[string]any{"id": "problem",
		"shortDescription": map[string]any{"text": "A problem in the project."}}}
	for _, c := range advice.Codes {
		rules = append(rules, map[string]any{"id": c.Code, "shortDescription": map[string]any{"text": c.Doc}})
	}
	results := []any{}
	for _, p := range problems {
		results = append(results, finding("problem", "error", p))
	}
	for _, ad := range pieces {
		f := finding(ad.Code, "warning", ad.Problem)
		if ad.Silenced {
			f["suppressions"] = []any{map[string]any{"kind": "inSource", "justification": ad.Reason}}
		}
		results = append(results, f)
	}
	driver := map[string]any{"name": "jadekettle", "version": version, "rules": rules}
	return map[string]any{
		"$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"version": "2.1.0",
		"runs": []any{map[string]any{"tool": map[string]any{"driver": driver}, "columnKind": "unicodeCodePoints",
			"results": results}},
	}
}

func finding(rule, level string, p problem.Problem) map[string]any {
	text := p.What
	if on := p.For(); on != "" {
		text += " (for " + on + ")"
	}
	if p.Do != "" {
		text += "; " + p.Do
	}
	out := map[string]any{"ruleId": rule, "level": level, "message": map[string]any{"text": text}}
	if p.Place.File != "" {
		where := map[string]any{"artifactLocation": map[string]any{"uri": uri(p.Place.File)}}
		if p.Place.Line > 0 {
			region := map[string]any{"startLine": p.Place.Line}
			if p.Place.Col > 0 {
				region["startColumn"] = p.Place.Col
			}
			where["region"] = region
		}
		out["locations"] = []any{map[string]any{"physicalLocation": where}}
	}
	return out
}

// uri writes a path of the project as a relative reference (RFC 3986).
func uri(p string) string { return (&url.URL{Path: p}).EscapedPath() }
