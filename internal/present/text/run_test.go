package text

import (
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

func ref(s string) value.Ref {
	r, ok := value.ParseRef(s)
	if !ok {
		panic(s)
	}
	return r
}

func task(name string, s plan.Status, more ...string) record.Task {
	r := ref(name)
	t := record.NewTask(plan.Result{Ref: r, Status: s, Took: 100 * time.Millisecond})
	t.DeclaredAt(value.Place{File: "manifests/base.toml", Line: 2, Col: 2})
	if len(more) > 0 {
		t.Message = more[0]
	}
	if s == plan.Blocked {
		by := ref(more[0])
		t.Message, t.BlockedBy = "", &record.Ref{Kind: by.Kind, Name: by.Name}
	}
	if len(more) > 1 {
		t.Output = more[1]
	}
	return t
}

// outcomes are hosts that fared in every way there is.
func outcomes() []*record.Host {
	var hosts []*record.Host
	for _, name := range []string{"gauge-01", "gauge-02", "gauge-03", "gauge-04", "gauge-05"} {
		hosts = append(hosts, &record.Host{Name: name, State: record.Reached,
			Seconds: float64(12+len(hosts)) / 10, Tasks: []record.Task{task("dir /srv", plan.Unchanged),
				task("file /a", plan.Unchanged)}})
	}
	hosts[4].Tasks = append(hosts[4].Tasks, task("file /b", plan.Skipped))
	for _, name := range []string{"archive-01", "archive-02"} {
		hosts = append(hosts, &record.Host{Name: name, State: record.Reached, Seconds: 15, Tasks: []record.Task{
			task("dir /srv", plan.Changed), task("package foghorn-relay", plan.Failed,
				"apt-get failed (exit status 100): \x1b[31mno horn", "one\ntwo\x07\n"),
			task("service foghorn-relay", plan.Blocked, "package foghorn-relay"),
			task("dir /after", plan.Blocked, "service foghorn-relay"),
		}})
	}
	hosts = append(hosts,
		&record.Host{Name: "chart-01", State: record.Reached, Seconds: 180,
			Tasks:      []record.Task{task("dir /srv", plan.Changed)},
			Undeclared: []record.Undeclared{{Kind: "file", Name: "/old"}},
			Collected: []record.Collected{{Run: "0198-x", Tasks: []record.Task{{Kind: "dir", Name: "/srv",
				Status: plan.Changed}, {Kind: "file", Name: "/c", Status: plan.Failed,
				Message: "no space left"}}}}},
		&record.Host{Name: "chart-02", State: record.Lost, Planned: 5,
			Message: "the connection was lost; 3 of 5 tasks have no result yet", Do: "the next run collects it"},
		&record.Host{Name: "chart-03", State: record.Busy, Message: "an apply by maren@desk has locked it since " +
			"10:00:00",
			Do: "wait until it has finished"},
		&record.Host{Name: "signal-01", State: record.NotReached, Message: "192.0.2.51:22 does not respond"},
		&record.Host{Name: "signal-02", State: record.Disabled, Message: "in repair"},
	)
	for _, h := range hosts {
		h.Settle()
	}
	return hosts
}

func TestTheEnding(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(dir+"/manifests", 0o755)
	os.WriteFile(dir+"/manifests/base.toml", []byte("# the base\n[package.foghorn-relay]\n"), 0o644)
	var out strings.Builder
	v := &Run{W: New(&out, false), Sources: &Sources{Dir: dir}}
	v.Hosts(outcomes())
	want := `12 hosts: 1 changed, 5 unchanged, 2 failed, 1 busy, 1 not reached, 1 lost, 1 disabled

lost         chart-02        the connection was lost; 3 of 5 tasks have no result yet
not reached  signal-01       192.0.2.51:22 does not respond
busy         chart-03        an apply by maren@desk has locked it since 10:00:00
failed       archive-01      1 failed, 2 blocked, 1 changed                            15s
             archive-02      1 failed, 2 blocked, 1 changed                            15s
changed      chart-01        1 changed                                                 3m0s
unchanged    gauge-[01..04]  2 unchanged                                               1.2s to 1.5s
             gauge-05        2 unchanged, 1 skipped                                    1.6s
disabled     signal-02       in repair

archive-01 archive-02  package foghorn-relay failed
  manifests/base.toml:2:2
    2 | [package.foghorn-relay]
      |  ^
  apt-get failed (exit status 100): \u{1b}[31mno horn
  output:
    | one
    | two\u{7}
  blocks: service foghorn-relay, dir /after

chart-02  lost
  the next run collects it

chart-03  busy
  wait until it has finished

chart-01  results collected from the interrupted run 0198-x
  dir /srv  changed
  file /c  failed
    no space left

chart-01  no longer declared: file /old
`
	if got := out.String(); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestWhatIsAlikeIsPrintedOnce previews two hosts, of which three hundred files
// come from one declaration.
func TestWhatIsAlikeIsPrintedOnce(t *testing.T) {
	var out strings.Builder
	v := &Run{W: New(&out, false), Preview: true, Sources: &Sources{}}
	long := "--- a\n+++ b\n@@ -0,0 +1,100 @@\n" + strings.Repeat("+x\n", 100)
	list := []*record.Host{{Name: "gauge-01", State: record.Reached}, {Name: "gauge-02", State: record.Reached}}
	for _, h := range list {
		for i := range 300 {
			one := task(fmt.Sprintf("file /srv/%d", i), plan.Changed)
			one.Changes = []plan.Change{{What: "content", Was: fmt.Sprint(i, " bytes"), Becomes: "100 bytes",
				Diff: long}}
			h.Tasks = append(h.Tasks, one)
			v.Event(record.Event{Host: h.Name, Task: &one})
		}
	}
	for _, h := range list {
		h.Settle()
	}
	v.Hosts(list)
	got := out.String()
	for _, want := range []string{"gauge-01 gauge-02  file /srv/0  would change\n", "and 63 lines more (show all " +
		"with -v)",
		"likewise 297 more from manifests/base.toml:2:2: /srv/3, /srv/4, /srv/5 and 294 more"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q", want)
		}
	}
	if n := strings.Count(got, "\n"); n > 150 {
		t.Errorf("it takes %d lines", n)
	}
}

func TestColourOnlyWhereItIsWanted(t *testing.T) {
	for colour, want := range map[bool]string{true: "\x1b[31mfailed\x1b[0m", false: "failed"} {
		var out strings.Builder
		io.WriteString(New(&out, colour), Paint(Bad, "failed"))
		if out.String() != want {
			t.Errorf("it is %q", out.String())
		}
	}
}

// TestHostileText holds both ways of writing, and what goes past them, to what
// a terminal may see.
func TestHostileText(t *testing.T) {
	text := "a\x1b[2Jb\u009b31mc\u202ed\u200be\r\nf\tg\xff" + Paint(Bad, "h")
	for name, s := range map[string]string{"line": Line(text), "block": Block(text)} {
		if strings.ContainsAny(s, "\x1b\u009b\u202e\u200b\r") || strings.ContainsRune(s, markEnd) || name == "line" &&
			strings.ContainsAny(s, "\n\t") {
			t.Errorf("the %s is %q", name, s)
		}
	}
	var out strings.Builder
	w := New(&out, true)
	for _, b := range []byte(text) { // a rune in two parts is one
		w.Write([]byte{b})
	}
	if got := strings.ReplaceAll(strings.ReplaceAll(out.String(), "\x1b[31m", ""), "\x1b[0m",
		""); strings.ContainsAny(got, "\x1b\u009b\u202e") {
		t.Errorf("what is written raw is %q", got)
	}
}

// TestDashesInADiff: a line that begins with two dashes or pluses counts like any other.
func TestDashesInADiff(t *testing.T) {
	for diff, want := range map[string]string{
		"--- a (current)\n+++ a (declared)\n@@ -1,3 +1,2 @@\n--- one\n-two\n kept\n+++ three\n": "-2 +1 lines",
		"--- a (current)\n+++ a (declared)\n@@ -1 +0 @@\n--- one\n":                             "-1 line",
	} {
		if got := lines(diff, false); got != want {
			t.Errorf("%q has %s, want %s", diff, got, want)
		}
	}
}

func TestWrap(t *testing.T) {
	if got := Wrap("one two three\nfour", "  ", 10); got != "  one two\n  three\n  four\n" {
		t.Errorf("it is %q", got)
	}
}

// TestHead breaks the first line of a problem at its blanks, and not for programs.
func TestHead(t *testing.T) {
	at := value.Place{File: "manifests/gauge.toml", Line: 33, Col: 15}
	what := "restart_on of service tide-logger names a file that is not declared there"
	for width, want := range map[int]string{
		0:   "manifests/gauge.toml:33:15: " + what + "\n",
		120: "manifests/gauge.toml:33:15: " + what + "\n",
		70: "manifests/gauge.toml:33:15: restart_on of service tide-logger\n        names a file that is not " +
			"declared " +
			"there\n",
		30: "manifests/gauge.toml:33:15:\n        restart_on of service\n        tide-logger names a\n" +
			"        file that is not\n        declared there\n",
	} {
		var out strings.Builder
		io.WriteString(New(&out, false), Head(at, Bad, what, width))
		got := strings.ReplaceAll(out.String(), " \n", "\n")
		if got != want {
			t.Errorf("%d columns:\n%s\nwant\n%s", width, got, want)
		}
		for line := range strings.Lines(got) {
			if width > 0 && len(line) > width+1 {
				t.Errorf("%d columns do not hold %q", width, line)
			}
		}
	}
	if got := Head(value.Place{}, Plain, "x y", 0); got != "x y\n" {
		t.Errorf("with no place: %q", got)
	}
}

// TestDriftOfWhatWasNeverWritten: a time is shown only of what has one.
func TestDriftOfWhatWasNeverWritten(t *testing.T) {
	for since, want := range map[string]bool{"": false, "2026-10-26T08:53:20Z": true} {
		var out strings.Builder
		v := &Run{W: New(&out, false), Preview: true, Mode: record.ModeDrift, Sources: &Sources{}}
		one := task("file /etc/motd", plan.Changed)
		one.Drift, one.Since, one.By = plan.ByDeclaration, since, "maren"
		h := &record.Host{Name: "gauge-01", State: record.Reached, Tasks: []record.Task{one}}
		h.Settle()
		v.Event(record.Event{Host: h.Name, Task: &one})
		v.Hosts([]*record.Host{h})
		if got := out.String(); strings.Contains(got, "last applied") != want ||
			!strings.Contains(got, "declared now") {
			t.Errorf("written at %s: %s", since, got)
		}
	}
}
