package resolve_test

import (
	"fmt"
	"testing/fstest"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/host/kinds"
)

// A project is loaded once, and gives the plan of any host as a function of its
// facts.
func Example() {
	files := fstest.MapFS{
		"jadekettle.toml": {Data: []byte("project = \"saltmarsh\"\n")},
		"hosts.toml": {Data: []byte(
			"[host.gauge-01]\n[group.gauge]\nmembers = [\"*\"]\nmanifests = [\"gauge\"]\n")},
		"manifests/gauge.toml": {Data: []byte(`[service.tide-logger]
running = true
[file."/etc/motd"]
if = "facts.memory.total > bytes('1GB')"
content = "${host.name}\n"
[package.tide-logger]
`)},
	}
	p, err := compile.Load(files, kinds.Schemas(), compile.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, memory := range []int64{512 << 20, 8 << 30} {
		plan, err := resolve.Plan(p, p.Inventory.Hosts[0],
			resolve.Known{Facts: &facts.Facts{Memory: facts.Memory{Total: memory}}})
		if err != nil {
			fmt.Println(err)
			continue
		}
		for _, t := range plan.Tasks {
			fmt.Println(t.ID, t.Ref, t.Needs)
		}
		for _, o := range plan.Skipped {
			fmt.Println("-", o.Ref, o.Reason)
		}
	}
	// Output:
	// 0 package tide-logger []
	// 1 service tide-logger [0]
	// - file /etc/motd its condition is false: facts.memory.total > bytes('1GB')
	// 0 package tide-logger []
	// 1 service tide-logger [0]
	// 2 file /etc/motd []
}
