package jsonschema

import (
	"slices"
	"testing"

	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestSchemasNameEveryAttribute holds the JSON Schemas to the kinds.
func TestSchemasNameEveryAttribute(t *testing.T) {
	properties := func(m any, path ...string) map[string]any {
		for _, p := range path {
			m = m.(map[string]any)[p]
		}
		return m.(map[string]any)["properties"].(map[string]any)
	}
	manifest := properties(All(kinds.Schemas())["manifest"])
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
	if got := value.Keys(All(kinds.Schemas())); !slices.Equal(got, Sorts) {
		t.Errorf("there are schemas of %v", got)
	}
	settings := properties(All(kinds.Schemas())["settings"])
	for _, want := range []string{"project", "requires", "inventory", "data", "secrets", "run", "ssh", "env"} {
		if settings[want] == nil {
			t.Errorf("the schema of settings lacks %s", want)
		}
	}
}
