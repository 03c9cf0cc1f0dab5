package param

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// declared reads one [param.x] table.
func declared(text string) (*Decl, string) {
	var ps problem.Problems
	root, _ := manifest.ParseTOML("m.toml", []byte("[param.x]\n"+text), &ps)
	d, ok := Read(root.Get("param").Keys[0], &ps)
	if !ok {
		return nil, ps.Error()
	}
	return d, ""
}

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		decl string
		give any
		want string
	}{
		{`type = "string"`, "a", "a"},
		{`type = "string"`, int64(1), `expected a string, not an integer (1); write it in quotes`},
		{`type = "int"`, int64(7), "7"},
		{`type = "int"`, 7.5, `expected an integer, not a number (7.5); write it without quotes`},
		{`type = "int"`, "007", `expected an integer, not "007"; write it without quotes`},
		{`type = "number"`, int64(7), "7"},
		{`type = "bool"`, "yes", `expected true or false, not "yes"; write it without quotes`},
		{`type = "duration"`, "1d12h", "129600"},
		{`type = "duration"`, int64(90), "90"},
		{`type = "duration"`, "soon", `invalid duration "soon"; use a form such as "90s", "10m", "1h30m" or "7d"`},
		{`type = "bytes"`, "1.5 GiB", "1610612736"},
		{`type = "bytes"`, "many", `invalid size "many"; use a form such as "512", "2TB" or "1.5 GiB"`},
		{`type = "path"`, "/srv//a/", "/srv/a"},
		{`type = "path"`, "srv", `path must be absolute: "srv"; start it with /`},
		{`type = "address"`, "2001:db8::1", "2001:db8::1"},
		{`type = "address"`, "gauge-01.example.org", "gauge-01.example.org"},
		{`type = "address"`, "two words", `expected an IP address or a host name, not "two words"; write it in quotes`},
		{`type = "list"`, []any{"a"}, "[a]"},
		{`type = "list"`, "a", `expected a list, not "a"; put it in brackets`},
		{`type = "map"`, map[string]any{"a": int64(1)}, "map[a:1]"},
		{`type = "secret"`, "ebb", "(secret)"},
		{`type = "secret"`, int64(7781), "expected a string, not an integer; put it in quotes"},
		{`type = "string"`, value.NewSecret("ebb"), "(secret)"},
		{`type = "int"`, value.NewSecret("7"),
			`expected an integer, but the value is a secret; give the param the type "secret"`},
		{"type = \"int\"\nmin = 2\nmax = 4", int64(5), "5 is above the maximum of 4; use a smaller value"},
		{"type = \"duration\"\nmin = \"10s\"", "5s", `"5s" is below the minimum of 10s; use a larger value`},
		{"type = \"bytes\"\nmax = \"1 GiB\"", "2GiB", `"2GiB" is above the maximum of 1 GiB; use a smaller value`},
		{"type = \"secret\"\nmin = 8", "ebb", "its length is below the minimum of 8; use a larger value"},
		{"type = \"list\"\nmin = 1", []any{}, "its number of items is below the minimum of 1; use a larger value"},
		{"choices = [\"a\", \"b\"]", "c", `"c" is not one of the choices; use "a", "b"`},
		{"type = \"duration\"\nchoices = [\"1m\", \"1h\"]", "60s", "60"},
		{"pattern = \"[a-z]+\"", "abc1", `"abc1" does not match the pattern`},
		{"pattern = \"[a-z]+\"", "abc", "abc"},
	} {
		d, problem := declared(c.decl)
		if d == nil {
			t.Errorf("%s: %s", c.decl, problem)
			continue
		}
		v, err := d.Check(c.give)
		got := fmt.Sprint(v)
		if err != nil {
			got = err.Error()
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s with %v gives %s, want %s", c.decl, c.give, got, c.want)
		}
	}
}

func TestDeclarationsThatAreWrong(t *testing.T) {
	for text, want := range map[string]string{
		`type = "strng"`:                       `m.toml:2:8: invalid type: "strng"; did you mean "string"?`,
		`typ = "int"`:                          `unknown key "typ" in a param; did you mean "type"?`,
		"type = \"int\"\ndefault = \"5\"":      `m.toml:3:11: the default is not valid: expected an integer`,
		"type = \"int\"\nchoices = [1, \"2\"]": `a choice is not valid: expected an integer, not "2"`,
		"type = \"int\"\nmin = \"low\"":        `min: a limit must be a number`,
		`pattern = "("`:                        `pattern is not a valid regular expression`,
		`choices = "a"`:                        `choices must be a list`,
		"type = \"int\"\ndefault = 9\nchoices=[1]": "the default is not valid: an integer (9) is not one of the " +
			"choices; use 1",
	} {
		if _, got := declared(text); !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestFromText(t *testing.T) {
	for _, c := range []struct{ typ, text, want string }{
		{"string", "007", "007"}, {"int", "7", "7"}, {"int", "7x", `expected an integer, not "7x"`},
		{"number", "2.5", "2.5"}, {"bool", "true", "true"}, {"bool", "1", `expected true or false, not "1"`},
		{"list", `["a", 2]`, "[a 2]"}, {"map", "{ a = 1 }", "map[a:1]"},
		{"map", "{", `expected a table; write it as TOML, such as ["a", "b"] or { a = 1 }`},
		{"duration", "90", "90"}, {"bytes", "1 kB", "1 kB"}, {"path", "/a", "/a"},
	} {
		d, _ := declared(`type = "` + c.typ + `"`)
		v, err := d.FromText(c.text)
		got := fmt.Sprint(v)
		if err != nil {
			got = err.Error()
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s %s gives %s, want %s", c.typ, c.text, got, c.want)
		}
	}
}
