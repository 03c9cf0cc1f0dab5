package manifest

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

func parse(t *testing.T, text string) (*Node, []problem.Problem) {
	t.Helper()
	var ps problem.Problems
	root, _ := ParseTOML("x.toml", []byte(text), &ps)
	return root, ps.List()
}

func TestParseGivesPlacesAndOrder(t *testing.T) {
	root, problems := parse(t,
		"\ufeff# ä\nb = \"ü\" # x\na = [1, true]\n[t.\"x.y\"]\n"+
			"d = { e = 1.5, f = 2026-11-23 }\n[[l]]\ng = 1\n[[l]]\ng = 2\n")
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	var keys []string
	for _, k := range root.Keys {
		keys = append(keys, fmt.Sprintf("%s@%d:%d", k.Name, k.Place.Line, k.Place.Col))
	}
	if got := strings.Join(keys, " "); got != "b@2:1 a@3:1 t@4:2 l@6:3" {
		t.Errorf("the keys are %s", got)
	}
	want := map[string]any{"a": []any{int64(1), true}, "b": "ü",
		"t": map[string]any{"x.y": map[string]any{"d": map[string]any{"e": 1.5, "f": "2026-11-23"}}},
		"l": []any{map[string]any{"g": int64(1)}, map[string]any{"g": int64(2)}}}
	if got := root.Plain(); !value.Equal(got, want) {
		t.Errorf("the tree is %#v", got)
	}
	if at := root.Get("b").Place; at.Line != 2 || at.Col != 5 {
		t.Errorf("b's value is at %v", at)
	}
}

func TestTheEditorsLineBreaksDoNotMatter(t *testing.T) {
	root, problems := parse(t, "a = \"\"\"\r\none\r\ntwo ${z}\"\"\"\r\nb = \"x\\r\\n\"\r\n")
	if len(problems) > 0 || root.Get("a").Value != "one\ntwo ${z}" || root.Get("b").Value != "x\r\n" {
		t.Errorf("the texts are %q and %q, %v", root.Get("a").Value, root.Get("b").Value, problems)
	}
	if at := root.Get("a").At(8); at.Line != 3 || at.Col != 5 {
		t.Errorf("the expression is at %v", at)
	}
}

func TestOffsetsMapBackThroughEscapes(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		at   int // offset in the value
		want string
	}{
		"plain":               {`a = "xy${z}"`, 2, "x.toml:1:8"},
		"literal":             {`a = 'xy${z}'`, 2, "x.toml:1:8"},
		"after escapes":       {`a = "\t\u00e9\U0001F30A${z}"`, 7, "x.toml:1:24"},
		"after a letter":      {`a = "é${z}"`, 2, "x.toml:1:7"},
		"multi-line":          {"a = \"\"\"\none\ntwo ${z}\"\"\"", 8, "x.toml:3:5"},
		"multi-line literal":  {"a = '''\none\ntwo ${z}'''", 8, "x.toml:3:5"},
		"a line that goes on": {"a = \"\"\"one \\\n    two ${z}\"\"\"", 8, "x.toml:2:9"},
		"past the end":        {`a = "xy"`, 9, "x.toml:1:8"},
	} {
		root, problems := parse(t, c.text)
		if len(problems) > 0 {
			t.Fatalf("%s: %v", name, problems)
		}
		if got := root.Get("a").At(c.at).String(); got != c.want {
			t.Errorf("%s: offset %d is at %s, want %s", name, c.at, got, c.want)
		}
	}
}

func TestWhatIsNotTOML(t *testing.T) {
	for text, want := range map[string]string{
		"mode = 0644\n": `x.toml:1:8: 0644 is not a TOML number because it starts with 0; put it in quotes: "0644"`,
		"[file./etc/x]\n": `x.toml:1:7: not valid TOML: invalid character at start of key: U+002F '/'; put the ` +
			`name in quotes: ` +
			`[file."/etc/x"]`,
		"[user.maren@pier]\n": `x.toml:1:12: not valid TOML: expected ']' to close table name; put the name in ` +
			`quotes: ` +
			`[user."maren@pier"]`,
		"file:\n  /etc/x:\n": `x.toml:1:5: not valid TOML: expected '=' after key; this file is TOML, not YAML: ` +
			`write ` +
			`[kind.name] or [kind."/a/path"] above, and key = value here`,
		"shell = /bin/sh # x\n": `x.toml:1:9: string without quotes; put it in quotes: "/bin/sh"`,
		"a = 1\na = 2\n":        `x.toml:2:1: "a" is set twice; first at line 1; keep one of them`,
		"[t]\n[t]\n":            `x.toml:2:2: "t" is set twice; first at line 1; keep one of them`,
		"t.a = 1\n[t]\n":        `x.toml:2:2: "t" is set twice; first at line 1; keep one of them`,
		"t = {}\n[t.u]\n":       `x.toml:2:2: "t" is set twice; first at line 1; keep one of them`,
		"t = {a = 1, a = 2}\n":  `x.toml:1:13: "a" is set twice; first at line 1; keep one of them`,
		"[[t]]\n[t]\n":          `x.toml:2:2: "t" is set twice; first at line 1; keep one of them`,
		"a = 1\n\xff\n":         `x.toml:2:1: the file is not valid UTF-8 here; save it as UTF-8`,
		"a = 99999999999999999999": `x.toml:1:5: the integer 99999999999999999999 does not fit 64 bits; put ` +
			`it in ` +
			`quotes if it is a string`,
	} {
		_, problems := parse(t, text)
		if len(problems) != 1 || problems[0].Error() != want {
			t.Errorf("%q gives\n%v\nwant\n%s", text, problems, want)
		}
	}
}

func TestReadingGoesOnAfterASyntaxError(t *testing.T) {
	root, problems := parse(t, "[a]\nx = = 1\n[b]\ny = 2\n[c]\nz = nope\n[d]\nw = 1\n")
	if len(problems) != 2 || problems[0].Place.Line != 2 || problems[1].Place.Line != 6 {
		t.Errorf("the problems are %v", problems)
	}
	if root.Get("b").Get("y").Value != int64(2) || root.Get("d").Get("w") == nil {
		t.Error("what is right was not read")
	}
}

func FuzzParseTOML(f *testing.F) {
	for _, s := range []string{"a = 1\n[b.\"c.d\"]\ne = [\"\\u00e9\", '''x''']\n[[f]]\ng = {h = 1}\n",
		"a = \"\"\"\\\n  x ${y}\"\"\"", "[", "a=", "\xff", "[a]\n[a]\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var ps problem.Problems
		root, whole := ParseTOML("x.toml", []byte(text), &ps)
		if !whole && ps.Err() == nil {
			t.Error("it was not read whole, and no problem says so")
		}
		lines := strings.Count(text, "\n") + 1
		for _, p := range ps.List() {
			if p.Place.Line < 1 || p.Place.Line > lines {
				t.Errorf("a problem is outside the file: %v", p)
			}
		}
		var walk func(n *Node)
		walk = func(n *Node) {
			if s, ok := n.Value.(string); ok {
				for i := 0; i <= len(s); i++ {
					if at := n.At(i); at.Line < 1 || at.Line > lines {
						t.Errorf("offset %d of %q is at %v", i, s, at)
					}
				}
			}
			for _, item := range n.Items {
				walk(item)
			}
			for _, k := range n.Keys {
				walk(k.Node)
			}
		}
		walk(root)
	})
}

func TestManifestsAreFound(t *testing.T) {
	kind := &schema.Kind{Name: "thing", Canon: func(s string) (string, error) { return s, nil },
		Attrs: []schema.Attr{{Name: "size", Type: schema.Int}}}
	files := fstest.MapFS{
		"manifests/a.toml":          {Data: []byte("about = \"A\"\n[thing.y]\n[thing.x]\nsize = 1\n")},
		"manifests/b/manifest.toml": {Data: []byte("[thing.z]\n[thing.z.deep]\nx = 1\n")},
		"manifests/b/x.tmpl":        {Data: []byte("x")},
		"manifests/c/x.tmpl":        {Data: []byte("a folder of sources")},
		"manifests/b.toml":          {Data: []byte("")},
	}
	var ps problem.Problems
	all, whole := Load(files, nil, schema.NewKinds(kind), &ps)
	if !whole || len(all) != 2 || all["a"].About != "A" || all["a"].Dir != "manifests" ||
		all["b"].Dir != "manifests/b" {
		t.Errorf("found %v", all)
	}
	if d := all["a"].Entries; len(d) != 2 || d[0].Decl.Name != "y" || d[1].Decl.Name != "x" {
		t.Errorf("the order is %v", d)
	}
	got := ps.Error()
	for _, want := range []string{`the manifest "b" exists twice`, `[thing.z.deep] is nested too deeply`} {
		if !strings.Contains(got, want) {
			t.Errorf("no problem says %q:\n%s", want, got)
		}
	}
}
