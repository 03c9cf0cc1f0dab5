package packages

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/apt"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/scripted"
)

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		declared string // version, or "absent"
		current  state
		want     string
	}{
		{"", state{}, "absent -> installed"},
		{"", state{State: backend.State{Version: "1"}}, ""},
		{"", state{State: backend.State{Half: "unpacked"}}, "unpacked -> installed"},
		{"1", state{State: backend.State{Version: "1"}}, ""},
		{"1", state{State: backend.State{Version: "2"}}, "2 -> 1"},
		{"1", state{}, "absent -> 1"},
		{"newest", state{State: backend.State{Version: "1"}, newest: "2"}, "1 -> 2"},
		{"newest", state{State: backend.State{Version: "2"}, newest: "2"}, ""},
		{"newest", state{newest: "2"}, "absent -> 2"},
		{"newest", state{}, "absent -> newest"}, // in a preview, before any list was read
		{"absent", state{State: backend.State{Version: "1"}}, "1 -> absent"},
		{"absent", state{State: backend.State{Half: "half-installed"}}, "half-installed -> absent"},
		{"absent", state{}, ""},
		{"", state{doubt: true}, "absent -> installed, if a repository has it after the refresh"},
	} {
		task := plan.Task{Attrs: value.Attrs{"version": c.declared}}
		if c.declared == "absent" {
			task = plan.Task{Absent: true}
		}
		got := ""
		for _, ch := range (packages{}).Compare(task, c.current) {
			got += fmt.Sprintf("%s -> %s", ch.Was, ch.Becomes)
		}
		if got != c.want {
			t.Errorf("declared %q, with %+v: %q, want %q", c.declared, c.current, got, c.want)
		}
	}
}

func TestPatternsOfVersions(t *testing.T) {
	offer := backend.Offer{Newest: "2.1-1", Versions: []string{"2.1-1", "2.0.4-1", "2.0.3-2", "1.9"}}
	for want, picked := range map[string]string{"": "", "2.0.3-2": "", "newest": "2.1-1", "2.0.*": "2.0.4-1",
		"*-2":  "2.0.3-2",
		"2*4*": "2.0.4-1", "3.*": "", "*": "2.1-1"} {
		task := plan.Task{Attrs: value.Attrs{"version": want}}
		if got := pick(task, offer); got != picked {
			t.Errorf("%q picks %q, want %q", want, got, picked)
		}
	}
	for _, c := range []struct {
		want, version string
		fits          bool
	}{{"1.*", "1.2", true}, {"1.*", "11.2", false}, {"1.*.3", "1.3", false}, {"*", "x", true}, {"1.2", "1.2", true},
		{"1.2*2", "1.2", false}} {
		if got := matches(c.want, c.version); got != c.fits {
			t.Errorf("%s takes %s: %v", c.want, c.version, got)
		}
	}
}

// TestForeseeAsksNoMoreThanItNeeds: of packages that an apply is about to refresh the lists for, and
// of those that a preview finds in no list, nothing is asked one by one.
func TestForeseeAsksNoMoreThanItNeeds(t *testing.T) {
	var work []kind.Work
	var all []backend.Want
	for _, name := range []string{"tide-logger", "chart-press", "mudflat-archive"} {
		task := plan.Task{Ref: value.Ref{Kind: "package", Name: name}}
		work = append(work, kind.Work{Task: task, State: state{},
			Changes: []plan.Change{{What: "version", Was: "absent"}}})
		all = append(all, backend.Want{Name: name})
	}
	h := scripted.New(t)
	h.Programs = []string{"apt-get"}
	joint := h.Did(func(env *kind.Env) error {
		_, err := apt.Manager{}.Foresee(t.Context(), env, all, nil, false)
		return err
	})
	h.Answers[joint] = machine.Output{Code: 100, Stdout: "E: Unable to locate package chart-press\n"}
	for _, c := range []struct {
		preview, refreshed bool
		doubt              bool // of the last
		want               int
	}{{false, false, false, 1}, {false, true, false, 4}, {true, false, false, 4}, {true, false, true, 1}} {
		work[2].State = state{doubt: c.doubt}
		h.Did(func(env *kind.Env) error {
			env.Run.Preview, env.ListsRefreshed = c.preview, c.refreshed
			packages{}.Foresee(t.Context(), env, work)
			return nil
		})
		if len(h.Calls) != c.want {
			t.Errorf("%+v: it asks\n%s", c, strings.Join(h.Calls, "\n"))
		}
	}
}
