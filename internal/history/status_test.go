package history

import (
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// TestStatusOf tells how a host is by what its runs came to, newest first.
func TestStatusOf(t *testing.T) {
	at := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	n := 0
	stand := func(mode string, o record.Outcome, more func(*Stand)) Stand {
		n++
		s := Stand{Head: record.Head{Number: 100 - n, Mode: mode, Whole: true, Declared: true, Who: "maren"},
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
	part := func(s *Stand) { s.Whole = false }
	stopped := func(s *Stand) { s.Stopped = true }
	for name, c := range map[string]struct {
		stands []Stand
		tasks  []record.Task
		want   Condition
		since  int // how many of the stands it has been so for
		why    string
	}{
		"never run": {nil, nil, Never, 0, "no run has gone through it yet"},
		"an apply": {[]Stand{stand("apply", record.OutChanged, nil), stand("preview", record.OutUnchanged, nil),
			stand("apply", record.OutFailed, nil)},
			nil, AsDeclared, 2, ""},
		"a failure that goes on": {[]Stand{stand("apply", record.OutFailed, nil),
			stand("verify", record.OutUnchanged, nil), stand("apply", record.OutLost, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/motd", Status: plan.Failed, Message: "under water\nand more"}},
			Failing, 3, "file /etc/motd fails: under water"},
		"a part that is well puts nothing right": {[]Stand{stand("apply", record.OutUnchanged, part),
			stand("apply", record.OutFailed, nil)}, nil, Failing, 2, "failed"},
		"a part that fails": {[]Stand{stand("apply", record.OutFailed, part),
			stand("apply", record.OutUnchanged, nil)}, nil, Failing, 1, "failed"},
		"one that was stopped": {[]Stand{stand("apply", record.OutChanged, stopped),
			stand("preview", record.OutChanged, nil)}, nil, Drifted, 2, "something differs"},
		"not reached": {[]Stand{stand("apply", record.OutNotReached, func(s *Stand) { s.Message = "no route" }),
			stand("preview", record.OutNotReached, nil),
			stand("apply", record.OutChanged, nil)}, nil, Unreached, 2, "no route"},
		"busy tells nothing": {[]Stand{stand("apply", record.OutBusy, nil),
			stand("apply", record.OutUnchanged, nil)}, nil, AsDeclared, 2, ""},
		"drift": {[]Stand{stand("preview", record.OutChanged, nil), stand("apply", record.OutUnchanged, nil)},
			[]record.Task{
				{Kind: "file", Name: "/etc/hosts", Status: plan.Changed, Drift: plan.ByDeclaration},
				{Kind: "file", Name: "/etc/motd", Status: plan.Changed, Drift: plan.ByHost}}, Drifted, 1,
			"file /etc/motd was changed on the host, and 1 more"},
		"declared anew": {[]Stand{stand("drift", record.OutChanged, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/hosts", Status: plan.Changed,
				Drift: plan.ByDeclaration}}, Outdated, 1, "file /etc/hosts is declared anew"},
		"what left": {[]Stand{stand("preview", record.OutChanged, nil)},
			[]record.Task{{Kind: "file", Name: "/etc/hosts",
				Status: plan.Changed,
				Drift:  plan.ByLeaving}}, Outdated, 1, "file /etc/hosts is no longer declared"},
		"a look after a failure": {[]Stand{stand("preview", record.OutChanged, nil),
			stand("drift", record.OutChanged, nil),
			stand("apply", record.OutFailed, nil), stand("apply", record.OutUnchanged, nil)}, nil, Failing,
			3, "failed"},
		"a look after a failure that is over": {[]Stand{stand("preview", record.OutChanged, nil), stand("apply",
			record.OutUnchanged, nil),
			stand("apply", record.OutFailed, nil)}, nil, Drifted, 1, "something differs"},
		"a look at what an undo would do": {[]Stand{stand("preview", record.OutChanged,
			func(s *Stand) { s.Undoes, s.Declared = 7, false }),
			stand("apply", record.OutUnchanged, nil)}, nil, AsDeclared, 2, ""},
		"undone": {[]Stand{stand("undo", record.OutChanged, func(s *Stand) { s.Undoes = 7 })}, nil, Drifted, 1, ""},
		"owing": {[]Stand{stand("apply", record.OutChanged, func(s *Stand) {
			s.Latest, s.Debts = true, []record.Debt{{Kind: "service", Name: "tide-logger", Action: "restart"}}
		})}, nil, AsDeclared, 1, "a restart of service tide-logger is owed"},
	} {
		got, err := StatusOf("gauge-01", c.stands, func(int) ([]record.Task, error) { return c.tasks, nil })
		if err != nil || got.Condition != c.want || c.why != "" && got.Why != c.why || c.why == "" &&
			c.want == AsDeclared && got.Why != "" {
			t.Errorf("%s: %s, %q (%v)", name, got.Condition, got.Why, err)
		}
		if c.since > 0 && got.SinceRun != c.stands[c.since-1].Number {
			t.Errorf("%s: since run %d", name, got.SinceRun)
		}
	}
}

// TestMended counts how often a host was put right though nothing was declared anew.
func TestMended(t *testing.T) {
	at := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	apply := func(revision string, changed int) Stand {
		at = at.Add(-time.Hour)
		return Stand{Head: record.Head{Mode: record.ModeApply, Whole: true, Declared: true, Revision: revision},
			State: record.Reached, At: at, Changed: changed}
	}
	look := Stand{Head: record.Head{Mode: record.ModePreview, Whole: true, Declared: true, Revision: "b"},
		State: record.Reached, Changed: 1}
	stands := []Stand{apply("b", 0), apply("b", 2), look, apply("b", 1), apply("b", 3), apply("a", 1), apply("a", 0)}
	stands[3].Failed = 1 // which left the next one something to do
	h, err := StatusOf("gauge-01", stands, func(int) ([]record.Task, error) { return nil, nil })
	if err != nil || h.Mended != 2 || !h.MendedAt.Equal(stands[3].At) {
		t.Errorf("it was mended %d times, last at %v (%v)", h.Mended, h.MendedAt, err)
	}
}
