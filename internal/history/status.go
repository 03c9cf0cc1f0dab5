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

// Condition is how a host is, by what its runs have told.
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
	IsOff      Condition = "off" // the inventory says that it is never contacted
)

// Conditions lists them, worst first.
var Conditions = []Condition{Failing, Unreached, Drifted, Outdated, Never, AsDeclared, IsOff}

// Stand is what became of a host in one run.
type Stand struct {
	record.Head
	State                    record.State
	Outcome                  record.Outcome
	At                       time.Time
	Message                  string // of the newest
	Changed, Failed, Blocked int
	Stopped                  bool // it ended before all was done, since the run was stopped
	Latest                   bool // of all that went through the whole plan: it has what follows
	Leftovers                []record.Leftover
	Debts                    []record.Debt
}

// says gives the condition that one run has told; empty where it tells nothing for sure,
// since it was about a part, and that was right.
func (s *Stand) says() Condition {
	switch {
	case s.State == record.NotReached:
		return Unreached
	case s.State == record.Busy || s.State == record.Off:
		return ""
	case s.State == record.Lost || s.Outcome == record.OutFailed || s.Outcome == record.OutWrong:
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
	// Condition is Outdated once the project says otherwise than what was applied.
	Condition Condition `json:"condition" doc:"failing, not reached, drifted, outdated, never run, as declared or off."`

	Since     time.Time         `json:"since" doc:"When it was first found so; zero where that is not known."`
	SinceRun  int               `json:"since_run" doc:"The run that found it so first."`
	Run       int               `json:"run" doc:"The run that found it so last."`
	Why       string            `json:"why" doc:"In one sentence, why it needs a person; empty when it does not."`
	Reached   time.Time         `json:"reached" doc:"When it was last reached by a run; zero for never."`
	Applied   time.Time         `json:"applied" doc:"When it was last applied to; zero for never."`
	AppliedBy int               `json:"applied_by" doc:"By which run."`
	Revision  string            `json:"revision" doc:"The revision of the project it applied; empty outside git."`
	Edited    bool              `json:"edited" doc:"Whether its files were changed since that commit."`
	Who       string            `json:"who" doc:"Whose run that was."`
	Mended    int               `json:"mended" doc:"How often its last 200 runs changed what was already applied."`
	MendedAt  time.Time         `json:"mended_at" doc:"When that was last; zero for never."`
	Leftovers []record.Leftover `json:"leftovers" doc:"What is managed there and no longer declared."`
	Debts     []record.Debt     `json:"debts" doc:"Restarts and the like that are owed there."`
	Facts     map[string]any    `json:"facts" doc:"The facts that the settings choose."`
}

// StatusOf tells how a host is, by its runs, newest first. moved gives the tasks of a run on
// it that changed or failed.
func StatusOf(host string, stands []Stand, moved func(n int) ([]record.Task, error)) (HostStatus, error) {
	out := HostStatus{Host: host, Condition: Never, Why: "no run has gone through it yet",
		Leftovers: []record.Leftover{},
		Debts:     []record.Debt{}, Facts: map[string]any{}}
	out.dates(stands)
	i := slices.IndexFunc(stands, func(s Stand) bool { return s.says() != "" })
	if i < 0 {
		return out, nil
	}
	newest := &stands[i]
	if newest.says() == Drifted && newest.Mode != record.ModeUndo {
		newest = failedBefore(stands[i:])
	}
	out.Condition, out.Run, out.Why = newest.says(), newest.Number, ""
	for _, s := range stands[i:] {
		says := s.says()
		if newest != &stands[i] && says == Drifted {
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
func failedBefore(stands []Stand) *Stand {
	i := slices.IndexFunc(stands, func(s Stand) bool {
		return (s.Mode == record.ModeApply || s.Mode == record.ModeUndo) &&
			s.says() != ""
	})
	if i >= 0 && stands[i].says() == Failing {
		return &stands[i]
	}
	return &stands[0]
}

// dates fills in when the host was reached and applied to, and what the newest run over its
// whole plan has told.
func (h *HostStatus) dates(stands []Stand) {
	for i, s := range stands {
		if s.mends(stands[i+1:]) {
			if h.Mended++; h.MendedAt.IsZero() {
				h.MendedAt = s.At
			}
		}
		if s.State == record.Reached && h.Reached.IsZero() {
			h.Reached = s.At
		}
		if s.State == record.Reached && s.Mode == record.ModeApply && h.Applied.IsZero() {
			h.Applied, h.AppliedBy, h.Revision, h.Edited, h.Who = s.At, s.Number, s.Revision, s.Edited, s.Who
		}
		if s.Latest {
			h.Debts = append(h.Debts, s.Debts...)
			for _, l := range s.Leftovers {
				if !l.Stays {
					h.Leftovers = append(h.Leftovers, l)
				}
			}
		}
	}
}

// whole says whether it is an apply of all that a revision declares.
func (s *Stand) whole() bool {
	return s.Mode == record.ModeApply && s.State == record.Reached && s.Whole && s.Declared &&
		s.Revision != "" && !s.Edited
}

// mends says whether an apply put something right that had been so before: the one before it was
// of the same revision, and had nothing left to do.
func (s *Stand) mends(before []Stand) bool {
	if !s.whole() || s.Changed == 0 {
		return false
	}
	i := slices.IndexFunc(before, func(b Stand) bool { return b.Mode == record.ModeApply && b.State == record.Reached })
	return i >= 0 && before[i].whole() && before[i].Revision == s.Revision &&
		before[i].Failed+before[i].Blocked == 0 && !before[i].Stopped
}

// sentence tells why a host needs a person; empty when it does not.
func (h *HostStatus) sentence(s *Stand, tasks []record.Task) string {
	switch h.Condition {
	case Failing:
		for _, t := range tasks {
			if t.Status == plan.Failed {
				return fmt.Sprintf("%s %s fails: %s", t.Kind, t.Name, firstLine(t.Message))
			}
		}
		if s.Outcome == record.OutStopped {
			return fmt.Sprintf("run %d was stopped before all of its tasks were done", s.Number)
		}
		return cmp.Or(firstLine(s.Message), string(s.Outcome))
	case Unreached:
		return cmp.Or(firstLine(s.Message), "it was not reached")
	case Drifted, Outdated:
		if s.Mode == record.ModeUndo {
			return fmt.Sprintf("run %d put back what run %d had changed", s.Number, s.Undoes)
		}
		return differing(tasks)
	}
	if len(h.Debts) > 0 {
		return fmt.Sprintf("a %s of %s %s is owed", h.Debts[0].Action, h.Debts[0].Kind, h.Debts[0].Name)
	}
	return ""
}

// differing tells what of a host differs.
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
		how = "was changed on the host"
	case plan.ByDeclaration:
		how = "is declared anew"
	case plan.ByLeaving:
		how = "is no longer declared"
	}
	text := fmt.Sprintf("%s %s %s", first.Kind, first.Name, how)
	if n > 1 {
		text += fmt.Sprintf(", and %d more", n-1)
	}
	return text
}

// Urgency orders hosts: who needs a person first stands first. Of hosts in one condition
// those that are in it for longer do.
func Urgency(a, b HostStatus) int {
	return cmp.Or(cmp.Compare(slices.Index(Conditions, a.Condition), slices.Index(Conditions, b.Condition)),
		cmp.Compare(min(1, len(b.Debts)), min(1, len(a.Debts))), a.Since.Compare(b.Since))
}

// firstLine gives the first line of a text.
func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}
