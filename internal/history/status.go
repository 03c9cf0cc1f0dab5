package history

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// Condition is how a host is, by what its runs have reported.
type Condition string

// The conditions, worst first.
const (
	// a task failed, or it could not be gone through, and nothing has put that right
	Failing    Condition = "failing"
	Unreached  Condition = "not reached" // it was not reached the last time
	Drifted    Condition = "drifted"     // something on it is not as it was last written
	Outdated   Condition = "outdated"    // it is as last written, and declared otherwise by now
	Never      Condition = "never run"   // no run has gone through it
	AsDeclared Condition = "as declared"
	IsDisabled Condition = "disabled" // the inventory says that it is never contacted
)

// Conditions lists them, worst first.
var Conditions = []Condition{Failing, Unreached, Drifted, Outdated, Never, AsDeclared, IsDisabled}

// HostRun is what became of a host in one run.
type HostRun struct {
	*record.Head
	State                    record.State
	Outcome                  record.Outcome
	At                       time.Time
	Message                  string // of the newest
	Changed, Failed, Blocked int
	Stopped                  bool // it ended before all was done, since the run was stopped
	Latest                   bool // of all that went through the whole plan: it has what follows
	Undeclared               []record.Undeclared
	Pending                  []record.Pending
}

// says gives the condition that one run has reported; empty where it says nothing for sure,
// since it was about a part, and that was right.
func (s *HostRun) says() Condition {
	switch {
	case s.State == record.NotReached:
		return Unreached
	case s.State == record.Busy || s.State == record.Disabled:
		return ""
	case s.State == record.Lost || s.State == record.Refused || s.Outcome == record.OutFailed ||
		s.Outcome == record.OutWrong:
		return Failing
	case s.Outcome == record.OutStopped && (s.Mode == record.ModeApply || s.Mode == record.ModeUndo):
		return Failing
	case s.Mode == record.ModeUndo && s.Changed > 0:
		return Drifted
	case !s.Declared:
		return ""
	case s.Changed > 0 && (s.Mode == record.ModePreview || s.Mode == record.ModeDrift):
		return Drifted
	case !s.Whole, s.Stopped, s.Mode == record.ModeVerify:
		return ""
	}
	return AsDeclared
}

// HostStatus is how a host is, and since when.
type HostStatus struct {
	Host string `json:"host" doc:"The host."`
	// Condition is Outdated once the project differs from what was applied.
	Condition Condition `json:"condition" doc:"Its state: failing, not reached, drifted, outdated, never run, ..."`

	Since       time.Time           `json:"since,omitzero" doc:"When this was first found; omitted if unknown."`
	SinceRun    int                 `json:"since_run" doc:"The run that first found this."`
	Run         int                 `json:"run" doc:"The run that last found this."`
	Why         string              `json:"why" doc:"Why it needs attention, in one sentence; empty if it does not."`
	Reached     time.Time           `json:"reached,omitzero" doc:"When a run last reached it; omitted if never."`
	Applied     time.Time           `json:"applied,omitzero" doc:"When it was last applied to; omitted if never."`
	AppliedBy   int                 `json:"applied_by" doc:"The run that did that."`
	Revision    string              `json:"revision" doc:"The project revision that was applied; empty outside git."`
	Edited      bool                `json:"edited" doc:"Whether files were modified since that commit."`
	Who         string              `json:"who" doc:"Who started that run."`
	Corrected   int                 `json:"corrected" doc:"How often its last 200 runs corrected drift."`
	CorrectedAt time.Time           `json:"corrected_at,omitzero" doc:"When that last happened; omitted if never."`
	Undeclared  []record.Undeclared `json:"undeclared" doc:"Resources that are managed there but no longer declared."`
	Pending     []record.Pending    `json:"pending" doc:"Restarts and similar actions that are pending there."`
	Facts       map[string]any      `json:"facts" doc:"The facts selected in the settings."`
}

// StatusOf reports how a host is, by its runs, newest first. moved gives the tasks of a run on
// it that changed or failed.
func StatusOf(host string, runs []HostRun, moved func(n int) ([]record.Task, error)) (HostStatus, error) {
	out := HostStatus{Host: host, Condition: Never, Why: "no run has included it yet",
		Undeclared: []record.Undeclared{},
		Pending:    []record.Pending{}, Facts: map[string]any{}}
	out.dates(runs)
	i := slices.IndexFunc(runs, func(s HostRun) bool { return s.says() != "" })
	if i < 0 {
		return out, nil
	}
	newest := &runs[i]
	if newest.says() == Drifted && newest.Mode != record.ModeUndo {
		newest = failedBefore(runs[i:])
	}
	out.Condition, out.Run, out.Why = newest.says(), newest.Number, ""
	for _, s := range runs[i:] {
		says := s.says()
		if newest != &runs[i] && says == Drifted {
			continue // in which that shows
		}
		if says == out.Condition {
			out.Since, out.SinceRun = s.At, s.Number
		} else if says != "" {
			break
		}
	}
	if out.Condition == AsDeclared || out.Condition == Unreached {
		out.Why = out.sentence(newest, nil)
		return out, nil
	}
	tasks, err := moved(newest.Number)
	if err != nil {
		return out, err
	}
	if out.Condition == Drifted && newest.Mode != record.ModeUndo &&
		!slices.ContainsFunc(tasks, func(t record.Task) bool {
			return t.Drift == plan.ByHost || t.Drift == plan.ByBoth
		}) && slices.ContainsFunc(tasks, func(t record.Task) bool {
		return t.Drift == plan.ByDeclaration || t.Drift == plan.ByLeaving
	}) {
		out.Condition = Outdated
	}
	out.Why = out.sentence(newest, tasks)
	return out, nil
}

// failedBefore gives the last apply where that failed, or was lost: a preview that came after it
// only shows what was not done. Else it gives the newest run.
func failedBefore(runs []HostRun) *HostRun {
	i := slices.IndexFunc(runs, func(s HostRun) bool {
		return (s.Mode == record.ModeApply || s.Mode == record.ModeUndo) &&
			s.says() != ""
	})
	if i >= 0 && runs[i].says() == Failing {
		return &runs[i]
	}
	return &runs[0]
}

// dates fills in when the host was reached and applied to, and what the newest run over its
// whole plan has reported.
func (h *HostStatus) dates(runs []HostRun) {
	for i, s := range runs {
		if s.corrects(runs[i+1:]) {
			if h.Corrected++; h.CorrectedAt.IsZero() {
				h.CorrectedAt = s.At
			}
		}
		if s.State == record.Reached && h.Reached.IsZero() {
			h.Reached = s.At
		}
		if s.State == record.Reached && s.Mode == record.ModeApply && h.Applied.IsZero() {
			h.Applied, h.AppliedBy, h.Revision, h.Edited, h.Who = s.At, s.Number, s.Revision, s.Edited, s.Who
		}
		if s.Latest {
			h.Pending = append(h.Pending, s.Pending...)
			for _, l := range s.Undeclared {
				if !l.Stays {
					h.Undeclared = append(h.Undeclared, l)
				}
			}
		}
	}
}

// whole says whether it is an apply of all that a revision declares.
func (s *HostRun) whole() bool {
	return s.Mode == record.ModeApply && s.State == record.Reached && s.Whole && s.Declared &&
		s.Revision != "" && !s.Edited
}

// corrects says whether an apply put something right that had been so before: the one before it was
// of the same revision, and had nothing left to do.
func (s *HostRun) corrects(before []HostRun) bool {
	if !s.whole() || s.Changed == 0 {
		return false
	}
	i := slices.IndexFunc(before, func(b HostRun) bool {
		return b.Mode == record.ModeApply &&
			b.State == record.Reached
	})
	return i >= 0 && before[i].whole() && before[i].Revision == s.Revision &&
		before[i].Failed+before[i].Blocked == 0 && !before[i].Stopped
}

// sentence says why a host needs a person; empty when it does not.
func (h *HostStatus) sentence(s *HostRun, tasks []record.Task) string {
	switch h.Condition {
	case Failing:
		for _, t := range tasks {
			if t.Status == plan.Failed {
				return fmt.Sprintf("%s %s failed: %s", t.Kind, t.Name, firstLine(t.Message))
			}
		}
		if s.Outcome == record.OutStopped {
			return fmt.Sprintf("run %d was stopped before all its tasks were done", s.Number)
		}
		return cmp.Or(firstLine(s.Message), string(s.Outcome))
	case Unreached:
		return cmp.Or(firstLine(s.Message), "it was not reached")
	case Drifted, Outdated:
		if s.Mode == record.ModeUndo {
			return fmt.Sprintf("run %d reverted the changes of run %d", s.Number, s.Undoes)
		}
		return differing(tasks)
	}
	if len(h.Pending) > 0 {
		return fmt.Sprintf("a %s of %s %s is pending", h.Pending[0].Action, h.Pending[0].Kind, h.Pending[0].Name)
	}
	return ""
}

// differing lists what of a host differs.
func differing(tasks []record.Task) string {
	var first *record.Task
	n := 0
	for i, t := range tasks {
		if t.Status != plan.Changed {
			continue
		}
		if n++; first == nil || first.Drift == plan.ByDeclaration && t.Drift != plan.ByDeclaration &&
			t.Drift != plan.ByLeaving {
			first = &tasks[i]
		}
	}
	if first == nil {
		return "something differs"
	}
	how := "differs"
	switch first.Drift {
	case plan.ByHost, plan.ByBoth:
		how = "was modified on the host"
	case plan.ByDeclaration:
		how = "has a changed declaration"
	case plan.ByLeaving:
		how = "is no longer declared"
	}
	text := fmt.Sprintf("%s %s %s", first.Kind, first.Name, how)
	if n > 1 {
		text += fmt.Sprintf(", and %d more", n-1)
	}
	return text
}

// Urgency orders hosts: who needs a person first is first. Of hosts in one condition
// those that are in it for longer do.
func Urgency(a, b HostStatus) int {
	return cmp.Or(cmp.Compare(slices.Index(Conditions, a.Condition), slices.Index(Conditions, b.Condition)),
		cmp.Compare(min(1, len(b.Pending)), min(1, len(a.Pending))), a.Since.Compare(b.Since))
}

// firstLine gives the first line of a text.
func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}
