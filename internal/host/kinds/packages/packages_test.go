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
