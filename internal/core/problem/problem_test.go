package problem

import (
	"errors"
	"fmt"
	"io/fs"
	"testing"
	"time"

	"jadekettle/internal/core/value"
)

func TestNearest(t *testing.T) {
	for name, want := range map[string]string{"ownr": "owner", "modee": "mode", "gruop": "group", "x": "", "zzzzzz": "",
		"owner": "owner", "templaet": "template"} {
		if got := Nearest(name, []string{"owner", "mode", "group", "template"}); got != want {
			t.Errorf("nearest to %q is %q, want %q", name, got, want)
		}
	}
}

func TestProblemsAreReportedOnce(t *testing.T) {
	var ps Problems
	for _, h := range []string{"gauge-01", "gauge-02", "gauge-03"} {
		var own Problems
		own.At(value.Place{File: "b.toml", Line: 2, Col: 1}, "wrong", "fix it")
		own.On(h)
		ps.AddErr(value.Place{}, own.Err())
	}
	ps.At(value.Place{File: "a.toml", Line: 9, Col: 9}, "first", "")
	if got, want := ps.Error(), "a.toml:9:9: first\nb.toml:2:1: wrong (for gauge-01 and 2 more); fix it"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestRemediesAreKept wraps a problem as callers do, with semicolons where they
// have always been mistaken for the beginning of the remedy.
func TestRemediesAreKept(t *testing.T) {
	mode := Errorf("%q is not a mode", "0; 1").Remedy("write four octal digits")
	for _, c := range []struct {
		err      error
		what, do string
	}{
		{mode, `"0; 1" is not a mode`, "write four octal digits"},
		{fmt.Errorf("mode: %w", mode), `mode: "0; 1" is not a mode`, "write four octal digits"},
		{Errorf("manifest a; b: %w", mode), `manifest a; b: "0; 1" is not a mode`, "write four octal digits"},
		{errors.New("one; two"), "one; two", ""},
	} {
		if p := From(c.err); p.What != c.what || p.Do != c.do {
			t.Errorf("%v: %q, %q", c.err, p.What, p.Do)
		}
	}
	if err := Errorf("read it: %w", fs.ErrNotExist).Remedy("make it"); !errors.Is(err, fs.ErrNotExist) {
		t.Error("what was wrapped is lost")
	}
}

// BenchmarkJoining brings together what 8,000 hosts and what 1,000 hosts have,
// a problem in common and one of their own each. x-of-1000 is 8 when the time
// for a host stays the same.
func BenchmarkJoining(b *testing.B) {
	join := func(hosts int) time.Duration {
		begun := time.Now()
		var all Problems
		for i := range hosts {
			var own Problems
			own.At(value.Place{File: "gauge.toml", Line: 2, Col: 1}, "wrong on all", "fix it")
			own.At(value.Place{File: fmt.Sprintf("host/gauge-%d.toml", i), Line: 1, Col: 1}, "wrong on one", "")
			own.On(fmt.Sprintf("gauge-%d", i))
			all.AddErr(value.Place{}, own.Err())
		}
		if n := len(all.List()); n != hosts+1 {
			b.Fatalf("%d problems", n)
		}
		return time.Since(begun)
	}
	var few, many time.Duration
	for b.Loop() {
		few += join(1000)
		many += join(8000)
	}
	b.ReportMetric(float64(many)/float64(few), "x-of-1000")
}
