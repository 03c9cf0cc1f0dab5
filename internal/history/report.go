// Package history makes the records of runs. For now it holds the report, the
// document in which one run is told.
package history

import (
	"encoding/json"
	"io"
	"math"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

// Format is the number of the report's form. Fields are only ever added.
const Format = 1

// Report is one run as a document.
type Report struct {
	Format  int       `json:"format"`
	Run     string    `json:"run"`  // UUIDv7
	Env     string    `json:"env"`  // empty without environments
	Mode    string    `json:"mode"` // preview or apply
	Started time.Time `json:"started"`
	Seconds float64   `json:"seconds"`
	Hosts   []Host    `json:"hosts"`
}

// Host is one host of a report. The counts are of its tasks.
type Host struct {
	Name      string      `json:"name"`
	State     run.State   `json:"state"`
	Message   string      `json:"message"` // why it was not reached, is busy or was lost
	Do        string      `json:"do"`      // what to do about that
	Changed   int         `json:"changed"`
	Failed    int         `json:"failed"`
	Unchanged int         `json:"unchanged"`
	LeftOut   int         `json:"left_out"`
	Blocked   int         `json:"blocked"`
	Seconds   float64     `json:"seconds"`
	Tasks     []Task      `json:"tasks"`
	Leftovers []Ref       `json:"leftovers"`
	Needed    []Ref       `json:"needed"` // what selected tasks need, and was not selected
	Collected []Collected `json:"collected"`
}

// Task is one task of a report.
type Task struct {
	Kind      string        `json:"kind"`
	Name      string        `json:"name"`
	Status    plan.Status   `json:"status"`
	Manifest  string        `json:"manifest"`
	Line      int           `json:"line"`
	Seconds   float64       `json:"seconds"`
	Changes   []plan.Change `json:"changes"`
	Message   string        `json:"message"`
	Do        string        `json:"do"` // what to do about a failure
	Output    string        `json:"output"`
	BlockedBy *Ref          `json:"blocked_by"` // null unless it is blocked
}

// Ref is a declaration by its two words.
type Ref struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
}

// Refs gives references as documents.
func Refs(list []value.Ref) []Ref {
	out := make([]Ref, len(list))
	for i, r := range list {
		out[i] = Ref{r.Kind, r.Name}
	}
	return out
}

// Collected tells what an earlier run did whose results had not arrived.
type Collected struct {
	Run   string `json:"run"`
	Tasks []Task `json:"tasks"`
}

// New makes the report of a run.
func New(r plan.Run, started time.Time, took time.Duration, hosts []*run.Host) *Report {
	out := &Report{Format: Format, Run: r.ID, Env: r.Env, Mode: "apply", Started: started.UTC().Truncate(time.Second),
		Seconds: seconds(took), Hosts: []Host{}}
	if r.Preview {
		out.Mode = "preview"
	}
	for _, h := range hosts {
		out.Hosts = append(out.Hosts, host(h))
	}
	return out
}

func host(h *run.Host) Host {
	out := Host{
		Name: h.Name, State: h.State, Message: h.Message, Do: h.Do, Seconds: seconds(h.Took),
		Changed: h.Count(plan.Changed), Failed: h.Count(plan.Failed), Unchanged: h.Count(plan.Unchanged),
		LeftOut: h.Count(plan.LeftOut), Blocked: h.Count(plan.Blocked),
		Tasks: []Task{}, Leftovers: Refs(h.Leftovers), Needed: Refs(h.Needed), Collected: []Collected{},
	}
	if h.Wrong != nil {
		out.Message += ": " + h.Wrong.Error()
	}
	for _, t := range h.Tasks {
		out.Tasks = append(out.Tasks, task(t))
	}
	for _, c := range h.Collected {
		done := Collected{Run: c.Run, Tasks: []Task{}}
		for _, r := range c.Results {
			done.Tasks = append(done.Tasks, task(run.Task{Result: r}))
		}
		out.Collected = append(out.Collected, done)
	}
	return out
}

func task(t run.Task) Task {
	out := Task{
		Kind: t.Ref.Kind, Name: t.Ref.Name, Status: t.Status, Manifest: t.Place.File, Line: t.Place.Line,
		Seconds: seconds(t.Took),
		Changes: t.Changes, Message: t.Message, Do: t.Do, Output: t.Output,
	}
	if t.Status == plan.Blocked {
		out.BlockedBy = &Ref{t.BlockedBy.Kind, t.BlockedBy.Name}
	}
	if t.Reason != "" {
		out.Message = t.Reason
	}
	if out.Changes == nil {
		out.Changes = []plan.Change{}
	}
	return out
}

func seconds(d time.Duration) float64 { return math.Round(d.Seconds()*1000) / 1000 }

// Write writes the report as one JSON document.
func (r *Report) Write(w io.Writer) error { return WriteJSON(w, r) }

// WriteJSON writes any document for programs to read.
func WriteJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Problem is one problem of a project as a document.
type Problem struct {
	File   string   `json:"file"`
	Line   int      `json:"line"`
	Column int      `json:"column"`
	What   string   `json:"what"`
	Do     string   `json:"do"`
	Hosts  []string `json:"hosts"`
	Also   []string `json:"also"`
}

// Problems gives the problems of a project as documents.
func Problems(list []problem.Problem) []Problem {
	out := []Problem{}
	for _, p := range list {
		doc := Problem{File: p.Place.File, Line: p.Place.Line, Column: p.Place.Col, What: p.What, Do: p.Do, Hosts: p.Hosts,
			Also: []string{}}
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
