// Package junit writes what was tried, and how that went, as JUnit XML, which every CI service shows: a suite for each
// host of a run, or for each file of a rehearsal.
package junit

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/present/document"
)

// Suite is a set of cases that belong together, for a JUnit document.
type Suite struct {
	Name  string
	Cases []Case
}

// Case is one case; Failure is empty when it went well.
type Case struct {
	Class, Name string
	Failure     string
	File        string
	Line        int
	Took        time.Duration
}

// The elements of a JUnit document, as the common readers of it take them.
type (
	junit struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Time     string      `xml:"time,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		File    string        `xml:"file,attr,omitempty"`
		Line    int           `xml:"line,attr,omitempty"`
		Failure *junitFailure `xml:"failure"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// Write writes suites as JUnit XML.
func Write(w io.Writer, suites []Suite) error {
	doc := junit{}
	for _, s := range suites {
		js := junitSuite{Name: s.Name, Tests: len(s.Cases)}
		var total time.Duration
		for _, c := range s.Cases {
			jc := junitCase{Class: c.Class, Name: c.Name, Time: fmt.Sprintf("%.3f", c.Took.Seconds()),
				File: c.File, Line: c.Line}
			if c.Failure != "" {
				js.Failures++
				jc.Failure = &junitFailure{Message: document.FirstLine(c.Failure), Text: c.Failure}
			}
			total += c.Took
			js.Cases = append(js.Cases, jc)
		}
		js.Time = fmt.Sprintf("%.3f", total.Seconds())
		doc.Tests += js.Tests
		doc.Failures += js.Failures
		doc.Suites = append(doc.Suites, js)
	}
	var b bytes.Buffer
	e := xml.NewEncoder(&b)
	e.Indent("", "  ")
	if err := e.Encode(doc); err != nil {
		return err
	}
	// XML 1.0, 4.1
	text := document.EscapeUnseen(b.Bytes(), func(b *bytes.Buffer, r rune) { fmt.Fprintf(b, "&#x%x;", r) })
	_, err := fmt.Fprintf(w, "%s%s\n", xml.Header, text)
	return err
}

// Suites gives a run as suites of cases: one for each host, a case for each task.
func Suites(r *record.Run) []Suite {
	var out []Suite
	for _, h := range r.Hosts {
		s := Suite{Name: h.Name}
		if h.Unwell() {
			s.Cases = append(s.Cases, Case{Class: h.Name, Name: "the host itself",
				Failure: document.Lines(string(h.Outcome), h.Message, h.Do)})
		}
		if e := h.Executed; e != nil {
			c := Case{Class: h.Name, Name: "the command", Took: record.Length(h.Seconds)}
			if h.Outcome == record.OutFailed {
				c.Failure = document.Lines(fmt.Sprintf("exit status %d", e.Code), e.Wrong, e.Output)
			}
			s.Cases = append(s.Cases, c)
		}
		for _, t := range h.Tasks {
			if t.Status == plan.Skipped {
				continue
			}
			c := Case{Class: h.Name, Name: t.Kind + " " + t.Name, File: t.Manifest, Line: t.Line,
				Took: record.Length(t.Seconds)}
			switch {
			case t.Status == plan.Failed:
				c.Failure = document.Lines(t.Message, t.Output, t.Do)
			case t.Status == plan.Blocked && t.BlockedBy != nil:
				c.Failure = "blocked by " + t.BlockedBy.Kind + " " + t.BlockedBy.Name
			}
			s.Cases = append(s.Cases, c)
		}
		out = append(out, s)
	}
	return out
}

// Rehearsal gives the cases of a rehearsal as suites: one for each file.
func Rehearsal(cases []rehearse.Case) []Suite {
	var out []Suite
	for _, c := range cases {
		name, class := c.File, c.Host
		if name == "" {
			name, class = "conditions", c.Place.File
		}
		if len(out) == 0 || out[len(out)-1].Name != name {
			out = append(out, Suite{Name: name})
		}
		s := &out[len(out)-1]
		s.Cases = append(s.Cases, Case{Class: class, Name: c.Name, Failure: c.Failure, File: c.Place.File,
			Line: c.Place.Line, Took: c.Took})
	}
	return out
}
