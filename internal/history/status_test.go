package history

import (
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// TestStatusOf reports how a host is by what its runs came to, newest first.
func TestStatusOf(t *testing.T) {
	at := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	n := 0
	hostRun := func(mode string, o record.Outcome, more func(*HostRun)) HostRun {
		n++
		s := HostRun{Head: &record.Head{Number: 100 - n, Mode: mode, Whole: true, Declared: true, Who: "maren"},
			State: record.Reached, Outcome: o,
			At: at.Add(-time.Duration(n) * time.Hour)}
		switch o {
		case record.OutChanged:
			s.Changed = 1
		case record.OutNotReached, record.OutLost, record.OutBusy:
			s.State = record.State(o)
		}
		if more != nil {
			more(&s)
		}
		return s
	}
	part := func(s *HostRun) { s.Whole = false }
	stopped := func(s *HostRun) { s.Stopped = true }
	for name, c := range map[string]struct {
		runs  []HostRun
		tasks []record.Task
		want  Condition
		since int // for how many of the runs it has been so
		why   string
	}{
		"never run": {nil, nil, Never, 0, "no run has included it yet"},
		"an apply": {[]HostRun{hostRun("apply", record.OutChanged, nil), hostRun("preview", record.OutUnchanged, nil),
			hostRun("apply", record.OutFailed, nil)},
			nil, AsDeclared, 2, ""},
		"a failure that goes on": {[]HostRun{hostRun("apply", record.OutFailed, nil),
			hostRun("verify", record.OutUnchanged, nil), hostRun("apply", record.OutLost, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/motd", Status: plan.Failed, Message: "under water\nand more"}},
			Failing, 3, "file /etc/motd failed: under water"},
		"a part that is well puts nothing right": {[]HostRun{hostRun("apply", record.OutUnchanged, part),
			hostRun("apply", record.OutFailed, nil)}, nil, Failing, 2, "failed"},
		"a part that fails": {[]HostRun{hostRun("apply", record.OutFailed, part),
			hostRun("apply", record.OutUnchanged, nil)}, nil, Failing, 1, "failed"},
		"one that was stopped": {[]HostRun{hostRun("apply", record.OutChanged, stopped),
			hostRun("preview", record.OutChanged, nil)}, nil, Drifted, 2, "something differs"},
		"not reached": {[]HostRun{hostRun("apply", record.OutNotReached, func(s *HostRun) { s.Message = "no route" }),
			hostRun("preview", record.OutNotReached, nil),
			hostRun("apply", record.OutChanged, nil)}, nil, Unreached, 2, "no route"},
		"busy shows nothing": {[]HostRun{hostRun("apply", record.OutBusy, nil),
			hostRun("apply", record.OutUnchanged, nil)}, nil, AsDeclared, 2, ""},
		"drift": {[]HostRun{hostRun("preview", record.OutChanged, nil), hostRun("apply", record.OutUnchanged, nil)},
			[]record.Task{
				{Kind: "file", Name: "/etc/hosts", Status: plan.Changed, Drift: plan.ByDeclaration},
				{Kind: "file", Name: "/etc/motd", Status: plan.Changed, Drift: plan.ByHost}}, Drifted, 1,
			"file /etc/motd was modified on the host, and 1 more"},
		"declaration changed": {[]HostRun{hostRun("drift", record.OutChanged, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/hosts", Status: plan.Changed,
				Drift: plan.ByDeclaration}}, Outdated, 1, "file /etc/hosts has a changed declaration"},
		"what left": {[]HostRun{hostRun("preview", record.OutChanged, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/hosts",
				Status: plan.Changed,
				Drift:  plan.ByLeaving}}, Outdated, 1, "file /etc/hosts is no longer declared"},
		"a look after a failure": {[]HostRun{hostRun("preview", record.OutChanged, nil),
			hostRun("drift", record.OutChanged, nil),
			hostRun("apply", record.OutFailed, nil), hostRun("apply", record.OutUnchanged, nil)}, nil, Failing,
			3, "failed"},
		"a look after a failure that is over": {[]HostRun{hostRun("preview", record.OutChanged, nil), hostRun("apply",
			record.OutUnchanged, nil),
			hostRun("apply", record.OutFailed, nil)}, nil, Drifted, 1, "something differs"},
		"a look at what an undo would do": {[]HostRun{hostRun("preview", record.OutChanged,
			func(s *HostRun) { s.Undoes, s.Declared = 7, false }),
			hostRun("apply", record.OutUnchanged, nil)}, nil, AsDeclared, 2, ""},
		"undone": {[]HostRun{hostRun("undo", record.OutChanged, func(s *HostRun) { s.Undoes = 7 })}, nil,
			Drifted, 1, ""},
		"owing": {[]HostRun{hostRun("apply", record.OutChanged, func(s *HostRun) {
			s.Latest, s.Pending = true, []record.Pending{{Kind: "service", Name: "tide-logger", Action: "restart"}}
		})}, nil, AsDeclared, 1, "a restart of service tide-logger is pending"},
	} {
		got, err := StatusOf("gauge-01", c.runs, func(int) ([]record.Task, error) { return c.tasks, nil })
		if err != nil || got.Condition != c.want || c.why != "" && got.Why != c.why || c.why == "" &&
			c.want == AsDeclared && got.Why != "" {
			t.Errorf("%s: %s, %q (%v)", name, got.Condition, got.Why, err)
		}
		if c.since > 0 && got.SinceRun != c.runs[c.since-1].Number {
			t.Errorf("%s: since run %d", name, got.SinceRun)
		}
	}
}

// TestCorrected counts how often a host was put right though nothing was declared again.
func TestCorrected(t *testing.T) {
	at := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	apply := func(revision string, changed int) HostRun {
		at = at.Add(-time.Hour)
		return HostRun{Head: &record.Head{Mode: record.ModeApply, Whole: true, Declared: true, Revision: revision},
			State: record.Reached, At: at, Changed: changed}
	}
	look := HostRun{Head: &record.Head{Mode: record.ModePreview, Whole: true, Declared: true, Revision: "b"},
		State: record.Reached, Changed: 1}
	runs := []HostRun{apply("b", 0), apply("b", 2), look, apply("b", 1), apply("b", 3), apply("a", 1), apply("a", 0)}
	runs[3].Failed = 1 // which left the next one something to do
	h, err := StatusOf("gauge-01", runs, func(int) ([]record.Task, error) { return nil, nil })
	if err != nil || h.Corrected != 2 || !h.CorrectedAt.Equal(runs[3].At) {
		t.Errorf("it was corrected %d times, last at %v (%v)", h.Corrected, h.CorrectedAt, err)
	}
}
