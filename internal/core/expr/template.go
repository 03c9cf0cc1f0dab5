package expr

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"
	"unicode/utf8"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Template is a compiled Go text/template in which the roots are functions, so
// that {{ host.name }} reads as ${host.name} does.
type Template struct {
	file   string
	text   string
	root   *template.Template
	chains []chain // every selection that starts at a root
	always []chain // those of them that are evaluated whatever the facts are
	fleet  fleetUse
	pool   sync.Pool // of *instance
}

// instance is a clone of the template bound to the values of one host at a time.
type instance struct {
	tmpl  *template.Template
	vars  *Vars
	steps int
}

// The functions that are put into a template where it is compiled: emit is the
// one through which everything that it prints passes, step counts, members is
// fleet.members, asked is has and orElse is value_or; the last two are these of
// what the dot or a variable holds.
const (
	emit    = "_print"
	step    = "_step"
	members = "_members"
	asked   = "_has"
	orElse  = "_or"

	askedBelow  = "_has_below"
	orElseBelow = "_or_below"
)

// Limits on what a template may do.
const (
	maxSteps  = 1_000_000
	maxOutput = 16 << 20 // bytes
)

// limitError says that a template goes beyond a bound.
type limitError struct{ problem.Problem }

var (
	errUnopened = errors.New("it depends on data that could not be decrypted")

	errNull  = errors.New("the value is null")
	errSteps = limitError{problem.Errorf("the template takes more than a million steps").
			Remedy("range over a shorter list")}
	errSize = limitError{problem.Errorf("the template produces more than 16 MiB").Remedy("use copy for large files")}
)

func printable(v any) (string, error) {
	if v == nil {
		return "", errNull
	}
	switch v.(type) {
	case []any, map[string]any:
		return "", problem.Errorf("the value is %s, which cannot be written as text", value.TypeName(v)).
			Remedy("use range or index")
	}
	if s, ok := value.Text(v); ok {
		return s, nil
	}
	return fmt.Sprint(v), nil
}

// funcs are the functions of a template bound to an instance, or to none while
// it is being parsed.
func funcs(in *instance) template.FuncMap {
	out := templateFunctions()
	for _, r := range Roots {
		out[r] = func() (any, error) {
			v, _ := in.vars.root(r)
			return v, nil
		}
	}
	out[emit] = printable
	out[step] = func() (string, error) {
		if in.steps++; in.steps > maxSteps {
			return "", errSteps
		}
		return "", nil
	}
	out[members] = func(group string) ([]any, error) {
		if list, ok := in.vars.Fleet.group(group); ok {
			return list, nil
		}
		return nil, fmt.Errorf("unknown group %q", group)
	}
	out[asked] = func(path ...string) bool {
		_, there := lookup(path, in.vars)
		return there
	}
	out[orElse] = func(otherwise any, path ...string) any {
		if v, there := lookup(path, in.vars); there {
			return v
		}
		return Native(otherwise)
	}
	out[askedBelow] = func(from any, path ...string) bool {
		_, there := below(from, path)
		return there
	}
	out[orElseBelow] = func(from, otherwise any, path ...string) any {
		if v, there := below(from, path); there {
			return v
		}
		return Native(otherwise)
	}
	for _, name := range []string{"has", "value_or"} { // only as head of a command, where they are replaced
		out[name] = func(...any) (any, error) {
			return nil, fmt.Errorf("%s takes a name with a dot, such as data.gauge.depth", name)
		}
	}
	return out
}

func (f *Fleet) group(name string) ([]any, bool) {
	if f == nil {
		return nil, false
	}
	list, ok := f.Groups[name]
	return list, ok
}

// ParseTemplate compiles a template; file names it in messages.
func ParseTemplate(file, text string) (*Template, error) {
	t := &Template{file: file, text: text}
	root, err := template.New(file).Option("missingkey=error").Funcs(funcs(&instance{})).Parse(text)
	if err != nil {
		return nil, t.explain(err, nil)
	}
	t.root = root
	if root.Tree != nil {
		t.unconditional(root.Tree.Root)
	}
	var ps problem.Problems
	for _, tmpl := range root.Templates() {
		if tmpl.Tree == nil {
			continue
		}
		t.walk(tmpl.Tree, tmpl.Tree.Root, &ps)
		if tmpl != root && tmpl.Tree.Root != nil {
			count(tmpl.Tree, tmpl.Tree.Root)
		}
	}
	t.fleet = fleetUse{
		facts: readsRoot(t.chains, "fleet") && strings.Contains(text, ".facts"),
		members: slices.ContainsFunc(t.chains, func(c chain) bool {
			return slices.Equal(c.path,
				[]string{"fleet", "groups"})
		}),
	}
	t.pool.New = func() any {
		in := &instance{tmpl: template.Must(t.root.Clone())} // a parsed, never executed template clones
		in.tmpl.Funcs(funcs(in))
		return in
	}
	return t, ps.Err()
}

// count puts a step at the head of a list of nodes that may run many times.
func count(tree *parse.Tree, list *parse.ListNode) {
	call := &parse.CommandNode{NodeType: parse.NodeCommand, Pos: list.Pos,
		Args: []parse.Node{parse.NewIdentifier(step).SetTree(tree).SetPos(list.Pos)}}
	pipe := &parse.PipeNode{NodeType: parse.NodePipe, Pos: list.Pos, Cmds: []*parse.CommandNode{call}}
	list.Nodes = append([]parse.Node{&parse.ActionNode{NodeType: parse.NodeAction, Pos: list.Pos,
		Pipe: pipe}}, list.Nodes...)
}

// unconditional finds the selections that stand alone in an action, or in the
// head of an if, range or with, at the template's top level.
func (t *Template) unconditional(top *parse.ListNode) {
	for _, n := range top.Nodes {
		var pipe *parse.PipeNode
		switch n := n.(type) {
		case *parse.ActionNode:
			pipe = n.Pipe
		case *parse.IfNode:
			pipe = n.Pipe
		case *parse.RangeNode:
			pipe = n.Pipe
		case *parse.WithNode:
			pipe = n.Pipe
		}
		if pipe == nil || len(pipe.Cmds) == 0 || len(pipe.Cmds[0].Args) != 1 {
			continue
		}
		c, ok := pipe.Cmds[0].Args[0].(*parse.ChainNode)
		if !ok {
			continue
		}
		if id, ok := c.Node.(*parse.IdentifierNode); ok && (id.Ident == "host" || id.Ident == "data" ||
			id.Ident == "param") {
			t.always = append(t.always, chain{path: append([]string{id.Ident}, c.Field...), offset: int(id.Position())})
		}
	}
}

// walk lets every printing action pass through emit, checks fact names, and
// puts in what text/template has no words for.
func (t *Template) walk(tree *parse.Tree, n parse.Node, ps *problem.Problems) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n != nil {
			for _, child := range n.Nodes {
				t.walk(tree, child, ps)
			}
		}
	case *parse.ActionNode:
		t.walk(tree, n.Pipe, ps)
		if len(n.Pipe.Decl) == 0 {
			name := parse.NewIdentifier(emit).SetTree(tree).SetPos(n.Pos)
			n.Pipe.Cmds = append(n.Pipe.Cmds, &parse.CommandNode{NodeType: parse.NodeCommand, Pos: n.Pos,
				Args: []parse.Node{name}})
		}
	case *parse.IfNode:
		t.branch(tree, &n.BranchNode, ps)
	case *parse.RangeNode:
		t.branch(tree, &n.BranchNode, ps)
		count(tree, n.List)
	case *parse.WithNode:
		t.branch(tree, &n.BranchNode, ps)
	case *parse.TemplateNode:
		t.walk(tree, n.Pipe, ps)
	case *parse.PipeNode:
		if n != nil {
			for _, c := range n.Cmds {
				t.command(tree, c)
				for _, a := range c.Args {
					t.walk(tree, a, ps)
				}
			}
		}
	case *parse.ChainNode:
		id, ok := n.Node.(*parse.IdentifierNode)
		if !ok || !slices.Contains(Roots, id.Ident) {
			t.walk(tree, n.Node, ps)
			return
		}
		t.chains = append(t.chains, chain{path: append([]string{id.Ident}, n.Field...), offset: int(id.Position())})
		if id.Ident != "facts" {
			return
		}
		if err := facts.CheckPath(n.Field); err != nil {
			ps.AddErr(t.place(int(id.Position())), err)
		}
	case *parse.IdentifierNode:
		if slices.Contains(Roots, n.Ident) {
			t.chains = append(t.chains, chain{path: []string{n.Ident}, offset: int(n.Position())})
		}
	}
}

// command replaces fleet.members X, has a.b.c and value_or a.b.c X, which look at
// names, by functions that do.
func (t *Template) command(tree *parse.Tree, c *parse.CommandNode) {
	if len(c.Args) < 2 {
		return
	}
	put := func(name string, path []string, rest ...parse.Node) {
		args := []parse.Node{parse.NewIdentifier(name).SetTree(tree).SetPos(c.Pos)}
		args = append(args, rest...)
		for _, p := range path {
			args = append(args, &parse.StringNode{NodeType: parse.NodeString, Pos: c.Pos,
				Quoted: strconv.Quote(p), Text: p})
		}
		c.Args = args
	}
	if path := chainOf(c.Args[0]); len(path) == 2 && path[0] == "fleet" && path[1] == "members" {
		t.chains = append(t.chains, chain{path: []string{"fleet", "groups"}, offset: int(c.Pos)})
		put(members, nil, c.Args[1:]...)
		return
	}
	id, ok := c.Args[0].(*parse.IdentifierNode)
	if !ok {
		return
	}
	path := chainOf(c.Args[1])
	base, below := fieldsOf(c.Args[1])
	switch {
	case id.Ident == "has" && len(c.Args) == 2 && len(below) > 0:
		put(askedBelow, below, base)
	case id.Ident == "value_or" && len(c.Args) == 3 && len(below) > 0:
		put(orElseBelow, below, base, c.Args[2])
	case id.Ident == "has" && len(c.Args) == 2 && len(path) > 1:
		t.chains = append(t.chains, chain{path: path, offset: int(c.Args[1].Position()), asked: true})
		put(asked, path)
	case id.Ident == "value_or" && len(c.Args) == 3 && len(path) > 1:
		t.chains = append(t.chains, chain{path: path, offset: int(c.Args[1].Position()), asked: false})
		put(orElse, path, c.Args[2])
	}
}

// fieldsOf takes a selection from the dot or from a variable apart, such as
// .left and $keeper.left; below is empty for anything else.
func fieldsOf(n parse.Node) (base parse.Node, below []string) {
	switch n := n.(type) {
	case *parse.FieldNode:
		return &parse.DotNode{NodeType: parse.NodeDot, Pos: n.Pos}, n.Ident
	case *parse.VariableNode:
		v := *n
		v.Ident = n.Ident[:1]
		return &v, n.Ident[1:]
	}
	return nil, nil
}

// chainOf gives the path of a selection that starts at a root, or nil.
func chainOf(n parse.Node) []string {
	c, ok := n.(*parse.ChainNode)
	if !ok {
		return nil
	}
	id, ok := c.Node.(*parse.IdentifierNode)
	if !ok || !slices.Contains(Roots, id.Ident) {
		return nil
	}
	return append([]string{id.Ident}, c.Field...)
}

func (t *Template) branch(tree *parse.Tree, b *parse.BranchNode, ps *problem.Problems) {
	t.walk(tree, b.Pipe, ps)
	t.walk(tree, b.List, ps)
	t.walk(tree, b.ElseList, ps)
}

// ReadsFact says whether the template reads the fact at a top-level name.
func (t *Template) ReadsFact(name string) bool {
	return slices.ContainsFunc(t.chains, func(c chain) bool {
		return c.path[0] == "facts" && (len(c.path) == 1 || c.path[1] == name)
	})
}

// Reads lists the paths that the template reads, each from its root on.
func (t *Template) Reads() [][]string { return paths(t.chains) }

// Execute gives the template's text for one host. known is false when it
// depends on facts that are not there, secret true when it depends on a secret.
func (t *Template) Execute(vars *Vars) (text string, known, secret bool, err error) {
	if vars.unknown(t.chains, t.fleet) {
		return "", false, false, t.missingAlways(vars)
	}
	if !vars.touches(t.chains) {
		text, err = t.execute(vars)
		if errors.Is(err, errUnopened) {
			return "", false, false, nil
		}
		return text, true, false, err
	}
	versions := vars.versions()
	text, err = t.execute(versions[0])
	if errors.Is(err, errUnopened) {
		return "", false, false, nil
	}
	if err != nil {
		return "", true, true, problem.Problem{Place: errorPlace(err),
			What: "the template fails where it uses a secret",
			Do:   "the message is hidden because it may reveal the secret"}
	}
	for _, v := range versions[1:] {
		other, err := t.execute(v)
		secret = secret || err != nil || other != text
	}
	return text, true, secret, nil
}

func errorPlace(err error) value.Place {
	if p, ok := err.(problem.Problem); ok {
		return p.Place
	}
	return value.Place{}
}

func (t *Template) execute(vars *Vars) (string, error) {
	in := t.pool.Get().(*instance)
	defer t.pool.Put(in)
	in.vars, in.steps = vars, 0
	var b bounded
	if err := in.tmpl.Execute(&b, nil); err != nil {
		if vars.unopened(t.chains, err) {
			return "", errUnopened
		}
		return "", t.explain(err, vars)
	}
	return b.String(), nil
}

// bounded is a text that may not grow without end.
type bounded struct{ strings.Builder }

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxOutput {
		return 0, errSize
	}
	return b.Builder.Write(p)
}

// missingAlways says which names are missing that will be asked for whatever
// the facts are.
func (t *Template) missingAlways(vars *Vars) error {
	var ps problem.Problems
	for _, c := range t.always {
		if vars.Blind && c.path[0] == "data" {
			continue
		}
		if slices.ContainsFunc(vars.Missing, func(m []string) bool { return meet(m, c.path) }) {
			continue
		}
		if step, what, do := missing(c.path, vars); step > 0 {
			ps.At(t.place(c.offset), what, do)
		}
	}
	return ps.Err()
}

var (
	located = lazy.Regexp(`^template: .+?:(\d+)(?::(\d+))?: `)
	noEntry = lazy.Regexp(`at <(.*?)>: map has no entry for key "(.*)"`)
	atWhat  = lazy.Regexp(`executing ".*?" at <(.*?)>: (?:error calling ` + emit + `: )?`)
	calling = lazy.Regexp(`error calling \w+: `)
	noFunc  = lazy.Regexp(`function "(.*)" not defined`)
)

// explain turns text/template's error into a problem with a place.
func (t *Template) explain(err error, vars *Vars) error {
	msg := err.Error()
	p := problem.Problem{Place: value.Place{File: t.file}}
	if m := located().FindStringSubmatch(msg); m != nil {
		p.Place.Line, _ = strconv.Atoi(m[1])
		if col, err := strconv.Atoi(m[2]); err == nil {
			p.Place.Col = t.column(p.Place.Line, col)
		}
		msg = msg[len(m[0]):]
	}
	var beyond limitError
	switch {
	case errors.As(err, &beyond):
		p.What, p.Do = beyond.What, beyond.Do
	case noEntry().MatchString(msg):
		m := noEntry().FindStringSubmatch(msg)
		p.What = fmt.Sprintf("unknown key %[2]q in %[1]s", m[1], m[2])
		if m[2] == "facts" && readsRoot(t.chains, "fleet") {
			p.What, p.Do = neverRead, askFirst
		}
		t.nameMissing(&p, m[2], vars)
	case noFunc().MatchString(msg):
		name := noFunc().FindStringSubmatch(msg)[1]
		p.What = fmt.Sprintf("unknown function %q", name)
		p.Do = problem.Meant(name, slices.Concat(Roots, FunctionNames()),
			"a template starts with "+strings.Join(Roots, ", "))
	default:
		if m := atWhat().FindStringSubmatch(msg); m != nil {
			what := m[1]
			if what == emit {
				what = t.action(p.Place)
			}
			what = strings.Replace(what, members, "fleet.members", 1)
			msg = what + ": " + calling().ReplaceAllString(msg[len(m[0]):], "")
		}
		said := problem.From(err)
		p.What, p.Do = strings.TrimSuffix(msg, "; "+said.Do), said.Do
	}
	return p
}

// column turns text/template's, which counts bytes from 0, into ours.
func (t *Template) column(line, at int) int {
	lines := strings.Split(t.text, "\n")
	if line < 1 || line > len(lines) {
		return at + 1
	}
	return utf8.RuneCountInString(lines[line-1][:min(at, len(lines[line-1]))]) + 1
}

// nameMissing says which step of which selection is not there. text/template
// gives the place of the selection's root and the missing key only.
func (t *Template) nameMissing(p *problem.Problem, key string, vars *Vars) {
	if vars == nil {
		return
	}
	for _, c := range t.chains {
		if t.place(c.offset).Line != p.Place.Line {
			continue
		}
		if step, what, do := missing(c.path, vars); step > 0 && c.path[step] == key {
			p.Place, p.What, p.Do = t.place(c.offset), what, do
			return
		}
	}
}

// action gives the text of the action at a place, up to its end.
func (t *Template) action(at value.Place) string {
	lines := strings.Split(t.text, "\n")
	if at.Line < 1 || at.Line > len(lines) || at.Col > len(lines[at.Line-1]) {
		return "the value"
	}
	rest := []rune(lines[at.Line-1])
	text, _, _ := strings.Cut(string(rest[min(max(at.Col-1, 0), len(rest)):]), "}}")
	return strings.TrimSpace(strings.TrimLeft(text, "{- "))
}

func (t *Template) place(offset int) value.Place {
	before := t.text[:min(offset, len(t.text))]
	line := strings.LastIndexByte(before, '\n') + 1
	return value.Place{File: t.file, Line: strings.Count(before, "\n") + 1,
		Col: utf8.RuneCountInString(before[line:]) + 1}
}
