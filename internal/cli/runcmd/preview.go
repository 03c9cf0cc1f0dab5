package runcmd

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func preview(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode, r.Preview = record.ModeApply, true
	save := ""
	c := &cobra.Command{
		Use: "preview [TARGET...]", Short: "Show what apply would change",
		Long: "Compares hosts with the project and shows every change that apply would make. Changes nothing on a " +
			"host, except in Jade Kettle's own directory.\n\nTARGET is a host name, a pattern such as 'gauge-*' or " +
			"'gauge-[01..04]', or an @group. Without targets, previews all hosts.",
		RunE: func(c *cobra.Command, targets []string) error {
			r.Digest, r.beside = save != "", save == "-"
			if r.beside && e.JSON() {
				return problem.Errorf("--save - cannot be combined with --output json").
					Remedy("write one of them to a file")
			}
			full, err := filepath.Abs(save)
			if err != nil {
				return err
			}
			p, q, run, err := r.look(c.Context(), e, targets)
			if err != nil {
				return err
			}
			switch save {
			case "":
			case "-":
				err = p.SaveReview(c.Context(), q, run, func(data []byte) error {
					_, err := e.Raw.Write(data)
					return err
				})
			default:
				err = p.SaveReview(c.Context(), q, run, func(data []byte) error {
					return atomicfile.Write(full, data, 0o644)
				})
				if err == nil {
					fmt.Fprintf(e.Err, "saved in %[1]s; `jadekettle apply --reviewed %[1]s` does exactly that\n",
						text.Line(save))
				}
			}
			if err != nil {
				return err
			}
			return cli.Ended(run.Code)
		},
	}
	r.flags(e, c)
	r.adoptFlag(c)
	e.FromFlag(c)
	e.HereFlag(c)
	c.Flags().StringVar(&save, "save", "",
		"save the preview to `FILE` for `apply --reviewed`, or - for standard output")
	return c
}
