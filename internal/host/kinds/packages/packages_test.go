package packages

import (
	"fmt"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/packages/backend"
)

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		declared string // version, or "absent"
		stands   state
		want     string
	}{
		{"", state{}, "absent -> installed"},
		{"", state{State: backend.State{Version: "1"}}, ""},
		{"", state{State: backend.State{Half: "unpacked"}}, "unpacked -> installed"},
		{"1", state{State: backend.State{Version: "1"}}, ""},
		{"1", state{State: backend.State{Version: "2"}}, "2 -> 1"},
		{"1", state{}, "absent -> 1"},
		{"newest", state{State: backend.State{Version: "1"}, newest: "2"}, "1 -> 2"},
		{"newest", state{State: backend.State{Version: "2"}, newest: "2"}, ""},
		{"newest", state{newest: "2"}, "absent -> 2"},
		{"newest", state{}, "absent -> newest"}, // in a preview, before any list was read
		{"absent", state{State: backend.State{Version: "1"}}, "1 -> absent"},
		{"absent", state{State: backend.State{Half: "half-installed"}}, "half-installed -> absent"},
		{"absent", state{}, ""},
		{"", state{doubt: true}, "absent -> installed, if the lists know it once they are refreshed"},
	} {
		task := plan.Task{Attrs: value.Attrs{"version": c.declared}}
		if c.declared == "absent" {
			task = plan.Task{Absent: true}
		}
		got := ""
		for _, ch := range (packages{}).Compare(task, c.stands) {
			got += fmt.Sprintf("%s -> %s", ch.Was, ch.Becomes)
		}
		if got != c.want {
			t.Errorf("declared %q, with %+v: %q, want %q", c.declared, c.stands, got, c.want)
		}
	}
}

func TestPatternsOfVersions(t *testing.T) {
	offer := backend.Offer{Newest: "2.1-1", Versions: []string{"2.1-1", "2.0.4-1", "2.0.3-2", "1.9"}}
	for want, picked := range map[string]string{"": "", "2.0.3-2": "", "newest": "2.1-1", "2.0.*": "2.0.4-1",
		"*-2":  "2.0.3-2",
		"2*4*": "2.0.4-1", "3.*": "", "*": "2.1-1"} {
		task := plan.Task{Attrs: value.Attrs{"version": want}}
		if got := pick(task, offer); got != picked {
			t.Errorf("%q picks %q, want %q", want, got, picked)
		}
	}
	for _, c := range []struct {
		want, version string
		fits          bool
	}{{"1.*", "1.2", true}, {"1.*", "11.2", false}, {"1.*.3", "1.3", false}, {"*", "x", true}, {"1.2", "1.2", true},
		{"1.2*2", "1.2", false}} {
		if got := matches(c.want, c.version); got != c.fits {
			t.Errorf("%s takes %s: %v", c.want, c.version, got)
		}
	}
}
