package document

import (
	"bytes"
	"encoding"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/visible"
)

// Report is what `apply`, `preview` and the like print: a run as it ended, without what only the history knows.
type Report struct {
	Format  int          `json:"format"`
	Run     string       `json:"run" doc:"The run, a UUIDv7."`
	Number  int          `json:"number" doc:"Its number in this project; 0 if it is not recorded."`
	Env     string       `json:"env" doc:"The environment; empty without environments."`
	Mode    string       `json:"mode" doc:"preview, apply, verify, drift, retire or undo."`
	Started time.Time    `json:"started" doc:"The start time, in UTC."`
	Seconds float64      `json:"seconds" doc:"The duration."`
	Hosts   []ReportHost `json:"hosts" doc:"Its hosts."`
}

// ReportHost is a host of a Report: a record.Host, of which the fields below hide what is the history's. In JSON a
// name of an outer struct hides the same name of an embedded one.
type ReportHost struct {
	*record.Host
	CollectedBy hidden `json:"collected_by,omitempty"`
	Executed    hidden `json:"executed,omitempty"`
	Begun       hidden `json:"begun,omitempty"`
	AtWork      hidden `json:"at_work,omitempty"`
}

// hidden is a field that is never written.
type hidden *struct{}

// NewReport makes the report of a run.
func NewReport(r *record.Run) *Report {
	out := &Report{Format: One.Format, Run: r.Run, Number: r.Number, Env: r.Env, Mode: r.Mode,
		Started: r.Started.UTC().Truncate(time.Second), Seconds: r.Seconds, Hosts: make([]ReportHost, len(r.Hosts))}
	for i, h := range r.Hosts {
		out.Hosts[i].Host = h
	}
	return out
}

// Write writes a document, indented. What would steer a terminal or is seen by nobody is
// written as JSON escapes it, so that nothing on its way has to be escaped again.
func Write(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(neverNull(reflect.ValueOf(v)).Interface()); err != nil {
		return err
	}
	_, err := w.Write(escapeJSON(b.Bytes()))
	return err
}

// neverNull gives a document in which every list and table that was nil is an empty one, since those who read it would
// have to distinguish the two. What it changes it copies first: the record belongs to others as well.
func neverNull(v reflect.Value) reflect.Value {
	t := v.Type()
	if !holds(t) {
		return v
	}
	switch t.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(t.Elem())
		out.Elem().Set(neverNull(v.Elem()))
		return out
	case reflect.Map:
		if v.IsNil() {
			return reflect.MakeMap(t)
		}
	case reflect.Slice:
		if !v.IsNil() && !holds(t.Elem()) {
			return v
		}
		out := reflect.MakeSlice(t, v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(neverNull(v.Index(i)))
		}
		return out
	case reflect.Struct:
		out := reflect.New(t).Elem()
		out.Set(v)
		for i := range t.NumField() {
			if f := out.Field(i); f.CanSet() && holds(f.Type()) {
				f.Set(neverNull(f))
			}
		}
		return out
	}
	return v
}

// holds says whether a list or a table may be in what has a type, which JSON would write as null.
func holds(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Pointer, reflect.Map, reflect.Slice, reflect.Struct:
		return !t.Implements(reflect.TypeFor[json.Marshaler]()) &&
			!t.Implements(reflect.TypeFor[encoding.TextMarshaler]())
	}
	return false
}

// escapeJSON writes characters that only texts hold as \uXXXX: in a document they stand nowhere else
// (RFC 8259, 7).
func escapeJSON(data []byte) []byte {
	return EscapeUnseen(data, func(b *bytes.Buffer, r rune) {
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(b, "\\u%04x", unit)
		}
	})
}

// EscapeUnseen writes what steers a terminal, or is seen by nobody, in another way.
func EscapeUnseen(data []byte, escape func(b *bytes.Buffer, r rune)) []byte {
	unseen := func(r rune) bool { return visible.Hostile(r) || r >= utf8.RuneSelf && unicode.Is(unicode.Co, r) }
	if !bytes.ContainsFunc(data, unseen) {
		return data
	}
	var b bytes.Buffer
	for _, r := range string(data) {
		if unseen(r) {
			escape(&b, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.Bytes()
}

// Problem is one problem of a project as a document.
type Problem struct {
	File   string   `json:"file" doc:"The file."`
	Line   int      `json:"line" doc:"The line, from 1."`
	Column int      `json:"column" doc:"The column in characters, from 1."`
	What   string   `json:"what" doc:"What is wrong."`
	Do     string   `json:"do" doc:"What to do about it."`
	Hosts  []string `json:"hosts" doc:"The hosts that have it; none if all do."`
	Also   []string `json:"also" doc:"Other related places, as file:line:column."`
}

// Problems gives the problems of a project as documents.
func Problems(list []problem.Problem) []Problem {
	var out []Problem
	for _, p := range list {
		doc := Problem{File: p.Place.File, Line: p.Place.Line, Column: p.Place.Col, What: p.What, Do: p.Do,
			Hosts: p.Hosts,
			Also:  []string{}}
		if doc.Hosts == nil {
			doc.Hosts = []string{}
		}
		for _, a := range p.Also {
			doc.Also = append(doc.Also, a.String())
		}
		out = append(out, doc)
	}
	return out
}

// FirstLine gives the first line of a text.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// Lines joins texts that are not empty, each in lines of its own.
func Lines(texts ...string) string {
	var out []string
	for _, t := range texts {
		if t = strings.TrimSpace(t); t != "" {
			out = append(out, t)
		}
	}
	return strings.Join(out, "\n")
}
