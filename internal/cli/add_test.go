package cli

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/present/jsonschema"
	screen "jadekettle/internal/present/text"
)

// TestAnswers takes what is typed into the form for what it is.
func TestAnswers(t *testing.T) {
	for _, c := range []struct{ kind, attr, typed, want string }{
		{"user", "uid", "2101", "uid = 2101"},
		{"user", "uid", "many", `uid needs a whole number, not "many"`},
		{"user", "uid", "-1", "uid must not be negative"},
		{"user", "uid", "${host.number}", `uid = "${host.number}"`},
		{"user", "uid", "  ", "left out"},
		{"user", "groups", "keepers, watch", `groups = ["keepers", "watch"]`},
		{"user", "groups", "two words", `groups is "two words", which is no account or group name`},
		{"user", "system", "true", "system = true"},
		{"user", "system", "", "left out"},
		{"user", "comment", `the "first" keeper`, `comment = 'the "first" keeper'`},
		{"user", "comment", `it's "so"`, `comment = "it's \"so\""`},
		{"user", "password", "ebb", "password does not belong on a command line"},
		{"user", "password", "${data.keeper}", `password = "${data.keeper}"`},
		{"file", "mode", "644", `mode = "644"`},
		{"file", "mode", "rw", `mode: "rw" is no mode`},
		{"file", "content", "a\tb", `content = "a\tb"`},
		{"service", "restart_on", "file /etc/a", `restart_on = ["file /etc/a"]`},
		{"package", "version", "newest", `version = "newest"`},
	} {
		k, _ := kinds.Schemas().Kind(c.kind)
		at, _ := k.Attr(c.attr)
		e := &entry{kind: k}
		got := "left out"
		if v, given := answer(at, c.typed); given {
			if err := e.set(at, v); err != nil {
				got = trimmed(err).Error()
			} else {
				got = c.attr + " = " + manifest.Literal(e.attrs[c.attr])
			}
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s.%s answered %q gives %s, want %s", c.kind, c.attr, c.typed, got, c.want)
		}
	}
}

// TestAttributesAreNoFlags keeps attributes from being called like flags that
// every command has: add takes both.
func TestAttributesAreNoFlags(t *testing.T) {
	root := (&App{}).root()
	for _, name := range kinds.Schemas().Names() {
		k, _ := kinds.Schemas().Kind(name)
		for _, at := range k.Attrs {
			if root.PersistentFlags().Lookup(at.Name) != nil || at.Name == "manifest" || at.Name == "help" {
				t.Errorf("%s of %s is a flag already", at.Name, name)
			}
		}
	}
}

func TestRequiredFirst(t *testing.T) {
	list := (&schema.Kind{Attrs: []schema.Attr{{Name: "a"}, {Name: "b", Required: true}, {Name: "c"},
		{Name: "d", Required: true}}}).RequiredFirst()
	var got []string
	for _, at := range list {
		got = append(got, at.Name)
	}
	if fmt.Sprint(got) != "[b d a c]" {
		t.Errorf("the order is %v", got)
	}
	if s := takes(schema.Attr{Type: schema.Text, Choices: []string{"x", "y"}, List: true,
		Required: true}); s != "a list, each one of x, y, required" {
		t.Errorf("it takes %q", s)
	}
}

// TestSchemasNameEveryAttribute holds the JSON Schemas to the kinds.
func TestSchemasNameEveryAttribute(t *testing.T) {
	properties := func(m any, path ...string) map[string]any {
		for _, p := range path {
			m = m.(map[string]any)[p]
		}
		return m.(map[string]any)["properties"].(map[string]any)
	}
	manifest := properties(jsonschema.All(kinds.Schemas())["manifest"])
	for _, name := range kinds.Schemas().Names() {
		k, _ := kinds.Schemas().Kind(name)
		have := properties(manifest[name], "additionalProperties")
		for _, attr := range k.Names() {
			if _, ok := have[attr]; !ok && !(attr == "absent" && k.NoAbsent != "") {
				t.Errorf("the schema of %s lacks %s", name, attr)
			}
			delete(have, attr)
		}
		if len(have) > 0 {
			t.Errorf("the schema of %s has more: %v", name, have)
		}
	}
	if got := value.Keys(jsonschema.All(kinds.Schemas())); !slices.Equal(got, jsonschema.Sorts) {
		t.Errorf("there are schemas of %v", got)
	}
	settings := properties(jsonschema.All(kinds.Schemas())["settings"])
	for _, want := range []string{"project", "requires", "inventory", "data", "secrets", "run", "ssh", "env"} {
		if settings[want] == nil {
			t.Errorf("the schema of settings lacks %s", want)
		}
	}
}

func TestAligned(t *testing.T) {
	got := strings.Join(screen.Aligned([][]string{{"host", "is"}, {"küste-01", ""}, {"a", "b", "c"}}), "|")
	if got != "host      is|küste-01|a         b   c" {
		t.Errorf("it is %q", got)
	}
	var out strings.Builder
	a := &App{Out: &out}
	screen.Columns(a.Out, [][]string{{"name", strings.Repeat("word ", 30)}, {"longer", "x"}})
	for line := range strings.Lines(out.String()) {
		if len(line) > screen.LineWidth+1 {
			t.Errorf("a line of %d: %q", len(line), line)
		}
	}
	if !strings.Contains(out.String(), "\n        word") || !strings.HasSuffix(out.String(), "longer  x\n") {
		t.Errorf("it is\n%s", out.String())
	}
}
