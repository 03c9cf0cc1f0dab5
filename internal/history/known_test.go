package history

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/facts"
)

func TestKnown(t *testing.T) {
	dir := t.TempDir()
	k := OpenKnown(dir, "production")
	if _, ok := k.Load("gauge-01"); ok || len(k.Hosts()) > 0 {
		t.Error("something is known of a host that was never read")
	}
	read := time.Unix(1_800_000_000, 0).UTC()
	f := &facts.Facts{Hostname: "gauge-01", Services: map[string]facts.Service{"cron": {Running: true}}}
	if err := k.Keep("gauge-01", f, nil, false, read); err != nil {
		t.Fatal(err)
	}
	s, ok := k.Load("gauge-01")
	if !ok || s.Facts.Hostname != "gauge-01" || !s.Read.Equal(read) || s.Groups != nil || !s.Ran.IsZero() {
		t.Errorf("kept as %+v", s)
	}
	later := read.Add(time.Hour)
	if err := k.Keep("gauge-01", &facts.Facts{Hostname: "gauge-1"}, []string{"all"}, true, later); err != nil {
		t.Fatal(err)
	}
	s, _ = k.Load("gauge-01")
	if s.Facts.Hostname != "gauge-1" || !s.Facts.Services["cron"].Running || !slices.Equal(s.Groups, []string{"all"}) ||
		!s.Ran.Equal(later) {
		t.Errorf("after a run it is kept as %+v", s)
	}
	if err := k.Keep("gauge-01", f, nil, false, later); err != nil {
		t.Fatal(err)
	}
	if s, _ = k.Load("gauge-01"); !slices.Equal(s.Groups, []string{"all"}) {
		t.Error("reading facts forgets the groups of the last run")
	}
	if _, ok := OpenKnown(dir, "test").Load("gauge-01"); ok {
		t.Error("another environment knows it")
	}
	if text, _ := os.ReadFile(filepath.Join(dir, StateDir, ".gitignore")); string(text) != "*\n" {
		t.Errorf("the folder is not kept out of version control: %q", text)
	}
	if err := os.WriteFile(k.file("gauge-02"), []byte("no CBOR"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, ok := k.Load("gauge-02"); ok {
		t.Error("what cannot be read is taken for facts")
	}
	if err := k.Keep("gauge-02", &facts.Facts{Hostname: "bad\x1b"}, nil, false, read); err != nil {
		t.Fatal(err)
	}
	if _, ok := k.Load("gauge-02"); ok {
		t.Error("facts that do not hold to their bounds are taken")
	}
	if got := strings.Join(k.Hosts(), " "); got != "gauge-01 gauge-02" {
		t.Errorf("known are %s", got)
	}
	for range 2 { // what is not there is forgotten already
		if err := k.Forget("gauge-02"); err != nil || len(k.Hosts()) != 1 {
			t.Errorf("a host is not forgotten (%v)", err)
		}
	}
}

func TestReplace(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	for _, text := range []string{"one", "two"} {
		if err := Replace(name, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(name)
	text, _ := os.ReadFile(name)
	entries, _ := os.ReadDir(filepath.Dir(name))
	if err != nil || info.Mode().Perm() != 0o640 || string(text) != "two" || len(entries) != 1 {
		t.Errorf("it is %q, %v, with %d files beside (%v)", text, info.Mode(), len(entries)-1, err)
	}
	if err := Replace(filepath.Join(name, "y"), nil, 0o640); err == nil {
		t.Error("a file below a file is written")
	}
}

func TestJUnit(t *testing.T) {
	var b strings.Builder
	err := WriteJUnit(&b, []Suite{{Name: "a.toml", Cases: []SuiteCase{
		{Class: "gauge-01", Name: "the <first> run", Took: 1500 * time.Millisecond, File: "a.toml", Line: 3},
		{Class: "gauge-01", Name: "it is so", Failure: "it is not:\nbut \"else\" & more"},
	}}})
	const want = `<?xml version="1.0" encoding="UTF-8"?>
<testsuites tests="2" failures="1">
  <testsuite name="a.toml" tests="2" failures="1" time="1.500">
    <testcase classname="gauge-01" name="the &lt;first&gt; run" time="1.500" file="a.toml" line="3"></testcase>
    <testcase classname="gauge-01" name="it is so" time="0.000">
      <failure message="it is not:">it is not:&#xA;but &#34;else&#34; &amp; more</failure>
    </testcase>
  </testsuite>
</testsuites>
`
	if err != nil || b.String() != want {
		t.Errorf("it is (%v)\n%s", err, b.String())
	}
}
