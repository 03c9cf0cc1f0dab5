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
		{`type = "string"`, int64(1), `it needs text, not a whole number (1); write it in quotes`},
		{`type = "int"`, int64(7), "7"},
		{`type = "int"`, 7.5, `it needs a whole number, not a number (7.5); write it without quotes`},
		{`type = "int"`, "007", `it needs a whole number, not "007"; write it without quotes`},
		{`type = "number"`, int64(7), "7"},
		{`type = "bool"`, "yes", `it needs true or false, not "yes"; write it without quotes`},
		{`type = "duration"`, "1d12h", "129600"},
		{`type = "duration"`, int64(90), "90"},
		{`type = "duration"`, "soon", `"soon" is no length of time; write "90s", "10m", "1h30m" or "7d"`},
		{`type = "bytes"`, "1.5 GiB", "1610612736"},
		{`type = "bytes"`, "many", `"many" is no size; write "512", "2TB" or "1.5 GiB"`},
		{`type = "path"`, "/srv//a/", "/srv/a"},
		{`type = "path"`, "srv", `"srv" is no absolute path; start it with /`},
		{`type = "address"`, "2001:db8::1", "2001:db8::1"},
		{`type = "address"`, "gauge-01.example.org", "gauge-01.example.org"},
		{`type = "address"`, "two words", `it needs an IP address or a host name, not "two words"; write it in quotes`},
		{`type = "list"`, []any{"a"}, "[a]"},
		{`type = "list"`, "a", `it needs a list, not "a"; put it in brackets`},
		{`type = "map"`, map[string]any{"a": int64(1)}, "map[a:1]"},
		{`type = "secret"`, "ebb", "(secret)"},
		{`type = "secret"`, int64(7781), "it needs text, not a whole number; put it in quotes"},
		{`type = "string"`, value.NewSecret("ebb"), "(secret)"},
		{`type = "int"`, value.NewSecret("7"),
			`it needs a whole number, and a secret is given; give the param the type "secret"`},
		{"type = \"int\"\nmin = 2\nmax = 4", int64(5), "a whole number (5) is above its max, 4; give less"},
		{"type = \"duration\"\nmin = \"10s\"", "5s", `"5s" is below its min, 10s; give more`},
		{"type = \"bytes\"\nmax = \"1 GiB\"", "2GiB", `"2GiB" is above its max, 1 GiB; give less`},
		{"type = \"secret\"\nmin = 8", "ebb", "its length is below its min, 8; give more"},
		{"type = \"list\"\nmin = 1", []any{}, "its number of items is below its min, 1; give more"},
		{"choices = [\"a\", \"b\"]", "c", `"c" is not among its choices; it takes "a", "b"`},
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
		`type = "strng"`:                       `m.toml:2:8: type is "strng"; did you mean "string"?`,
		`typ = "int"`:                          `a param has no "typ"; did you mean "type"?`,
		"type = \"int\"\ndefault = \"5\"":      `m.toml:3:11: the default does not fit: it needs a whole number`,
		"type = \"int\"\nchoices = [1, \"2\"]": `a choice does not fit`,
		"type = \"int\"\nmin = \"low\"":        `min: a limit is a number`,
		`pattern = "("`:                        `pattern is no regular expression`,
		`choices = "a"`:                        `choices takes a list`,
		"type = \"int\"\ndefault = 9\nchoices=[1]": `the default does not fit: a whole number (9) is not among its ` +
			`choices; it takes 1`,
	} {
		if _, got := declared(text); !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestFromText(t *testing.T) {
	for _, c := range []struct{ typ, text, want string }{
		{"string", "007", "007"}, {"int", "7", "7"}, {"int", "7x", `it needs a whole number, not "7x"`},
		{"number", "2.5", "2.5"}, {"bool", "true", "true"}, {"bool", "1", `it needs true or false, not "1"`},
		{"list", `["a", 2]`, "[a 2]"}, {"map", "{ a = 1 }", "map[a:1]"},
		{"map", "{", "it needs a table; write it as TOML"},
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
