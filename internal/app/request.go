package app

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/fleet/run"
)

// The codes that a run, and so the program, ends with.
const (
	CodeDone    = 0
	CodeFailed  = 1   // a task failed or was blocked, or a host was not reached, busy or lost
	CodeWrong   = 2   // the project or the call is wrong
	CodeChanges = 3   // something differs, and --fail-if-changes was given
	CodeStopped = 130 // stopped from the keyboard
)

// Part is a part of the tasks; the zero one is all of them.
type Part = resolve.Selection

// Request is something to be done on hosts.
type Request struct {
	Mode    string // record.ModeApply, ModeVerify, ModeDrift, ModeUndo, ModeRetire or ModeExec
	Preview bool   // it changes nothing, and says what would change
	Scope
	Pace
	Verdict
	Touch
	Undo   *record.Run  // the run that is put back
	Exec   *Exec        // the command that is run
	Agreed run.Foreseen // what somebody has agreed to: a host that would do anything else is not started
	Digest bool         // a preview is to be agreed to
	Before bool         // it is the preview that something begins with, of which nobody is notified
	Notes  []string     // KEY=VALUE
	Job    *Job         // the job that it is of; nil for none

	Passwords Passwords
}

// Scope is what a request is about.
type Scope struct {
	Targets, Except []string
	Only            []string // of these hosts, by name; nil for all of them
	Part            Part
}

// Pace is how a request goes over many hosts.
type Pace struct {
	Parallel int // hosts at once; 0 for as many as the settings say
	Rollout  Rollout
}

// Rollout is how a call says that a run goes over many hosts bit by bit. What is empty, the settings say.
type Rollout struct {
	First     string // hosts that go alone before all others: targets, or a number
	Batch     string // N, or P%
	Pause     string // a length of time, or settings.ByKey
	StopAfter string // N, or P%
}

// Verdict is what a call counts as a failure.
type Verdict struct {
	Strict  bool // differences end with CodeChanges
	Lenient bool // hosts that are not reached are none
	Unseen  bool // hosts are skipped that could not be looked at, which is one
}

// Touch is what a request may do besides what is declared.
type Touch struct {
	Take       bool // take away what nothing declares any more
	Forget     bool // let go of it, as it is
	Adopt      bool // take over what another project manages
	ShowClosed bool // show old text that only its owner may read
}

// Exec is one command.
type Exec struct {
	Words   []string // the program and its words
	Limit   time.Duration
	AsLogin bool // as the account that logs in, and not as root
}

// Job is a job that was started, with the answers that it was given.
type Job struct {
	*job.Job
	Input map[string]any    // what expressions see
	Shown map[string]string // the answers without secrets
}

// maxParallel bounds how many hosts are gone through at once.
const maxParallel = 10000

// Check says what is wrong with a request, as far as that shows without its project.
func (q *Request) Check() error {
	if q.Parallel < 0 || q.Parallel > maxParallel {
		return problem.Errorf("invalid --parallel %d", q.Parallel).
			Remedy("use a number from 1 to %d", maxParallel)
	}
	if q.Take && q.Forget {
		return problem.Errorf("--remove-undeclared and --forget-undeclared cannot be combined").
			Remedy("use only one of them")
	}
	if (q.Take || q.Forget) && !q.Part.All() {
		return problem.Errorf("undeclared resources are not known in a partial run").
			Remedy("remove --task, --label, --manifest and --skip")
	}
	if q.Exec != nil && q.Exec.Limit <= 0 {
		return problem.Errorf("invalid --timeout %v", q.Exec.Limit).Remedy("use a duration, such as 10m")
	}
	if _, err := ReadNotes(q.Notes); err != nil {
		return err
	}
	_, err := q.Rollout.over(settings.Rollout{})
	return err
}

// recorded is the mode by which the history knows the request.
func (q *Request) recorded() string {
	if q.Preview && q.Mode != record.ModeDrift {
		return record.ModePreview
	}
	return q.Mode
}

// looks says whether it changes nothing.
func (q *Request) looks() bool { return q.Preview || q.Mode == record.ModeDrift }

// declared says whether it is about what is declared now.
func (q *Request) declared() bool {
	return q.Mode != record.ModeRetire && q.Mode != record.ModeUndo && q.Mode != record.ModeExec
}

// rollsOut says whether it goes over hosts in batches.
func (q *Request) rollsOut() bool {
	return !q.looks() && q.Mode != record.ModeVerify && q.Mode != record.ModeExec
}

// over lays what the call says over what the settings do.
func (r Rollout) over(s settings.Rollout) (settings.Rollout, error) {
	out := s
	wrong := func(flag string, err error) error { return fmt.Errorf("--%s: %w", flag, err) }
	var err error
	if r.First != "" {
		out.First = r.First
	}
	if r.Batch != "" {
		if out.Batch, err = settings.ParseAmount(r.Batch); err != nil {
			return out, wrong("batch", err)
		}
	}
	if r.StopAfter != "" {
		if out.StopAfter, err = settings.ParseAmount(r.StopAfter); err != nil {
			return out, wrong("stop-after", err)
		}
	}
	if r.Pause != "" {
		if _, err = settings.ParsePause(r.Pause); err != nil {
			return out, wrong("pause", err)
		}
		out.Pause = r.Pause
	}
	return out, nil
}

// Question is how one asks whether to do what a request says.
func (q *Request) Question() string {
	if q.Undo != nil {
		return fmt.Sprintf("Undo run %d on", q.Undo.Number)
	}
	what := "Apply to"
	if q.Take {
		what = "Remove undeclared resources and apply to"
	}
	if q.Adopt {
		what = "Take over resources of other projects and " + strings.ToLower(what[:1]) + what[1:]
	}
	return what
}

// Looks gives the preview of a request that somebody is asked about.
func (q Request) Looks() Request {
	q.Preview, q.Digest, q.Before = true, true, true
	return q
}

// After gives a request that does just what a preview of it has shown. left is how many hosts could not be looked at,
// and are skipped; none is left where no host was, and changes says whether there is anything to do.
func (q Request) After(look *record.Run) (then Request, left int, changes bool) {
	q.Agreed = run.Foresee(look.Hosts)
	q.Only = []string{}
	for _, h := range look.Hosts {
		if _, ok := q.Agreed[h.Name]; !ok {
			continue
		}
		q.Only = append(q.Only, h.Name)
		changes = changes || h.Changed+h.Failed > 0 || q.Adopt || q.Forget
	}
	left = len(look.Hosts) - len(q.Only)
	if left > 0 && look.Code == CodeFailed && !q.Lenient {
		q.Unseen = true
	}
	return q, left, changes
}

// code is the exit status for the outcome of a request.
func (q *Request) code(stopped bool, hosts []*record.Host) int {
	if q.Exec != nil {
		return q.executed(stopped, hosts)
	}
	return q.verdict(stopped, hosts)
}

// verdict gives the code of a run over tasks: 2 before 1 before 3, and 130 before all.
func (v Verdict) verdict(stopped bool, hosts []*record.Host) int {
	code := CodeDone
	for _, h := range hosts {
		switch h.Outcome {
		case record.OutWrong:
			return CodeWrong
		case record.OutNotReached:
			if !v.Lenient {
				code = CodeFailed
			}
		case record.OutRefused, record.OutLost, record.OutBusy, record.OutFailed, record.OutStopped,
			record.OutNotStarted:
			code = CodeFailed
		}
		if v.Strict && code == CodeDone && h.Changed > 0 {
			code = CodeChanges
		}
	}
	switch {
	case stopped:
		return CodeStopped
	case v.Unseen && code == CodeDone:
		return CodeFailed
	}
	return code
}

// executed is verdict for a command.
func (v Verdict) executed(stopped bool, hosts []*record.Host) int {
	if stopped {
		return CodeStopped
	}
	if slices.ContainsFunc(hosts, func(h *record.Host) bool {
		dead := h.State == record.NotReached && v.Lenient
		return h.State != record.Disabled && !dead && (h.Executed == nil || !h.Executed.Well())
	}) {
		return CodeFailed
	}
	return CodeDone
}
