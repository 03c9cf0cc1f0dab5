package runcmd

import (
	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
)

func verify(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode = record.ModeVerify
	all := false
	c := &cobra.Command{
		Use: "verify TARGET... | --all", Short: "Run the declared health checks",
		Long: "Runs the health checks (probes) declared for the hosts. Changes nothing. A check that does not pass " +
			"counts as a failed task. An apply also runs them, after all changes.\n\nTARGET is a host name, a " +
			"pattern such as 'gauge-*' or 'gauge-[01..04]', or an @group. Use --all for every host.",
		RunE: func(c *cobra.Command, targets []string) error {
			if (len(targets) == 0) != all {
				return problem.Errorf("no targets given").
					Remedy("name hosts, patterns or @groups, or use --all")
			}
			q, err := r.request(c.Context(), e, targets)
			if err != nil {
				return err
			}
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			p, err := s.OpenFor(c.Context(), q)
			if err != nil {
				return err
			}
			probes := p.Probes()
			q.Part.Tasks, q.Part.Silent = probes.Tasks, probes.Silent
			return finish(c.Context(), e, p, q, r.Look)
		},
	}
	r.given = c
	e.ExceptFlag(c, &r.Except)
	e.ParallelFlag(c, &r.Parallel)
	c.Flags().BoolVar(&all, "all", false, "select every host in the inventory")
	c.Flags().StringArrayVar(&r.Part.Labels, "label", nil, "select probes with `LABEL` (repeatable)")
	c.Flags().StringArrayVar(&r.Part.Manifests, "manifest", nil, "select probes from `MANIFEST` (repeatable)")
	e.NoteFlag(c)
	e.PlainFlag(c)
	c.Flags().BoolVar(&r.Summary, "summary", false, "show only per-host results and failures")
	r.quietFlag(c)
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	complete(e, c)
	return c
}
