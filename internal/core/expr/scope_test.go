package expr

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"jadekettle/internal/core/value"
)

func TestScopes(t *testing.T) {
	for _, c := range []struct {
		text  string
		scope Scope
		want  string
	}{
		{"host.name + env", Scope{Roots: []string{"host", "env"}}, ""},
		{"data.x == 1", Scope{Roots: []string{"host"}, What: "where"},
			"where reads data, which is not available there; where may read host"},
		{"keeper.login", Scope{Locals: []string{"keeper"}}, ""},
		{"keepr.login", Scope{Locals: []string{"keeper"}}, `unknown name 'keepr'; did you mean "keeper"?`},
		{"keeper.login", Scope{}, "unknown name 'keeper'"},
		{"[1].map(keeper, keeper * 2)", Scope{Locals: []string{"keeper"}}, ""},
		{strings.Repeat("1 + ", 5000) + "1", Scope{}, "an expression of 20001 bytes is too long; move values to data"},
	} {
		_, err := Compile(c.text, at, c.scope)
		if got := fmt.Sprint(err); c.want == "" && err != nil || !strings.Contains(got, c.want) && c.want != "" {
			t.Errorf("%.40s gives %s, want %s", c.text, got, c.want)
		}
	}
}

func TestSaw(t *testing.T) {
	p, err := Compile(`data.gauge.seconds > 30 && has(data.gauge.nowhere) && keeper.login in data.gauge.list && `+
		`facts.arch == env`, at, Scope{Locals: []string{"keeper"}})
	if err != nil {
		t.Fatal(err)
	}
	v := vars().With("keeper", map[string]any{"login": "maren"})
	v.Facts = nil
	var got []string
	for _, s := range p.Saw(v) {
		got = append(got, fmt.Sprintf("%s=%v %v", s.Name, s.Value, s.There))
	}
	if want := "data.gauge.seconds=60 true|data.gauge.nowhere=<nil> false|keeper.login=maren true|data.gauge.list=[a " +
		"b] true|facts.arch=not known without facts true|env= true"; strings.Join(got, "|") != want {
		t.Errorf("it saw %v", got)
	}
	if !p.ReadsRoot("keeper") || p.ReadsRoot("fleet") || !p.ReadsFact("arch") || p.ReadsFact("os") {
		t.Error("it is wrong about what it reads")
	}
}

// TestMissing leaves open what a layer by facts may still set.
func TestMissing(t *testing.T) {
	v := vars()
	v.Facts = nil
	v.Missing = [][]string{{"data", "gauge", "seconds"}, {"data", "later"}, {"param", "rate"}}
	v.Fleet = &Fleet{Hosts: []any{map[string]any{"name": "a"}}, Groups: map[string][]any{"g": {}}}
	open := Unknown{}.String()
	for text, want := range map[string]string{
		"data.gauge.seconds":                         open,
		"data.gauge.seconds > 5 || data.gauge.on":    "true",
		"data.gauge.on":                              "true",
		"data.later.x":                               open,
		"has(data.later)":                            open,
		"size(data.gauge)":                           open,
		"param.rate":                                 open,
		"fleet.hosts.map(h, h.name)":                 "[a]",
		"fleet.hosts.exists(h, has(h.facts.os))":     open,
		"fleet.members('g')":                         open,
		"size(fleet.members('sure'))":                open,
		"value_or(data.gauge.seconds, 1)":            open,
		"data.gauge.list.map(x, x + string(env))[0]": "a",
	} {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			t.Fatal(err)
		}
		if got, err := p.Eval(v); fmt.Sprint(got) != want || err != nil {
			t.Errorf("%s gives %v (%v), want %s", text, got, err, want)
		}
	}
	v.Fleet.Sure = true
	if p, err := Compile("size(fleet.members('g'))", at, Scope{}); err != nil {
		t.Fatal(err)
	} else if got, err := p.Eval(v); got != int64(0) || err != nil {
		t.Errorf("members that facts do not decide are %v (%v)", got, err)
	}
	for text, known := range map[string]bool{"{{ data.gauge.on }}": true, "{{ data.gauge.seconds }}": false,
		"{{ if has data.later }}x{{ end }}": false, "{{ range fleet.hosts }}{{ .name }}{{ end }}": true,
		"{{ range fleet.hosts }}{{ .facts.arch }}{{ end }}": false} {
		tm, err := ParseTemplate("x.tmpl", text)
		if err != nil {
			t.Fatal(err)
		}
		if _, got, _, err := tm.Execute(v); got != known || err != nil {
			t.Errorf("%s is known: %v (%v)", text, got, err)
		}
	}
}

// simple matches a call whose arguments are texts and numbers.
var simple = regexp.MustCompile(`^(\w+)\(((?:"[^"\\{}]*"|-?[0-9.]+)(?:, (?:"[^"\\{}]*"|-?[0-9.]+))*)\)$`)

// TestFunctionsInTemplates calls every function in a template, with the same
// arguments and outcome, wherever its example can be written there.
func TestFunctionsInTemplates(t *testing.T) {
	tried := map[string]bool{}
	for _, f := range Functions() {
		for _, u := range f.Uses {
			m := simple.FindStringSubmatch(u.Expr)
			if m == nil || f.call == nil {
				continue
			}
			tried[f.Name] = true
			tm, err := ParseTemplate("x.tmpl", "{{ to_json ("+m[1]+" "+strings.ReplaceAll(m[2], ", ", " ")+") }}")
			if err != nil {
				t.Errorf("%s: %v", u.Expr, err)
				continue
			}
			if got, _, _, err := tm.Execute(vars()); got != u.Gives || err != nil {
				t.Errorf("%s gives %s in a template (%v), and %s in an expression", u.Expr, got, err, u.Gives)
			}
		}
	}
	if len(tried) < 30 {
		t.Errorf("only %d functions were tried", len(tried))
	}
	for text, want := range map[string]string{
		`{{ split "a" }}`: "x.tmpl:1:4: split \"a\": split takes 2 arguments, not 1; write " +
			"split(text, by)",
		`{{ upper 5 }}`:                   "upper takes a string as text, not an integer; write upper(text)",
		`{{ (first (split "a,b" ",")) }}`: "a",
		`{{ has "x" }}`:                   "has takes a name with a dot, such as data.gauge.depth",
		`{{ range $i, $x := data.gauge.list }}{{ $i }}{{ $x }}{{ end }}`: "0a1b",
		`{{ with value_or data.gauge.nowhere "deep" }}{{ . }}{{ end }}`:  "deep",
		`{{ with data.gauge }}{{ has .nowhere.deep }} {{ has .seconds }} {{ value_or .nowhere "x" }}{{ end ` +
			`}}`: "false true x",
		`{{ $g := data.gauge }}{{ has $g.seconds }} {{ value_or $g.nowhere 3 }}`: "true 3",
		`{{ if and (has data.gauge.on) data.gauge.on }}yes{{ end }}`:             "yes",
		`{{ range $k, $v := param }}{{ $k }}{{ end }}{{ env }}{{ param.none ` +
			`}}`: `unknown param "none" in this manifest; ` +
			`declare it: [param.none]`,
	} {
		tm, err := ParseTemplate("x.tmpl", text)
		got := ""
		if err == nil {
			got, _, _, err = tm.Execute(vars())
		}
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s gives %s, want %s", text, got, want)
		}
	}
}

func TestBlend(t *testing.T) {
	a := map[string]any{"same": int64(1), "list": []any{"x", "y"}, "deep": map[string]any{"pw": "ebb"}}
	b := map[string]any{"same": int64(1), "list": []any{"x", "z"}, "deep": map[string]any{"pw": "flow"}}
	got, _ := blend(a, []any{b, b})
	if fmt.Sprint(got) != "map[deep:map[pw:(secret)] list:[x (secret)] same:1]" {
		t.Errorf("it is %v", got)
	}
	if got, _ := blend([]any{"x"}, []any{[]any{"x", "y"}}); fmt.Sprint(got) != "[(secret)]" {
		t.Errorf("lists of other lengths give %v", got)
	}
	n, _ := blend(int64(5), []any{int64(6)})
	if s, ok := n.(value.Secret); !ok || s.Scalar() != int64(5) {
		t.Error("a number is not a secret")
	}
	if got, err := blend(map[string]any{"ebb": 1}, []any{map[string]any{"flow": 1}}); err == nil {
		t.Errorf("a secret became the key of %v", got)
	}
}
