package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/fleet/run"
	screen "jadekettle/internal/present/text"
)

// rollout is how a call says that a run goes over many hosts.
type rollout struct {
	first, batch, pause, stopAfter string
}

func (r *rollout) flags(c *cobra.Command) {
	c.Flags().StringVar(&r.first, "first", "", "the `HOSTS` that go alone before all others: targets with commas between, "+
		"or a number; when one fails, the rest is not begun")
	c.Flags().StringVar(&r.batch, "batch", "", "`N` hosts at a time, or P% of them; when one of a batch fails, the next is "+
		"not begun, unless --stop-after says otherwise")
	c.Flags().StringVar(&r.pause, "pause", "", "a `TIME` before each further batch, such as 5m, or key: until one is pressed")
	c.Flags().StringVar(&r.stopAfter, "stop-after", "", "begin no host any more once `N` hosts, or P% of them, have failed")
}

// over lays what the call says over what the settings do.
func (r *rollout) over(s settings.Rollout) (settings.Rollout, error) {
	out := s
	wrong := func(flag string, err error) error { return fmt.Errorf("--%s: %w", flag, err) }
	var err error
	if r.first != "" {
		out.First = r.first
	}
	if r.batch != "" {
		if out.Batch, err = settings.ParseAmount(r.batch); err != nil {
			return out, wrong("batch", err)
		}
	}
	if r.stopAfter != "" {
		if out.StopAfter, err = settings.ParseAmount(r.stopAfter); err != nil {
			return out, wrong("stop-after", err)
		}
	}
	if r.pause != "" {
		if _, err = settings.ParsePause(r.pause); err != nil {
			return out, wrong("pause", err)
		}
		out.Pause = r.pause
	}
	return out, nil
}

// rollout makes of it how a run goes over these hosts.
func (a *App) rollout(s settings.Rollout, p *project, r *round) (run.Rollout, error) {
	n := 0
	for _, h := range p.hosts {
		if h.Off == "" {
			n++
		}
	}
	out := run.Rollout{Batch: s.Batch.Of(n), StopAfter: s.StopAfter.Of(n), Lenient: r.lenient}
	var err error
	if out.First, err = a.firstOf(s.First, p, r.rollout.first == ""); err != nil {
		return out, err
	}
	if out.Batches(p.hosts) <= 1 { // before which nothing waits
		return run.Rollout{StopAfter: out.StopAfter, Lenient: r.lenient}, nil
	}
	pause, err := settings.ParsePause(s.Pause)
	if s.Pause == "" {
		pause, err = 0, nil
	}
	if err != nil {
		return out, err
	}
	if s.Pause == settings.ByKey && !a.Terminal {
		return out, problem.Errorf("a pause until a key is pressed needs a terminal").
			Remedy("give a length of time, such as --pause 5m")
	}
	out.Between = func(ctx context.Context, next run.Batch) bool { return a.between(ctx, s.Pause, pause, next) }
	return out, nil
}

// firstOf gives the hosts that go alone: by number, those that the inventory lists first. A
// setting is about many runs, and one that names no target of this run is passed over.
func (a *App) firstOf(s string, p *project, setting bool) ([]*inventory.Host, error) {
	if s == "" {
		return nil, nil
	}
	if n, err := strconv.Atoi(s); err == nil {
		var out []*inventory.Host
		for _, h := range p.hosts {
			if h.Off == "" && len(out) < n {
				out = append(out, h)
			}
		}
		if n < 1 {
			return nil, problem.Errorf("%q is no number of hosts to go first", s).Remedy("it counts from 1")
		}
		return out, nil
	}
	list, err := p.Inventory.Select(strings.Split(s, ","), nil)
	switch {
	case err != nil && setting:
		return nil, fmt.Errorf("first = %q in %s: %w", s, a.firstFrom(p), err)
	case err != nil:
		return nil, fmt.Errorf("--first: %w", err)
	}
	list = slices.DeleteFunc(list, func(h *inventory.Host) bool { return !slices.Contains(p.hosts, h) })
	if len(list) == 0 && setting {
		fmt.Fprintf(a.Err, "no host goes first: first = %s in %s names no target of this run\n", screen.Line(strconv.Quote(s)), a.firstFrom(p))
		return nil, nil
	}
	if len(list) == 0 {
		return nil, problem.Errorf("no host of %s is a target of this run", s).Remedy("name some of the targets, or a number")
	}
	return list, nil
}

// firstFrom names what says which hosts go first, where the call does not.
func (a *App) firstFrom(p *project) string {
	if a.started != nil && a.started.Rollout.First != "" {
		return "[job." + a.started.Name + "] of " + job.File
	}
	if p.Settings.Envs[p.Settings.Env].Rollout.First != "" {
		return "[env." + p.Settings.Env + "] of " + settings.File
	}
	return "[run] of " + settings.File
}

// between tells which batch comes, and waits as long as is meant before it.
func (a *App) between(ctx context.Context, how string, pause time.Duration, next run.Batch) bool {
	var names []string
	for _, h := range next.Hosts {
		names = append(names, h.Name)
	}
	names = inventory.Fold(names)
	if len(names) > 6 {
		names = append(names[:5], "and more")
	}
	fmt.Fprintf(a.Err, "batch %d of %d: %s, %s\n", next.Number, next.Of, screen.Count(len(next.Hosts), "host"),
		screen.Line(strings.Join(names, " ")))
	switch {
	case how == settings.ByKey:
		defer a.watched.Load().aside()()
		fmt.Fprint(a.Err, "press a key to begin it, or q to end the run here ")
		return a.key(ctx)
	case pause > 0:
		fmt.Fprintf(a.Err, "it begins at %s\n", time.Now().Add(pause).Format("15:04:05"))
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
	return ctx.Err() == nil
}

// key waits until one is pressed, and says whether it was one to go on.
func (a *App) key(ctx context.Context) bool {
	pressed := make(chan byte, 1)
	go func() {
		b := byte('q') // nobody is there
		if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			if old, err := term.MakeRaw(int(f.Fd())); err == nil {
				defer term.Restore(int(f.Fd()), old)
				one := make([]byte, 1)
				if n, _ := f.Read(one); n == 1 {
					b = one[0]
				}
			}
		} else if line, err := bufio.NewReader(a.In).ReadString('\n'); err == nil {
			b = (line)[0]
		}
		pressed <- b
	}()
	defer fmt.Fprintln(a.Err)
	select {
	case b := <-pressed:
		const interrupt = 3 // Ctrl-C, which a terminal in raw mode hands over as it is
		if b == interrupt {
			if self, err := os.FindProcess(os.Getpid()); err == nil {
				self.Signal(os.Interrupt)
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Second): // nobody listens for it
			}
		}
		return b != 'q' && b != interrupt
	case <-ctx.Done():
		return false
	}
}

// lastRun is what --again takes when it names no run.
const lastRun = "last"

// again gives the hosts that failed, were not reached or not begun in an earlier run, and
// makes the round be about the same part of the tasks.
func (a *App) again(r *round, which string, s settings.Settings, dir string) ([]string, error) {
	if err := a.permit(dir, s, nil); err != nil {
		return nil, err
	}
	runs := a.history(dir, s)
	n, err := runs.Number(which, s.Env, record.ModeApply)
	if err != nil {
		return nil, err
	}
	kept, err := runs.Load(n)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, h := range kept.Hosts {
		if h.Failed+h.Blocked > 0 || h.Outcome == record.OutStopped || h.State != record.Reached && h.State != record.Off {
			out = append(out, h.Name)
		}
	}
	if len(out) == 0 {
		return nil, problem.Errorf("in the run %d no host failed, was not reached, not begun or stopped early",
			kept.Number).
			Remedy("there is nothing to do again")
	}
	if r.part.All() && !kept.Part.All() && kept.Mode != record.ModeVerify {
		r.part = kept.Part
		fmt.Fprintf(a.Err, "the tasks are those of run %d: %s\n", kept.Number, screen.Line(selected(r.part)))
	}
	return out, nil
}

// selected writes a part of the tasks as the flags that select it.
func selected(s resolve.Selection) string {
	var out []string
	for _, f := range []struct {
		name string
		list []string
	}{{"task", s.Tasks}, {"label", s.Labels}, {"manifest", s.Manifests}, {"leave-out", s.LeaveOut}} {
		for _, v := range f.list {
			out = append(out, "--"+f.name, shell.Quote(v))
		}
	}
	if s.WithNeeds {
		out = append(out, "--with-needs")
	}
	return strings.Join(out, " ")
}
