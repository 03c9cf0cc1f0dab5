package compile_test

import (
	"testing"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/host/kinds"
)

// TestReads asks what a project and its manifests look at.
func TestReads(t *testing.T) {
	p, err := compile.Load(compiletest.Tree("manifests/gauge.toml", `[param.rate]
type = "int"
from = "facts.cpu.count"
[file."/a"]
content = "${data.gauge.unit}"
[use.inner]
if = "host.site == 'pier'"
`, "manifests/inner.toml", "[dir.\"/${facts.os.id}\"]\n[dir.\"/b\"]\nfor = \"x in fleet.members('all')\"\n"),
		kinds.Schemas(), compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	gauge, inner := p.Units["gauge"], p.Units["inner"]
	for name, c := range map[string]struct{ got, want bool }{
		"its own data":            {gauge.Reads().At("data", "gauge", "unit"), true},
		"above it":                {gauge.Reads().At("data"), true},
		"beside it":               {gauge.Reads().At("data", "gauge", "rate"), false},
		"a param's from, alone":   {gauge.Reads().At("facts"), false},
		"a param's from, through": {gauge.ReadsThrough().At("facts", "cpu"), true},
		"what is used":            {gauge.ReadsThrough().At("facts", "os", "id"), true},
		"the one that is used":    {inner.ReadsThrough().At("host"), false},
		"the fleet":               {p.Reads("fleet"), true},
		"services":                {p.Reads("facts", "services"), false},
		"one of several":          {inner.Reads().AtAny([][]string{{"data"}, {"facts", "os"}}), true},
	} {
		if c.got != c.want {
			t.Errorf("%s: %v", name, c.got)
		}
	}
}
