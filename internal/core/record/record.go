// Package record is what happened: the only shape of a run above the wire.
//
// While a run goes, [fleet/run] reports it as a sequence of [Event] values. A [Run] is the fold of
// them, whoever folds:
//
//	r := &record.Run{}
//	for e := range events {
//		r.Apply(e)
//	}
//	fmt.Println(r.Sentence())
//
// The screen, the live view, the history, the log and notifications are each a [Sink] of events, and
// a run that is over, or was read from the history, is the same value for every one of them. The JSON
// of these types is what `--output json` prints, so fields are only ever added; their doc tags are the
// reference.
//
// [fleet/run]: https://pkg.go.dev/jadekettle/internal/fleet/run
package record

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
)

// The modes of runs.
const (
	ModePreview = "preview"
	ModeApply   = "apply"
	ModeVerify  = "verify"
	ModeDrift   = "drift"
	ModeExec    = "exec"
	ModePrune   = "prune" // older runs were let go; such a run has no hosts, and stays
	ModeUndo    = "undo"
	ModeRetire  = "retire"
)

// Modes lists them.
var Modes = []string{ModeApply, ModePreview, ModeVerify, ModeDrift, ModeExec, ModePrune, ModeUndo, ModeRetire}

// Progress is whether a run has come to its end.
type Progress string

// How far a run has come.
const (
	Running     Progress = "running"
	Ended       Progress = "ended"
	Interrupted Progress = "interrupted" // its controller was killed, or could not keep its end
	Elsewhere   Progress = "elsewhere"   // of another machine; known by what a host had kept back of it
)

// State is how far a host was gone through. It is empty while its turn is not over.
type State string

// The states. Off is a host that the inventory says is never contacted.
const (
	Reached    State = "reached"
	NotReached State = "not reached"
	Refused    State = "refused" // it was reached, and nothing was done for safety
	Busy       State = "busy"
	Lost       State = "lost"
	NotStarted State = "not started"
	Disabled   State = "disabled"
)

// Outcome is how a host fared in one word, its tasks counted in.
type Outcome string

// The outcomes: those of a host that was not gone through, and else the worst
// that a task came to.
const (
	OutWrong      Outcome = "not resolved"
	OutLost               = Outcome(Lost)
	OutNotReached         = Outcome(NotReached)
	OutRefused            = Outcome(Refused)
	OutBusy               = Outcome(Busy)
	OutFailed             = Outcome(plan.Failed)
	OutNotStarted         = Outcome(NotStarted)
	OutStopped    Outcome = "stopped early" // the run was stopped, and tasks of the host have not started
	OutChanged            = Outcome(plan.Changed)
	OutUnchanged          = Outcome(plan.Unchanged)
	OutDisabled           = Outcome(Disabled)
)

// Head is what is known of a run besides what became of its hosts.
type Head struct {
	Number   int               `json:"number" doc:"Its number in this project."`
	Run      string            `json:"run" doc:"The run, a UUIDv7."`
	Mode     string            `json:"mode" doc:"preview, apply, verify, drift, exec, retire, undo or prune."`
	State    Progress          `json:"state" doc:"running, ended, interrupted, or elsewhere: run from another machine."`
	Code     int               `json:"code" doc:"The exit status."`
	Env      string            `json:"env" doc:"The environment; empty without environments."`
	Started  time.Time         `json:"started" doc:"The start time, in UTC."`
	Seconds  float64           `json:"seconds" doc:"The duration, so far if it still runs."`
	Who      string            `json:"who" doc:"The user who started it."`
	Machine  string            `json:"machine" doc:"The machine it was started from."`
	Command  []string          `json:"command" doc:"The command line, without the program name and secret params."`
	Params   map[string]string `json:"params" doc:"The params given on the command line, without secret ones."`
	Job      string            `json:"job" doc:"The job that was started; empty if none."`
	Inputs   map[string]string `json:"inputs" doc:"The values of the job's inputs, without secret ones."`
	Source   string            `json:"source" doc:"The git repository of the project; empty for a local directory."`
	Revision string            `json:"revision" doc:"The commit of the project; empty outside of git."`
	Edited   bool              `json:"edited" doc:"Whether files were modified since that commit."`
	Whole    bool              `json:"whole" doc:"Whether it covered all tasks of its hosts."`
	Declared bool              `json:"declared" doc:"Whether its tasks come from the project, unlike exec and undo."`
	Undoes   int               `json:"undoes" doc:"The run that it reverts; 0 in any other run."`
	Notes    map[string]string `json:"notes" doc:"The notes attached to it."`

	Part resolve.Selection `json:"part" doc:"The selection of tasks that it covered."`
}

// Would says whether nothing was changed in it: what differs would change.
func (h *Head) Would() bool { return h.Mode == ModePreview || h.Mode == ModeDrift }

// Run is one run. The zero value is one that has not started.
type Run struct {
	Head
	Hosts []*Host `json:"hosts" doc:"Its hosts, in the order of the inventory."`

	byName map[string]*Host // of Apply
}

// Host is what became of one host in a run.
type Host struct {
	Name    string  `json:"name" doc:"The host."`
	State   State   `json:"state" doc:"reached, not reached, refused, busy, lost, not started or disabled."`
	Outcome Outcome `json:"outcome" doc:"failed, changed or unchanged; or its state if it was not reached."`
	Message string  `json:"message" doc:"Why it was not reached, was refused, is busy or was lost; or a note."`
	Do      string  `json:"do" doc:"What to do about that."`
	Counts
	Seconds    float64      `json:"seconds" doc:"How long the host took."`
	After      float64      `json:"after" doc:"How many seconds after the start of the run it was started."`
	Planned    int          `json:"planned" doc:"The number of tasks in its plan."`
	Stopped    bool         `json:"stopped" doc:"Whether it ended early because the run was stopped."`
	Tasks      []Task       `json:"tasks" doc:"Its tasks, in the order in which they finished."`
	Undeclared []Undeclared `json:"undeclared" doc:"Resources that are managed there but no longer declared."`
	Pending    []Pending    `json:"pending" doc:"The restarts and similar actions that are pending there."`
	Needed     []Ref        `json:"needed" doc:"What the selected tasks depend on and was not selected."`
	Collected  []Collected  `json:"collected" doc:"The late results of earlier runs, collected by this run."`

	CollectedBy int       `json:"collected_by" doc:"The run that collected its late results; 0 if none did."`
	Executed    *Executed `json:"executed" doc:"The result of the command; null in any run but exec."`
	Begun       bool      `json:"begun" doc:"Whether it was started, if it did not finish."`
	AtWork      *AtWork   `json:"at_work" doc:"What it is doing, in a run in progress; null if unknown."`

	Facts    *facts.Facts    `json:"-"` // as they were read; nil where they were not
	Groups   []string        `json:"-"` // that it is in, now that its facts are known
	Captured []plan.Captured `json:"-"` // what is there, where that was asked for
	Unmeant  bool            `json:"-"` // its facts say that it is not meant
	Wrong    error           `json:"-"` // why the project cannot be resolved for it, with places
	Began    time.Time       `json:"-"` // when its turn came, by the clock here
}

// Counts are how many tasks of a host ended in which way.
type Counts struct {
	Changed   int `json:"changed" doc:"The number of tasks that changed, or would in a preview."`
	Failed    int `json:"failed" doc:"The number that failed."`
	Unchanged int `json:"unchanged" doc:"The number that were already as declared."`
	Skipped   int `json:"skipped" doc:"The number that were skipped by a condition."`
	Blocked   int `json:"blocked" doc:"The number that were not done because something they depend on failed."`
}

// Task is what became of one task of a host.
type Task struct {
	Kind      string        `json:"kind" doc:"Its kind."`
	Name      string        `json:"name" doc:"Its name."`
	Status    plan.Status   `json:"status" doc:"changed, failed, unchanged, skipped or blocked."`
	Manifest  string        `json:"manifest" doc:"The file that declares it."`
	Line      int           `json:"line" doc:"The line in that file."`
	Labels    []string      `json:"labels" doc:"The labels of its declaration."`
	Seconds   float64       `json:"seconds" doc:"The duration."`
	After     float64       `json:"after" doc:"When it started, in seconds after the run, by the controller's clock."`
	Changes   []plan.Change `json:"changes" doc:"The differences."`
	Message   string        `json:"message" doc:"Why it failed or was skipped."`
	Do        string        `json:"do" doc:"What to do about a failure."`
	Output    string        `json:"output" doc:"The output of a failed command, its head and tail."`
	Tries     int           `json:"tries" doc:"The number of attempts."`
	Drift     plan.Drift    `json:"drift" doc:"What was modified, in a preview: host, declaration, both or undeclared."`
	Written   []plan.Change `json:"written" doc:"The differences from what was last applied, in a drift run."`
	Since     string        `json:"since" doc:"When it was last applied, in a drift run."`
	By        string        `json:"by" doc:"Who applied it last, in a drift run."`
	BlockedBy *Ref          `json:"blocked_by" doc:"What blocked it; null unless it is blocked."`

	ID     int    `json:"-"` // its place in the plan; -1 of what a condition skipped
	Column int    `json:"-"` // of its declaration; 0 where that is not known any more
	Digest []byte `json:"-"` // means all that it declares, see plan.Result
	Again  bool   `json:"-"` // it was reported as changed, and has failed after all
}

// Ref is a declaration by its two words.
type Ref struct {
	Kind string `json:"kind" doc:"Its kind."`
	Name string `json:"name" doc:"Its name."`
}

// Undeclared is what is managed on a host and no longer declared.
type Undeclared struct {
	Kind    string        `json:"kind" doc:"Its kind."`
	Name    string        `json:"name" doc:"Its name."`
	Changes []plan.Change `json:"changes" doc:"What removing it would do, for the first hundred."`
	Why     string        `json:"why" doc:"Why it cannot be removed, or is not."`
	Stays   bool          `json:"stays" doc:"Whether it stays as it is and is no longer managed."`
}

// Pending is something that is pending on a host.
type Pending struct {
	Kind   string `json:"kind" doc:"The kind of the resource."`
	Name   string `json:"name" doc:"Its name."`
	Action string `json:"action" doc:"restart, reload, or follow (run because of a change)."`
}

// Collected is what an earlier run did whose results had not arrived.
type Collected struct {
	Run   string `json:"run" doc:"The run that did it."`
	Tasks []Task `json:"tasks" doc:"What it did."`
}

// Executed is what a command came to on a host.
type Executed struct {
	Ended  bool   `json:"ended" doc:"Whether it finished."`
	Code   int    `json:"code" doc:"Its exit status."`
	Output string `json:"output" doc:"Its standard output and error, head and tail."`
	Wrong  string `json:"wrong" doc:"Why it did not finish."`

	Seconds float64 `json:"-"` // how long it took, by the clock of the host
}

// Well says whether the command came to an end, with 0.
func (e *Executed) Well() bool { return e.Code == 0 && e.Wrong == "" }

// AtWork is what a host is at that has not ended.
type AtWork struct {
	Kind     string    `json:"kind" doc:"The kind of the task; empty for a command."`
	Name     string    `json:"name" doc:"Its name."`
	Line     string    `json:"line" doc:"The last line its command printed."`
	Try      int       `json:"try" doc:"The number of the attempt, from 2 on."`
	Seconds  float64   `json:"seconds" doc:"How long it had been running when it was reported."`
	Reported time.Time `json:"reported,omitzero" doc:"When it was reported."`
}

// NewTask makes a task from its result. The caller adds where it is declared and when it began.
func NewTask(r plan.Result) Task {
	out := Task{ID: r.ID, Kind: r.Ref.Kind, Name: r.Ref.Name, Status: r.Status,
		Seconds: Seconds(r.Took), Changes: r.Changes, Message: r.Message, Do: r.Do, Output: r.Output,
		Drift: r.Drift, Written: r.Written, By: r.By, Digest: r.Digest, Again: r.Again}
	if r.Since > 0 {
		out.Since = time.Unix(r.Since, 0).UTC().Format(time.RFC3339)
	}
	if out.Tries = max(1, r.Tries); r.Status == plan.Skipped || r.Status == plan.Blocked {
		out.Tries = 0
	}
	if r.Status == plan.Blocked {
		out.BlockedBy = &Ref{r.BlockedBy.Kind, r.BlockedBy.Name}
	}
	return out
}

// Seconds gives a length of time as records have it: in seconds, to the millisecond.
func Seconds(d time.Duration) float64 {
	return float64(d.Round(time.Millisecond).Milliseconds()) / 1000
}

// Length is the other way round.
func Length(seconds float64) time.Duration {
	return time.Duration(seconds*1000+0.5) * time.Millisecond
}

// Since gives how many seconds after the beginning of a run something was; 0 for what was before, or never.
func Since(started, at time.Time) float64 {
	if at.Before(started) {
		return 0
	}
	return Seconds(at.Sub(started))
}

// Ref gives the task by the two words of its declaration.
func (t *Task) Ref() value.Ref { return value.Ref{Kind: t.Kind, Name: t.Name} }

// Place is where it is declared; empty for what nothing declares any more.
func (t *Task) Place() value.Place { return value.Place{File: t.Manifest, Line: t.Line, Col: t.Column} }

// DeclaredAt says where it is declared.
func (t *Task) DeclaredAt(p value.Place) { t.Manifest, t.Line, t.Column = p.File, p.Line, p.Col }

// LastWritten is when it was last written, of drift; zero where this project never wrote it.
func (t *Task) LastWritten() time.Time {
	at, _ := time.Parse(time.RFC3339, t.Since)
	return at
}

// Ref gives it by the two words of what was its declaration.
func (l *Undeclared) Ref() value.Ref { return value.Ref{Kind: l.Kind, Name: l.Name} }

// Value gives a reference as the rest of the core has it.
func (r Ref) Value() value.Ref { return value.Ref{Kind: r.Kind, Name: r.Name} }

// String gives both words.
func (r Ref) String() string { return r.Value().String() }

// Refs gives references as records have them.
func Refs(list []value.Ref) []Ref {
	out := make([]Ref, len(list))
	for i, r := range list {
		out[i] = Ref{r.Kind, r.Name}
	}
	return out
}

// NewUndeclared gives what a host has reported to be no longer declared.
func NewUndeclared(list []plan.Undeclared) []Undeclared {
	out := make([]Undeclared, len(list))
	for i, l := range list {
		out[i] = Undeclared{l.Ref.Kind, l.Ref.Name, l.Changes, l.Why, l.Stays}
	}
	return out
}

// NewPending gives what a host has reported to be pending there.
func NewPending(list []plan.Pending) []Pending {
	out := make([]Pending, len(list))
	for i, d := range list {
		out[i] = Pending{d.Service.Kind, d.Service.Name, d.Action}
	}
	return out
}

// Count counts how many tasks ended in a way.
func (h *Host) Count(s plan.Status) int {
	n := 0
	for i := range h.Tasks {
		if h.Tasks[i].Status == s {
			n++
		}
	}
	return n
}

// Settle says how the host fared, now that its turn is over: it counts the tasks, and finds the outcome.
func (h *Host) Settle() {
	h.Counts = Counts{Changed: h.Count(plan.Changed), Failed: h.Count(plan.Failed), Unchanged: h.Count(plan.Unchanged),
		Skipped: h.Count(plan.Skipped), Blocked: h.Count(plan.Blocked)}
	h.Outcome = h.fared()
}

func (h *Host) fared() Outcome {
	reported := 0
	for i := range h.Tasks {
		if h.Tasks[i].ID >= 0 {
			reported++
		}
	}
	switch {
	case h.Wrong != nil:
		return OutWrong
	case h.State != Reached:
		return Outcome(h.State)
	case h.Failed+h.Blocked > 0 || h.Executed != nil && !h.Executed.Well():
		return OutFailed
	case h.Stopped && reported < h.Planned:
		return OutStopped
	case h.Changed > 0:
		return OutChanged
	}
	return OutUnchanged
}

// Noteworthy says whether something changed on the host, or would, or did not go well.
func (h *Host) Noteworthy() bool {
	return h.Outcome != OutUnchanged && h.Outcome != OutDisabled || len(h.Collected) > 0
}

// Noteworthy says whether any of its hosts is.
func (r *Run) Noteworthy() bool { return slices.ContainsFunc(r.Hosts, (*Host).Noteworthy) }

// Unwell says whether the host could not be gone through.
func (h *Host) Unwell() bool {
	return h.State != Reached && h.State != Disabled || h.Outcome == OutWrong
}

// Summary is one run in a list of many. The counts of hosts are by their outcome.
type Summary struct {
	Head
	Hosts        []string `json:"hosts" doc:"Its hosts, in the order of the inventory."`
	Unchanged    int      `json:"unchanged" doc:"The number of hosts that were as declared."`
	Changed      int      `json:"changed" doc:"The number of hosts that changed, or would in a preview."`
	Failed       int      `json:"failed" doc:"The number of hosts that failed or were refused, busy or lost."`
	NotReached   int      `json:"not_reached" doc:"The number that were not reached."`
	NotStarted   int      `json:"not_started" doc:"The number that were not started or had not finished."`
	Disabled     int      `json:"disabled" doc:"The number that are disabled."`
	TasksChanged int      `json:"tasks_changed" doc:"The number of tasks that changed, or would."`
	TasksFailed  int      `json:"tasks_failed" doc:"The number of tasks that failed."`
}

// Count counts one more host, by its outcome and how many of its tasks changed and failed.
func (s *Summary) Count(outcome Outcome, changed, failed int) {
	s.TasksChanged, s.TasksFailed = s.TasksChanged+changed, s.TasksFailed+failed
	switch outcome {
	case OutUnchanged:
		s.Unchanged++
	case OutChanged:
		s.Changed++
	case OutNotReached:
		s.NotReached++
	case OutNotStarted, OutStopped, "":
		s.NotStarted++
	case OutDisabled:
		s.Disabled++
	default:
		s.Failed++
	}
}

// Summary gives the run as one in a list.
func (r *Run) Summary() Summary {
	s := Summary{Head: r.Head, Hosts: []string{}}
	for _, h := range r.Hosts {
		s.Hosts = append(s.Hosts, h.Name)
		s.Count(h.Outcome, h.Changed, h.Failed)
	}
	return s
}

// Names lists the hosts of the run.
func (r *Run) Names() []string {
	out := make([]string, len(r.Hosts))
	for i, h := range r.Hosts {
		out[i] = h.Name
	}
	return out
}

// sentence is the order of the statuses in the sentence about a run.
var sentence = []Outcome{OutFailed, OutWrong, OutLost, OutNotReached, OutRefused, OutBusy, OutChanged,
	OutUnchanged, OutStopped,
	OutNotStarted, OutDisabled}

// Sentence sums up the run in one.
func (r *Run) Sentence() string {
	counts := map[Outcome]int{}
	for _, h := range r.Hosts {
		counts[h.Outcome]++
	}
	var parts []string
	for _, o := range sentence {
		word := string(o)
		if r.Would() && o == OutChanged {
			word = "would change"
		}
		if counts[o] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[o], word))
		}
	}
	noun := "hosts"
	if len(r.Hosts) == 1 {
		noun = "host"
	}
	return fmt.Sprintf("%d %s: %s", len(r.Hosts), noun, strings.Join(parts, ", "))
}

// Changed lists what a run changed on each host, and the hosts that it changed or may have,
// in its order: it was lost there, or something failed half way.
func (r *Run) Changed() (names []string, changed map[string][]value.Ref) {
	changed = map[string][]value.Ref{}
	for _, h := range r.Hosts {
		for i := range h.Tasks {
			if h.Tasks[i].Status == plan.Changed {
				changed[h.Name] = append(changed[h.Name], h.Tasks[i].Ref())
			}
		}
		if len(changed[h.Name]) > 0 || h.Failed > 0 || h.State == Lost || h.Begun {
			names = append(names, h.Name)
		}
	}
	return names, changed
}

// Host gives one host of the run; nil where it has none of that name.
func (r *Run) Host(name string) *Host {
	i := slices.IndexFunc(r.Hosts, func(h *Host) bool { return h.Name == name })
	if i < 0 {
		return nil
	}
	return r.Hosts[i]
}
