// Package record is what happened: the only shape of a run above the wire.
//
// While a run goes, [fleet/run] tells it as a sequence of [Event] values. A [Run] is the fold of
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
	Busy       State = "busy"
	Lost       State = "lost"
	NotBegun   State = "not begun"
	Off        State = "off"
)

// Outcome is how a host fared in one word, its tasks counted in.
type Outcome string

// The outcomes: those of a host that was not gone through, and else the worst
// that a task came to.
const (
	OutWrong      Outcome = "not resolved"
	OutLost               = Outcome(Lost)
	OutNotReached         = Outcome(NotReached)
	OutBusy               = Outcome(Busy)
	OutFailed             = Outcome(plan.Failed)
	OutNotBegun           = Outcome(NotBegun)
	OutStopped    Outcome = "stopped early" // the run was stopped, and tasks of the host have not begun
	OutChanged            = Outcome(plan.Changed)
	OutUnchanged          = Outcome(plan.Unchanged)
	OutOff                = Outcome(Off)
)

// Head is what is known of a run besides what became of its hosts.
type Head struct {
	Number   int               `json:"number" doc:"Its number in this project."`
	Run      string            `json:"run" doc:"The run, a UUIDv7."`
	Mode     string            `json:"mode" doc:"preview, apply, verify, drift, exec, retire, undo or prune."`
	State    Progress          `json:"state" doc:"running, ended, interrupted, or elsewhere: run from another machine."`
	Code     int               `json:"code" doc:"The code that the program ended with."`
	Env      string            `json:"env" doc:"The environment; empty without environments."`
	Started  time.Time         `json:"started" doc:"When it began, in UTC."`
	Seconds  float64           `json:"seconds" doc:"How long it took, or has taken so far."`
	Who      string            `json:"who" doc:"Whose run it was."`
	Machine  string            `json:"machine" doc:"The machine that it was run from."`
	Command  []string          `json:"command" doc:"The call, without the program's name. Secret params are left out."`
	Params   map[string]string `json:"params" doc:"The params that the call gave. Secret ones are left out."`
	Job      string            `json:"job" doc:"The job that was started; empty where none was."`
	Answers  map[string]string `json:"answers" doc:"The answers to the job's questions. Secret ones are left out."`
	Source   string            `json:"source" doc:"The git repository of the project; empty for a folder."`
	Revision string            `json:"revision" doc:"The commit that the project was at; empty outside of git."`
	Edited   bool              `json:"edited" doc:"Whether its files were changed since that commit."`
	Whole    bool              `json:"whole" doc:"Whether it was about all tasks of its hosts."`
	Declared bool              `json:"declared" doc:"Whether its tasks were declared; false for exec, undo, retire."`
	Undoes   int               `json:"undoes" doc:"The run that it puts back; 0 in any other."`
	Notes    map[string]string `json:"notes" doc:"What was noted on it."`

	Part resolve.Selection `json:"part" doc:"The part of the tasks that it was about."`
}

// Would says whether nothing was changed in it: what differs would change.
func (h *Head) Would() bool { return h.Mode == ModePreview || h.Mode == ModeDrift }

// Run is one run. The zero value is one that has not begun.
type Run struct {
	Head
	Hosts []*Host `json:"hosts" doc:"Its hosts, in the order of the inventory."`

	byName map[string]*Host // of Apply
}

// Host is what became of one host in a run.
type Host struct {
	Name    string  `json:"name" doc:"The host."`
	State   State   `json:"state" doc:"reached, not reached, busy, lost, not begun or off."`
	Outcome Outcome `json:"outcome" doc:"failed, changed or unchanged; or its state, if it is not reached."`
	Message string  `json:"message" doc:"Why it was not reached, is busy or was lost; or a note."`
	Do      string  `json:"do" doc:"What to do about that."`
	Counts
	Seconds   float64     `json:"seconds" doc:"How long the host took."`
	After     float64     `json:"after" doc:"How many seconds after the run began its turn came."`
	Planned   int         `json:"planned" doc:"How many tasks its plan has."`
	Stopped   bool        `json:"stopped" doc:"Whether it ended early since the run was stopped."`
	Tasks     []Task      `json:"tasks" doc:"Its tasks, in the order in which they ended."`
	Leftovers []Leftover  `json:"leftovers" doc:"What is managed there and no longer declared."`
	Debts     []Debt      `json:"debts" doc:"The restarts and the like that are owed there now."`
	Needed    []Ref       `json:"needed" doc:"What selected tasks need, and was not selected."`
	Collected []Collected `json:"collected" doc:"What earlier runs did whose results had not arrived."`

	CollectedBy int       `json:"collected_by" doc:"The run that fetched its late results; 0 when none did."`
	Executed    *Executed `json:"executed" doc:"What a command came to; null in any run but exec."`
	Begun       bool      `json:"begun" doc:"Whether its turn had come when it did not end."`
	AtWork      *AtWork   `json:"at_work" doc:"What it is at, of a run that goes on; null where that is not known."`

	Facts    *facts.Facts    `json:"-"` // as they were read; nil where they were not
	Groups   []string        `json:"-"` // that it is in, now that its facts are known
	Captured []plan.Captured `json:"-"` // what stands there, where that was asked for
	Skipped  bool            `json:"-"` // its facts say that it is not meant
	Wrong    error           `json:"-"` // why the project cannot be resolved for it, with places
	Began    time.Time       `json:"-"` // when its turn came, by the clock here
}

// Counts are how many tasks of a host ended in which way.
type Counts struct {
	Changed   int `json:"changed" doc:"How many tasks changed, or would in a preview."`
	Failed    int `json:"failed" doc:"How many failed."`
	Unchanged int `json:"unchanged" doc:"How many were as declared already."`
	LeftOut   int `json:"left_out" doc:"How many a condition left out."`
	Blocked   int `json:"blocked" doc:"How many were not done since something they need failed."`
}

// Task is what became of one task of a host.
type Task struct {
	Kind      string        `json:"kind" doc:"Its kind."`
	Name      string        `json:"name" doc:"Its name."`
	Status    plan.Status   `json:"status" doc:"changed, failed, unchanged, left out or blocked."`
	Manifest  string        `json:"manifest" doc:"The file that declares it."`
	Line      int           `json:"line" doc:"The line there."`
	Labels    []string      `json:"labels" doc:"The labels of its declaration."`
	Seconds   float64       `json:"seconds" doc:"How long it took."`
	After     float64       `json:"after" doc:"How many seconds after the run began it was begun, by the clock here."`
	Changes   []plan.Change `json:"changes" doc:"What differed."`
	Message   string        `json:"message" doc:"Why it failed or was left out."`
	Do        string        `json:"do" doc:"What to do about a failure."`
	Output    string        `json:"output" doc:"What a command that failed printed, its head and tail."`
	Tries     int           `json:"tries" doc:"How often it was tried."`
	Drift     plan.Drift    `json:"drift" doc:"What moved, in a preview: host, declaration, both or left."`
	Written   []plan.Change `json:"written" doc:"What differs from what was last written, of drift."`
	Since     string        `json:"since" doc:"When it was last written, of drift."`
	By        string        `json:"by" doc:"By whose run, of drift."`
	BlockedBy *Ref          `json:"blocked_by" doc:"What blocked it; null unless it is blocked."`

	ID     int    `json:"-"` // its place in the plan; -1 of what a condition left out
	Column int    `json:"-"` // of its declaration; 0 where that is not known any more
	Digest []byte `json:"-"` // stands for all that it declares, see plan.Result
	Again  bool   `json:"-"` // it was told of as changed, and has failed after all
}

// Ref is a declaration by its two words.
type Ref struct {
	Kind string `json:"kind" doc:"Its kind."`
	Name string `json:"name" doc:"Its name."`
}

// Leftover is what is managed on a host and no longer declared.
type Leftover struct {
	Kind    string        `json:"kind" doc:"Its kind."`
	Name    string        `json:"name" doc:"Its name."`
	Changes []plan.Change `json:"changes" doc:"What taking it away would do, of the first hundred."`
	Why     string        `json:"why" doc:"Why it cannot be taken away, or is not."`
	Stays   bool          `json:"stays" doc:"Whether it stays as it is and is not managed from now on."`
}

// Debt is something that is owed on a host.
type Debt struct {
	Kind   string `json:"kind" doc:"The kind of what is owed it."`
	Name   string `json:"name" doc:"Its name."`
	Action string `json:"action" doc:"restart, reload or follow: to be done at all."`
}

// Collected is what an earlier run did whose results had not arrived.
type Collected struct {
	Run   string `json:"run" doc:"The run that did it."`
	Tasks []Task `json:"tasks" doc:"What it did."`
}

// Executed is what a command came to on a host.
type Executed struct {
	Ended  bool   `json:"ended" doc:"Whether it came to an end."`
	Code   int    `json:"code" doc:"The code that it ended with."`
	Output string `json:"output" doc:"What it printed on both streams, its head and tail."`
	Wrong  string `json:"wrong" doc:"Why it did not come to an end."`

	Seconds float64 `json:"-"` // how long it took, by the clock of the host
}

// Well says whether the command came to an end, with 0.
func (e *Executed) Well() bool { return e.Code == 0 && e.Wrong == "" }

// AtWork is what a host is at that has not ended.
type AtWork struct {
	Kind    string    `json:"kind" doc:"The kind of the task; empty for a command."`
	Name    string    `json:"name" doc:"Its name."`
	Line    string    `json:"line" doc:"What its command printed last."`
	Try     int       `json:"try" doc:"Which try it is, from 2 on."`
	Seconds float64   `json:"seconds" doc:"How long it was at it when it told so."`
	Told    time.Time `json:"told" doc:"When that was."`
}

// NewTask makes a task from its result. The caller adds where it is declared and when it began.
func NewTask(r plan.Result) Task {
	out := Task{ID: r.ID, Kind: r.Ref.Kind, Name: r.Ref.Name, Status: r.Status,
		Seconds: Seconds(r.Took), Changes: r.Changes, Message: r.Message, Do: r.Do, Output: r.Output,
		Drift: r.Drift, Written: r.Written, By: r.By, Digest: r.Digest, Again: r.Again}
	if r.Since > 0 {
		out.Since = time.Unix(r.Since, 0).UTC().Format(time.RFC3339)
	}
	if out.Tries = max(1, r.Tries); r.Status == plan.LeftOut || r.Status == plan.Blocked {
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
func (l *Leftover) Ref() value.Ref { return value.Ref{Kind: l.Kind, Name: l.Name} }

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

// NewLeftovers gives what a host has told to be left over.
func NewLeftovers(list []plan.Leftover) []Leftover {
	out := make([]Leftover, len(list))
	for i, l := range list {
		out[i] = Leftover{l.Ref.Kind, l.Ref.Name, l.Changes, l.Why, l.Stays}
	}
	return out
}

// NewDebts gives what a host has told to be owed there.
func NewDebts(list []plan.Owed) []Debt {
	out := make([]Debt, len(list))
	for i, d := range list {
		out[i] = Debt{d.Service.Kind, d.Service.Name, d.Action}
	}
	return out
}

// Count tells how many tasks ended in a way.
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
		LeftOut: h.Count(plan.LeftOut), Blocked: h.Count(plan.Blocked)}
	h.Outcome = h.fared()
}

func (h *Host) fared() Outcome {
	told := 0
	for i := range h.Tasks {
		if h.Tasks[i].ID >= 0 {
			told++
		}
	}
	switch {
	case h.Wrong != nil:
		return OutWrong
	case h.State != Reached:
		return Outcome(h.State)
	case h.Failed+h.Blocked > 0 || h.Executed != nil && !h.Executed.Well():
		return OutFailed
	case h.Stopped && told < h.Planned:
		return OutStopped
	case h.Changed > 0:
		return OutChanged
	}
	return OutUnchanged
}

// Unwell says whether the host could not be gone through.
func (h *Host) Unwell() bool {
	return h.State != Reached && h.State != Off || h.Outcome == OutWrong
}

// Summary is one run in a list of many. The counts of hosts are by their outcome.
type Summary struct {
	Head
	Hosts        []string `json:"hosts" doc:"Its hosts, in the order of the inventory."`
	Unchanged    int      `json:"unchanged" doc:"How many hosts were as declared."`
	Changed      int      `json:"changed" doc:"How many hosts changed, or would in a preview."`
	Failed       int      `json:"failed" doc:"How many hosts failed, were busy, lost or not resolved."`
	NotReached   int      `json:"not_reached" doc:"How many were not reached."`
	NotBegun     int      `json:"not_begun" doc:"How many were not begun, or had not ended."`
	Off          int      `json:"off" doc:"How many are off."`
	TasksChanged int      `json:"tasks_changed" doc:"How many tasks changed, or would."`
	TasksFailed  int      `json:"tasks_failed" doc:"How many tasks failed."`
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
	case OutNotBegun, OutStopped, "":
		s.NotBegun++
	case OutOff:
		s.Off++
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

// sentence is the order in which a run is told in one sentence.
var sentence = []Outcome{OutFailed, OutWrong, OutLost, OutNotReached, OutBusy, OutChanged, OutUnchanged, OutStopped,
	OutNotBegun, OutOff}

// Sentence tells the run in one.
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
