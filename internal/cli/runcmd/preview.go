package runcmd

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func preview(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode, r.Preview = record.ModeApply, true
	save := ""
	c := &cobra.Command{
		Use: "preview [TARGET...]", Short: "Show what an apply would change, and change nothing", GroupID: cli.Work,
		Long: "Preview compares hosts with what is declared and shows every difference. It changes nothing on a " +
			"host\n" +
			"but Jade Kettle's own folder. Targets are host names, patterns such as \"gauge-*\", and @groups; " +
			"without\n" +
			"any it takes all hosts.",
		RunE: func(c *cobra.Command, targets []string) error {
			r.Digest = save != ""
			full, err := filepath.Abs(save)
			if err != nil {
				return err
			}
			p, q, run, err := r.look(c.Context(), e, targets)
			if err != nil {
				return err
			}
			if save != "" {
				if err := p.SaveReview(c.Context(), full, q, run); err != nil {
					return err
				}
				fmt.Fprintf(e.Err, "saved in %s; `jadekettle apply --reviewed %s` does exactly that\n", text.Line(save),
					text.Line(save))
			}
			return cli.Ended(run.Code)
		},
	}
	r.flags(e, c)
	r.adoptFlag(c)
	e.FromFlag(c)
	e.HereFlag(c)
	c.Flags().StringVar(&save, "save", "", "keep what it shows in a `FILE`, to be reviewed and then applied with "+
		"--reviewed")
	return c
}
