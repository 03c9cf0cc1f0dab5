package runcmd

import (
	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/record"
)

func drift(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode, r.Preview = record.ModeDrift, true
	c := &cobra.Command{
		Use: "drift [TARGET...]", Short: "Show what has changed on hosts since the last apply",
		Long: "Compares hosts with the project, like preview, and shows for each difference whether it was " +
			"modified on the host, in the project, or both, with the last applied version, when it was applied, " +
			"and who applied it. Changes nothing.",
		RunE: func(c *cobra.Command, targets []string) error {
			_, _, run, err := r.look(c.Context(), e, targets)
			if err != nil {
				return err
			}
			return cli.Ended(run.Code)
		},
	}
	r.flags(e, c)
	return c
}
