//go:build lab

package lab

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

const slowTide = `
[file."/etc/tide-first"]
content = "ebb\n"
[command."wait for the tide"]
script = "echo the tide is coming; sleep 6; echo the tide is here"
always = true
[file."/etc/tide-last"]
content = "flood\n"
after = ["command wait for the tide"]
`

// TestRunsOfRealHostsAreKept follows a run from another process, kills the controller of one,
// and finds its results filed with it once they were collected.
func TestRunsOfRealHostsAreKept(t *testing.T) {
	l := up(t, "gauge-01", "archive-01")
	l.write("manifests/all.toml", slowTide)
	begin := func() (kill func(), wait func() string) {
		c := l.in(l.program, "--project", l.project, "apply", "--all", "--yes")
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		return func() { c.Process.Kill(); c.Wait() }, func() string { c.Wait(); return out.String() }
	}
	until := func(what string, args ...string) string {
		t.Helper()
		for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(200 * time.Millisecond) {
			_, out := l.jk(args...)
			if strings.Contains(out, what) {
				return out
			}
			if time.Now().After(deadline) {
				t.Fatalf("%v never says %q:\n%s", args, what, out)
			}
		}
	}
	_, wait := begin()
	until("running", "runs")
	code, followed := l.jk("runs", "follow", "last")
	reported := wait()
	_, report, _ := strings.Cut(reported, "\n\n2 hosts: ")
	if code != 0 || report == "" || !strings.Contains(followed, "2 hosts: "+strings.TrimSuffix(report, "\n")) {
		t.Errorf("followed with %d:\n%s\nand there it was reported:\n%s", code, followed, reported)
	}
	if !strings.Contains(followed, "command wait for the tide  running for ") ||
		!strings.Contains(followed, "the tide is coming") {
		t.Errorf("it does not show who is at work at what:\n%s", followed)
	}

	l.on("gauge-01", "rm /etc/tide-first /etc/tide-last")
	kill, _ := begin()
	until(`"line": "the tide is coming"`, "runs", "show", "last", "--output", "json") // it is at work
	kill()
	if _, out := l.jk("runs", "show", "last"); !strings.Contains(out, ", interrupted") ||
		!strings.Contains(out, "/etc/tide-first") {
		t.Errorf("a run whose controller was killed is kept as\n%s", out)
	}
	time.Sleep(8 * time.Second) // the host finishes the task in hand
	l.apply(0)
	if _, out := l.jk("runs", "show", "-2", "gauge-01", "-v"); !strings.Contains(out, "wait for the tide") ||
		!strings.Contains(out, "interrupted") {
		t.Errorf("what had not arrived is not filed with it:\n%s", out)
	}
	if _, out := l.jk("runs", "history", "gauge-01", "file", "/etc/tide-last"); strings.Count(out, "changed") < 2 {
		t.Errorf("the life of a file:\n%s", out)
	}
	if code, out := l.jk("runs", "check"); code != 0 || !strings.Contains(out, "No problems found.") {
		t.Errorf("check ends with %d\n%s", code, out)
	}
	if code, out := l.jk("status"); code != 0 || !strings.Contains(out, "2 hosts: 2 as declared") {
		t.Errorf("status: %d\n%s", code, out)
	}
}
