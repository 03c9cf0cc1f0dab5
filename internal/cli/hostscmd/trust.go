package hostscmd

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/admit"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

func trust(e *cli.Env) *cobra.Command {
	t := &admit.Trust{}
	c := &cobra.Command{
		Use: "trust HOST...", Short: "Verify and accept SSH host keys",
		Args: cli.Args(1, -1),
		Long: "Fetches the key of each host, shows its fingerprint, and adds the key to known_hosts if you " +
			"confirm. Compare the fingerprint with the output of `ssh-keygen -lf` for the key on the host. A key " +
			"that differs from a known one is accepted only with --replace.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, list, err := e.OpenHosts(c.Context(), targets)
			if err != nil {
				return err
			}
			if !t.Yes && !e.Terminal {
				return problem.Errorf("trust needs confirmation, but this is not a terminal").
					Remedy("use --yes if you have verified the fingerprints")
			}
			if t.Dialer, err = p.Dialer(e.Passwords); err != nil {
				return err
			}
			defer t.Dialer.Close()
			t.Ask = e
			code := app.CodeDone
			err = e.EachHost(c.Context(), app.BySSH(list), func(h app.Host) error {
				known, err := trusted(c.Context(), e, t, p.Target(h))
				if err == nil && known == refused {
					code = app.CodeFailed
				}
				return err
			})
			if err != nil {
				return err
			}
			return cli.Ended(code)
		},
	}
	c.Flags().BoolVar(&t.Replace, "replace", false, "accept a key that replaces a known one")
	e.YesFlag(c, &t.Yes)
	return c
}

// What came of a host's key.
const (
	accepted = iota
	declined
	refused
)

// trusted looks at one host's key, accepts it when that is wanted, and says what came of that.
func trusted(ctx context.Context, e *cli.Env, t *admit.Trust, target app.Target) (int, error) {
	answer, fingerprint, why, err := t.Host(ctx, target)
	if err != nil {
		return refused, err
	}
	switch answer {
	case admit.Unreached:
		fmt.Fprintf(e.Err, "%s  not reached: %s\n", target.Name, text.Line(why.Error()))
		return refused, nil
	case admit.Changed:
		fmt.Fprintf(e.Err, "%s  %s  does not match the known key; use --replace if the host was reinstalled\n",
			target.Name, fingerprint)
		return refused, nil
	case admit.Declined:
		return declined, nil
	}
	fmt.Fprintf(e.Out, "%s  %s  %s\n", target.Name, fingerprint, answer)
	return accepted, nil
}
