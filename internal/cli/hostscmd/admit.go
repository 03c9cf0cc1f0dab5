package hostscmd

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/admit"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func admitCommand(e *cli.Env) *cobra.Command {
	a := &admit.Admission{}
	yes := false
	c := &cobra.Command{
		Use: "admit HOST...", Short: "Set up key login and sudo on new hosts",
		Args: cli.Args(1, -1),
		Long: "Sets up a new host: verifies its host key, logs in with a password (--as), then creates the " +
			"account, key and sudo rule that the inventory expects, and checks that a new connection works. Safe " +
			"to repeat.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, list, err := e.OpenHosts(c.Context(), targets)
			if err != nil {
				return err
			}
			code := app.CodeDone
			a.Project, a.Passwords, a.Sink = p, e.Passwords,
				func(dir, host string) record.Sink { return beside(e, dir, host, text.Usual) }
			a.Trusted = func(ctx context.Context, d app.Dialer, target app.Target) (bool, error) {
				if !yes && !e.Terminal {
					return admit.Unasked(ctx, d, target)
				}
				came, err := trusted(ctx, e, &admit.Trust{Dialer: d, Ask: e, Yes: yes}, target)
				if came == refused {
					code = app.CodeFailed
				}
				return came == accepted, err
			}
			err = e.EachHost(c.Context(), app.BySSH(list), func(h app.Host) error {
				ok, already, err := a.Host(c.Context(), h)
				if err != nil || !ok {
					return err
				}
				how := "admitted"
				if already {
					how = "already admitted"
				}
				fmt.Fprintf(e.Out, "%s  %s: %s\n", h.Name, how, admit.How(p.Target(h)))
				return nil
			})
			if err != nil {
				return err
			}
			return cli.Ended(code)
		},
	}
	c.Flags().StringVar(&a.As, "as", "root", "log in as `USER` with a password; must be root or able to use sudo")
	c.Flags().BoolVar(&yes, "yes", false, "do not prompt for confirmation of the host key")
	c.Flags().BoolVar(&a.Worker, "worker-only", false, "restrict the sudo rule to the Jade Kettle worker")
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	return c
}

// beside shows what a project of ours does on a host.
func beside(e *cli.Env, dir, host string, detail text.Detail) record.Sink {
	return &text.Run{W: e.Out, Detail: detail, Width: e.Width, Sources: &text.Sources{Dir: dir}, Names: len(host)}
}
