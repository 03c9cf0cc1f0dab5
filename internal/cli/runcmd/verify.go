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
		Use: "verify TARGET... | --all", Short: "Ask the probes, and change nothing", GroupID: cli.Work,
		Long: "Verify asks the probes that are declared for hosts, and does nothing else. Probes change nothing; " +
			"one whose\nanswer is not as declared is a failed task. An apply asks them too, once all changes are " +
			"made. Targets are\nhost names, patterns such as \"gauge-*\", and @groups; --all takes every host.",
		RunE: func(c *cobra.Command, targets []string) error {
			if (len(targets) == 0) != all {
				return problem.Errorf("verify wants to know where").
					Remedy("name hosts, patterns or @groups, or say --all")
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
	c.Flags().BoolVar(&all, "all", false, "every host of the inventory")
	c.Flags().StringArrayVar(&r.Part.Labels, "label", nil, "only probes with this `LABEL`; may be repeated")
	c.Flags().StringArrayVar(&r.Part.Manifests, "manifest", nil, "only probes of this `MANIFEST`; may be repeated")
	e.NoteFlag(c)
	e.PlainFlag(c)
	c.Flags().BoolVar(&r.Summary, "summary", false, "show only how each host fared and what failed")
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	complete(e, c)
	return c
}
