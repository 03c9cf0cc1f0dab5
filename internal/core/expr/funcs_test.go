package expr

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// TestFunctions evaluates every documented example, and the same call in a
// template.
func TestFunctions(t *testing.T) {
	for _, f := range Functions() {
		if len(f.Uses) == 0 || f.Doc == "" || f.Area == "" {
			t.Errorf("%s is not documented", f.Name)
		}
		for _, u := range f.Uses {
			if !strings.Contains(u.Expr, f.Name+"(") {
				t.Errorf("%s is not an example of %s", u.Expr, f.Name)
			}
			p, err := Compile(u.Expr, at, Scope{})
			if err != nil {
				t.Errorf("%s: %v", u.Expr, err)
				continue
			}
			v, err := p.Eval(vars())
			got, _ := json.Marshal(v)
			if err != nil || string(got) != u.Gives {
				t.Errorf("%s gives %s (%v), want %s", u.Expr, got, err, u.Gives)
			}
		}
		if f.call != nil {
			if _, ok := templateFunctions()[f.Name]; !ok {
				t.Errorf("templates have no %s", f.Name)
			}
		}
	}
}

func TestFunctionProblems(t *testing.T) {
	compare(t, map[string]string{
		`1 == 1.0`: "error: x.toml:1:3: == does not take (int, double); both sides must have the same type; " +
			"double(x), int(x) and string(x) convert",
		`upper(5)`:  `error: x.toml:1:6: upper does not take (int); write upper(text)`,
		`uper("a")`: `error: x.toml:1:5: unknown name 'uper'; did you mean "upper"?`,
		`upper(data.gauge.seconds)`: `error: x.toml:1:1: the expression fails: the operands do not fit together: ` +
			`upper(int)`,
		`first(data.gauge.list)`: `"a"`,
		`data.gauge.list.last()`: `"b"`,
		`find("a", "(")`: `error: x.toml:1:1: the expression fails: find: the regular expression is not valid: ` +
			`missing closing ): ` + "`(`",
		`"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa!".matches("^(a+)+$")`: `false`,
		`replace_regex("x", "(((a{100}){100}){100})", "")`: `error: x.toml:1:1: the expression fails: ` +
			`replace_regex: the regular expression is not valid: invalid repeat count: ` + "`{100}`",
		`upto(1000).map(a, upto(1000).map(b, upto(1000)))`: "error: x.toml:1:1: the expression takes too many " +
			"steps; use a shorter list",
		`net_nth("192.0.2.0/30", 9)`: `error: x.toml:1:1: the expression fails: net_nth: ` +
			`the network 192.0.2.0/30 does not have that many addresses`,
		`value_or(data.gauge.nowhere.deep, "x")`: `"x"`,
		`upto(99999999)`: "error: x.toml:1:1: the expression fails: upto: the count must " +
			"be from 0 to 100000",
	}, func(text string) (any, error) {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			return nil, err
		}
		return p.Eval(vars())
	})
	compare(t, map[string]string{
		`{{ join (sort (split "b,a" ",")) "-" }}`:                `"a-b"`,
		`{{ if has data.gauge.nowhere }}a{{ end }}b`:             `"b"`,
		`{{ value_or data.gauge.nowhere 7 }}`:                    `"7"`,
		`{{ net_nth "192.0.2.0/24" 3 }}`:                         `"192.0.2.3"`,
		`{{ range fleet.members "gauge" }}{{ .name }},{{ end }}`: `"gauge-01,gauge-02,"`,
		`{{ range fleet.hosts }}{{ .address }},{{ end }}`:        `"192.0.2.21,192.0.2.22,"`,
		`{{ fleet.members "guage" ` +
			`}}`: `error: x.tmpl:1:4: fleet.members "guage": unknown group "guage"`,
		`{{ range 2000000000 }}{{ end }}`: "error: x.tmpl:1: the template takes more than a " +
			"million steps; range over a shorter list",
		`{{ define "a" }}{{ template "a" }}{{ end }}{{ template "a" ` +
			`}}`: `error: x.tmpl:1: {{template "a"}}: exceeded ` +
			`maximum template depth (100000)`,
		`{{ range upto 20000 }}{{ range upto 20 }}` + strings.Repeat("tide", 20) +
			`{{ end }}{{ end }}`: `error: x.tmpl: the template produces more than 16 MiB; use copy for large files`,
	}, func(text string) (any, error) {
		p, err := ParseTemplate("x.tmpl", text)
		if err != nil {
			return nil, err
		}
		v := vars()
		v.Fleet = fleet()
		out, _, _, err := p.Execute(v)
		if pr, ok := err.(problem.Problem); ok && pr.Place.Col > 4 {
			pr.Place.Col = 0 // how deep it came differs
			err = pr
		}
		return out, err
	})
}

func fleet() *Fleet {
	one := map[string]any{"name": "gauge-01", "address": "192.0.2.21", "facts": map[string]any{"arch": "amd64"},
		"facts_age": int64(60)}
	two := map[string]any{"name": "gauge-02", "address": "192.0.2.22"}
	return &Fleet{Hosts: []any{one, two}, Groups: map[string][]any{"gauge": {one, two}, "none": {}}, Known: true}
}

func TestFleet(t *testing.T) {
	v := vars()
	v.Fleet = fleet()
	compare(t, map[string]string{
		`fleet.hosts.map(h, h.name)`:                         `[]interface {}{"gauge-01", "gauge-02"}`,
		`fleet.members("gauge").map(h, h.address).join(" ")`: `"192.0.2.21 192.0.2.22"`,
		`fleet . members ( "none" )`:                         `[]interface {}{}`,
		`"fleet.members(x)" + 'fleet.members("x")'`:          `"fleet.members(x)fleet.members(\"x\")"`,
		`fleet.members("guage")`: `error: x.toml:1:1: unknown group "guage"; did ` +
			`you mean "gauge"?`,
		`fleet.hosts.map(h, has(h.facts) ? h.facts.arch : "none")`: `[]interface {}{"amd64", "none"}`,
		`fleet.hosts.map(h, h.facts.arch)`: "error: x.toml:1:1: the facts of a host in the " +
			"fleet were never collected; collect them, or check has(h.facts) first: `jadekettle facts HOST`",
	}, func(text string) (any, error) {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			return nil, err
		}
		return p.Eval(v)
	})
}

// TestSecrets holds that what is made of a secret is one, and nothing else is.
func TestSecrets(t *testing.T) {
	data := map[string]any{"port": int64(4190), "relay": map[string]any{"password": value.NewSecret("ebb-and-flow"),
		"user": "relay"},
		"keepers": []any{map[string]any{"login": "maren", "pin": value.NewSecret("1234")}}}
	v := &Vars{Host: map[string]any{"name": "gauge-01"}, Data: data, Facts: map[string]any{},
		Secrets: SecretPaths("data", data)}
	person := v.With("person", data["keepers"].([]any)[0])
	for text, secret := range map[string]bool{
		"${data.relay.password}":                             true,
		"u=${data.relay.user} p=${data.relay.password}":      true,
		"${upper(data.relay.password)}":                      true,
		"${sha256(data.relay.password)}":                     true,
		"${size(data.relay.password)}":                       true,
		"${data.relay.password.startsWith('e') ? 'a' : 'b'}": true,
		"${data.relay.user}":                                 false,
		"${data.port}":                                       false,
		"${has(data.relay.password)}":                        false,
		"${data.keepers.map(k, k.login).join(' ')}":          false,
		"${data.keepers.map(k, k.login + k.pin).join(' ')}":  true,
		"${person.login}":                                    false,
		"${person.pin}":                                      true,
	} {
		p, err := ParseText(text, at, "", Scope{Locals: []string{"person"}})
		if err != nil {
			t.Fatal(err)
		}
		out, err := p.Eval(person)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		}
		if _, got := out.(value.Secret); got != secret {
			t.Errorf("%s gives %#v, secret %v", text, out, got)
		}
	}
	p, _ := Compile("data.keepers", at, Scope{})
	out, _ := p.Eval(v)
	if got := fmt.Sprint(out); got != "[map[login:maren pin:(secret)]]" {
		t.Errorf("a list with secrets in it is %s", got)
	}
	bad, _ := Compile("int(data.relay.password)", at, Scope{})
	if _, err := bad.Eval(v); err == nil || strings.Contains(err.Error(), "ebb") {
		t.Errorf("the error is %v", err)
	}
	for text, secret := range map[string]bool{"{{ data.relay.user }}": false, "{{ data.relay.password }}": true,
		"{{ range data.keepers }}{{ .login }}{{ end }}":                false,
		`{{ if eq data.relay.password "x" }}y{{ end }}{{ data.port }}`: false} {
		tm, err := ParseTemplate("x.tmpl", text)
		if err != nil {
			t.Fatal(err)
		}
		if out, _, got, err := tm.Execute(v); err != nil || got != secret {
			t.Errorf("the template %s gives %q, secret %v (%v)", text, out, got, err)
		}
	}
}

func TestVersions(t *testing.T) {
	order := []string{"0.9", "1.0~rc1", "1.0", "1.0-1", "1.0a", "1.0.1", "1.2", "1.10", "2", "1:0.1"}
	for i, a := range order {
		for j, b := range order {
			if got := CompareVersions(a, b); got != slices.Compare([]int{i}, []int{j}) {
				t.Errorf("%s and %s compare as %d", a, b, got)
			}
		}
	}
}

// FuzzFunctions calls every function with arguments of the right types: it
// gives a value or an error, within its bounds, and never more.
func FuzzFunctions(f *testing.F) {
	f.Add("192.0.2.0/24", "192.0.2.7", int64(-3))
	f.Add("%999d %s %q %", "[a-z]+(", int64(5))
	f.Add("1.5 GiB", "7d12h", int64(1<<62))
	f.Add("{\"a\": [1, 2e400]}", "1:2.0~rc1", int64(-1<<63))
	f.Fuzz(func(t *testing.T, a, b string, n int64) {
		if len(a)+len(b) > 200 {
			return
		}
		give := map[string][]any{
			"string": {a, b}, "int": {n, n / 7}, "number": {n, float64(n) / 3}, "bool": {true},
			"list": {[]any{a, n, b}, []any{n, []any{a}}}, "table": {map[string]any{a: b},
				map[string]any{b: map[string]any{a: n}}}, "any": {a, []any{b}, n},
		}
		for _, fn := range Functions() {
			if fn.call == nil {
				continue
			}
			for k := range 3 {
				var args []any
				for i, p := range fn.Params {
					list := give[p.Type]
					args = append(args, list[(i+k)%len(list)])
				}
				out, err := fn.do(args)
				if err != nil {
					if err.Error() == "" {
						t.Fatalf("%s says nothing", fn.Name)
					}
					continue
				}
				if !native(out) {
					t.Fatalf("%s gives a %T", fn.Name, out)
				}
			}
		}
	})
}
