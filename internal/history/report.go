// Package history makes the records of runs: the report, the document in which
// one run is told, and what is kept of runs besides. Package store keeps them.
package history

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

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
	Run     string    `json:"run" doc:"The run, a UUIDv7."`
	Number  int       `json:"number" doc:"Its number in this project; 0 when it is not kept."`
	Env     string    `json:"env" doc:"The environment; empty without environments."`
	Mode    string    `json:"mode" doc:"preview, apply, verify, drift, retire or undo."`
	Started time.Time `json:"started" doc:"When it began, in UTC."`
	Seconds float64   `json:"seconds" doc:"How long it took."`
	Hosts   []Host    `json:"hosts" doc:"Its hosts."`
}

// Host is one host of a report. The counts are of its tasks.
type Host struct {
	Name      string      `json:"name" doc:"The host."`
	State     run.State   `json:"state" doc:"reached, not reached, busy, lost, not begun or off."`
	Outcome   run.Outcome `json:"outcome" doc:"How it fared in one word: its state where that is not reached, not resolved, and else failed, changed or unchanged."`
	Message   string      `json:"message" doc:"Why it was not reached, is busy or was lost; else what somebody should know of it."`
	Do        string      `json:"do" doc:"What to do about that."`
	Changed   int         `json:"changed" doc:"How many tasks changed, or would in a preview."`
	Failed    int         `json:"failed" doc:"How many failed."`
	Unchanged int         `json:"unchanged" doc:"How many were as declared already."`
	LeftOut   int         `json:"left_out" doc:"How many a condition left out."`
	Blocked   int         `json:"blocked" doc:"How many were not done since something they need failed."`
	Seconds   float64     `json:"seconds" doc:"How long the host took."`
	After     float64     `json:"after" doc:"How many seconds after the run began its turn came."`
	Planned   int         `json:"planned" doc:"How many tasks its plan has."`
	Stopped   bool        `json:"stopped" doc:"Whether it ended early since the run was stopped."`
	Tasks     []Task      `json:"tasks" doc:"Its tasks, in the order in which they ended."`
	Leftovers []Leftover  `json:"leftovers" doc:"What is managed there and no longer declared."`
	Debts     []Debt      `json:"debts" doc:"The restarts and the like that are owed there now."`
	Needed    []Ref       `json:"needed" doc:"What selected tasks need, and was not selected."`
	Collected []Collected `json:"collected" doc:"What earlier runs did whose results had not arrived."`
}

// Task is one task of a report.
type Task struct {
	Kind      string      `json:"kind" doc:"Its kind."`
	Name      string      `json:"name" doc:"Its name."`
	Status    plan.Status `json:"status" doc:"changed, failed, unchanged, left out or blocked."`
	Manifest  string      `json:"manifest" doc:"The file that declares it."`
	Line      int         `json:"line" doc:"The line there."`
	Labels    []string    `json:"labels" doc:"The labels of its declaration."`
	Seconds   float64     `json:"seconds" doc:"How long it took."`
	After     float64     `json:"after" doc:"How many seconds after the run began it was begun, by the clock here."`
	Changes   []Change    `json:"changes" doc:"What differed."`
	Message   string      `json:"message" doc:"Why it failed or was left out."`
	Do        string      `json:"do" doc:"What to do about a failure."`
	Output    string      `json:"output" doc:"What a command that failed printed, its head and tail."`
	Tries     int         `json:"tries" doc:"How often it was tried."`
	Drift     plan.Drift  `json:"drift" doc:"Why it differs, in a preview: host, declaration, both, or left (no longer declared); empty where that is not known."`
	Written   []Change    `json:"written" doc:"What differs from what was last written, of drift."`
	Since     string      `json:"since" doc:"When it was last written, of drift."`
	By        string      `json:"by" doc:"By whose run, of drift."`
	BlockedBy *Ref        `json:"blocked_by" doc:"What blocked it; null unless it is blocked."`
}

// Change is one difference between what stood and what is declared.
type Change struct {
	What    string `json:"what" doc:"An attribute, or content, existence, restart and the like."`
	Was     string `json:"was" doc:"What stood; empty when there was nothing."`
	Becomes string `json:"becomes" doc:"What is declared."`
	Diff    string `json:"diff" doc:"A unified diff, for text."`
	Closed  bool   `json:"closed" doc:"Whether the old text is kept back: only its owner may read it, and it is not ours."`
}

// Changes gives differences as documents.
func Changes(list []plan.Change) []Change {
	out := make([]Change, len(list))
	for i, c := range list {
		out[i] = Change{c.What, c.Was, c.Becomes, c.Diff, c.Closed}
	}
	return out
}

// Ref is a declaration by its two words.
type Ref struct {
	Kind string `json:"kind" doc:"Its kind."`
	Name string `json:"name" doc:"Its name."`
}

// Leftover is what is managed on a host and no longer declared.
type Leftover struct {
	Kind    string   `json:"kind" doc:"Its kind."`
	Name    string   `json:"name" doc:"Its name."`
	Changes []Change `json:"changes" doc:"What taking it away would do, of the first hundred."`
	Why     string   `json:"why" doc:"Why it cannot be taken away, or is not."`
	Stays   bool     `json:"stays" doc:"Whether it stays as it is and is not managed from now on."`
}

// Debt is something that is owed on a host.
type Debt struct {
	Kind   string `json:"kind" doc:"The kind of what is owed it."`
	Name   string `json:"name" doc:"Its name."`
	Action string `json:"action" doc:"restart, reload or follow: to be done at all."`
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
	Run   string `json:"run" doc:"The run that did it."`
	Tasks []Task `json:"tasks" doc:"What it did."`
}

// New makes the report of a run.
func New(r plan.Run, started time.Time, took time.Duration, hosts []*run.Visit) *Report {
	out := &Report{Format: Format, Run: r.ID, Env: r.Env, Mode: "apply", Started: started.UTC().Truncate(time.Second),
		Seconds: seconds(took), Hosts: []Host{}}
	if r.Preview {
		out.Mode = "preview"
	}
	for _, h := range hosts {
		out.Hosts = append(out.Hosts, HostOf(h, started))
	}
	return out
}

// HostOf gives what became of a host, in a run that began at a time.
func HostOf(h *run.Visit, started time.Time) Host {
	out := Host{
		Name: h.Name, State: h.State, Outcome: h.Outcome(), Message: h.Message, Do: h.Do, Seconds: seconds(h.Took),
		After: after(h.Began, started), Planned: h.Planned, Stopped: h.Stopped,
		Changed: h.Count(plan.Changed), Failed: h.Count(plan.Failed), Unchanged: h.Count(plan.Unchanged),
		LeftOut: h.Count(plan.LeftOut), Blocked: h.Count(plan.Blocked),
		Tasks: []Task{}, Leftovers: []Leftover{}, Debts: []Debt{}, Needed: Refs(h.Needed), Collected: []Collected{},
	}
	for _, d := range h.Debts {
		out.Debts = append(out.Debts, Debt{d.Service.Kind, d.Service.Name, d.Action})
	}
	for _, l := range h.Leftovers {
		out.Leftovers = append(out.Leftovers, Leftover{l.Ref.Kind, l.Ref.Name, Changes(l.Changes), l.Why, l.Stays})
	}
	if h.Wrong != nil {
		out.Message += ": " + h.Wrong.Error()
	}
	for _, t := range h.Tasks {
		out.Tasks = append(out.Tasks, TaskOf(t, started))
	}
	for _, c := range h.Collected {
		done := Collected{Run: c.Run, Tasks: []Task{}}
		for _, r := range c.Results {
			done.Tasks = append(done.Tasks, TaskOf(run.Task{Result: r}, started))
		}
		out.Collected = append(out.Collected, done)
	}
	return out
}

// after is how long after the beginning of a run something began, in seconds.
func after(began, started time.Time) float64 {
	if began.Before(started) { // or never
		return 0
	}
	return seconds(began.Sub(started))
}

// TaskOf gives one task, in a run that began at a time.
func TaskOf(t run.Task, started time.Time) Task {
	out := Task{
		Kind: t.Ref.Kind, Name: t.Ref.Name, Status: t.Status, Manifest: t.Place.File, Line: t.Place.Line,
		Labels:  append([]string{}, t.Labels...),
		Seconds: seconds(t.Took), After: after(t.Began, started),
		Changes: Changes(t.Changes), Message: t.Message, Do: t.Do, Output: t.Output,
	}
	out.Drift, out.Written, out.By = t.Drift, Changes(t.Written), t.By
	if t.Since > 0 {
		out.Since = time.Unix(t.Since, 0).UTC().Format(time.RFC3339)
	}
	if out.Tries = max(1, t.Tries); t.Status == plan.LeftOut || t.Status == plan.Blocked {
		out.Tries = 0
	}
	if t.Status == plan.Blocked {
		out.BlockedBy = &Ref{t.BlockedBy.Kind, t.BlockedBy.Name}
	}
	if t.Reason != "" {
		out.Message = t.Reason
	}
	return out
}

func seconds(d time.Duration) float64 { return math.Round(d.Seconds()*1000) / 1000 }

// Write writes the report as one JSON document.
func (r *Report) Write(w io.Writer) error { return WriteJSON(w, r) }

// WriteJSON writes a document, indented. What would steer a terminal or is seen by nobody is
// written as JSON escapes it, so that nothing on its way has to be escaped again.
func WriteJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := w.Write(escapeJSON(b.Bytes()))
	return err
}

// escapeJSON writes characters that only texts hold as \uXXXX: in a document they stand nowhere else
// (RFC 8259, 7).
func escapeJSON(data []byte) []byte {
	return escapeUnseen(data, func(b *bytes.Buffer, r rune) {
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(b, "\\u%04x", unit)
		}
	})
}

// escapeUnseen writes what steers a terminal, or is seen by nobody, in another way.
func escapeUnseen(data []byte, escape func(b *bytes.Buffer, r rune)) []byte {
	unseen := func(r rune) bool {
		return r != '\n' && r != '\t' && (unicode.IsControl(r) || r == utf8.RuneError ||
			unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co))
	}
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
	Hosts  []string `json:"hosts" doc:"The hosts that have it; none when it is everywhere."`
	Also   []string `json:"also" doc:"Other places that belong to it, as file:line:column."`
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
