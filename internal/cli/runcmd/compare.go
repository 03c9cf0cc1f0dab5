package runcmd

import (
	"io"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	appcompare "jadekettle/internal/app/compare"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func compare(e *cli.Env) *cobra.Command {
	var q appcompare.Request
	whole, strict := false, false
	c := &cobra.Command{
		Use: "compare REV [REV]", Short: "Show what a change of the project does, between two of its revisions",
		GroupID: cli.Grow, Args: cobra.RangeArgs(1, 2),
		Long: "Compare resolves the project at two revisions of the git repository that it lies in, or at one and " +
			"as it lies\nhere, and shows which tasks of which hosts differ: what a change under review will do. No " +
			"host is contacted; its\nfacts are those that were read last. What is alike on several hosts is " +
			"shown once.",
		RunE: func(c *cobra.Command, revs []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			q.Revisions = revs
			found, err := appcompare.Project(c.Context(), s, q)
			if err != nil {
				return err
			}
			if err := e.Render(document.NewCompared(found), func(w io.Writer) {
				text.Compared(w, e.Sources(), e.Width, found, whole)
			}); err != nil {
				return err
			}
			if strict && len(found.Groups()) > 0 {
				return cli.Exit(app.CodeChanges)
			}
			return nil
		},
	}
	c.Flags().StringSliceVar(&q.Targets, "on", nil, "only these `TARGETS`: hosts, patterns or @groups, as the "+
		"later revision has them")
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show every line of every diff")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "end with 3 when something differs")
	c.RegisterFlagCompletionFunc("on", e.CompleteTargets())
	return c
}
