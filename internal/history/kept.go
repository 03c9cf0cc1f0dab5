package history

import (
	"errors"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
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

// State is whether a kept run has come to its end.
type State string

// The states.
const (
	Running     State = "running"
	Ended       State = "ended"
	Interrupted State = "interrupted" // its controller was killed, or could not keep its end
	Elsewhere   State = "elsewhere"   // of another machine; known by what a host had kept back of it
)

// Head is what is kept of a run besides what became of its hosts.
type Head struct {
	Number   int               `json:"number" doc:"Its number in this project."`
	Run      string            `json:"run" doc:"The run, a UUIDv7."`
	Mode     string            `json:"mode" doc:"preview, apply, verify, drift, exec, retire, undo, or prune: runs that were let go."`
	State    State             `json:"state" doc:"running, ended, interrupted, or elsewhere: run from another machine."`
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
	Source   string            `json:"source" doc:"The git repository that the project was taken from; empty for a folder of one's own."`
	Revision string            `json:"revision" doc:"The commit that the project was at; empty outside of git."`
	Edited   bool              `json:"edited" doc:"Whether its files were changed since that commit."`
	Whole    bool              `json:"whole" doc:"Whether it was about all tasks of its hosts."`
	Declared bool              `json:"declared" doc:"Whether it was about what is declared, and not about a command, or what to put back or take away."`
	Undoes   int               `json:"undoes" doc:"The run that it puts back; 0 in any other."`
	Notes    map[string]string `json:"notes" doc:"What was noted on it."`

	Part resolve.Selection `json:"part" doc:"The part of the tasks that it was about."`
}

// Brief is one run in a list of many. The counts of hosts are by their outcome.
type Brief struct {
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
func (b *Brief) Count(outcome run.Outcome, changed, failed int) {
	b.TasksChanged, b.TasksFailed = b.TasksChanged+changed, b.TasksFailed+failed
	switch outcome {
	case run.OutUnchanged:
		b.Unchanged++
	case run.OutChanged:
		b.Changed++
	case run.OutNotReached:
		b.NotReached++
	case run.OutNotBegun, run.OutStopped, "":
		b.NotBegun++
	case run.OutOff:
		b.Off++
	default:
		b.Failed++
	}
}

// Executed is what a command came to on one host.
type Executed struct {
	Ended  bool   `json:"ended" doc:"Whether it came to an end."`
	Code   int    `json:"code" doc:"The code that it ended with."`
	Output string `json:"output" doc:"What it printed on both streams, its head and tail."`
	Wrong  string `json:"wrong" doc:"Why it did not come to an end."`
}

// ExecutedOf gives what a command came to; nil where none came to an end.
func ExecutedOf(e *run.Executed) *Executed {
	if e == nil {
		return nil
	}
	return &Executed{Ended: e.Wrong == "", Code: e.Code, Output: e.Output, Wrong: e.Wrong}
}

// Kept is one run as it is kept.
type Kept struct {
	Head
	Hosts []KeptHost `json:"hosts" doc:"Its hosts, in the order of the inventory."`
}

// KeptOf makes what would be kept of a run, for what is told of it when it ends.
func KeptOf(h Head, hosts []*run.Visit) *Kept {
	k := &Kept{Head: h, Hosts: []KeptHost{}}
	for _, v := range hosts {
		k.Hosts = append(k.Hosts, KeptHostOf(v, h.Started))
	}
	return k
}

// KeptHostOf makes what is kept of a host, in a run that began at a time.
func KeptHostOf(v *run.Visit, started time.Time) KeptHost {
	out := KeptHost{Host: HostOf(v, started), Executed: ExecutedOf(v.Executed)}
	if e := out.Executed; e != nil && (e.Code != 0 || !e.Ended) {
		out.Outcome = run.OutFailed
	}
	return out
}

// Brief gives the run as one in a list.
func (k *Kept) Brief() Brief {
	b := Brief{Head: k.Head, Hosts: []string{}}
	for _, h := range k.Hosts {
		b.Hosts = append(b.Hosts, h.Name)
		b.Count(h.Outcome, h.Changed, h.Failed)
	}
	return b
}

// KeptHost is one host of a kept run.
type KeptHost struct {
	Host
	CollectedBy int       `json:"collected_by" doc:"The run that brought results which had not arrived; 0 when none had to."`
	Executed    *Executed `json:"executed" doc:"What a command came to; null in any run but exec."`
	Begun       bool      `json:"begun" doc:"Whether its turn had come when it did not end."`
	AtWork      *AtWork   `json:"at_work" doc:"What it is at, of a run that goes on; null where that is not known."`
}

// AtWork tells what a host is at that has not ended.
type AtWork struct {
	Kind    string    `json:"kind" doc:"The kind of the task; empty for a command."`
	Name    string    `json:"name" doc:"Its name."`
	Line    string    `json:"line" doc:"What its command printed last."`
	Try     int       `json:"try" doc:"Which try it is, from 2 on."`
	Seconds float64   `json:"seconds" doc:"How long it was at it when it told so."`
	Told    time.Time `json:"told" doc:"When that was."`
}

// Visits gives the hosts of the run in the form in which a run that goes tells them.
func (k *Kept) Visits() []*run.Visit {
	out := make([]*run.Visit, len(k.Hosts))
	for i := range k.Hosts {
		out[i] = k.Hosts[i].Visit(k.Started)
	}
	return out
}

// Visit gives a host in the form in which a run that goes tells it.
func (h *KeptHost) Visit(started time.Time) *run.Visit {
	v := &run.Visit{Name: h.Name, State: h.State, Message: h.Message, Do: h.Do, Planned: h.Planned, Stopped: h.Stopped,
		Took: length(h.Seconds), Began: started.Add(length(h.After))}
	if h.Outcome == run.OutWrong {
		v.Wrong = errors.New(h.Message)
		v.Message = ""
	}
	for _, t := range h.Tasks {
		v.Tasks = append(v.Tasks, t.Back(started))
	}
	for _, l := range h.Leftovers {
		v.Leftovers = append(v.Leftovers, plan.Leftover{Ref: value.Ref{Kind: l.Kind, Name: l.Name}, Changes: Back(l.Changes), Why: l.Why, Stays: l.Stays})
	}
	for _, r := range h.Needed {
		v.Needed = append(v.Needed, value.Ref{Kind: r.Kind, Name: r.Name})
	}
	for _, c := range h.Collected {
		one := run.Collected{Run: c.Run}
		for _, t := range c.Tasks {
			one.Results = append(one.Results, t.Back(started).Result)
		}
		v.Collected = append(v.Collected, one)
	}
	if e := h.Executed; e != nil {
		v.Executed = &run.Executed{Code: e.Code, Output: e.Output, Wrong: e.Wrong, Took: length(h.Seconds)}
	}
	return v
}

// Back gives a task in the form in which a run that goes tells it.
func (t *Task) Back(started time.Time) run.Task {
	out := run.Task{Place: value.Place{File: t.Manifest, Line: t.Line}, Began: started.Add(length(t.After))}
	out.Ref, out.Status, out.Took = value.Ref{Kind: t.Kind, Name: t.Name}, t.Status, length(t.Seconds)
	out.Changes, out.Written = Back(t.Changes), Back(t.Written)
	out.Do, out.Output, out.Drift, out.By, out.Message = t.Do, t.Output, t.Drift, t.By, t.Message
	if t.Tries > 1 {
		out.Tries = t.Tries
	}
	if t.Status == plan.LeftOut {
		out.Reason, out.Message = t.Message, ""
	}
	if t.BlockedBy != nil {
		out.BlockedBy = value.Ref{Kind: t.BlockedBy.Kind, Name: t.BlockedBy.Name}
	}
	if at, err := time.Parse(time.RFC3339, t.Since); err == nil {
		out.Since = at.Unix()
	}
	return out
}

// Back gives differences as a run that goes has them.
func Back(list []Change) []plan.Change {
	out := make([]plan.Change, len(list))
	for i, c := range list {
		out[i] = plan.Change{What: c.What, Was: c.Was, Becomes: c.Becomes, Diff: c.Diff, Closed: c.Closed}
	}
	return out
}

func length(seconds float64) time.Duration {
	return time.Duration(seconds*1000+0.5) * time.Millisecond
}
