package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history/store"
	screen "jadekettle/internal/present/text"
)

// followEvery is how often is looked what has happened in a run that another process does.
const followEvery = 250 * time.Millisecond

func (a *App) runsFollowCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "follow RUN", Short: "Watch a run that another terminal, or a timer, has started",
		Long: "Follow shows a run that goes on, as it is shown where it was started, from its beginning to its end. It ends with\n" +
			"the code that the run ends with. To leave it does nothing to the run.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return problem.Errorf("runs follow takes one run").Remedy("name it by its number, or as last")
			}
			p, n, err := a.named(args[0])
			if err != nil {
				return err
			}
			return a.follow(c.Context(), p, n)
		},
	}
	a.plainFlag(c)
	return c
}

func (a *App) follow(ctx context.Context, p store.Project, n int) error {
	k, err := p.Load(n)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return problem.Errorf("a run that goes on is no document").Remedy("`jadekettle runs show %d --output json` shows it as it is now", n)
	}
	var names []string
	for _, h := range k.Hosts {
		names = append(names, h.Name)
	}
	usual := func() map[string]time.Duration {
		out := map[string]time.Duration{}
		list, _ := p.UsualHosts(k.Env, k.Mode, k.Whole) // without it only the estimate is missing
		for host, s := range list {
			out[host] = time.Duration(s * float64(time.Second))
		}
		return out
	}
	v := a.past(p, k, false)
	v.Past = false
	w := a.watch(fmt.Sprintf("run %d: %s", n, k.Mode), v.Preview, names, len(names), usual)
	if w.view != nil {
		w.board.Began, w.board.Follows = k.Started, true
	}
	v.Working = besides{w, a.Err}
	f := p.Follow(n)
	for {
		head, events, err := f.Next()
		if err != nil {
			w.end()
			return err
		}
		for _, e := range events {
			w.Event(e)
			if k.Mode != record.ModeExec || e.AtWork != nil {
				v.Event(e)
			}
		}
		if head.State != record.Running {
			w.end()
			return a.followed(p, v, head)
		}
		select {
		case <-ctx.Done():
			w.end()
			fmt.Fprintf(a.Err, "run %d goes on\n", n)
			a.code = exitStopped
			return nil
		case <-time.After(followEvery):
		}
	}
}

// followed tells the end of a run that was followed.
func (a *App) followed(p store.Project, v *screen.Run, head record.Head) error {
	k, err := p.Load(head.Number)
	if err != nil {
		return err
	}
	if k.Mode == record.ModeExec {
		v.Executed(k.Hosts)
	} else {
		v.End(k.Hosts)
	}
	if a.code = head.Code; head.State == record.Interrupted {
		a.code = exitFailed
		fmt.Fprintln(a.Err, "it was interrupted: the process that did it is gone. What its hosts still did, the next run collects")
	}
	return nil
}
