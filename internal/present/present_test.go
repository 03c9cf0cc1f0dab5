package present_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
	csvform "jadekettle/internal/present/csv"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/junit"
	"jadekettle/internal/present/markdown"
	"jadekettle/internal/present/openmetrics"
)

func TestJUnit(t *testing.T) {
	var b strings.Builder
	err := junit.Write(&b, []junit.Suite{{Name: "a.toml", Cases: []junit.Case{
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

// TestHostileTexts has every text of a run be one that would break the form that it is
// written in.
func TestHostileTexts(t *testing.T) {
	hostile := []string{"=1+1", "@SUM(A1)", "a\r\n+2", "<script>x</script>", "]]>&\x00\x1b[31m", "```\n# no\n| a |",
		"\"} 1\n# EOF\n", "\xff\xfe", "[x](http://example.org)", `back\slash`,
		"\ufeff\u200b\u009b31m\u202e\U000E0041\uF8E1\u2028"}
	k := &record.Run{Head: record.Head{Number: 1, Mode: "apply"}}
	var current []history.HostStatus
	for _, text := range hostile {
		k.Who, k.Machine, k.Revision, k.Command = text, text, text, []string{text}
		k.Hosts = append(k.Hosts, &record.Host{Name: text, State: record.Reached, Outcome: record.OutFailed,
			Counts: record.Counts{Failed: 1}, Message: text, Do: text,
			Tasks: []record.Task{{Kind: "file", Name: text, Status: plan.Failed, Message: text, Output: text,
				Manifest: text, Labels: []string{text}}}})
		current = append(current, history.HostStatus{Host: text, Condition: history.Failing, Revision: text})
	}
	var b bytes.Buffer
	if err := csvform.Write(&b, k); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != len(hostile)+1 {
		t.Errorf("as CSV there are %d rows (%v)", len(rows), err)
	}
	for _, cell := range slices.Concat(rows...) {
		if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
			t.Errorf("a cell of CSV is a formula: %q", cell)
		}
	}
	b.Reset()
	if err := junit.Write(&b, junit.Suites(k)); err != nil {
		t.Fatal(err)
	}
	if err := xml.Unmarshal(b.Bytes(), &struct{}{}); err != nil || !utf8.Valid(b.Bytes()) {
		t.Errorf("as JUnit it is not XML: %v\n%s", err, b.Bytes())
	}
	unseen := func(r rune) bool {
		return r != '\n' && (unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Co))
	}
	if bytes.ContainsFunc(b.Bytes(), unseen) {
		t.Error("JUnit holds what nobody sees")
	}
	b.Reset()
	var read []string
	if err := document.Write(&b, hostile); err != nil || json.Unmarshal(b.Bytes(), &read) != nil ||
		bytes.ContainsFunc(b.Bytes(), unseen) {
		t.Errorf("as JSON it is %s (%v)", b.Bytes(), err)
	}
	if last := len(hostile) - 1; len(read) != last+1 || read[last] != hostile[last] {
		t.Errorf("JSON reads %q", read)
	}
	b.Reset()
	if err := markdown.Write(&b, k); err != nil {
		t.Fatal(err)
	}
	fence := ""
	for _, line := range strings.Split(b.String(), "\n") {
		if marks := strings.Repeat("`", len(line)-len(strings.TrimLeft(line, "`"))); len(marks) >= 3 &&
			(fence == "" || marks == fence) {
			fence = map[bool]string{true: marks}[fence == ""]
			continue
		}
		plain := regexp.MustCompile("`+[^`]*`+").ReplaceAllString(regexp.MustCompile(`\\.`).
			ReplaceAllString(line, ""), "")
		if fence != "" {
			continue
		}
		if strings.Contains(plain, "<") || strings.Contains(plain, "[") || strings.HasPrefix(line, "|") &&
			strings.Count(plain, "|") != 8 {
			t.Errorf("a line of Markdown is broken: %q", line)
		}
	}
	if fence != "" {
		t.Error("a block of Markdown does not end")
	}
	metricsAreWhole(t, hostile, current)
}

// metricsAreWhole holds OpenMetrics of hostile hosts to its lines.
func metricsAreWhole(t *testing.T, hostile []string, current []history.HostStatus) {
	t.Helper()
	sample := regexp.MustCompile(
		`^(# (HELP|TYPE|UNIT|EOF).*|[a-z_]+({[a-z_]+="([^"\\\n]|\\[\\"n])*"(,[a-z_]+="([^"\\\n]|\\[\\"n])*")*})? ` +
			`[0-9.]+)$`)
	metrics := string(openmetrics.Status(current, hostile[6], time.Now()))
	for _, line := range strings.Split(strings.TrimSuffix(metrics, "\n"), "\n") {
		if !sample.MatchString(line) {
			t.Errorf("a line of OpenMetrics is broken: %q", line)
		}
	}
	if !utf8.ValidString(metrics) || strings.Count(metrics, "\n# EOF") != 1 {
		t.Error("as OpenMetrics it is not UTF-8, or ends twice")
	}
}
