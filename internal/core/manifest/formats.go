package manifest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// Extensions are the endings of files that data may be written in.
var Extensions = []string{".toml", ".yaml", ".yml", ".json"}

// Parse reads a document in the format that its name's extension names. The
// top must be a table.
func Parse(name string, data []byte, problems *problem.Problems) (*Node, bool) {
	switch path.Ext(name) {
	case ".yaml", ".yml":
		return parseYAML(name, data, problems)
	case ".json":
		return parseJSON(name, data, problems)
	}
	return ParseTOML(name, data, problems)
}

// maxNesting bounds how deep a document may go.
const maxNesting = 100

// yamlReader turns YAML nodes into ours.
type yamlReader struct {
	file     string
	problems *problem.Problems
	whole    bool
	made     int // nodes, aliases counted each time
}

// maxNodes bounds what aliases may blow a YAML document up to.
const maxNodes = 2_000_000

func parseYAML(name string, data []byte, problems *problem.Problems) (*Node, bool) {
	empty := &Node{Kind: Table, Place: value.Place{File: name}}
	if !utf8.Valid(data) {
		problems.At(newText(name, data).place(invalid(data)), "the file is not valid UTF-8 here", "save it as UTF-8")
		return empty, false
	}
	d := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	err := d.Decode(&doc)
	switch {
	case errors.Is(err, io.EOF):
		return empty, true
	case err != nil:
		at, do := yamlPlace(name, err), ""
		for line := at.Line; line <= at.Line+1; line++ { // some of its errors count lines from 0
			if col, tab := indentedByTab(data, line); tab {
				at.Line, at.Col, do = line, col, "indent with spaces; YAML does not allow tabs there"
				break
			}
		}
		problems.At(at, "not valid YAML: "+strings.TrimPrefix(lineOf().ReplaceAllString(err.Error(), ""), "yaml: "), do)
		return empty, false
	}
	var more yaml.Node
	if err := d.Decode(&more); !errors.Is(err, io.EOF) {
		problems.At(value.Place{File: name, Line: max(more.Line, 1), Col: 1},
			"the file contains more than one YAML document", "keep one")
		return empty, false
	}
	r := yamlReader{file: name, problems: problems, whole: true}
	root := r.node(doc.Content[0], 0)
	if root.Kind == Scalar && root.Value == nil {
		return empty, r.whole
	}
	if root.Kind != Table {
		problems.At(root.Place, "the file must contain keys and values", "write key: value")
		return empty, false
	}
	return root, r.whole
}

var lineOf = lazy.Regexp(`line ([0-9]+): `)

// indentedByTab says at which column a tab indents a line.
func indentedByTab(data []byte, line int) (col int, tab bool) {
	lines := bytes.Split(data, []byte("\n"))
	if line < 1 || line > len(lines) {
		return 0, false
	}
	text := lines[line-1]
	indent := text[:len(text)-len(bytes.TrimLeft(text, " \t"))]
	at := bytes.IndexByte(indent, '\t')
	return at + 1, at >= 0
}

func yamlPlace(name string, err error) value.Place {
	p := value.Place{File: name, Line: 1}
	if m := lineOf().FindStringSubmatch(err.Error()); m != nil {
		p.Line, _ = strconv.Atoi(m[1])
	}
	return p
}

func (r *yamlReader) wrong(at value.Place, what, do string) *Node {
	r.problems.At(at, what, do)
	r.whole = false
	return &Node{Place: at}
}

func (r *yamlReader) node(n *yaml.Node, depth int) *Node {
	out := &Node{Place: value.Place{File: r.file, Line: n.Line, Col: n.Column}}
	if r.made++; r.made > maxNodes || depth > maxNesting {
		if r.made != maxNodes+1 && depth != maxNesting+1 {
			return out
		}
		return r.wrong(out.Place, "the document is nested too deeply, or its aliases make it too large",
			"split it into smaller files")
	}
	switch n.Kind {
	case yaml.AliasNode:
		return r.node(n.Alias, depth+1)
	case yaml.SequenceNode:
		out.Kind = List
		for _, c := range n.Content {
			out.Items = append(out.Items, r.node(c, depth+1))
		}
	case yaml.MappingNode:
		out.Kind = Table
		for i := 0; i+1 < len(n.Content); i += 2 {
			r.key(out, n.Content[i], n.Content[i+1], depth)
		}
	default:
		out.Value = r.scalar(n, out.Place)
	}
	return out
}

func (r *yamlReader) key(out *Node, k, v *yaml.Node, depth int) {
	at := value.Place{File: r.file, Line: k.Line, Col: k.Column}
	switch {
	case k.Kind != yaml.ScalarNode:
		r.wrong(at, "a key must be a string", "write the key as a string")
	case k.Tag == "!!merge":
		r.wrong(at, "<< is not supported", "use layers to share values")
	case out.Get(k.Value) != nil:
		r.wrong(at, fmt.Sprintf("%q is set twice; first at line %d", k.Value, out.Get(k.Value).Place.Line),
			"keep one of them")
	default:
		out.add(Key{k.Value, at, r.node(v, depth+1)})
	}
}

// Words and forms that YAML 1.1 read as something else than text. YAML 1.2
// ("Core Schema") and this program take them as text.
var (
	oldBools = []string{"y", "n", "yes", "no", "on", "off"}
	zeroLead = lazy.Regexp(`^[-+]?0[0-9_]+$`)
	sexages  = lazy.Regexp(`^[-+]?[0-9]+(:[0-5]?[0-9])+$`)
	coreInt  = lazy.Regexp(`^[-+]?[0-9]+$`)

	hexOrOctal = lazy.Regexp(`^0(x[0-9a-fA-F]+|o[0-7]+)$`)
)

func (r *yamlReader) scalar(n *yaml.Node, at value.Place) any {
	if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0 ||
		n.Tag == "!!str" && n.Style&yaml.TaggedStyle != 0 {
		return n.Value
	}
	warn := func(code, what, do string) {
		r.problems.Add(problem.Problem{Place: at, Code: code, What: what, Do: do})
	}
	switch {
	case slices.Contains(oldBools, strings.ToLower(n.Value)):
		warn("yaml-word", fmt.Sprintf("unquoted %s is a string here, but true or false to other YAML parsers", n.Value),
			fmt.Sprintf("write %q, or true or false", n.Value))
		return n.Value
	case zeroLead().MatchString(n.Value):
		warn("yaml-number", fmt.Sprintf("%s, with a leading zero, is a string here, but an octal number to other "+
			"YAML parsers", n.Value), fmt.Sprintf("write %q, or the number without the zero", n.Value))
		return n.Value
	case sexages().MatchString(n.Value):
		warn("yaml-number", fmt.Sprintf("%s is a string here, but a base-60 number to other YAML parsers", n.Value),
			fmt.Sprintf("write %q", n.Value))
		return n.Value
	}
	switch n.ShortTag() {
	case "!!null":
		return nil
	case "!!bool":
		return strings.EqualFold(n.Value, "true")
	case "!!int":
		if coreInt().MatchString(n.Value) {
			i, err := strconv.ParseInt(n.Value, 10, 64)
			if err != nil {
				r.wrong(at, "the integer "+n.Value+" does not fit 64 bits", "put it in quotes if it is a string")
			}
			return i
		}
		// YAML 1.2 ("Core Schema") has 0x and 0o besides, and nothing else.
		if hexOrOctal().MatchString(n.Value) {
			if i, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
				return i
			}
			r.wrong(at, "the integer "+n.Value+" does not fit 64 bits", "put it in quotes if it is a string")
		}
		warn("yaml-number", fmt.Sprintf("%s is a string here, but a number to other YAML parsers", n.Value),
			fmt.Sprintf("write %q, or the number in digits", n.Value))
	case "!!float":
		if coreInt().MatchString(n.Value) {
			r.wrong(at, "the integer "+n.Value+" does not fit 64 bits", "put it in quotes if it is a string")
		}
		var f float64
		if n.Decode(&f) == nil && !strings.Contains(n.Value, "_") {
			return f
		}
	}
	return n.Value
}

// jsonReader reads JSON (RFC 8259) with the places of keys and values.
type jsonReader struct {
	src      *text
	at       cursor
	dec      *json.Decoder
	problems *problem.Problems
}

func parseJSON(name string, data []byte, problems *problem.Problems) (*Node, bool) {
	src := newText(name, data)
	r := jsonReader{src: src, at: cursor{src: src}, dec: json.NewDecoder(bytes.NewReader(data)), problems: problems}
	r.dec.UseNumber()
	empty := &Node{Kind: Table, Place: value.Place{File: name}}
	if !utf8.Valid(data) {
		problems.At(r.src.place(invalid(data)), "the file is not valid UTF-8 here", "save it as UTF-8")
		return empty, false
	}
	root, err := r.value(0)
	if err == nil {
		if _, more := r.dec.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("there is text after the end of the value")
		}
	}
	switch {
	case err != nil:
		at := r.dec.InputOffset()
		var se *json.SyntaxError
		if errors.As(err, &se) {
			at = max(se.Offset-1, 0)
		}
		for at < int64(len(data)) && strings.IndexByte(" \t\r\n", data[at]) >= 0 {
			at++
		}
		problems.At(r.src.place(int(at)), "not valid JSON: "+err.Error(), "")
		return empty, false
	case root.Kind != Table:
		problems.At(root.Place, "the file must contain an object with keys and values", `write { "key": "value" }`)
		return empty, false
	}
	return root, true
}

// here gives the place of the next token.
func (r *jsonReader) here() value.Place {
	at := int(r.dec.InputOffset())
	for at < len(r.src.data) && strings.IndexByte(" \t\r\n,:", r.src.data[at]) >= 0 {
		at++
	}
	return r.at.place(at)
}

func (r *jsonReader) value(depth int) (*Node, error) {
	out := &Node{Place: r.here()}
	if depth > maxNesting {
		return nil, errors.New("it is nested too deeply")
	}
	tok, err := r.dec.Token()
	if errors.Is(err, io.EOF) {
		return nil, errors.New("it is incomplete")
	}
	if err != nil {
		return nil, err
	}
	switch t := tok.(type) {
	case json.Delim:
		if t == '[' {
			out.Kind = List
			for r.dec.More() {
				item, err := r.value(depth + 1)
				if err != nil {
					return nil, err
				}
				out.Items = append(out.Items, item)
			}
		} else {
			out.Kind = Table
			for r.dec.More() {
				if err := r.member(out, depth); err != nil {
					return nil, err
				}
			}
		}
		if _, err := r.dec.Token(); err != nil {
			return nil, err
		}
	case json.Number:
		var fits bool
		if out.Value, fits = number(t); !fits {
			r.problems.At(out.Place, "the number "+t.String()+" does not fit 64 bits", "put it in quotes if it is "+
				"a string")
		}
	default:
		out.Value = t
	}
	return out, nil
}

func (r *jsonReader) member(out *Node, depth int) error {
	at := r.here()
	tok, err := r.dec.Token()
	if err != nil {
		return err
	}
	name := tok.(string) // the decoder takes nothing else as a key
	v, err := r.value(depth + 1)
	if err != nil {
		return err
	}
	if first := out.Get(name); first != nil {
		r.problems.Add(problem.Problem{Place: at, What: fmt.Sprintf("%q is set twice; first at line %d", name,
			first.Place.Line), Do: "keep one of them", Also: []value.Place{first.Place}})
		return nil
	}
	out.add(Key{name, at, v})
	return nil
}

func number(n json.Number) (v any, fits bool) {
	if !strings.ContainsAny(n.String(), ".eE") {
		i, err := n.Int64()
		return i, err == nil
	}
	f, err := n.Float64()
	return f, err == nil && !math.IsInf(f, 0)
}
