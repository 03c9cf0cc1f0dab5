package hostscmd

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/cli/runcmd"
	"jadekettle/internal/core/record"
)

func retire(e *cli.Env) *cobra.Command {
	q := app.Request{Mode: record.ModeRetire, Touch: app.Touch{Take: true}}
	yes := false
	c := &cobra.Command{
		Use: "retire HOST...", Short: "Remove everything managed on hosts, then forget the hosts",
		Args: cli.Args(1, -1),
		Long: "Removes everything that this project manages on hosts, in the reverse order of its creation, and " +
			"forgets what is known about the hosts. Shows a preview and asks first. Anything that cannot be " +
			"removed stays and is reported. Remove the hosts from the inventory afterwards.",
		RunE: func(c *cobra.Command, targets []string) error {
			if err := cli.Parallel(c, q.Parallel); err != nil {
				return err
			}
			q.Targets, q.Notes, q.Passwords = targets, e.Notes, e.Passwords
			if err := q.Check(); err != nil {
				return err
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			return retired(c.Context(), e, p, q, yes)
		},
	}
	e.YesFlag(c, &yes)
	e.ParallelFlag(c, &q.Parallel)
	e.PasswordFlags(c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	c.ValidArgsFunction = e.CompleteTargets()
	return c
}

// retired shows what would be taken away, asks, and does it.
func retired(ctx context.Context, e *cli.Env, p *app.Project, q app.Request, yes bool) error {
	if !yes {
		if err := e.CanAsk("retire"); err != nil {
			return err
		}
		look := q
		look.Preview = true
		run, err := runcmd.Show(ctx, e, p, look, runcmd.Look{})
		if err != nil {
			return err
		}
		if run.Code != app.CodeDone {
			return cli.Exit(run.Code)
		}
		of, err := p.Outlook(q)
		if err != nil {
			return err
		}
		if !e.AgreeOn("Remove all this permanently from", p.Settings.Env, of.Meant) {
			return e.NothingDone()
		}
	}
	run, err := runcmd.Show(ctx, e, p, q, runcmd.Look{})
	if err != nil {
		return err
	}
	if err := p.Retired(run, func(host string, forgotten bool) {
		if forgotten {
			fmt.Fprintf(e.Err, "%s is forgotten; now remove it from the inventory\n", host)
			return
		}
		fmt.Fprintf(e.Err, "%s is not forgotten, because not everything was removed\n", host)
	}); err != nil {
		return err
	}
	return cli.Ended(run.Code)
}
