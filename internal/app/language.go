package app

import (
	"slices"
	"strings"

	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
)

// What the language has, as commands ask for it.
type (
	Kinds       = schema.Kinds
	Kind        = schema.Kind
	Attr        = schema.Attr
	Explanation = explain.Explanation
)

// BuiltIn gives the kinds that every project has.
func BuiltIn() Kinds { return kinds.Schemas() }

// EachKind lists kinds in the order of their names.
func EachKind(all Kinds) []*Kind {
	var out []*Kind
	for _, name := range all.Names() {
		k, _ := all.Kind(name)
		out = append(out, k)
	}
	return out
}

// Functions gives the functions of expressions whose names hold a text, and the names of all.
func Functions(holds string) (list []expr.Func, names []string) {
	return slices.DeleteFunc(expr.Functions(), func(f expr.Func) bool { return !strings.Contains(f.Name, holds) }),
		expr.FunctionNames()
}

// CheckFact says what is wrong with the path of a fact.
func CheckFact(path []string) error { return facts.CheckPath(path) }
