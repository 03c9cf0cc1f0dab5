// Package expr evaluates what people write: CEL expressions, texts with ${...}
// in them, and Go text/template templates, all over the same roots and with
// the same functions. An expression is compiled once and evaluated for every
// host.
package expr

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	celparser "cel.dev/cel-go/parser"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Placer gives the place of a byte offset in an expression's text.
type Placer func(offset int) value.Place

// Scope says what an expression may start from.
type Scope struct {
	Roots  []string // nil means all
	Locals []string // variables of loops, and n in a range of hosts
	What   string   // what is being evaluated, for messages: "where", "a layer"
}

// Where is what a group's condition is called in messages. It cannot ask for the
// groups that it decides.
const Where = "where"

// And gives the scope with further variables.
func (s Scope) And(locals ...string) Scope {
	s.Locals = slices.Concat(s.Locals, locals)
	return s
}

func (s Scope) roots() []string {
	if s.Roots == nil {
		return Roots
	}
	return s.Roots
}

// environments are the CEL environments by the names of their variables.
// Building the first takes a few milliseconds, so it is built when the first
// expression is.
var environments sync.Map // of func() (*cel.Env, error)

var base = sync.OnceValues(func() (*cel.Env, error) {
	macros := []cel.Macro{hasMacro, valueOrMacro, bytesMacro, membersMacro}
	for _, m := range celparser.AllMacros {
		if m.Function() != operators.Has {
			macros = append(macros, m)
		}
	}
	opts := []cel.EnvOption{cel.ClearMacros(), cel.Macros(macros...), cel.CrossTypeNumericComparisons(true)}
	for _, r := range Roots {
		if r == "env" {
			opts = append(opts, cel.Variable(r, cel.StringType))
			continue
		}
		opts = append(opts, cel.Variable(r, cel.DynType))
	}
	opts = append(opts, celFunctions()...)
	return cel.NewEnv(opts...)
})

func environment(locals []string) (*cel.Env, error) {
	if len(locals) == 0 {
		return base()
	}
	make, _ := environments.LoadOrStore(strings.Join(locals, " "), sync.OnceValues(func() (*cel.Env, error) {
		e, err := base()
		if err != nil {
			return nil, err
		}
		var opts []cel.EnvOption
		for _, name := range locals {
			opts = append(opts, cel.Variable(name, cel.DynType))
		}
		return e.Extend(opts...)
	}))
	return make.(func() (*cel.Env, error))()
}

// present asks for every step of a selection a.b.c, and whether what it is asked
// of is a table at all.
func present(eh cel.MacroExprFactory, sel celast.Expr) celast.Expr {
	var out celast.Expr
	for at := sel; at.Kind() == celast.SelectKind; at = at.AsSelect().Operand() {
		s := at.AsSelect()
		test := eh.NewPresenceTest(eh.Copy(s.Operand()), s.FieldName())
		if s.Operand().Kind() == celast.SelectKind {
			isTable := eh.NewCall(operators.Equals, eh.NewCall("type", eh.Copy(s.Operand())), eh.NewIdent("map"))
			test = eh.NewCall(operators.LogicalAnd, isTable, test)
		}
		if out == nil {
			out = test
			continue
		}
		out = eh.NewCall(operators.LogicalAnd, test, out)
	}
	return out
}

// hasMacro makes has(a.b.c) false when any step is missing, where CEL's own
// asks for the last step only.
var hasMacro = cel.GlobalMacro("has", 1, func(eh cel.MacroExprFactory, _ celast.Expr,
	args []celast.Expr) (celast.Expr, *cel.Error) {
	if args[0].Kind() != celast.SelectKind {
		return nil, eh.NewError(args[0].ID(), "has() takes a name with a dot, such as has(data.gauge)")
	}
	return present(eh, args[0]), nil
})

// valueOrMacro makes value_or(a.b.c, x) give x when any step is missing.
var valueOrMacro = cel.GlobalMacro("value_or", 2, func(eh cel.MacroExprFactory, _ celast.Expr,
	args []celast.Expr) (celast.Expr, *cel.Error) {
	if args[0].Kind() != celast.SelectKind {
		return nil, eh.NewError(args[0].ID(),
			"value_or() takes a name with a dot first, such as value_or(data.gauge.depth, 5)")
	}
	return eh.NewCall(operators.Conditional, present(eh, args[0]), eh.Copy(args[0]), args[1]), nil
})

// bytesMacro lets bytes("2TB") be a size; CEL's own bytes() makes octets.
var bytesMacro = cel.GlobalMacro("bytes", 1, func(eh cel.MacroExprFactory, _ celast.Expr,
	args []celast.Expr) (celast.Expr, *cel.Error) {
	return eh.NewCall(sizeFunction, args[0]), nil
})

// fleetMembers lists the hosts of a group: fleet.members("archive").
const fleetMembers = "members"

var membersMacro = cel.ReceiverMacro(fleetMembers, 1, func(eh cel.MacroExprFactory, on celast.Expr,
	args []celast.Expr) (celast.Expr, *cel.Error) {
	if on.Kind() != celast.IdentKind || on.AsIdent() != "fleet" {
		return nil, nil
	}
	return eh.NewCall(operators.Index, eh.NewSelect(on, "groups"), args[0]), nil
})

// readable turns an expression into what the parser takes: TOML has made line
// breaks of \n, which the parser wants as it was written inside of texts. grown
// are the offsets at which a byte was put in.
func readable(text string) (out string, grown []int) {
	if !strings.Contains(text, "\n") {
		return text, nil
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		n, what := token(text, i)
		long := n >= 6 && strings.HasPrefix(text[i:], strings.Repeat(text[i:i+1], 3))
		for _, c := range []byte(text[i : i+n]) {
			if c == '\n' && what == aText && !long {
				grown = append(grown, b.Len())
				b.WriteString(`\n`)
				continue
			}
			b.WriteByte(c)
		}
		i += n
	}
	return b.String(), grown
}

// costLimit bounds what an expression with loops may do, in CEL's units, of
// which one is about a step. It takes well under a second.
const costLimit = 2_000_000

// costs says that a function costs as much as it takes in and gives out.
type costs struct{}

// CallCost is asked by CEL after each call of a function.
func (costs) CallCost(function, _ string, args []ref.Val, result ref.Val) *uint64 {
	if _, ours := Function(function); !ours {
		return nil
	}
	cost := uint64(1)
	for _, v := range append(args, result) {
		if s, ok := v.(traits.Sizer); ok {
			if n, ok := s.Size().(types.Int); ok {
				cost += uint64(n)
			}
		}
	}
	return &cost
}

// Program is a compiled CEL expression.
type Program struct {
	text    string
	source  string // as the parser reads it
	at      Placer
	scope   Scope
	ast     *cel.Ast
	prog    cel.Program
	partial func() (cel.Program, error)
	chains  []chain
	lone    bool                      // it is one selection and nothing else
	common  bool                      // it reads data and the environment alone, which many hosts have in common
	last    atomic.Pointer[evaluated] // when it is common
	facts   []string                  // the dotted fact paths that it reads
	fleet   fleetUse
}

// evaluated is what an expression gave for some data, which stays for as long.
type evaluated struct {
	data  map[string]any
	env   string
	value any
}

// maxText bounds an expression's text, in bytes.
const maxText = 16 << 10

// Compile compiles one CEL expression. Problems carry the place of what is
// wrong within it.
func Compile(text string, at Placer, scope Scope) (*Program, error) {
	if len(text) > maxText {
		return nil, problem.Problem{Place: at(0), What: fmt.Sprintf("an expression of %d bytes is too long", len(text)),
			Do: "move values to data"}
	}
	e, err := environment(scope.Locals)
	if err != nil {
		return nil, err
	}
	var ps problem.Problems
	source, grown := readable(text)
	if len(grown) > 0 {
		original := at
		at = func(o int) value.Place {
			return original(o - len(slices.DeleteFunc(slices.Clone(grown), func(g int) bool { return g >= o })))
		}
	}
	ast, iss := e.Compile(source)
	if o, what, do := foreign(source); iss.Err() != nil && what != "" {
		return nil, problem.Problem{Place: at(o), What: what, Do: do}
	}
	for _, issue := range iss.Errors() {
		ps.At(at(offsetOf(source, issue.Location.Line(), issue.Location.Column())), tidy(issue.Message),
			remedy(issue.Message, scope))
	}
	if err := ps.Err(); err != nil {
		return nil, err
	}
	p := &Program{text: text, source: source, at: at, scope: scope, ast: ast}
	p.chains = p.selections()
	p.common = len(p.chains) > 0 && !slices.ContainsFunc(p.chains, func(c chain) bool {
		return c.path[0] != "data" && c.path[0] != "env" || slices.Contains(scope.Locals, c.path[0])
	})
	p.lone = len(p.chains) == 1 && !p.chains[0].asked && selects(ast.NativeRep().Expr())
	for _, c := range p.chains {
		if !slices.Contains(scope.roots(), c.path[0]) && !slices.Contains(scope.Locals, c.path[0]) {
			ps.At(at(c.offset), fmt.Sprintf("%s reads %s, which is not available there", scope.what(), c.path[0]),
				scope.what()+" may read "+strings.Join(scope.roots(), ", "))
		}
		if scope.What == Where && len(c.path) > 1 && c.path[0] == "host" && c.path[1] == "groups" {
			ps.At(at(c.offset), "the where condition reads the host's groups, which it decides itself",
				"list the members, or use a host key")
		}
		if c.path[0] == "fleet" {
			p.fleet.facts = p.readsFactsOfOthers()
			p.fleet.members = p.fleet.members || c.path[len(c.path)-1] == "groups"
		}
		if c.path[0] != "facts" {
			continue
		}
		p.facts = append(p.facts, strings.Join(c.path[1:], "."))
		if err := facts.CheckPath(c.path[1:]); err != nil {
			ps.AddErr(at(c.offset), err)
		}
	}
	opts := []cel.ProgramOption{}
	if p.loops() {
		opts = append(opts, cel.CostLimit(costLimit), cel.CostTracking(costs{}))
	}
	if p.prog, err = e.Program(ast, append(opts, cel.EvalOptions(cel.OptOptimize))...); err != nil {
		ps.At(at(0), tidy(err.Error()), "")
	}
	p.partial = sync.OnceValues(func() (cel.Program, error) {
		return e.Program(ast, append(opts, cel.EvalOptions(cel.OptPartialEval))...)
	})
	return p, ps.Err()
}

func (s Scope) what() string {
	if s.What == "" {
		return "this expression"
	}
	return s.What
}

func (p *Program) loops() bool {
	found := false
	celast.PreOrderVisit(p.ast.NativeRep().Expr(), celast.NewExprVisitor(func(e celast.Expr) {
		found = found || e.Kind() == celast.ComprehensionKind
	}))
	return found
}

// readsFactsOfOthers says whether .facts is selected of anything but a root.
func (p *Program) readsFactsOfOthers() bool {
	found := false
	celast.PreOrderVisit(p.ast.NativeRep().Expr(), celast.NewExprVisitor(func(e celast.Expr) {
		found = found || e.Kind() == celast.SelectKind && strings.HasPrefix(e.AsSelect().FieldName(), "facts")
	}))
	return found
}

// Eval evaluates for one host. What depends on facts not known is Unknown{},
// and what depends on a secret holds a value.Secret.
func (p *Program) Eval(vars *Vars) (any, error) {
	if vars.touches(p.chains) {
		return p.evalSecret(vars)
	}
	if !p.common || p.lone || vars.Blind || vars.unknown(p.chains, p.fleet) {
		return p.eval(vars)
	}
	same := func(a, b map[string]any) bool { return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer() }
	if e := p.last.Load(); e != nil && same(e.data, vars.Data) && e.env == vars.Env {
		return e.value, nil
	}
	v, err := p.eval(vars)
	if err == nil {
		p.last.Store(&evaluated{vars.Data, vars.Env, v})
	}
	return v, err
}

func (p *Program) eval(vars *Vars) (any, error) {
	prog, act := p.prog, cel.Activation(vars)
	unknown := vars.unknown(p.chains, p.fleet)
	if p.lone && !unknown { // as most are: CEL would give what is there
		if v, ok := lookup(p.chains[0].path, vars); ok && native(v) {
			return v, nil
		}
	}
	if unknown {
		var err error
		if prog, err = p.partial(); err != nil {
			return nil, err
		}
		act = vars.partial(vars.fleetUnknown(p.fleet))
	}
	out, _, err := prog.Eval(act)
	if err != nil && vars.unopened(p.chains, err) {
		return Unknown{}, nil
	}
	if err != nil {
		return nil, p.explain(err, vars)
	}
	_, open := out.(*types.Unknown)
	if err := p.hidden(vars, open); err != nil {
		return nil, err
	}
	v, err := plain(out)
	if err != nil {
		return nil, problem.Problem{Place: p.at(0), What: err.Error()}
	}
	return v, nil
}

// hidden finds a name that is not there though CEL gave a value: its || and &&
// take what fails on one side when the other side decides. Names on the left,
// which are asked first, must be there. With open, the value is not known yet,
// and any name may come to be asked.
func (p *Program) hidden(vars *Vars, open bool) error {
	if vars.Blind {
		return nil
	}
	for _, c := range p.chains {
		if c.asked || c.guarded || !c.first && !open || c.path[0] == "facts" || c.path[0] == "fleet" {
			continue
		}
		if slices.ContainsFunc(vars.Missing, func(m []string) bool { return meet(m, c.path) }) {
			continue
		}
		if step, what, do := missing(c.path, vars); step > 0 {
			return problem.Problem{Place: p.at(c.offset), What: what, Do: do}
		}
	}
	return nil
}

// evalSecret evaluates with the secrets and with others in their place.
func (p *Program) evalSecret(vars *Vars) (any, error) {
	versions := vars.versions()
	first, err := p.eval(versions[0])
	if err != nil {
		if clean := p.missingOf(vars); clean != nil {
			return nil, clean
		}
		return nil, problem.Problem{Place: p.at(0), What: "the expression fails on a secret value",
			Do: "the message is hidden because it may reveal the secret"}
	}
	var others []any
	for _, v := range versions[1:] {
		other, err := p.eval(v)
		if err != nil {
			other = Unknown{}
		}
		others = append(others, other)
	}
	if _, ok := first.(Unknown); ok {
		return first, nil
	}
	out, err := blend(first, others)
	if err != nil {
		said := problem.From(err)
		said.Place = p.at(0)
		return nil, said
	}
	return out, nil
}

// Lacks says whether a name that the expression reads is not there, and it does
// not ask for that itself.
func (p *Program) Lacks(vars *Vars) bool {
	for _, c := range p.chains {
		if c.asked || c.guarded || c.path[0] == "facts" && vars.Facts == nil ||
			slices.ContainsFunc(vars.Missing, func(m []string) bool { return meet(m, c.path) }) {
			continue
		}
		if step, _, _ := missing(c.path, vars); step > 0 {
			return true
		}
	}
	return false
}

// missingOf says which name that is read is not there, without looking at values.
func (p *Program) missingOf(vars *Vars) error {
	for _, c := range p.chains {
		if step, what, do := missing(c.path, vars); step > 0 && !c.asked {
			return problem.Problem{Place: p.at(c.offset), What: what, Do: do}
		}
	}
	return nil
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
		return false, false, p.noCondition()
	case bool:
		return v, true, nil
	case value.Secret:
		if yes, ok := v.Scalar().(bool); ok {
			return yes, true, nil
		}
	}
	return false, false, problem.Problem{Place: p.at(0), What: "condition must be true or false, but is " +
		value.TypeName(v) +
		"", Do: "add a comparison"}
}

// noCondition says what is wrong with a condition that is one fact and nothing else, which no host
// has to be asked for: the fact is not true or false.
func (p *Program) noCondition() error {
	for _, c := range p.chains {
		if c.path[0] != "facts" || strings.Join(c.path, ".") != strings.TrimSpace(p.text) {
			continue
		}
		if is := facts.TypeOf(c.path[1:]); is != "" && is != "bool" {
			return problem.Problem{Place: p.at(0),
				What: fmt.Sprintf("condition must be true or false, but the fact %s has the type %s",
					strings.TrimSpace(p.text), is), Do: "add a comparison"}
		}
	}
	return nil
}

// Text gives the expression as written.
func (p *Program) Text() string { return p.text }

// At gives the place of an offset in the expression.
func (p *Program) At(offset int) value.Place { return p.at(offset) }

// Reads lists the paths that the expression reads, each from its root on.
func (p *Program) Reads() [][]string { return paths(p.chains) }

// OnlyAsks says whether a path is only asked for being there.
func (p *Program) OnlyAsks(path []string) bool {
	return !slices.ContainsFunc(p.chains, func(c chain) bool { return !c.asked && slices.Equal(c.path, path) })
}

func paths(chains []chain) [][]string {
	var out [][]string
	for _, c := range chains {
		out = append(out, c.path)
	}
	return out
}

// ReadsFact says whether the expression reads the fact at a top-level name.
func (p *Program) ReadsFact(name string) bool {
	return slices.ContainsFunc(p.facts, func(f string) bool {
		return f == "" || f == name || strings.HasPrefix(f, name+".")
	})
}

// ReadsRoot says whether the expression reads a root or a variable.
func (p *Program) ReadsRoot(name string) bool { return readsRoot(p.chains, name) }

func readsRoot(chains []chain, name string) bool {
	return slices.ContainsFunc(chains, func(c chain) bool { return c.path[0] == name })
}

// Saw lists what the expression read and the values it found.
func (p *Program) Saw(vars *Vars) []Seen {
	var out []Seen
	for _, c := range p.chains {
		name := strings.Join(c.path, ".")
		if slices.ContainsFunc(out, func(s Seen) bool { return s.Name == name }) {
			continue
		}
		if slices.ContainsFunc(p.chains, func(o chain) bool {
			return o.asked && len(o.path) > len(c.path) &&
				meet(o.path, c.path)
		}) {
			continue // a step on the way of has()
		}
		v, there := lookup(c.path, vars)
		if c.path[0] == "facts" && vars.Facts == nil {
			v, there = Unknown{}, true
		}
		out = append(out, Seen{name, v, there})
	}
	return out
}

// Seen is one value that an expression read.
type Seen struct {
	Name  string
	Value any
	There bool
}

func lookup(path []string, vars *Vars) (any, bool) {
	at, ok := vars.root(path[0])
	if !ok {
		return nil, false
	}
	return below(at, path[1:])
}

// below gives what is at a path in a table.
func below(at any, path []string) (any, bool) {
	ok := true
	for _, name := range path {
		m, _ := at.(map[string]any)
		if at, ok = m[name]; !ok {
			return nil, false
		}
	}
	return at, ok
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
		if v > math.MaxInt64 {
			return nil, errors.New("the number does not fit a signed 64-bit integer")
		}
		return int64(v), nil
	case types.Double:
		return float64(v), nil
	case types.String:
		return string(v), nil
	case types.Duration, types.Timestamp:
		return string(v.ConvertToType(types.StringType).(types.String)), nil
	case traits.Mapper:
		if m, ok := v.Value().(map[string]any); ok && native(m) {
			return m, nil
		}
		out := map[string]any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			name, ok := k.(types.String)
			if !ok {
				return nil, errors.New("table keys must be strings")
			}
			item, err := plain(v.Get(k))
			if err != nil {
				return nil, err
			}
			out[string(name)] = item
		}
		return out, nil
	case traits.Lister:
		if l, ok := v.Value().([]any); ok && native(l) {
			return l, nil
		}
		var out = []any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			item, err := plain(it.Next())
			if err != nil {
				return nil, err
			}
			out = append(out, item)
		}
		return out, nil
	case *types.Err:
		return nil, v
	}
	return nil, fmt.Errorf("the expression returns a %s, which cannot be used here", v.Type().TypeName())
}

// native says whether a tree that CEL handed back is one of ours all through.
func native(v any) bool {
	switch v := v.(type) {
	case nil, bool, int64, float64, string, value.Secret:
		return true
	case []any:
		for _, item := range v {
			if !native(item) {
				return false
			}
		}
		return true
	case map[string]any:
		for _, item := range v {
			if !native(item) {
				return false
			}
		}
		return true
	}
	return false
}

// chain is one selection a.b.c that starts at a root or a variable.
type chain struct {
	path   []string
	offset int
	asked  bool // only whether it is there
	// first says that it is evaluated whatever else is, and guarded that the
	// same expression asks whether it is there.
	first, guarded bool
}

// selections lists the selections in an expression, the longest of each only.
func (p *Program) selections() []chain {
	native := p.ast.NativeRep()
	var out []chain
	first := map[int64]bool{}
	surely(native.Expr(), first)
	inner := map[int64]bool{}
	celast.PreOrderVisit(native.Expr(), celast.NewExprVisitor(func(e celast.Expr) {
		if inner[e.ID()] {
			return
		}
		var path []string
		asked := e.Kind() == celast.SelectKind && e.AsSelect().IsTestOnly()
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
		if !slices.Contains(Roots, name) && !slices.Contains(p.scope.Locals, name) {
			return
		}
		path = append(path, name)
		slices.Reverse(path)
		loc := native.SourceInfo().GetStartLocation(at.ID())
		out = append(out, chain{path: path, offset: max(0, offsetOf(p.source, loc.Line(), loc.Column())), asked: asked,
			first: first[e.ID()]})
	}))
	for i, c := range out {
		out[i].guarded = slices.ContainsFunc(out, func(o chain) bool { return o.asked && meet(o.path, c.path) })
	}
	return out
}

// selects says whether an expression is a selection a.b.c, whose first is a name.
func selects(e celast.Expr) bool {
	for e.Kind() == celast.SelectKind {
		e = e.AsSelect().Operand()
	}
	return e.Kind() == celast.IdentKind
}

// surely notes the parts of an expression that are evaluated whatever the
// values are, when || and && are asked from left to right.
func surely(e celast.Expr, out map[int64]bool) {
	out[e.ID()] = true
	switch e.Kind() {
	case celast.SelectKind:
		surely(e.AsSelect().Operand(), out)
	case celast.CallKind:
		call := e.AsCall()
		args := call.Args()
		switch call.FunctionName() {
		case operators.LogicalAnd, operators.LogicalOr, operators.Conditional:
			args = args[:1]
		}
		if call.IsMemberFunction() {
			surely(call.Target(), out)
		}
		for _, a := range args {
			surely(a, out)
		}
	case celast.ListKind:
		for _, item := range e.AsList().Elements() {
			surely(item, out)
		}
	case celast.MapKind:
		for _, entry := range e.AsMap().Entries() {
			surely(entry.AsMapEntry().Value(), out)
		}
	case celast.ComprehensionKind:
		surely(e.AsComprehension().IterRange(), out)
	}
}

// What is said of hosts of the fleet whose facts are asked for and not known.
const (
	neverRead = "the facts of a host in the fleet were never collected"
	askFirst  = "collect them, or check has(h.facts) first: `jadekettle facts HOST`"
)

// explain finds what an evaluation failed at and names the nearest that exists.
func (p *Program) explain(err error, vars *Vars) error {
	for _, c := range p.chains {
		if step, what, do := missing(c.path, vars); step > 0 && (strings.Contains(err.Error(), c.path[step]) ||
			strings.Contains(err.Error(), "unsupported index type")) {
			return problem.Problem{Place: p.at(c.offset), What: what, Do: do}
		}
	}
	msg := err.Error()
	if m := noKey().FindStringSubmatch(msg); m != nil && readsRoot(p.chains, "fleet") {
		if m[1] == "facts" || m[1] == "facts_age" {
			return problem.Problem{Place: p.at(0), What: neverRead, Do: askFirst}
		}
		if vars.Fleet != nil && vars.Fleet.Groups[m[1]] == nil && strings.Contains(p.source, fleetMembers) {
			return problem.Problem{Place: p.at(0), What: fmt.Sprintf("unknown group %q", m[1]),
				Do: problem.Meant(m[1], value.Keys(vars.Fleet.Groups), "declare it in the inventory")}
		}
	}
	if strings.Contains(msg, "cost limit") {
		return problem.Problem{Place: p.at(0),
			What: "the expression takes too many steps",
			Do:   "use a shorter list"}
	}
	said := problem.From(err)
	if r := remedy(msg, p.scope); r != "" {
		said.Do = r
	}
	return problem.Problem{Place: p.at(0), What: "the expression fails: " + tidy(said.What), Do: said.Do}
}

var noKey = lazy.Regexp(`no such key: (\S+)`)

// unread gives the reason why a custom fact could not be read, if that is
// what a path asks for.
func unread(before, name string, root any) string {
	all, _ := root.(map[string]any)
	reasons, _ := all["own_wrong"].(map[string]any)
	reason, _ := reasons[name].(string)
	if before != "facts.own" {
		return ""
	}
	return reason
}

// missing finds the first step of a path that is not there; 0 means none.
func missing(path []string, vars *Vars) (step int, what, do string) {
	root, _ := vars.root(path[0])
	at, _ := root.(map[string]any)
	if at == nil {
		if path[0] == "input" && len(path) > 1 {
			return 1, fmt.Sprintf("no value was given for the input %q", path[1]), notAsked
		}
		if path[0] == "param" && len(path) > 1 {
			return 1, fmt.Sprintf("unknown param %q in this manifest", path[1]), "declare it: [param." + path[1] + "]"
		}
		return 0, "", ""
	}
	for i, name := range path[1:] {
		before := strings.Join(path[:i+1], ".")
		next, there := at[name]
		if !there {
			otherwise := "no value is set there"
			if len(at) > 0 {
				otherwise = "available: " + short(value.Keys(at))
			}
			if before == "param" {
				return i + 1, fmt.Sprintf("unknown param %q in this manifest", name),
					problem.Meant(name, value.Keys(at),
						"declare it: [param."+name+"]")
			}
			if before == "input" {
				return i + 1, fmt.Sprintf("no value was given for the input %q", name),
					problem.Meant(name, value.Keys(at), notAsked)
			}
			if reason := unread(before, name, root); reason != "" {
				return i + 1, fmt.Sprintf("%s.%s could not be read: %s", before, name, reason),
					"run its command on the host to see why, or check has(facts.own." + name + ") first"
			}
			return i + 1, fmt.Sprintf("unknown key %[2]q in %[1]s", before, name),
				problem.Meant(name, value.Keys(at), otherwise)
		}
		table, ok := next.(map[string]any)
		if !ok {
			if i+2 < len(path) {
				return i + 2, fmt.Sprintf("%[1]s.%[2]s is %[3]s and does not contain %[4]q", before, name,
					value.TypeName(next),
					path[i+2]), ""
			}
			return 0, "", ""
		}
		at = table
	}
	return 0, "", ""
}

// notAsked is what to do where an answer is not there.
const notAsked = "it is an input of a job: start a job that has it, or check has(input.KEY) first"

// short lists names, not too many.
func short(names []string) string {
	if len(names) > 12 {
		return strings.Join(names[:12], ", ") + fmt.Sprintf(" and %d more", len(names)-12)
	}
	return strings.Join(names, ", ")
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

// foreignOperator matches what other languages write for CEL's operators, outside of strings; a
// string is matched whole, to be passed over.
var foreignOperator = lazy.Regexp(`"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|[=!<>]=|=|\b(?:and|or|not)\b`)

// foreign finds the first operator of another language in an expression that is not valid.
func foreign(text string) (offset int, what, do string) {
	for _, at := range foreignOperator().FindAllStringIndex(text, -1) {
		switch op := text[at[0]:at[1]]; op {
		case "=":
			return at[0], "a single = is not a comparison", "use =="
		case "and", "or", "not":
			return at[0], fmt.Sprintf("%q is not an operator here", op),
				"write " + map[string]string{"and": "&&", "or": "||", "not": "!"}[op]
		}
	}
	return 0, "", ""
}

// tidy shortens CEL's messages to what helps.
func tidy(msg string) string {
	msg, _, _ = strings.Cut(msg, " expecting {")
	msg, _, _ = strings.Cut(msg, " (in container")
	msg, _, _ = strings.Cut(msg, " (did you mean")
	msg = strings.TrimPrefix(msg, "Syntax error: ")
	switch {
	case strings.HasPrefix(msg, "undeclared reference to '"):
		return "unknown name " + strings.TrimPrefix(msg, "undeclared reference to ")
	case strings.HasPrefix(msg, "found no matching overload for '"):
		name, args, _ := strings.Cut(strings.TrimPrefix(msg, "found no matching overload for '"), "' applied to ")
		return written(name) + " does not take " + strings.Trim(args, "'")
	case strings.HasPrefix(msg, "no such overload"):
		return "the operands do not fit together" + strings.TrimPrefix(msg, "no such overload")
	case strings.Contains(msg, "mismatched input '<EOF>'"):
		return "the expression is incomplete"
	}
	if m := unexpected().FindStringSubmatch(msg); m != nil {
		return "syntax error at " + m[1]
	}
	return msg
}

// written gives an operator as people write it: CEL calls == _==_, and in @in.
func written(name string) string { return strings.Trim(name, "_@") }

// unexpected matches what the CEL parser says of a token that does not fit.
var unexpected = lazy.Regexp(`^(?:mismatched input|extraneous input|no viable alternative at input|` +
	`token recognition error at:) ('.*?')(?:$| )`)

// wordOfCEL matches what the parser says of a field that is called like a word
// of the language (CEL specification, "Syntax").
var wordOfCEL = lazy.Regexp(`'\.(in|true|false|null)'`)

func remedy(msg string, scope Scope) string {
	if _, rest, ok := strings.Cut(msg, "undeclared reference to '"); ok {
		name, _, _ := strings.Cut(rest, "'")
		names := slices.Concat(scope.roots(), scope.Locals, FunctionNames())
		return problem.Meant(name, names, "available: "+strings.Join(slices.Concat(scope.roots(),
			scope.Locals), ", ")+"; put strings in quotes")
	}
	if m := wordOfCEL().FindStringSubmatch(msg); m != nil {
		return "write a name that is a CEL keyword in brackets: x[\"" + m[1] + "\"]"
	}
	if _, rest, ok := strings.Cut(msg, "found no matching overload for '"); ok {
		name, _, _ := strings.Cut(rest, "'")
		if f, ok := Function(name); ok {
			return "write " + f.Signature()
		}
		if written(name) != name {
			return "both sides must have the same type; double(x), int(x) and string(x) convert"
		}
	}
	return ""
}
