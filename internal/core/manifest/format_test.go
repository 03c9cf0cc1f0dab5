package manifest

import (
	"bytes"
	"fmt"
	"reflect"
	"testing"

	"jadekettle/internal/core/problem"
)

func TestFormat(t *testing.T) {
	const in = `
#:schema x.json
about="Tide"    # what for


# the logger
[package."tide-logger"]

version='newest'
[file."/etc/a b"]
mode   =   "0644"
a.b . "c" = [1,2 , 3,]
list = [ # first
"a" , # behind a
  # above b
"b"
# last
]
inline={a=1,b={c=[ ]}}
text = """
 two  lines  # no comment
"""

# at the end`
	const want = `#:schema x.json
about = "Tide"  # what for

# the logger
[package.tide-logger]
version = 'newest'

[file."/etc/a b"]
mode = "0644"
a.b.c = [1, 2, 3]
list = [
  # first
  "a",  # behind a
  # above b
  "b",
  # last
]
inline = { a = 1, b = { c = [] } }
text = """
 two  lines  # no comment
"""

# at the end
`
	got, err := Format("x.toml", []byte(in))
	if err != nil || string(got) != want {
		t.Errorf("formatted (%v):\n%s", err, got)
	}
	if _, err := Format("x.toml", []byte("a = ")); err == nil {
		t.Error("what is not TOML is formatted")
	}
}

func TestSetKey(t *testing.T) {
	for _, c := range []struct {
		in, want string
		table    []string
	}{
		{"", "k = 1\n", nil},
		{"", "[a.b]\nk = 1\n", []string{"a", "b"}},
		{"x = 1\n\n# of a\n[a]\ny = 2\n", "x = 1\nk = 1\n\n# of a\n[a]\ny = 2\n", nil},
		{"[a]\ny = 2\n[c]\n", "[a]\nk = 1\ny = 2\n[c]\n", []string{"a"}},
		{"[a]\nk = \"old\"  # why\n", "[a]\nk = 1  # why\n", []string{"a"}},
		{"a.x = 1", "a.x = 1\na.k = 1\n", []string{"a"}},
		{"a.k = 5\n", "a.k = 1\n", []string{"a"}},
		{"[a.b]\nx = 1\n", "[a.b]\nx = 1\n\n[a]\nk = 1\n", []string{"a"}},
	} {
		got, err := SetKey("x.toml", []byte(c.in), c.table, "k", "k = 1")
		if err != nil || string(got) != c.want {
			t.Errorf("%q gives %q (%v), want %q", c.in, got, err, c.want)
		}
	}
	for _, in := range []string{"a = 1\n", "a = { x = 1 }\n", "[a]\nk = [\n 1,\n]\n", "a = \n"} {
		if got, err := SetKey("x.toml", []byte(in), []string{"a"}, "k", "k = 1"); err == nil {
			t.Errorf("%q gives %q", in, got)
		}
	}
}

// FuzzFormat holds that what is formatted stays the same when it is formatted
// again, and means what it meant.
func FuzzFormat(f *testing.F) {
	for _, s := range []string{"a = 1\n", "[a]\n#x\nb = [1, #c\n 2]\n", "a = \"\"\"\"x\"\"\"\"\"\nb = ''''x'''''",
		"[[a]]\n\n\n[[a.b]]\nc={d=1}", "a = [[1,\n2],[3]] # x", "'a b'.\"c\\u0041\" = 1",
		"#:schema\n\n\n#x\n\n[a]#b\n\n#c",
		"x = 1979-05-27 07:32:00Z"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		once, err := Format("x.toml", []byte(text))
		if err != nil {
			return
		}
		twice, err := Format("x.toml", once)
		if err != nil || !bytes.Equal(once, twice) {
			t.Fatalf("%q gives %q and then %q (%v)", text, once, twice, err)
		}
		var ps problem.Problems
		before, _ := ParseTOML("x.toml", []byte(text), &ps)
		after, _ := ParseTOML("x.toml", once, &ps)
		if !reflect.DeepEqual(before.Plain(), after.Plain()) {
			t.Fatalf("%q means another thing when it is formatted: %q", text, once)
		}
	})
}

func TestParseOthers(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"a.yaml", "a: 1\nb: [x, 2.5, true, ~]\nc:\n  d: \"no\"\n", `map[a:1 b:[x 2.5 true <nil>] c:map[d:no]]`},
		{"a.json", `{"a": 1, "b": ["x", 2.5, true, null], "c": {"d": "no"}}`,
			`map[a:1 b:[x 2.5 true <nil>] c:map[d:no]]`},
		{"a.yaml", "a: 1\na: 2\n", `a.yaml:2:1: "a" is set twice; first at line 1; keep one of them`},
		{"a.json", "{\n \"a\": 1,\n \"a\": 2}", `a.json:3:2: "a" is set twice; first at line 2; keep one of them`},
		{"a.json", "{\n \"a\": 1,\n}", `a.json:3:1: not valid JSON: invalid character '}'`},
		{"a.yaml", "a: [\n", `a.yaml:1: not valid YAML: did not find expected node content`},
		{"a.yaml", "- 1\n", `a.yaml:1:1: the file must contain keys and values; write key: value`},
		{"a.yaml", "a: 1\n---\nb: 1\n", `the file contains more than one YAML document`},
		{"a.yaml", "a: no\nb: 0123\nc: 12:30\n", `a.yaml:1:4: unquoted no is a string here`},
		{"a.yaml", "a: 0o17\nb: 99999999999999999999\n", `does not fit 64 bits`},
	} {
		var ps problem.Problems
		root, _ := Parse(c.name, []byte(c.in), &ps)
		got := ps.Error()
		if got == "" {
			got = sprint(root.Plain())
		}
		if !bytes.Contains([]byte(got), []byte(c.want)) {
			t.Errorf("%s gives %s, want %s", c.in, got, c.want)
		}
	}
}

func sprint(v any) string { return fmt.Sprint(v) }

// FuzzParseOthers holds that what is read from YAML and JSON has places inside
// the text and only values that there are.
func FuzzParseOthers(f *testing.F) {
	for _, s := range []string{"a: 1\nb:\n  - x\n  - [1, 2]\n", `{"a": {"b": [1, true, null, "x"]}}`,
		"a: &x [1]\nb: *x\n", "a: !!binary aGk=\n", "? [x]\n: y\n", "a: 0x1f\nb: .inf\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range []string{"x.yaml", "x.json"} {
			var ps problem.Problems
			root, whole := Parse(name, []byte(text), &ps)
			if !whole && ps.Err() == nil {
				t.Fatalf("%q could not be read, and nothing says why", text)
			}
			var walk func(n *Node)
			walk = func(n *Node) {
				switch n.Value.(type) {
				case nil, bool, int64, float64, string:
				default:
					t.Fatalf("%q holds a %T", text, n.Value)
				}
				for _, item := range n.Items {
					walk(item)
				}
				for _, k := range n.Keys {
					if k.Place.Line < 1 {
						t.Fatalf("%q: the key %q has no line", text, k.Name)
					}
					walk(k.Node)
				}
			}
			walk(root)
		}
	})
}

// TestLiteral writes values that read back as what they were.
func TestLiteral(t *testing.T) {
	for _, v := range []any{"", "a", "a\nb", "a\nb\n", "\n", `say "so"`, `it's "so"`, `back\slash`, "tab\t\"x\"",
		"bell\a\n", "\"\"\"\n", "end\"\n", "\r\n", int64(5), 2.5, true, []any{"a", []any{"b"}},
		map[string]any{"a b": "c", "d": []any{}}} {
		var ps problem.Problems
		text := "v = " + Literal(v) + "\n"
		root, _ := ParseTOML("x.toml", []byte(text), &ps)
		if ps.Err() != nil || !reflect.DeepEqual(root.Get("v").Plain(), v) {
			t.Errorf("%q is written as %s and read as %v (%v)", v, text, root.Plain(), ps.Err())
		}
	}
}
