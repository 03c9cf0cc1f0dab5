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
		Use: "prune", Short: "Delete old runs", Args: cli.NoArgs,
		Long: "Deletes the oldest runs of this project, by age, number or size, and frees their space. Shows what " +
			"would be deleted and asks first.",
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
	c.Flags().StringVar(&l.Age, "older", "", "delete runs older than `AGE`, such as 90d")
	c.Flags().IntVar(&l.Keep, "keep", 0, "delete all but the `N` newest runs")
	c.Flags().StringVar(&l.Size, "size", "", "delete the oldest runs until the rest fits in `SIZE`, such as 500 MiB")
	e.YesFlag(c, &yes)
	return c
}

func pruned(e *cli.Env, p app.Runs, l app.Limits, yes bool) error {
	old, err := l.Old(p, time.Now())
	if err != nil {
		return err
	}
	if len(old) == 0 {
		fmt.Fprintln(e.Out, "Nothing to delete.")
		return nil
	}
	var size int64
	for _, o := range old {
		size += o.Bytes
	}
	fmt.Fprintf(e.Out, "%s to delete, from run %d (%s) to run %d (%s): about %s, with facts and files that only "+
		"they use\n",
		text.Count(len(old), "run"), old[0].Number, text.When(old[0].Started), old[len(old)-1].Number,
		text.When(old[len(old)-1].Started), text.Size(size))
	if !yes {
		if err := e.CanAsk("prune"); err != nil {
			return err
		}
		if !e.Agree("Delete permanently?") {
			return e.NothingDone()
		}
	}
	freed, err := app.Prune(p, old, e.Args)
	if err != nil {
		return err
	}
	if p.URL != "" { // a server keeps the room for what comes
		fmt.Fprintf(e.Out, "Deleted %s; the server can reuse the space.\n", text.Count(len(old), "run"))
		return nil
	}
	fmt.Fprintf(e.Out, "Deleted %s, freed %s.\n", text.Count(len(old), "run"), text.Size(max(0, freed)))
	return nil
}
