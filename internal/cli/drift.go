package cli

import (
	"context"
	"fmt"

	"jadekettle/internal/core/record"

	"github.com/spf13/cobra"
)

func (a *App) driftCommand() *cobra.Command {
	r := &round{preview: true, drift: true}
	c := &cobra.Command{
		Use: "drift [TARGET...]", Short: "Tell apart what changed on hosts and what changed in the project", GroupID: "work",
		Long: "Drift compares hosts with what is declared, as preview does, and tells of each task that differs whether it was\n" +
			"changed on the host since it was last written, is declared otherwise now, or both: with what differs from what\n" +
			"was last written, when that was and by whom. It changes nothing. Hosts remember how things were declared when\n" +
			"they were last written, but for what is secret.",
		RunE: func(c *cobra.Command, targets []string) error { return a.look(c.Context(), r, targets) },
	}
	r.flags(a, c)
	a.completeRound(c)
	return c
}

func (a *App) retireCommand() *cobra.Command {
	r := &round{retire: true, take: true}
	yes := false
	c := &cobra.Command{
		Use: "retire HOST...", Short: "Take away what is managed on hosts, and forget them", Args: cobra.MinimumNArgs(1),
		Long: "Retire takes away what this project manages on hosts, in the reverse order of that in which it was made, after\n" +
			"a preview, and forgets what is known of them here. What cannot be taken away is told and stays. Take the hosts\n" +
			"out of the inventory afterwards.",
		RunE: func(c *cobra.Command, targets []string) error {
			p, err := a.load(targets, nil)
			if err != nil {
				return err
			}
			return a.retire(c.Context(), r, p, yes)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().IntVar(&r.parallel, "parallel", 0, "`N` hosts at once (default: [run] parallel, 32)")
	a.passwordFlags(c)
	a.noteFlag(c)
	a.plainFlag(c)
	c.ValidArgsFunction = a.completeTargets
	return c
}

// retire shows what would be taken away, asks, and does it.
func (a *App) retire(ctx context.Context, r *round, p *project, yes bool) error {
	if !yes {
		if err := a.canAsk("retire"); err != nil {
			return err
		}
		look := *r
		look.preview = true
		if err := a.round(ctx, &look, p); err != nil {
			return err
		}
		p.dialer = nil // its connections are closed
		if a.code != exitDone {
			return nil
		}
		if !a.agree("Take all that away, for good, from", p.Settings.Env, p.hosts) {
			return a.nothingDone()
		}
	}
	if err := a.round(ctx, r, p); err != nil {
		return err
	}
	for _, h := range a.last {
		if o := h.Outcome; o != record.OutChanged && o != record.OutUnchanged {
			fmt.Fprintf(a.Err, "%s is not forgotten, since not all of it was taken away\n", h.Name)
			continue
		}
		if err := p.known.Forget(h.Name); err != nil {
			return err
		}
		fmt.Fprintf(a.Err, "%s is forgotten; take it out of the inventory\n", h.Name)
	}
	return nil
}
