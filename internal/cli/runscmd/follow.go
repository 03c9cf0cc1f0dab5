package runscmd

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

// followEvery is how often is looked what has happened in a run that another process does.
const followEvery = 250 * time.Millisecond

func follow(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "follow RUN", Short: "Watch a run in progress",
		Long: "Shows a run that was started elsewhere, from its beginning, until it ends. Exits with the exit " +
			"status of the run. Leaving it does not affect the run.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return problem.Errorf("expected RUN").Remedy("use a run number or `last`")
			}
			p, n, err := named(c.Context(), e, args[0])
			if err != nil {
				return err
			}
			if e.JSON() {
				return problem.Errorf("a run in progress has no JSON output").
					Remedy("`jadekettle runs show %d --output json` shows its current state", n)
			}
			return followed(c.Context(), e, p, n)
		},
	}
	e.PlainFlag(c)
	return c
}

func followed(ctx context.Context, e *cli.Env, p app.Runs, n int) error {
	k, err := p.Load(n)
	if err != nil {
		return err
	}
	live := e.Watch(&app.Outlook{Mode: fmt.Sprintf("run %d: %s", n, k.Mode), Would: k.Would(), Meant: k.Names(),
		Parallel: len(k.Hosts), Usual: app.UsualTimes(p, k.Env, k.Mode, k.Whole)}, false)
	live.Follows(k.Started)
	defer live.End(nil)
	v := text.Past(e.Out, e.Width, p, k, false)
	v.Past, v.Working = false, live.Beside()
	to := []record.Sink{live, v}
	if k.Mode == record.ModeExec {
		to[1] = text.Exec{Run: v}
	}
	end, err := app.Follow(ctx, p, n, followEvery, to...)
	if err != nil {
		return err
	}
	if end == nil {
		live.End(nil)
		fmt.Fprintf(e.Err, "run %d continues\n", n)
		return cli.Exit(app.CodeStopped)
	}
	if end.State == record.Interrupted {
		fmt.Fprintln(e.Err, "interrupted: its process no longer exists. Later results will be collected by the next "+
			"run")
		return cli.Exit(app.CodeFailed)
	}
	return cli.Ended(end.Code)
}
