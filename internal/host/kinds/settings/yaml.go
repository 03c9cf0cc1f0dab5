package settings

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	lib "go.yaml.in/yaml/v3"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
)

// editYAML changes the lines of single members of mappings (YAML 1.2) and leaves
// all others as they are. What comes out is read again: unless it says just what
// was meant, the file is not touched.
func editYAML(t plan.Task, text string) (string, error) {
	return eachSetting(t, text, func(text string, way []string, v any, unset bool) (string, error) {
		return oneYAML(text, way, bareAll(v), unset)
	})
}

// oneYAML sets or unsets one member, and proves that nothing else has changed.
func oneYAML(text string, way []string, v any, unset bool) (string, error) {
	f, err := parseYAML(text)
	if err != nil {
		return "", err
	}
	before, err := plainYAML(text)
	if err != nil {
		return "", err
	}
	if unset {
		err = f.unset(way)
	} else {
		err = f.set(way, v)
	}
	if err != nil {
		return "", err
	}
	out := strings.Join(f.lines, "\n")
	after, err := plainYAML(out)
	if read, _ := plainYAML("x: " + scalarYAML(v)); !unset {
		v = read["x"] // as the library reads it
	}
	if err != nil || !reflect.DeepEqual(pruned(after), pruned(meant(before, way, v, unset))) {
		return "", untouched(way)
	}
	return out, nil
}

// yamlFile is a file with what the library reads in it: nodes with lines and
// columns, both from 1.
type yamlFile struct {
	lines []string
	root  *lib.Node // a mapping; nil while there is nothing in the file
}

// oddBreak is what the library takes for the end of a line and nobody else does: its numbers of lines
// are not ours then.
var oddBreak = lazy.Regexp("\r([^\n]|$)|[\u0085\u2028\u2029]")

func parseYAML(text string) (*yamlFile, error) {
	if oddBreak().MatchString(text) {
		return nil, problem.Errorf("some lines of the file do not end with a plain newline").Remedy(byHand)
	}
	f := &yamlFile{lines: strings.Split(text, "\n")}
	d := lib.NewDecoder(strings.NewReader(text))
	var doc, more lib.Node
	err := d.Decode(&doc)
	if errors.Is(err, io.EOF) {
		return f, nil
	}
	if err != nil {
		return nil, problem.Errorf("the file is not valid YAML: %s", strings.TrimPrefix(err.Error(), "yaml: ")).
			Remedy(byHand)
	}
	if d.Decode(&more) == nil {
		return nil, problem.Errorf("the file contains several documents").Remedy("declare the whole file")
	}
	root := doc.Content[0]
	switch {
	case root.Kind == lib.ScalarNode && root.Tag == "!!null":
	case root.Kind != lib.MappingNode:
		return nil, problem.Errorf("the file is not a table as a whole").Remedy("declare the whole file")
	default:
		f.root = root
	}
	return f, nil
}

// plainYAML gives what a text says.
func plainYAML(text string) (map[string]any, error) {
	out := map[string]any{}
	err := lib.Unmarshal([]byte(text), &out)
	if out == nil {
		out = map[string]any{}
	}
	return out, err
}

// find goes down a way. It gives the innermost mapping on it, how deep that lies,
// and the place of the next name in it, or -1. above is the key that the mapping
// is the value of.
func (f *yamlFile) find(way []string) (m, above *lib.Node, deep, at int, err error) {
	m = f.root
	for ; m != nil; deep++ {
		at = -1
		for i := 0; i+1 < len(m.Content); i += 2 {
			if m.Content[i].Value == way[deep] && m.Content[i].Kind == lib.ScalarNode {
				at = i
			}
		}
		if at < 0 || deep == len(way)-1 {
			return m, above, deep, at, nil
		}
		next := m.Content[at+1]
		empty := next.Kind == lib.ScalarNode && next.Tag == "!!null"
		if next.Kind != lib.MappingNode && !empty {
			return nil, nil, deep, -1, problem.Errorf("%s is not a table in this file",
				strings.Join(way[:deep+1], ".")).
				Remedy(sections)
		}
		if above = m.Content[at]; empty {
			return nil, above, deep + 1, -1, nil
		}
		m = next
	}
	return nil, nil, deep, -1, nil
}

// scalarYAML writes a value in one line, so that it is read as what it is.
func scalarYAML(v any) string {
	switch s, isText := v.(string); {
	case isText && strings.ContainsAny(s, "\r\n"), isDeep(v):
		return encode(v) // what JSON has is YAML as well
	}
	out, err := lib.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return strings.TrimSuffix(string(out), "\n")
}

func isDeep(v any) bool {
	switch v.(type) {
	case []any, map[string]any:
		return true
	}
	return false
}

func (f *yamlFile) set(way []string, v any) error {
	m, above, deep, at, err := f.find(way)
	if err != nil {
		return err
	}
	if at >= 0 && deep == len(way)-1 {
		return f.replace(m, at, v)
	}
	if m != nil && m.Style&lib.FlowStyle != 0 && len(m.Content) > 0 {
		return problem.Errorf("the table of %s is written on one line in this file", strings.Join(way, ".")).
			Remedy("rewrite it by hand with one key per line")
	}
	indent, after := "", 0
	switch {
	case m != nil && len(m.Content) > 0:
		first, last := m.Content[0], m.Content[len(m.Content)-2]
		indent, after = strings.Repeat(" ", first.Column-1), f.end(last)
	case above != nil: // a table with nothing in it
		indent, after = strings.Repeat(" ", above.Column+1), above.Line
		line := f.lines[above.Line-1]
		if i := strings.Index(line, "{}"); i > 0 {
			f.lines[above.Line-1] = strings.TrimRight(line[:i]+line[i+2:], " ")
		}
	default:
		if m != nil { // {} alone
			f.lines[m.Line-1] = strings.Replace(f.lines[m.Line-1], "{}", "", 1)
			if strings.TrimSpace(f.lines[m.Line-1]) == "" {
				f.lines = slices.Delete(f.lines, m.Line-1, m.Line)
			}
		}
		for after = len(f.lines); after > 0 && strings.TrimSpace(f.lines[after-1]) == ""; {
			after--
		}
	}
	var add []string
	for i := deep; i < len(way)-1; i++ {
		add = append(add, indent+scalarYAML(way[i])+":")
		indent += "  "
	}
	add = append(add, indent+scalarYAML(way[len(way)-1])+": "+scalarYAML(v))
	f.lines = slices.Insert(f.lines, after, add...)
	if after+len(add) == len(f.lines) {
		f.lines = append(f.lines, "") // the last line ends too
	}
	return nil
}

// replace gives a member another value, unless it has it.
func (f *yamlFile) replace(m *lib.Node, at int, v any) error {
	key, old := m.Content[at], m.Content[at+1]
	var current, want any
	if old.Decode(&current) == nil && lib.Unmarshal([]byte(scalarYAML(v)), &want) == nil && reflect.DeepEqual(current,
		want) {
		return nil
	}
	if old.Kind == lib.AliasNode || old.Anchor != "" {
		return problem.Errorf("%s is shared with other places of this file", key.Value).Remedy("change it by hand")
	}
	line := []rune(f.lines[key.Line-1])
	end := f.end(key)
	if old.Kind == lib.ScalarNode && old.Line == key.Line && end == key.Line && m.Style&lib.FlowStyle == 0 {
		text := string(line[:old.Column-1]) + scalarYAML(v)
		if c := old.LineComment; c != "" {
			text += " " + c
		}
		f.lines[key.Line-1] = text
		return nil
	}
	if m.Style&lib.FlowStyle != 0 {
		return problem.Errorf("the table of %s is written on one line in this file", key.Value).
			Remedy("rewrite it by hand with one key per line")
	}
	text := string(line[:key.Column-1]) + scalarYAML(key.Value) + ": " + scalarYAML(v)
	f.lines = slices.Replace(f.lines, key.Line-1, end, text)
	return nil
}

func (f *yamlFile) unset(way []string) error {
	m, above, deep, at, err := f.find(way)
	if err != nil || m == nil || at < 0 || deep < len(way)-1 {
		return nil // what is not there is not set
	}
	key := m.Content[at]
	if m.Style&lib.FlowStyle != 0 {
		return problem.Errorf("the table of %s is written on one line in this file", key.Value).
			Remedy("rewrite it by hand with one key per line")
	}
	end := f.end(key)
	if string([]rune(f.lines[key.Line-1])[:key.Column-1]) != strings.Repeat(" ", key.Column-1) {
		return problem.Errorf("%s is not at the start of its line", key.Value).Remedy("remove it by hand")
	}
	if len(m.Content) == 2 && above != nil { // the last one: the table stays, empty
		f.lines[above.Line-1] = strings.TrimRight(f.lines[above.Line-1], " ") + " {}"
	}
	f.lines = slices.Delete(f.lines, key.Line-1, end)
	return nil
}

// end gives the number of the last line of a member, by its key: what follows
// and is moved in further than the key, or is a list as far in, belongs to it.
// Comments and empty lines at its end do not.
func (f *yamlFile) end(key *lib.Node) int {
	end := key.Line
	for i := key.Line; i < len(f.lines); i++ {
		line := f.lines[i]
		text := strings.TrimLeft(line, " ")
		in := len(line) - len(text)
		if strings.TrimSpace(text) == "" {
			continue
		}
		list := in == key.Column-1 && (strings.HasPrefix(text, "- ") || text == "-")
		if in < key.Column && !list || strings.HasPrefix(text, "#") && in < key.Column {
			break
		}
		end = i + 1
	}
	return end
}
