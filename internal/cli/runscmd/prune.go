package runscmd

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/text"
)

func prune(e *cli.Env) *cobra.Command {
	l, yes := app.Limits{}, false
	c := &cobra.Command{
		Use: "prune", Short: "Let old runs go", Args: cli.NoArgs,
		Long: "Prune lets runs of this project go that are older than an age, beyond a number, or beyond a size, " +
			"and gives the\nroom back. It tells first which these are and how much they take, and asks.",
		RunE: func(c *cobra.Command, _ []string) error {
			if err := l.Check(time.Now()); err != nil {
				return err
			}
			p, err := kept(c.Context(), e)
			if err != nil {
				return err
			}
			return pruned(e, p, l, yes)
		},
	}
	c.Flags().StringVar(&l.Age, "older", "", "runs that are older than this `AGE`, such as 90d")
	c.Flags().IntVar(&l.Keep, "keep", 0, "all but the `N` newest")
	c.Flags().StringVar(&l.Size, "size", "", "the oldest, until the rest takes no more than this `SIZE`, such as "+
		"500 MiB")
	e.YesFlag(c, &yes)
	return c
}

func pruned(e *cli.Env, p app.Runs, l app.Limits, yes bool) error {
	old, err := l.Old(p, time.Now())
	if err != nil {
		return err
	}
	if len(old) == 0 {
		fmt.Fprintln(e.Out, "no run is beyond that")
		return nil
	}
	var size int64
	for _, o := range old {
		size += o.Bytes
	}
	fmt.Fprintf(e.Out, "%s would go, from run %d of %s to run %d of %s: about %s, and the facts and files that "+
		"only they have\n",
		text.Count(len(old), "run"), old[0].Number, text.When(old[0].Started), old[len(old)-1].Number,
		text.When(old[len(old)-1].Started), text.Size(size))
	if !yes {
		if err := e.CanAsk("prune asks before it lets runs go"); err != nil {
			return err
		}
		if !e.Agree("Let them go, for good?") {
			return e.NothingDone()
		}
	}
	freed, err := app.Prune(p, old, e.Args)
	if err != nil {
		return err
	}
	if p.URL != "" { // a server keeps the room for what comes
		fmt.Fprintf(e.Out, "%s gone; the server has their room for others\n", text.Count(len(old), "run"))
		return nil
	}
	fmt.Fprintf(e.Out, "%s gone; the file is %s smaller\n", text.Count(len(old), "run"), text.Size(max(0, freed)))
	return nil
}
