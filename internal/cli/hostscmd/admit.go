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
		Use: "admit HOST...", Short: "Take in new hosts that have only a login with a password",
		Args: cobra.MinimumNArgs(1),
		Long: "Admit trusts a host's key after a look at its fingerprint, logs in with a password as --as says, " +
			"and makes the\n" +
			"account, its key and its right to sudo that the inventory's connect names. A new connection then " +
			"proves that\nthe key logs in and that elevation works; only then the host is admitted. Once more, it " +
			"changes nothing.",
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
				how := "is admitted"
				if already {
					how = "is admitted already"
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
	c.Flags().StringVar(&a.As, "as", "root", "the `USER` to log in as with a password; one that may use sudo, if not "+
		"root")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask whether the host's key is right")
	c.Flags().BoolVar(&a.Worker, "worker-only", false, "let the account run our worker as root, and nothing else, "+
		"where "+
		"sudo makes it root")
	e.PasswordFlags(c)
	c.ValidArgsFunction = e.CompleteHosts()
	return c
}

// beside shows what a project of ours does on a host.
func beside(e *cli.Env, dir, host string, detail text.Detail) record.Sink {
	return &text.Run{W: e.Out, Detail: detail, Width: e.Width, Sources: &text.Sources{Dir: dir}, Names: len(host)}
}
