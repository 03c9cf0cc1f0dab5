package history

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

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
