package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"
	"unicode/utf8"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/value"
)

// Template is a compiled Go text/template in which the roots are functions, so
// that {{ host.name }} reads as ${host.name} does.
type Template struct {
	file   string
	text   string
	root   *template.Template
	chains []chain   // every selection that starts at a root
	always []chain   // those of them that are evaluated whatever the facts are
	pool   sync.Pool // of *instance
}

// instance is a clone of the template bound to the values of one host at a time.
type instance struct {
	tmpl *template.Template
	vars *Vars
}

// emit is the function through which everything that a template prints passes.
const emit = "_print"

var errNull = errors.New("the value is null")

func printable(v any) (string, error) {
	if v == nil {
		return "", errNull
	}
	switch v.(type) {
	case []any, map[string]any:
		return "", fmt.Errorf("the value is %s, which has no text; use range or index", value.TypeName(v))
	}
	if s, ok := value.Text(v); ok {
		return s, nil
	}
	return fmt.Sprint(v), nil
}

// ParseTemplate compiles a template; file names it in messages.
func ParseTemplate(file, text string) (*Template, error) {
	t := &Template{file: file, text: text}
	funcs := template.FuncMap{emit: printable}
	for _, r := range Roots {
		funcs[r] = func() map[string]any { return nil }
	}
	root, err := template.New(file).Option("missingkey=error").Funcs(funcs).Parse(text)
	if err != nil {
		return nil, t.explain(err, nil)
	}
	t.root = root
	if root.Tree != nil {
		t.unconditional(root.Tree.Root)
	}
	var ps value.Problems
	for _, tmpl := range root.Templates() {
		if tmpl.Tree != nil {
			t.walk(tmpl.Tree, tmpl.Tree.Root, &ps)
		}
	}
	t.pool.New = func() any {
		in := &instance{tmpl: template.Must(t.root.Clone())} // a parsed, never executed template clones
		in.tmpl.Funcs(template.FuncMap{
			"host":  func() map[string]any { return in.vars.Host },
			"facts": func() map[string]any { return in.vars.Facts },
			"data":  func() map[string]any { return in.vars.Data },
		})
		return in
	}
	return t, ps.Err()
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
		if id, ok := c.Node.(*parse.IdentifierNode); ok && (id.Ident == "host" || id.Ident == "data") {
			t.always = append(t.always, chain{append([]string{id.Ident}, c.Field...), int(id.Position())})
		}
	}
}

// walk lets every printing action pass through emit and checks fact names.
func (t *Template) walk(tree *parse.Tree, n parse.Node, ps *value.Problems) {
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
			n.Pipe.Cmds = append(n.Pipe.Cmds, &parse.CommandNode{NodeType: parse.NodeCommand, Pos: n.Pos, Args: []parse.Node{name}})
		}
	case *parse.IfNode:
		t.branch(tree, &n.BranchNode, ps)
	case *parse.RangeNode:
		t.branch(tree, &n.BranchNode, ps)
	case *parse.WithNode:
		t.branch(tree, &n.BranchNode, ps)
	case *parse.TemplateNode:
		t.walk(tree, n.Pipe, ps)
	case *parse.PipeNode:
		if n != nil {
			for _, c := range n.Cmds {
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
		t.chains = append(t.chains, chain{append([]string{id.Ident}, n.Field...), int(id.Position())})
		if id.Ident != "facts" {
			return
		}
		if err := facts.CheckPath(n.Field); err != nil {
			ps.AddErr(t.place(int(id.Position())), err)
		}
	case *parse.IdentifierNode:
		if slices.Contains(Roots, n.Ident) {
			t.chains = append(t.chains, chain{[]string{n.Ident}, int(n.Position())})
		}
	}
}

func (t *Template) branch(tree *parse.Tree, b *parse.BranchNode, ps *value.Problems) {
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

func (t *Template) readsFacts() bool {
	return slices.ContainsFunc(t.chains, func(c chain) bool { return c.path[0] == "facts" })
}

// Execute gives the template's text for one host. known is false when it
// depends on facts that are not there.
func (t *Template) Execute(vars *Vars) (text string, known bool, err error) {
	if vars.Facts == nil && t.readsFacts() {
		return "", false, t.missingAlways(vars)
	}
	in := t.pool.Get().(*instance)
	defer t.pool.Put(in)
	in.vars = vars
	var b strings.Builder
	if err := in.tmpl.Execute(&b, nil); err != nil {
		return "", true, t.explain(err, vars)
	}
	return b.String(), true, nil
}

// missingAlways says which names are missing that will be asked for whatever
// the facts are.
func (t *Template) missingAlways(vars *Vars) error {
	var ps value.Problems
	roots := map[string]any{"host": vars.Host, "data": vars.Data}
	for _, c := range t.always {
		if step, what, do := missing(c.path, roots); step > 0 {
			ps.At(t.place(c.offset), what, do)
		}
	}
	return ps.Err()
}

var (
	located = regexp.MustCompile(`^template: .+?:(\d+)(?::(\d+))?: `)
	noEntry = regexp.MustCompile(`at <(.*?)>: map has no entry for key "(.*)"`)
	atWhat  = regexp.MustCompile(`executing ".*?" at <(.*?)>: (?:error calling ` + emit + `: )?`)
	noFunc  = regexp.MustCompile(`function "(.*)" not defined`)
)

// explain turns text/template's error into a problem with a place.
func (t *Template) explain(err error, vars *Vars) error {
	msg := err.Error()
	p := value.Problem{Place: value.Place{File: t.file}}
	if m := located.FindStringSubmatch(msg); m != nil {
		p.Place.Line, _ = strconv.Atoi(m[1])
		if col, err := strconv.Atoi(m[2]); err == nil {
			p.Place.Col = col + 1 // text/template counts from 0
		}
		msg = msg[len(m[0]):]
	}
	switch {
	case noEntry.MatchString(msg):
		m := noEntry.FindStringSubmatch(msg)
		p.What = fmt.Sprintf("%s has no %q", m[1], m[2])
		t.nameMissing(&p, m[2], vars)
	case noFunc.MatchString(msg):
		name := noFunc.FindStringSubmatch(msg)[1]
		p.What = fmt.Sprintf("there is no function %q", name)
		p.Do = value.Meant(name, Roots, "a template starts from "+strings.Join(Roots, ", "))
	default:
		if m := atWhat.FindStringSubmatch(msg); m != nil {
			what := m[1]
			if what == emit {
				what = t.action(p.Place)
			}
			msg = what + ": " + strings.Replace(msg[len(m[0]):], "error calling "+emit+": ", "", 1)
		}
		p.What, p.Do, _ = strings.Cut(msg, "; ")
	}
	return p
}

// nameMissing says which step of which selection is not there. text/template
// tells the place of the selection's root and the missing key only.
func (t *Template) nameMissing(p *value.Problem, key string, vars *Vars) {
	if vars == nil {
		return
	}
	roots := map[string]any{"host": vars.Host, "facts": vars.Facts, "data": vars.Data}
	for _, c := range t.chains {
		if t.place(c.offset).Line != p.Place.Line {
			continue
		}
		if step, what, do := missing(c.path, roots); step > 0 && c.path[step] == key {
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
	text, _, _ := strings.Cut(lines[at.Line-1][max(at.Col-1, 0):], "}}")
	return strings.TrimSpace(strings.TrimLeft(text, "{- "))
}

func (t *Template) place(offset int) value.Place {
	before := t.text[:min(offset, len(t.text))]
	line := strings.LastIndexByte(before, '\n') + 1
	return value.Place{File: t.file, Line: strings.Count(before, "\n") + 1, Col: utf8.RuneCountInString(before[line:]) + 1}
}
