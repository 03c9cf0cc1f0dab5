package dir

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// TestCompare reports what differs between a folder that is declared and one that is, without a host.
func TestCompare(t *testing.T) {
	own := kind.Ownership{Owner: "root", Group: "adm", Mode: "0750"}
	leaf := func(path string, there, same bool) entry {
		return entry{path: path, there: there, same: same, mode: 0o644, want: plan.Leaf{Size: 6},
			info: machine.Info{Size: 4, Links: 1}, own: kind.Ownership{Mode: "0644", Info: machine.Info{Links: 1}}}
	}
	folder := entry{path: "pier", isDir: true}
	foreign := entry{path: "wreck", foreign: true, there: true}
	edited := leaf("log", true, false)
	edited.shown, edited.old, edited.new = true, "ebb\n", "flood\n"
	for name, c := range map[string]struct {
		task  plan.Task
		state state
		want  string
	}{
		"the same": {plan.Task{Attrs: value.Attrs{"owner": "root", "mode": "0750"}}, state{there: true, own: own}, ""},
		"another group": {plan.Task{Attrs: value.Attrs{"group": "tide"}}, state{there: true, own: own},
			"group: adm -> tide"},
		"new": {plan.Task{Attrs: value.Attrs{"mode": "0700"}}, state{},
			"existence: absent -> present; mode:  -> 0700"},
		"nothing to go": {plan.Task{Absent: true}, state{}, ""},
		"to go":         {plan.Task{Absent: true}, state{there: true}, "existence: present -> absent"},
		"to go with what is in it": {plan.Task{Absent: true},
			state{there: true, holds: holding{files: 2, folders: 1}},
			"existence: present -> absent; contents: 2 files and 1 directory -> absent"},
		"to go with much": {plan.Task{Absent: true},
			state{there: true, holds: holding{files: 1, more: true}},
			"existence: present -> absent; contents: more than 1 file and 0 directories -> absent"},
		"a copy that leaves, beside what others put there": {plan.Task{Absent: true, Leaves: true},
			state{there: true, stays: []string{"notes"}, tree: []entry{foreign}}, "wreck: present -> absent"},
		"a copy": {plan.Task{}, state{there: true, own: own, tree: []entry{leaf("a", true, true),
			leaf("b", false, false), folder, foreign, edited}},
			"b: absent -> 6 bytes; pier: absent -> a directory; wreck: present -> absent; log: 4 bytes -> 6 bytes, " +
				"with lines"},
		"a new copy": {plan.Task{}, state{tree: []entry{leaf("b", false, false)}},
			"existence: absent -> present; b: absent -> 6 bytes"},
	} {
		var got []string
		for _, d := range (dirs{}).Compare(c.task, c.state) {
			text := fmt.Sprintf("%s: %s -> %s", d.What, d.Was, d.Becomes)
			if d.Diff != "" {
				text += ", with lines"
			}
			got = append(got, text)
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, text, c.want)
		}
	}
}
