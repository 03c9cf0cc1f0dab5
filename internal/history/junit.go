package history

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"time"
)

// Suite is a set of cases that belong together, for a JUnit document.
type Suite struct {
	Name  string
	Cases []SuiteCase
}

// SuiteCase is one case; Failure is empty when it went well.
type SuiteCase struct {
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

// WriteJUnit writes suites as JUnit XML.
func WriteJUnit(w io.Writer, suites []Suite) error {
	doc := junit{}
	for _, s := range suites {
		js := junitSuite{Name: s.Name, Tests: len(s.Cases)}
		var total time.Duration
		for _, c := range s.Cases {
			jc := junitCase{Class: c.Class, Name: c.Name, Time: fmt.Sprintf("%.3f", c.Took.Seconds()),
				File: c.File, Line: c.Line}
			if c.Failure != "" {
				js.Failures++
				jc.Failure = &junitFailure{Message: firstLine(c.Failure), Text: c.Failure}
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
	text := escapeUnseen(b.Bytes(), func(b *bytes.Buffer, r rune) { fmt.Fprintf(b, "&#x%x;", r) }) // XML 1.0, 4.1
	_, err := fmt.Fprintf(w, "%s%s\n", xml.Header, text)
	return err
}

func firstLine(s string) string {
	for i, c := range s {
		if c == '\n' {
			return s[:i]
		}
	}
	return s
}
