// Package expr evaluates what people write: CEL expressions, texts with ${...}
// in them, and Go text/template templates, all over the same roots. An
// expression is compiled once and evaluated for every host.
package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	celparser "cel.dev/cel-go/parser"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/value"
)

// Roots are the names that expressions and templates start from.
var Roots = []string{"host", "facts", "data"}

// Unknown is the value of what depends on facts while there are none, as when
// a project is checked without contacting its hosts.
type Unknown struct{}

// Vars are the values of the roots for one host. Facts nil means not known.
type Vars struct {
	Host  map[string]any
	Facts map[string]any
	Data  map[string]any

	once sync.Once
	act  cel.Activation
}

func (v *Vars) activation() cel.Activation {
	v.once.Do(func() {
		roots := map[string]any{"host": v.Host, "data": v.Data}
		if v.Facts != nil {
			roots["facts"] = v.Facts
			v.act, _ = cel.NewActivation(roots) // fails only for other types than a map
			return
		}
		v.act, _ = cel.PartialVars(roots, cel.AttributePattern("facts"))
	})
	return v.act
}

// Placer gives the place of a byte offset in an expression's text.
type Placer func(offset int) value.Place

// env is the one CEL environment. Building it takes a few milliseconds, so it
// is built when the first expression is.
var env = sync.OnceValues(func() (*cel.Env, error) {
	macros := []cel.Macro{hasMacro}
	for _, m := range celparser.AllMacros {
		if m.Function() != operators.Has {
			macros = append(macros, m)
		}
	}
	opts := []cel.EnvOption{cel.ClearMacros(), cel.Macros(macros...), cel.CrossTypeNumericComparisons(true)}
	for _, r := range append([]string{"n"}, Roots...) {
		opts = append(opts, cel.Variable(r, cel.DynType))
	}
	return cel.NewEnv(opts...)
})

// hasMacro makes has(a.b.c) false when any step is missing, where CEL's own
// asks for the last step only.
var hasMacro = cel.GlobalMacro("has", 1, func(eh cel.MacroExprFactory, _ celast.Expr, args []celast.Expr) (celast.Expr, *cel.Error) {
	if args[0].Kind() != celast.SelectKind {
		return nil, eh.NewError(args[0].ID(), "has() takes a name with a dot, such as has(data.gauge)")
	}
	var out celast.Expr
	for at := args[0]; at.Kind() == celast.SelectKind; at = at.AsSelect().Operand() {
		sel := at.AsSelect()
		test := eh.NewPresenceTest(eh.Copy(sel.Operand()), sel.FieldName())
		if out == nil {
			out = test
			continue
		}
		out = eh.NewCall(operators.LogicalAnd, test, out)
	}
	return out, nil
})

// Program is a compiled CEL expression.
type Program struct {
	text    string
	at      Placer
	ast     *cel.Ast
	prog    cel.Program
	partial func() (cel.Program, error)
	facts   []string // the dotted fact paths that it reads
}

// Compile compiles one CEL expression. Problems carry the place of what is
// wrong within it. extra names a further variable, for patterns of hosts.
func Compile(text string, at Placer, extra ...string) (*Program, error) {
	e, err := env()
	if err != nil {
		return nil, err
	}
	var ps value.Problems
	ast, iss := e.Compile(text)
	for _, issue := range iss.Errors() {
		ps.At(at(offsetOf(text, issue.Location.Line(), issue.Location.Column())), tidy(issue.Message), remedy(issue.Message))
	}
	if err := ps.Err(); err != nil {
		return nil, err
	}
	p := &Program{text: text, at: at, ast: ast}
	for _, c := range p.chains() {
		if c.path[0] == "n" && !slices.Contains(extra, "n") {
			ps.At(at(c.offset), "n is known only in the table of a range of hosts", "the roots are "+strings.Join(Roots, ", "))
		}
		if c.path[0] != "facts" {
			continue
		}
		p.facts = append(p.facts, strings.Join(c.path[1:], "."))
		if err := facts.CheckPath(c.path[1:]); err != nil {
			ps.AddErr(at(c.offset), err)
		}
	}
	if p.prog, err = e.Program(ast, cel.EvalOptions(cel.OptOptimize)); err != nil {
		ps.At(at(0), err.Error(), "")
	}
	p.partial = sync.OnceValues(func() (cel.Program, error) {
		return e.Program(ast, cel.EvalOptions(cel.OptPartialEval))
	})
	return p, ps.Err()
}

// Eval evaluates for one host. What depends on unknown facts is Unknown{}.
func (p *Program) Eval(vars *Vars) (any, error) { return p.eval(vars, vars.activation()) }

// EvalN evaluates with the number of a host in its range.
func (p *Program) EvalN(vars *Vars, n int64) (any, error) {
	act, err := cel.NewActivation(map[string]any{"host": vars.Host, "n": n})
	if err != nil {
		return nil, err
	}
	return p.eval(vars, act)
}

func (p *Program) eval(vars *Vars, act cel.Activation) (any, error) {
	prog := p.prog
	if vars.Facts == nil && len(p.facts) > 0 {
		var err error
		if prog, err = p.partial(); err != nil {
			return nil, err
		}
	}
	out, _, err := prog.Eval(act)
	if err != nil {
		return nil, p.explain(err, vars)
	}
	v, err := plain(out)
	if err != nil {
		return nil, value.Problem{Place: p.at(0), What: err.Error()}
	}
	return v, nil
}

// Bool evaluates a condition. known is false when it depends on facts that are
// not there.
func (p *Program) Bool(vars *Vars) (yes, known bool, err error) {
	v, err := p.Eval(vars)
	if err != nil {
		return false, false, err
	}
	switch v := v.(type) {
	case Unknown:
		return false, false, nil
	case bool:
		return v, true, nil
	}
	return false, false, value.Problem{Place: p.at(0), What: "the condition gives " + value.TypeName(v) + ", not true or false", Do: "compare it with something"}
}

// Text gives the expression as written.
func (p *Program) Text() string { return p.text }

// ReadsFact says whether the expression reads the fact at a top-level name.
func (p *Program) ReadsFact(name string) bool {
	return slices.ContainsFunc(p.facts, func(f string) bool {
		return f == "" || f == name || strings.HasPrefix(f, name+".")
	})
}

// plain turns CEL's value into one of ours.
func plain(v ref.Val) (any, error) {
	switch v := v.(type) {
	case *types.Unknown:
		return Unknown{}, nil
	case types.Null:
		return nil, nil
	case types.Bool:
		return bool(v), nil
	case types.Int:
		return int64(v), nil
	case types.Uint:
		return int64(v), nil
	case types.Double:
		return float64(v), nil
	case types.String:
		return string(v), nil
	case types.Duration, types.Timestamp:
		return string(v.ConvertToType(types.StringType).(types.String)), nil
	case traits.Mapper:
		out := map[string]any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			name, ok := k.(types.String)
			if !ok {
				return nil, errors.New("the keys of a table must be text")
			}
			item, err := plain(v.Get(k))
			if err != nil {
				return nil, err
			}
			out[string(name)] = item
		}
		return out, nil
	case traits.Lister:
		var out = []any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			item, err := plain(it.Next())
			if err != nil {
				return nil, err
			}
			out = append(out, item)
		}
		return out, nil
	}
	return nil, fmt.Errorf("the expression gives a %s, which is no value that can be used here", v.Type().TypeName())
}

// chain is one selection a.b.c that starts at a root.
type chain struct {
	path   []string
	offset int
}

// chains lists the selections in an expression, the longest of each only.
func (p *Program) chains() []chain {
	native := p.ast.NativeRep()
	var out []chain
	inner := map[int64]bool{}
	celast.PreOrderVisit(native.Expr(), celast.NewExprVisitor(func(e celast.Expr) {
		if inner[e.ID()] {
			return
		}
		var path []string
		at := e
		for at.Kind() == celast.SelectKind {
			inner[at.AsSelect().Operand().ID()] = true
			path = append(path, at.AsSelect().FieldName())
			at = at.AsSelect().Operand()
		}
		if at.Kind() != celast.IdentKind {
			return
		}
		name := at.AsIdent()
		if name != "n" && !slices.Contains(Roots, name) {
			return
		}
		path = append(path, name)
		slices.Reverse(path)
		loc := native.SourceInfo().GetStartLocation(at.ID())
		out = append(out, chain{path, max(0, offsetOf(p.text, loc.Line(), loc.Column()))})
	}))
	return out
}

// explain finds what an evaluation failed at and names the nearest that exists.
func (p *Program) explain(err error, vars *Vars) error {
	roots := map[string]any{"host": vars.Host, "facts": vars.Facts, "data": vars.Data}
	for _, c := range p.chains() {
		if step, what, do := missing(c.path, roots); step > 0 && (strings.Contains(err.Error(), c.path[step]) || strings.Contains(err.Error(), "unsupported index type")) {
			return value.Problem{Place: p.at(c.offset), What: what, Do: do}
		}
	}
	return value.Problem{Place: p.at(0), What: "the expression fails: " + tidy(err.Error()), Do: remedy(err.Error())}
}

// missing finds the first step of a path that is not there; 0 means none.
func missing(path []string, roots map[string]any) (step int, what, do string) {
	at, _ := roots[path[0]].(map[string]any)
	if at == nil {
		return 0, "", ""
	}
	for i, name := range path[1:] {
		before := strings.Join(path[:i+1], ".")
		next, there := at[name]
		if !there {
			otherwise := "nothing is set there"
			if len(at) > 0 {
				otherwise = "it has " + strings.Join(value.Keys(at), ", ")
			}
			return i + 1, fmt.Sprintf("%s has no %q", before, name), value.Meant(name, value.Keys(at), otherwise)
		}
		table, ok := next.(map[string]any)
		if !ok {
			if i+2 < len(path) {
				return i + 2, fmt.Sprintf("%s.%s is %s and has no %q", before, name, value.TypeName(next), path[i+2]), ""
			}
			return 0, "", ""
		}
		at = table
	}
	return 0, "", ""
}

func offsetOf(text string, line, col int) int {
	lines := strings.SplitAfter(text, "\n")
	at := 0
	for _, l := range lines[:min(max(line-1, 0), len(lines))] {
		at += len(l)
	}
	for i := range text[at:] {
		if col <= 0 {
			return at + i
		}
		col--
	}
	return len(text)
}

// tidy shortens CEL's messages to what helps.
func tidy(msg string) string {
	msg, _, _ = strings.Cut(msg, " expecting {")
	msg, _, _ = strings.Cut(msg, " (in container")
	msg, _, _ = strings.Cut(msg, " (did you mean")
	msg = strings.TrimPrefix(msg, "Syntax error: ")
	switch {
	case strings.HasPrefix(msg, "undeclared reference to '"):
		return "there is no " + strings.TrimPrefix(msg, "undeclared reference to ")
	case strings.HasPrefix(msg, "no such overload"):
		return "the operands do not fit together" + strings.TrimPrefix(msg, "no such overload")
	case strings.Contains(msg, "mismatched input '<EOF>'"):
		return "the expression ends too early"
	}
	if m := unexpected.FindStringSubmatch(msg); m != nil {
		return "the expression goes wrong at " + m[1]
	}
	return msg
}

// unexpected matches what the CEL parser says of a token that does not fit.
var unexpected = regexp.MustCompile(`^(?:mismatched input|extraneous input|no viable alternative at input|token recognition error at:) ('.*?')(?:$| )`)

func remedy(msg string) string {
	if _, rest, ok := strings.Cut(msg, "undeclared reference to '"); ok {
		name, _, _ := strings.Cut(rest, "'")
		return value.Meant(name, Roots, "an expression starts from "+strings.Join(Roots, ", ")+"; text stands in quotes")
	}
	return ""
}
