package expr

import (
	"errors"
	"fmt"
	"testing"

	"jadekettle/internal/core/value"
)

func at(o int) value.Place { return value.Place{File: "x.toml", Line: 1, Col: o + 1} }

func vars() *Vars {
	return &Vars{
		Host: map[string]any{"name": "gauge-01", "site": "north-pier"},
		Data: map[string]any{"gauge": map[string]any{"seconds": int64(60), "nothing": nil, "list": []any{"a", "b"},
			"on": true, "half": 0.5}},
		Facts: map[string]any{"os": map[string]any{"id": "debian", "like": []any{"debian"}},
			"memory": map[string]any{"total": int64(8 << 30)}},
	}
}

// show writes a value or an error for a table.
func show(v any, err error) string {
	if err != nil {
		return "error: " + err.Error()
	}
	return fmt.Sprintf("%#v", v)
}

// compare holds what a func gives for each text to what is wanted.
func compare(t *testing.T, cases map[string]string, give func(text string) (any, error)) {
	t.Helper()
	for text, want := range cases {
		if got := show(give(text)); got != want {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestExpressions(t *testing.T) {
	compare(t, map[string]string{
		`data.gauge.seconds`:                   `60`,
		`data.gauge.seconds * 2 + 1`:           `121`,
		`data.gauge.half < data.gauge.seconds`: `true`,
		`data.gauge.list.map(x, x + "!")`:      `[]interface {}{"a!", "b!"}`,
		`{"a": data.gauge.nothing}`:            `map[string]interface {}{"a":interface {}(nil)}`,
		`"debian" in facts.os.like`:            `true`,
		`has(data.gauge.seconds)`:              `true`,
		`has(data.gauge.minutes)`:              `false`,
		`has(data.no.such.thing)`:              `false`,
		`has(data.no.such) ? data.no.such : 7`: `7`,
		`data.gauge.secnods`: `error: x.toml:1:1: unknown key "secnods" in data.gauge; did you mean ` +
			`"seconds"?`,
		`1 + data.no`:          `error: x.toml:1:5: unknown key "no" in data; available: gauge`,
		`data.gauge.list.more`: `error: x.toml:1:1: data.gauge.list is a list and does not contain "more"`,
		`facts.os.idd`:         `error: x.toml:1:1: unknown key "idd" in facts.os; did you mean "id"?`,
		`facts.disks.size`: `error: x.toml:1:1: facts.disks is a list and does not have "size"; select ` +
			`items of it first`,
		`facts.arch.x`: `error: x.toml:1:1: facts.arch has no keys; remove .x`,
		`dta.x`:        `error: x.toml:1:1: unknown name 'dta'; did you mean "data"?`,
		`tidelog`: `error: x.toml:1:1: unknown name 'tidelog'; available: ` +
			`host, facts, data, param, input, env, fleet; put strings in quotes`,
		`n + 1`: `error: x.toml:1:1: unknown name 'n'; available: host, ` +
			`facts, data, param, input, env, fleet; put strings in quotes`,
		`data.gauge.in`: `error: x.toml:1:12: syntax error at '.in'; write a name that is ` +
			`a CEL keyword in brackets: x["in"]` + "\nx.toml:1:14: the expression is incomplete",
		`host.name = "a = b"`:               `error: x.toml:1:11: a single = is not a comparison; use ==`,
		`"a = b" == host.name and not true`: `error: x.toml:1:22: "and" is not an operator here; write &&`,
		`1 +`:                               `error: x.toml:1:4: the expression is incomplete`,
		`data.gauge.seconds + ` +
			`"x"`: `error: x.toml:1:1: the expression fails: the operands do not fit together`,
		`1 / 0`: `error: x.toml:1:1: the expression fails: division by zero`,
		`has(data)`: `error: x.toml:1:5: has() takes a name with a dot, such as ` +
			`has(data.gauge)`,
		`data.gauge.list.exists(x, x == "b")`:    `true`,
		`facts.memory.total >= 4 * 1024 * 1024`:  `true`,
		`host.name.startsWith("gauge-") && true`: `true`,
	}, func(text string) (any, error) {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			return nil, err
		}
		return p.Eval(vars())
	})
}

func TestWithoutFacts(t *testing.T) {
	v := vars()
	v.Facts = nil
	for text, want := range map[string]string{
		`facts.os.id == "debian"`:               `expr.Unknown{}`,
		`data.gauge.on || facts.os.id == "x"`:   `true`,
		`!data.gauge.on && facts.os.id == "x"`:  `false`,
		`has(facts.os.id)`:                      `expr.Unknown{}`,
		`data.gauge.seconds`:                    `60`,
		`facts.mounts.exists(m, m.path == "/")`: `expr.Unknown{}`,
	} {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			t.Fatal(err)
		}
		if got := show(p.Eval(v)); got != want {
			t.Errorf("%s gives %s, want %s", text, got, want)
		}
	}
}

func TestTexts(t *testing.T) {
	compare(t, map[string]string{
		"plain":                         `"plain"`,
		"":                              `""`,
		"every ${data.gauge.seconds} s": `"every 60 s"`,
		"${data.gauge.seconds}":         `60`,
		"${data.gauge.list}":            `[]interface {}{"a", "b"}`,
		"${data.gauge.on}!":             `"true!"`,
		"$${host.name} is ${host.name}": `"${host.name} is gauge-01"`,
		`${ {"a": "}"}.a }x`:            `"}x"`,
		`${ '''it's }''' + "\"}" }`:     `"it's }\"}"`,
		`${ r"\" + "}" }`:               `"\\}"`,
		"costs $5 {really}":             `"costs $5 {really}"`,
		"${data.gauge.list} items": "error: x.toml:1:3: ${data.gauge.list} returns a list, which cannot be written " +
			"as text; use a string, a number or a bool inside a string",
		"a ${data.gauge.nothing}": "error: x.toml:1:5: ${data.gauge.nothing} returns null, which cannot be written " +
			"as text; use a string, a number or a bool inside a string",
		"ab ${host.nmae}": `error: x.toml:1:6: unknown key "nmae" in host; did you mean "name"?`,
		"open ${host.name": `error: x.toml:1:6: a ${ is not closed; write ${expression}, or $${ for the ` +
			`characters themselves`,
		"${1:-tide}": "error: x.toml:1:4: syntax error at ':'; to write the characters " +
			"${ themselves, use $${",
		"a ${['x', 'y'].join('\n') + hots.name}": "error: x.toml:1:28: unknown name 'hots'; did you mean \"host\"?",
		"${['x', 'y'].join('\n')}":               `"x\ny"`,
		"${}": `error: x.toml:1:3: ${} is empty; write an expression, such ` +
			`as ${host.name}`,
		"check ${candidate} on ${host.site}": `"check ${candidate} on north-pier"`,
	}, func(text string) (any, error) {
		p, err := ParseText(text, at, Candidate, Scope{})
		if err != nil {
			return nil, err
		}
		return p.Eval(vars())
	})
}

func TestTemplates(t *testing.T) {
	compare(t, map[string]string{
		"{{ host.name }} every {{ data.gauge.seconds }}":                 `"gauge-01 every 60"`,
		"{{ range data.gauge.list }}<{{ . }}>{{ end }}":                  `"<a><b>"`,
		"{{ if data.gauge.on }}on{{ else }}off{{ end }}":                 `"on"`,
		"{{ with $x := facts.os }}{{ $x.id }}{{ end }}":                  `"debian"`,
		`{{ define "t" }}[{{ . }}]{{ end }}{{ template "t" host.site }}`: `"[north-pier]"`,
		"a\n {{ data.gauge.secnods }}": `error: x.tmpl:2:5: unknown key ` +
			`"secnods" in data.gauge; did you mean "seconds"?`,
		"{{ data.gauge.nothing }}": `error: x.tmpl:1:4: data.gauge.nothing: the ` +
			`value is null`,
		"{{ data.gauge.list }}": "error: x.tmpl:1:4: data.gauge.list: the value is a list, which cannot be " +
			"written as text; use range or index",
		"{{ facts.os.vresion_id }}": `error: x.tmpl:1:4: unknown key "vresion_id" in facts.os; did you mean ` +
			`"version_id"?`,
		"{{ hots.name }}": `error: x.tmpl:1: unknown function "hots"; ` +
			`did you mean "host"?`,
		"\n{{ if }}": `error: x.tmpl:2: missing value for if`,
		"{{ range data.gauge.list }}{{ .x }}{{ end }}": `error: x.tmpl:1:31: .x: can't evaluate field x ` +
			`in type interface {}`,
	}, func(text string) (any, error) {
		p, err := ParseTemplate("x.tmpl", text)
		if err != nil {
			return nil, err
		}
		out, known, _, err := p.Execute(vars())
		if err == nil && !known {
			return nil, errors.New("it is not known though the facts are")
		}
		return out, err
	})
	p, err := ParseTemplate("x.tmpl", "{{ facts.services }}{{ facts.os.id }}")
	if err != nil {
		t.Fatal(err)
	}
	if _, known, _, err := p.Execute(&Vars{}); known || err != nil {
		t.Errorf("without facts a template that reads them is known (%v)", err)
	}
	p2, err := ParseTemplate("x.tmpl",
		"{{ facts.arch }}\n{{ host.nmae }}{{ if data.no }}{{ data.never }}{{ end }}{{ and facts.arch data.never }}")
	if err != nil {
		t.Fatal(err)
	}
	_, known, _, err := p2.Execute(&Vars{Host: map[string]any{"name": "a"}, Data: map[string]any{}})
	if want := "x.tmpl:2:4: unknown key \"nmae\" in host; did you mean \"name\"?\n" +
		"x.tmpl:2:22: unknown key \"no\" in data; no value is set there"; known || show(nil, err) != "error: "+want {
		t.Errorf("what is missing whatever the facts are: %v", err)
	}
	if !p.ReadsFact("services") || p.ReadsFact("disks") {
		t.Error("it is wrong about the facts that it reads")
	}
}

func FuzzParseText(f *testing.F) {
	for _, s := range []string{"a ${host.name} b", "$${x}", "${", "${'}'}", "${{'a': 1}.a}", `${r'\'}`,
		"${facts.os.id + \"\"}", "${[1,2].map(x, x)}"} {
		f.Add(s)
	}
	v := vars()
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 200 {
			return // what takes long is measured elsewhere
		}
		p, err := ParseText(text, at, Candidate, Scope{})
		if err != nil {
			if err.Error() == "" {
				t.Error("an error says nothing")
			}
			return
		}
		out, err := p.Eval(v)
		if err == nil && p.lone == false {
			if _, ok := out.(string); !ok {
				t.Errorf("%q gives %#v, which is not text", text, out)
			}
		}
	})
}

func BenchmarkCompile(b *testing.B) {
	for b.Loop() {
		if _, err := Compile(`"debian" in facts.os.like && data.gauge.seconds > 30`, at, Scope{}); err != nil {
			b.Fatal(err)
		}
	}
}

// TestWhatHostsHaveInCommon evaluates once for hosts with the same data, and again for any other.
func TestWhatHostsHaveInCommon(t *testing.T) {
	for _, test := range []struct {
		text, loop string
		want       []any
	}{
		{"data.port + 1", "", []any{int64(8), int64(8), int64(10)}},
		{"data.port + 1", "data", []any{int64(4), int64(5), int64(6)}},
		{"string(data.port) + host.name", "", []any{"7a", "7b", "9c"}},
		{"data.port + 1 > 8 && env == 'north'", "", []any{false, false, true}},
	} {
		scope := Scope{}
		if test.loop != "" {
			scope.Locals = []string{test.loop}
		}
		p, err := Compile(test.text, at, scope)
		if err != nil {
			t.Fatal(err)
		}
		shared, other := map[string]any{"port": int64(7)}, map[string]any{"port": int64(9)}
		for i, vars := range []*Vars{
			{Host: map[string]any{"name": "a"}, Data: shared, Env: "north", Facts: map[string]any{}},
			{Host: map[string]any{"name": "b"}, Data: shared, Env: "north", Facts: map[string]any{}},
			{Host: map[string]any{"name": "c"}, Data: other, Env: "north", Facts: map[string]any{}},
		} {
			if test.loop != "" {
				vars = vars.With(test.loop, map[string]any{"port": int64(3 + i)})
			}
			if got, err := p.Eval(vars); err != nil || got != test.want[i] {
				t.Errorf("%s for host %d is %v, not %v (%v)", test.text, i, got, test.want[i], err)
			}
		}
	}
}
