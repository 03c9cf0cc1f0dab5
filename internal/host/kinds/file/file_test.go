package file

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// TestCompare reports what differs between a file that is declared and one that is, without a host.
func TestCompare(t *testing.T) {
	old, long := strings.Repeat("a", 64), strings.Repeat("b", 64)
	content := func(hash string, size int64) *plan.Content { return &plan.Content{SHA256: hash, Size: size} }
	current := state{there: true, size: 4, hash: old, own: kind.Ownership{Owner: "root", Group: "root", Mode: "0644",
		Info: machine.Info{Links: 1}}}
	shown := current
	shown.shown, shown.old, shown.new = true, "ebb\n", "flood\n"
	closed := shown
	closed.closed = true
	for name, c := range map[string]struct {
		task  plan.Task
		state state
		want  string
	}{
		"nothing is declared and nothing exists": {plan.Task{Absent: true}, state{}, ""},
		"what is to go":                          {plan.Task{Absent: true}, current, "existence: present -> absent"},
		"the same": {plan.Task{Content: content(old, 4), Attrs: value.Attrs{"mode": "0644", "owner": "root"}}, current,
			""},
		"another mode and owner": {plan.Task{Content: content(old, 4), Attrs: value.Attrs{"mode": "0600",
			"owner": "maren"}}, current, "owner: root -> maren; mode: 0644 -> 0600"},
		"another content, not shown": {plan.Task{Content: content(long, 9)}, current,
			"content: 4 bytes, sha256 aaaaaaaaaaaa -> 9 bytes, sha256 bbbbbbbbbbbb"},
		"another content, shown": {plan.Task{Content: content(long, 6)}, shown, "content: 4 bytes -> 6 bytes (-ebb " +
			"+flood)"},
		"another, of which not everybody may see the old": {plan.Task{Content: content(long, 6)}, closed,
			"content: 4 bytes, sha256 aaaaaaaaaaaa -> 6 bytes, sha256 bbbbbbbbbbbb, closed"},
		"another secret": {plan.Task{Content: &plan.Content{SHA256: long, Size: 6, Secret: true}}, current,
			"content: another one -> (secret)"},
		"no content is declared": {plan.Task{Attrs: value.Attrs{"mode": "0644"}}, current, ""},
		"new": {plan.Task{Content: content(long, 6), Attrs: value.Attrs{"owner": "root", "mode": "0640"}},
			state{own: kind.Ownership{}},
			"existence: absent -> present; owner:  -> root; mode:  -> 0640; content:  -> 6 " +
				"bytes, sha256 bbbbbbbbbbbb"},
	} {
		c.task.Ref = value.Ref{Kind: "file", Name: "/etc/tide"}
		if got := reported(files{}.Compare(c.task, c.state)); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// reported writes changes in a line, with the lines that differ.
func reported(changes []plan.Change) string {
	var out []string
	for _, c := range changes {
		text := fmt.Sprintf("%s: %s -> %s", c.What, c.Was, c.Becomes)
		var lines []string
		for line := range strings.Lines(c.Diff) {
			if strings.ContainsAny(line[:1], "+-") && !strings.HasPrefix(line, "---") &&
				!strings.HasPrefix(line, "+++") {
				lines = append(lines, strings.TrimSpace(line))
			}
		}
		if lines != nil {
			text += " (" + strings.Join(lines, " ") + ")"
		}
		if c.Closed {
			text += ", closed"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}
