//go:build lab

package lab

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// proof is how a kind is tried on a real host: made, again, broken by hand,
// repaired, taken away. Shell lines run on gauge-01 as root; a look names what
// each is to print.
type proof struct {
	before   string            // arranges the host; may be empty
	declare  string            // the manifest
	files    map[string]string // beside it; may be nil
	look     map[string]string
	spoil    string            // breaks it by hand
	repaired []string          // the tasks that a next apply changes then, as "kind name"
	away     string            // the manifest that takes it away
	gone     map[string]string // what is there then
}

// proofs are the kinds' own, by kind. A kind's file in this folder adds one.
var proofs = map[string]proof{}

// TestKindsOnRealHosts takes all proofs through their rounds together. LAB_KINDS
// names those that are meant, split at commas.
func TestKindsOnRealHosts(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	l := up(t)
	only := strings.FieldsFunc(os.Getenv("LAB_KINDS"), func(r rune) bool { return r == ',' })
	var names []string
	for name := range proofs {
		if len(only) == 0 || slices.Contains(only, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	if slices.Contains(names, "gauge_offset") {
		if code, out := l.jk("kinds", "new", "gauge_offset"); code != 0 {
			t.Fatalf("kinds new: %s", out)
		}
	}
	var list []string
	for _, name := range names {
		list = append(list, `"`+name+`"`)
		p := proofs[name]
		l.write(filepath.Join("manifests", name, "manifest.toml"), p.declare)
		for file, text := range p.files {
			l.write(filepath.Join("manifests", name, file), text)
		}
		if p.before != "" {
			l.on("gauge-01", p.before)
		}
	}
	l.write("groups.toml", "[group.first]\nmembers = [\"gauge-01\"]\nmanifests = ["+strings.Join(list, ", ")+"]\n")
	if code, out := l.jk("lint"); code != 0 {
		t.Fatalf("lint: %s", out)
	}
	if code, out := l.jk("preview", "gauge-01"); code != 0 {
		t.Fatalf("preview ended with %d:\n%s", code, out)
	}
	first := l.apply(0)
	if again := moved(l.apply(0)); len(again) > 0 {
		t.Errorf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	if t.Failed() {
		t.Logf("the first one changed:\n%s", strings.Join(first.changed(), "\n"))
	}
	l.shows(names, "after the apply", func(p proof) map[string]string { return p.look })
	var want []string
	for _, name := range names {
		if p := proofs[name]; p.spoil != "" {
			l.on("gauge-01", p.spoil)
			want = append(want, p.repaired...)
		}
	}
	repaired := moved(l.apply(0))
	for _, task := range want {
		if !strings.Contains(strings.Join(repaired, "\n"), "gauge-01 "+task+" changed") {
			t.Errorf("%s was not repaired", task)
		}
	}
	if len(repaired) != len(want) {
		t.Errorf("repaired was\n%s\nwant only\n%s", strings.Join(repaired, "\n"), strings.Join(want, "\n"))
	}
	l.shows(names, "once repaired", func(p proof) map[string]string { return p.look })
	for _, name := range names {
		l.write(filepath.Join("manifests", name, "manifest.toml"), proofs[name].away)
	}
	l.apply(0)
	if again := moved(l.apply(0)); len(again) > 0 {
		t.Errorf("taken away again, this changed:\n%s", strings.Join(again, "\n"))
	}
	l.shows(names, "once taken away", func(p proof) map[string]string { return p.gone })
}

// moved lists what a run changed, without what it skipped.
func moved(r report) []string {
	return slices.DeleteFunc(r.changed(), func(s string) bool { return strings.Contains(s, " skipped ") })
}

// shows holds what the host's own commands say against what each proof wants.
func (l *lab) shows(names []string, when string, of func(proof) map[string]string) {
	l.t.Helper()
	for _, name := range names {
		for line, want := range of(proofs[name]) {
			if got := l.on("gauge-01", "export LC_ALL=C; "+line+"; true"); got != strings.TrimSpace(want) {
				l.t.Errorf("%s: %s, %s\n got %q\nwant %q", name, when, line, got, want)
			}
		}
	}
}
