// Package manifest reads what people write in TOML: an ordered tree that knows
// the place of every key and scalar, and on top of it manifests, their
// declarations checked against the kinds' schemas.
package manifest

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// NodeKind distinguishes a scalar, a list and a table.
type NodeKind int

// The kinds of nodes.
const (
	Scalar NodeKind = iota
	List
	Table
)

// Node is one value of a TOML document. Keys keep the order in which they were
// written.
type Node struct {
	Kind  NodeKind
	Place value.Place // of the value itself; for a table of its header
	Value any         // of a scalar: bool, int64, float64 or string
	Items []*Node     // of a list
	Keys  []Key       // of a table

	src    *text
	from   int // offset of a text's raw bytes
	raw    []byte
	origin origin
	header bool // the header that opened this table was seen
	index  map[string]int
}

// Key is one key of a table with its value.
type Key struct {
	Name  string
	Place value.Place
	Node  *Node
}

// origin is how a table came to be, which decides what may extend it.
type origin int

const (
	byHeader origin = iota // named by a header, or implied by a longer one
	byDots                 // made by a dotted key
	inline                 // written as { ... }
	byItems                // a list made of [[...]] headers
)

// manyKeys is from how many keys on a table finds them by an index.
const manyKeys = 16

// add puts a key behind the others.
func (n *Node) add(k Key) {
	n.Keys = append(n.Keys, k)
	switch {
	case n.index != nil:
		n.index[k.Name] = len(n.Keys) - 1
	case len(n.Keys) > manyKeys:
		n.index = make(map[string]int, 2*manyKeys)
		for i := range n.Keys {
			n.index[n.Keys[i].Name] = i
		}
	}
}

// Get gives the value of a key, or nil.
func (n *Node) Get(name string) *Node {
	if n.index != nil {
		if i, there := n.index[name]; there {
			return n.Keys[i].Node
		}
		return nil
	}
	for i := range n.Keys {
		if n.Keys[i].Name == name {
			return n.Keys[i].Node
		}
	}
	return nil
}

// Without gives a table without some of its keys.
func (n *Node) Without(names ...string) *Node {
	return n.where(func(name string) bool { return !slices.Contains(names, name) })
}

// With gives a table with only some of its keys.
func (n *Node) With(names ...string) *Node {
	return n.where(func(name string) bool { return slices.Contains(names, name) })
}

func (n *Node) where(has func(name string) bool) *Node {
	out := *n
	out.index, out.Keys = nil, nil
	for _, k := range n.Keys {
		if has(k.Name) {
			out.Keys = append(out.Keys, k)
		}
	}
	return &out
}

// Plain gives the node as a plain value.
func (n *Node) Plain() any {
	switch n.Kind {
	case List:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = item.Plain()
		}
		return out
	case Table:
		out := make(map[string]any, len(n.Keys))
		for _, k := range n.Keys {
			out[k.Name] = k.Node.Plain()
		}
		return out
	}
	return n.Value
}

// At gives the place of the byte at offset in a text's value, by reading the
// text's escapes again.
func (n *Node) At(offset int) value.Place {
	if n.src == nil || n.raw == nil {
		return n.Place
	}
	return n.src.place(n.from + rawOffset(n.raw, offset))
}

// rawOffset maps an offset in the value of a TOML string to one in its raw
// form (TOML 1.0, "String").
func rawOffset(raw []byte, offset int) int {
	quotes, i := 1, 1
	if len(raw) >= 6 && (bytes.HasPrefix(raw, []byte(`"""`)) || bytes.HasPrefix(raw, []byte(`'''`))) {
		quotes, i = 3, 3
		if i < len(raw) && raw[i] == '\r' {
			i++
		}
		if i < len(raw) && raw[i] == '\n' {
			i++
		}
	}
	if raw[0] == '\'' {
		return min(i+offset, len(raw)-quotes)
	}
	for out := 0; out < offset && i < len(raw)-quotes; {
		if raw[i] != '\\' {
			out, i = out+1, i+1
			continue
		}
		var made, used int
		switch c := raw[i+1]; c {
		case 'u', 'U', 'x':
			used = map[byte]int{'x': 4, 'u': 6, 'U': 10}[c]
			r, _ := strconv.ParseUint(string(raw[i+2:min(i+used, len(raw))]), 16, 32)
			made = utf8.RuneLen(rune(r))
		case ' ', '\t', '\r', '\n': // a line that ends in a backslash
			used = 2
			for i+used < len(raw) && strings.IndexByte(" \t\r\n", raw[i+used]) >= 0 {
				used++
			}
		default:
			made, used = 1, 2
		}
		out, i = out+made, i+used
	}
	return min(i, len(raw)-quotes)
}

// text is one file's bytes with the offsets at which its lines begin.
type text struct {
	name  string
	data  []byte
	lines []int
}

func newText(name string, data []byte) *text {
	s := &text{name: name, data: data, lines: []int{0}}
	for i, c := range data {
		if c == '\n' {
			s.lines = append(s.lines, i+1)
		}
	}
	return s
}

func (s *text) place(offset int) value.Place {
	offset = min(max(offset, 0), len(s.data))
	lo, hi := 0, len(s.lines)
	for hi-lo > 1 {
		if mid := (lo + hi) / 2; s.lines[mid] <= offset {
			lo = mid
		} else {
			hi = mid
		}
	}
	return value.Place{File: s.name, Line: lo + 1, Col: utf8.RuneCount(s.data[s.lines[lo]:offset]) + 1}
}

// cursor gives the places of offsets that mostly come in order: of a text in one line, each from
// the last one on, and not from the beginning of the line.
type cursor struct {
	src    *text
	offset int
	at     value.Place // of offset; without a line before the first one
}

func (c *cursor) place(offset int) value.Place {
	offset = min(max(offset, 0), len(c.src.data))
	if c.at.Line == 0 || offset < c.offset || bytes.IndexByte(c.src.data[c.offset:offset], '\n') >= 0 {
		c.at = c.src.place(offset)
	} else {
		c.at.Col += utf8.RuneCount(c.src.data[c.offset:offset])
	}
	c.offset = offset
	return c.at
}

// ParseTOML reads a document. What is wrong is added to problems; the tree
// holds what could be read all the same, so that later checks can go on. It
// reports whether the whole document was read.
func ParseTOML(name string, data []byte, problems *problem.Problems) (*Node, bool) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	// TOML leaves it to us what a line break in a text is. An editor that writes
	// \r\n must not change what a host's file has.
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	src := newText(name, data)
	root := &Node{Kind: Table, Place: value.Place{File: name}, src: src}
	if !utf8.Valid(data) {
		problems.At(src.place(invalid(data)), "the file is not valid UTF-8 here", "save it as UTF-8")
		return root, false
	}
	b := builder{src: src, at: cursor{src: src}, root: root, table: root, problems: problems}
	whole := true
	for start := 0; start < len(data); {
		next := b.parse(start)
		if next < 0 {
			break
		}
		whole = false
		start = next
	}
	if whole {
		src.strict(problems)
	}
	return root, whole
}

// invalid gives the offset of the first byte that is not UTF-8.
func invalid(data []byte) int {
	at := 0
	for at < len(data) {
		r, n := utf8.DecodeRune(data[at:])
		if r == utf8.RuneError && n <= 1 {
			break
		}
		at += n
	}
	return at
}

// builder turns the parser's expressions into the tree.
type builder struct {
	src      *text
	at       cursor
	base     int // offset at which the parser was started
	parser   unstable.Parser
	root     *Node
	table    *Node
	problems *problem.Problems
}

// parse reads from an offset on. At a syntax error it notes the problem and
// gives the offset of the next table header, from which reading can go on; at
// the end it gives -1.
func (b *builder) parse(start int) int {
	b.base, b.table = start, b.root
	b.parser.Reset(b.src.data[start:])
	for b.parser.NextExpression() {
		b.expression(b.parser.Expression())
	}
	err := b.parser.Error()
	if err == nil {
		return -1
	}
	at := len(b.src.data)
	var pe *unstable.ParserError
	if errors.As(err, &pe) && len(pe.Highlight) > 0 {
		at = start + int(b.parser.Range(pe.Highlight).Offset)
	}
	b.syntax(at, err)
	for _, line := range b.src.lines {
		if line > at && line < len(b.src.data) && b.src.data[line] == '[' {
			return line
		}
	}
	return -1
}

var (
	zeroLed  = lazy.Regexp(`^[^#"']*=\s*(0[0-9]+)\s*(#.*)?$`)
	bareName = lazy.Regexp(`^\s*\[\s*([A-Za-z0-9_-]+)\.([^"'\[\]]*[^"'\[\]A-Za-z0-9_.\s-][^"'\[\]]*?)\s*\]`)
	yamlLine = lazy.Regexp(`^\s*(-\s.*|[A-Za-z0-9_./~-]+\s*:(\s.*)?)$`)
	unquoted = lazy.Regexp(`^[^#"']*=\s*([A-Za-z_/~$][^"'#\[\]{}]*?)\s*(#.*)?$`)
)

// syntax notes a syntax error, with the remedy for the ones that people make.
func (b *builder) syntax(at int, err error) {
	place := b.src.place(at)
	line := ""
	if place.Line > 0 {
		line, _, _ = strings.Cut(string(b.src.data[b.src.lines[place.Line-1]:]), "\n")
		line = strings.TrimSuffix(line, "\r")
	}
	if m := zeroLed().FindStringSubmatch(line); m != nil {
		place.Col = utf8.RuneCountInString(line[:strings.LastIndex(line, m[1])]) + 1
		b.problems.At(place, m[1]+" is not a TOML number because it starts with 0", `put it in quotes: "`+m[1]+`"`)
		return
	}
	if m := unquoted().FindStringSubmatch(line); m != nil && m[1] != "true" && m[1] != "false" {
		place.Col = utf8.RuneCountInString(line[:strings.LastIndex(line, m[1])]) + 1
		do := `put it in quotes: "` + m[1] + `"`
		switch strings.ToLower(m[1]) {
		case "yes", "on", "true":
			do = "write true, or put it in quotes if it is a string"
		case "no", "off", "false":
			do = "write false, or put it in quotes if it is a string"
		}
		b.problems.At(place, "string without quotes", do)
		return
	}
	do := ""
	if m := bareName().FindStringSubmatch(line); m != nil {
		do = fmt.Sprintf("put the name in quotes: [%s.%q]", m[1], m[2])
	} else if yamlLine().MatchString(line) {
		do = "this file is TOML, not YAML: write [kind.name] or [kind.\"/a/path\"] above, and key = value here"
	}
	b.problems.At(place, "not valid TOML: "+strings.TrimPrefix(err.Error(), "toml: "), do)
}

func (b *builder) place(n *unstable.Node) value.Place {
	return b.at.place(b.base + int(n.Raw.Offset))
}

// behind gives the place of the value that follows a key: the parser does not
// say where a list or a table in braces begins.
func (b *builder) behind(key *unstable.Node) value.Place {
	at := b.base + int(key.Raw.Offset) + int(key.Raw.Length)
	for at < len(b.src.data) && strings.IndexByte(" \t=", b.src.data[at]) >= 0 {
		at++
	}
	return b.at.place(at)
}

func (b *builder) expression(e *unstable.Node) {
	switch e.Kind {
	case unstable.Table:
		b.openTable(e)
	case unstable.ArrayTable:
		b.openItem(e)
	case unstable.KeyValue:
		b.set(b.table, e)
	}
}

// path walks all keys of a header but the last, making tables on the way.
func (b *builder) path(e *unstable.Node) (*Node, string, value.Place, bool) {
	at := b.root
	for it := e.Key(); it.Next(); {
		name, place := string(it.Node().Data), b.place(it.Node())
		if it.IsLast() {
			return at, name, place, true
		}
		next := at.Get(name)
		switch {
		case next == nil:
			next = &Node{Kind: Table, Place: place, src: b.src}
			at.add(Key{name, place, next})
		case next.Kind == List && next.origin == byItems:
			next = next.Items[len(next.Items)-1]
		case next.Kind != Table || next.origin == inline:
			b.twice(place, name, next.Place)
			return nil, "", place, false
		}
		at = next
	}
	return nil, "", value.Place{}, false
}

func (b *builder) openTable(e *unstable.Node) {
	b.table = &Node{Kind: Table} // swallows what follows a wrong header
	at, name, place, ok := b.path(e)
	if !ok {
		return
	}
	there := at.Get(name)
	switch {
	case there == nil:
		there = &Node{Kind: Table, Place: place, src: b.src}
		at.add(Key{name, place, there})
	case there.Kind != Table || there.origin != byHeader || there.header:
		b.twice(place, name, there.Place)
		return
	default:
		there.Place = place
	}
	there.header = true
	b.table = there
}

func (b *builder) openItem(e *unstable.Node) {
	b.table = &Node{Kind: Table}
	at, name, place, ok := b.path(e)
	if !ok {
		return
	}
	list := at.Get(name)
	switch {
	case list == nil:
		list = &Node{Kind: List, Place: place, origin: byItems, src: b.src}
		at.add(Key{name, place, list})
	case list.origin != byItems:
		b.twice(place, name, list.Place)
		return
	}
	b.table = &Node{Kind: Table, Place: place, header: true, src: b.src}
	list.Items = append(list.Items, b.table)
}

// set puts a key and its value into a table, through dotted keys.
func (b *builder) set(at *Node, e *unstable.Node) {
	for it := e.Key(); it.Next(); {
		name, place := string(it.Node().Data), b.place(it.Node())
		there := at.Get(name)
		if it.IsLast() {
			if there != nil {
				b.twice(place, name, there.Place)
				return
			}
			at.add(Key{name, place, b.value(e.Value(), b.behind(it.Node()))})
			return
		}
		switch {
		case there == nil:
			there = &Node{Kind: Table, Place: place, origin: byDots, src: b.src}
			at.add(Key{name, place, there})
		case there.Kind != Table || there.origin != byDots:
			b.twice(place, name, there.Place)
			return
		}
		at = there
	}
}

func (b *builder) twice(place value.Place, name string, first value.Place) {
	b.problems.Add(problem.Problem{Place: place, What: fmt.Sprintf("%q is set twice; first at line %d",
		name, first.Line),
		Do: "keep one of them", Also: []value.Place{first}})
}

// value reads a value, which is at this place unless the parser knows better.
func (b *builder) value(n *unstable.Node, at value.Place) *Node {
	out := &Node{Place: at, src: b.src}
	if n.Raw.Length > 0 {
		out.Place = b.place(n)
	}
	switch n.Kind {
	case unstable.String:
		out.Value = string(n.Data)
		out.from, out.raw = b.base+int(n.Raw.Offset), b.parser.Raw(n.Raw)
	case unstable.Bool:
		out.Value = string(n.Data) == "true"
	case unstable.Integer:
		i, err := strconv.ParseInt(strings.ReplaceAll(string(n.Data), "_", ""), 0, 64)
		if err != nil {
			b.problems.At(out.Place, "the integer "+string(n.Data)+" does not fit 64 bits",
				"put it in quotes if it is a string")
		}
		out.Value = i
	case unstable.Float:
		text := strings.ReplaceAll(string(n.Data), "_", "")
		if strings.HasSuffix(text, "nan") {
			text = "nan" // of which there is no positive and no negative one
		}
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			b.problems.At(out.Place, string(n.Data)+" is not a number", "")
		}
		out.Value = f
	case unstable.Array:
		out.Kind, out.origin = List, inline
		for it := n.Children(); it.Next(); {
			out.Items = append(out.Items, b.value(it.Node(), at))
		}
	case unstable.InlineTable:
		out.Kind, out.origin = Table, inline
		for it := n.Children(); it.Next(); {
			b.set(out, it.Node())
		}
	default: // dates and times keep the text in which they were written
		if !isTime(string(n.Data)) {
			b.problems.At(out.Place, string(n.Data)+" is not a date or time",
				"write it like 2026-11-23, 07:32:00 or 2026-11-23T07:32:00Z, or put it in quotes if it is a string")
		}
		out.Value = string(n.Data)
	}
	return out
}
