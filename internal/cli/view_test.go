package cli

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

func task(ref string, s plan.Status, more ...string) run.Task {
	r, err := value.ParseRef(ref)
	if err != nil {
		panic(err)
	}
	t := run.Task{Result: plan.Result{Ref: r, Status: s, Took: 100 * time.Millisecond}, Place: value.Place{File: "manifests/base.toml", Line: 2, Col: 2}}
	if len(more) > 0 {
		t.Message = more[0]
	}
	if s == plan.Blocked {
		t.Message, t.BlockedBy = "", more[0]
	}
	if len(more) > 1 {
		t.Output = more[1]
	}
	return t
}

// outcomes are hosts that fared in every way there is.
func outcomes() []*run.Host {
	var hosts []*run.Host
	for _, name := range []string{"gauge-01", "gauge-02", "gauge-03", "gauge-04", "gauge-05"} {
		hosts = append(hosts, &run.Host{Name: name, State: run.Reached, Took: 1200 * time.Millisecond, Tasks: []run.Task{task("dir:/srv", plan.Unchanged), task("file:/a", plan.Unchanged)}})
	}
	hosts[1].Tasks = append(hosts[1].Tasks, task("file:/b", plan.LeftOut))
	for _, name := range []string{"archive-01", "archive-02"} {
		hosts = append(hosts, &run.Host{Name: name, State: run.Reached, Took: 15 * time.Second, Tasks: []run.Task{
			task("dir:/srv", plan.Changed), task("package:foghorn-relay", plan.Failed, "apt-get ended with code 100: \x1b[31mno horn", "one\ntwo\x07\n"),
			task("service:foghorn-relay", plan.Blocked, "package:foghorn-relay"), task("dir:/after", plan.Blocked, "service:foghorn-relay"),
		}})
	}
	return append(hosts,
		&run.Host{Name: "chart-01", State: run.Reached, Took: 3 * time.Minute, Tasks: []run.Task{task("dir:/srv", plan.Changed)},
			Leftovers: []value.Ref{{Kind: "file", Name: "/old"}},
			Collected: []run.Collected{{Run: "0198-x", Results: []plan.Result{{Ref: value.Ref{Kind: "dir", Name: "/srv"}, Status: plan.Changed}, {Ref: value.Ref{Kind: "file", Name: "/c"}, Status: plan.Failed, Message: "no space left"}}}}},
		&run.Host{Name: "chart-02", State: run.Lost, Planned: 5, Message: "the connection broke; 3 of 5 tasks have no result yet"},
		&run.Host{Name: "chart-03", State: run.Busy, Message: "an apply by maren@desk holds it since 10:00:00; wait until it is done"},
		&run.Host{Name: "signal-01", State: run.NotReached, Message: "192.0.2.51:22 does not answer"},
		&run.Host{Name: "signal-02", State: run.Off, Message: "in repair"},
	)
}

func TestTheEnding(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(dir+"/manifests", 0o755)
	os.WriteFile(dir+"/manifests/base.toml", []byte("# the base\n[package.foghorn-relay]\n"), 0o644)
	var out strings.Builder
	v := &view{app: &App{Out: &out}, dir: dir}
	v.ending(outcomes())
	want := `
12 hosts: 5 unchanged, 1 changed, 2 failed, 1 busy, 1 not reached, 1 lost, 1 off

host               state        failed  blocked  changed  unchanged  left out  time
chart-02           lost                                                        0.0s
signal-01          not reached                                                 0.0s
chart-03           busy                                                        0.0s
archive-01         reached           1        2        1                       15s
archive-02         reached           1        2        1                       15s
chart-01           reached                             1                       3m0s
5 hosts unchanged  reached                                        2       0-1  1.2s
signal-02          off

archive-01, archive-02  package:foghorn-relay  failed
  manifests/base.toml:2:2
    2 | [package.foghorn-relay]
      |  ^
  apt-get ended with code 100: \u{1b}[31mno horn
  it printed:
    | one
    | two\u{7}
  it blocks service:foghorn-relay, dir:/after

chart-02  lost
  the connection broke
  3 of 5 tasks have no result yet

chart-03  busy
  an apply by maren@desk holds it since 10:00:00
  wait until it is done

signal-01  not reached
  192.0.2.51:22 does not answer

chart-01  results of the run 0198-x, which broke off before they arrived
  dir:/srv  changed  0.0s
  file:/c  failed  0.0s
    no space left

chart-01  left over, since nothing declares it any more: file:/old
`
	got := out.String() // compared by words: columns are looked at in pictures
	if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(want), " ") {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestTheVerdict(t *testing.T) {
	all := outcomes()
	good, changed, failed, lost := all[0], all[7], all[5], all[8]
	wrong := &run.Host{State: run.Reached, Wrong: errors.New("x")}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	for _, c := range []struct {
		ctx    context.Context
		hosts  []*run.Host
		strict bool
		want   int
	}{
		{context.Background(), []*run.Host{good, changed}, false, 0},
		{context.Background(), []*run.Host{good, changed}, true, 3},
		{context.Background(), []*run.Host{good}, true, 0},
		{context.Background(), []*run.Host{changed, failed}, true, 1},
		{context.Background(), []*run.Host{failed, changed}, true, 1},
		{context.Background(), []*run.Host{lost}, false, 1},
		{context.Background(), []*run.Host{lost, wrong, failed}, true, 2},
		{stopped, []*run.Host{failed}, false, 130},
	} {
		if got := verdict(c.ctx, c.hosts, c.strict); got != c.want {
			t.Errorf("the verdict on %d hosts is %d, want %d", len(c.hosts), got, c.want)
		}
	}
}

func TestColourOnlyWhereItIsWanted(t *testing.T) {
	var out strings.Builder
	a := &App{Out: &out, Color: true}
	(&view{app: a}).printf(bad, "failed")
	if !strings.Contains(out.String(), "\x1b[31m") {
		t.Errorf("a failure is not red: %q", out.String())
	}
	out.Reset()
	a = &App{Out: &out}
	(&view{app: a}).printf(bad, "failed")
	if out.String() != "failed\n" {
		t.Errorf("without colour it is %q", out.String())
	}
}

func TestApplyAsks(t *testing.T) {
	for answer, want := range map[string]bool{"y\n": true, "yes\n": true, "\n": false, "": false, "n\n": false, "maybe\n": false} {
		var errs strings.Builder
		a := &App{In: strings.NewReader(answer), Err: &errs}
		if got := a.agree("", nil); got != want {
			t.Errorf("%q means %v", answer, got)
		}
		if !strings.Contains(errs.String(), "Apply to 0 hosts") {
			t.Errorf("it asks %q", errs.String())
		}
	}
}
