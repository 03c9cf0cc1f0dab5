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
		Use: "drift [TARGET...]", Short: "Tell apart what changed on hosts and what changed in the project",
		GroupID: cli.Work,
		Long: "Drift compares hosts with what is declared, as preview does, and tells of each task that differs " +
			"whether it was\nchanged on the host since it was last written, is declared otherwise now, or both: " +
			"with what differs from what\nwas last written, when that was and by whom. It changes nothing. Hosts " +
			"remember how things were declared when\nthey were last written, but for what is secret.",
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
