package jsonschema

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
)

// compiled are the schemas as a validator that others wrote reads them.
func compiled(t *testing.T) map[string]*jsonschema.Schema {
	t.Helper()
	out := map[string]*jsonschema.Schema{}
	for name, doc := range All(kinds.Schemas()) {
		c := jsonschema.NewCompiler()
		if err := c.AddResource(name+".json", plain(t, doc)); err != nil {
			t.Fatal(err)
		}
		s, err := c.Compile(name + ".json")
		if err != nil {
			t.Fatal(err)
		}
		out[name] = s
	}
	return out
}

// plain gives a value as it is in JSON.
func plain(t *testing.T, v any) any {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	out, err := jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// sortOf is the sort of a project's file.
func sortOf(file string) string {
	switch name := filepath.Base(file); {
	case name == "jadekettle.toml":
		return "settings"
	case strings.HasPrefix(name, "hosts"), strings.Contains(file, "/inventory/"):
		return "inventory"
	case name == "jobs.toml":
		return "jobs"
	case strings.Contains(file, "/data/"):
		return "data"
	case strings.Contains(file, "/rehearsal/"):
		return "rehearsal"
	case strings.Contains(file, "/manifests/"):
		return "manifest"
	}
	return ""
}

// ofTests are files that only the lab's tests read.
var ofTests = []string{"trials.toml", "recipes.toml"}

// TestFilesThatLintTakes holds every file of the demo, the lab and the starter, and every example of a
// kind, to the schemas.
func TestFilesThatLintTakes(t *testing.T) {
	schemas := compiled(t)
	holds := func(where, sort, text string) {
		t.Helper()
		var v any
		if err := toml.Unmarshal([]byte(text), &v); err != nil {
			t.Errorf("%s: %v", where, err)
		} else if err := schemas[sort].Validate(plain(t, v)); err != nil {
			t.Errorf("%s is refused: %v", where, err)
		}
	}
	n := 0
	for _, root := range []string{"../../../demo", "../../../lab", "../../app/edit/starter",
		"../../cli/testdata/harbour"} {
		err := filepath.Walk(root, func(p string, _ os.FileInfo, err error) error {
			if err != nil || filepath.Ext(p) != ".toml" || slices.Contains(ofTests, filepath.Base(p)) {
				return err
			}
			data, err := os.ReadFile(p)
			sort := sortOf(p)
			if sort == "" {
				t.Errorf("%s is of no sort", p)
				return err
			}
			n++
			holds(p, sort, string(data))
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
	if n < 15 {
		t.Errorf("there are only %d files", n)
	}
	for _, k := range kinds.All() {
		for _, e := range k.Schema().Examples {
			holds(k.Schema().Name+": "+e.About, "manifest", e.TOML)
		}
	}
}

// values are one of each sort; what is there in quotes may be wrong in its own words, which a schema
// does not say.
var values = []any{true, int64(7), int64(-1), 1.5, "x", "${data.x}", []any{"x"}, []any{int64(1)}, []any{true},
	map[string]any{"a": "x"},
	map[string]any{"a": []any{"x"}}, []any{map[string]any{"no": "x"}}, []any{[]any{"x"}}}

// TestSchemasAgreeWithLint tries a value of each sort for each attribute: what lint takes the schema
// takes, and what is of a sort that lint refuses it refuses.
func TestSchemasAgreeWithLint(t *testing.T) {
	s := compiled(t)["manifest"]
	for _, k := range kinds.All() {
		name := k.Schema().Name
		for _, a := range append(k.Schema().RequiredFirst(), k.Schema().Common()...) {
			for _, v := range values {
				attrs := map[string]any{a.Name: v}
				if a.Name != "absent" && k.Schema().NoAbsent == "" {
					attrs["absent"] = true // so that nothing else has to be there
				} else {
					for _, r := range k.Schema().Attrs {
						if r.Required && r.Name != a.Name {
							attrs[r.Name] = example(t, r)
						}
					}
				}
				err := s.Validate(plain(t, map[string]any{name: map[string]any{"x": attrs}}))
				_, wrong := a.Value(v)
				text, isText := v.(string)
				takes := wrong == nil || strings.Contains(text, "${")
				open := isText && a.Type != schema.Bool && a.Type != schema.Int && a.Type != schema.ID && !a.List &&
					len(a.Choices) == 0
				list, isList := v.([]any)
				if isList && (a.List || a.Either) {
					_, open = list[0].(string)
					open = open && len(a.Choices) == 0
				}
				if takes && err != nil {
					t.Errorf("%s.%s = %v: lint takes it, the schema says %v", name, a.Name, v, err)
				}
				if !takes && err == nil && !open {
					t.Errorf("%s.%s = %v: the schema takes it, lint says %v", name, a.Name, v, wrong)
				}
			}
		}
		for _, more := range []map[string]any{{"no_such_attribute": true}, {"absent": true, "no_such_attribute": "x"}} {
			if s.Validate(plain(t, map[string]any{name: map[string]any{"x": more}})) == nil {
				t.Errorf("%s: the schema takes %v", name, more)
			}
		}
		required := false
		for _, a := range k.Schema().Attrs {
			required = required || a.Required
		}
		for _, absent := range []any{nil, false, true, "${data.x}"} {
			attrs := map[string]any{}
			if absent != nil {
				attrs["absent"] = absent
			}
			err := s.Validate(plain(t, map[string]any{name: map[string]any{"x": attrs}}))
			refused := required && (absent == nil || absent == false) || absent != nil && k.Schema().NoAbsent != ""
			if refused != (err != nil) {
				t.Errorf("%s with absent %v: %v", name, absent, err)
			}
		}
	}
	if s.Validate(plain(t, map[string]any{"dri": map[string]any{"/srv": map[string]any{}}})) == nil {
		t.Error("the schema takes a kind that is none")
	}
}

// example is a value that an attribute takes.
func example(t *testing.T, a schema.Attr) any {
	t.Helper()
	if len(a.Examples) == 0 {
		if a.List {
			return []any{"x"}
		}
		return "x"
	}
	var v map[string]any
	if err := toml.Unmarshal([]byte(fmt.Sprintf("x = %s", a.Examples[0])), &v); err != nil {
		t.Fatal(err)
	}
	return v["x"]
}

// TestFilesThatLintRefuses: keys that are none, and values of another sort, in the other files.
func TestFilesThatLintRefuses(t *testing.T) {
	schemas := compiled(t)
	for text, sort := range map[string]string{
		"project = 7\n": "settings", "[run]\nparalel = 3\n": "settings", "[ssh]\nconnect_timeout = 5\n": "settings",
		"[env.pier]\ninventry = [\"a\"]\n": "settings", "[notify.x]\nurl = 3\n": "settings",
		"[history]\nfile = true\n": "settings",
		"[connect]\nuser = 3\n":    "inventory", "[group.a]\nmembers = \"*\"\n": "inventory",
		"[group.a]\nmembres = [\"*\"]\n": "inventory",
		"[hosts.a]\n":                    "inventory", "[host.a.connect]\nusr = \"x\"\n": "inventory",
		"[job.a]\ntargets = \"x\"\n": "jobs", "[job.a]\ntarget = [\"x\"]\n": "jobs",
		"[job.a.schedule]\ncorn = \"x\"\n": "jobs",
		"[host.a]\nos = 3\n":               "rehearsal", "[host.a.expect]\nfile = {}\n": "rehearsal",
		"[param.a]\ntyp = \"int\"\n": "manifest", "[fact.a]\nrun = \"x\"\n": "manifest",
		"[use.a]\nmanifst = \"x\"\n":                "manifest",
		"[lines.\"/a\"]\nadd = [{ lin = \"x\" }]\n": "manifest", "[lines.\"/a\"]\nadd = { line = \"x\" }\n": "manifest",
	} {
		var v any
		if err := toml.Unmarshal([]byte(text), &v); err != nil {
			t.Fatal(err)
		}
		if schemas[sort].Validate(plain(t, v)) == nil {
			t.Errorf("as %s this is taken:\n%s", sort, text)
		}
	}
}
