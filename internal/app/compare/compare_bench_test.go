package compare

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/host/kinds"
)

// BenchmarkCompare compares two revisions of a project of 10,000 hosts with 100
// declarations each, of which one differs everywhere, and says how that is to resolving
// them once.
func BenchmarkCompare(b *testing.B) {
	load := func(version string) *side {
		var m strings.Builder
		for i := range 70 {
			if i < 30 {
				fmt.Fprintf(&m, "[file.\"/etc/tide/%d\"]\ncontent = \"berth ${host.berth} of %d\\n\"\nmode = "+
					"\"0644\"\n", i, i)
				fmt.Fprintf(&m, "[service.tide-%d]\nrunning = true\nat_boot = true\nrestart_on = [\"file "+
					"/etc/tide/%d\"]\n", i, i)
				continue
			}
			fmt.Fprintf(&m, "[package.tide-%d]\nversion = \"%s.%d\"\n", i, version, i/40)
		}
		p, err := compile.Load(fstest.MapFS{
			"jadekettle.toml": {Data: []byte("project = \"saltmarsh\"\n")},
			"hosts.toml": {Data: []byte("[host.\"gauge-[00001..10000]\"]\nberth = \"${n}\"\n[group.all]\nmembers = " +
				"[\"*\"]\nmanifests = [\"all\"]\n")},
			"manifests/all.toml": {Data: []byte(m.String())},
		}, kinds.Schemas(), compile.Options{})
		if err != nil {
			b.Fatal(err)
		}
		return &side{Project: p, rev: version}
	}
	from, to := load("1"), load("2")
	for b.Loop() {
		c := &Comparison{from: from, to: to, groups: map[string]*Group{},
			facts: func(string) *facts.Facts { return nil }}
		if err := c.run(b.Context()); err != nil || len(c.groups) != 40 {
			b.Fatalf("%d differences, %v", len(c.groups), err)
		}
	}
}
