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
		Use: "compare REV [REV]", Short: "Show what differs between two revisions of the project",
		Args: cli.Args(1, 2),
		Long: "Compares the project at two git revisions, or at one revision and in the working copy, and shows " +
			"which tasks differ on which hosts: the effect of a change under review. Does not connect to hosts; " +
			"uses the facts that were last collected. Differences that several hosts have in common are shown once.",
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
	c.Flags().StringSliceVar(&q.Targets, "on", nil, "compare only `TARGETS`: hosts, patterns or @groups of the "+
		"later revision")
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show full diffs")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "exit with status 3 if anything differs")
	c.RegisterFlagCompletionFunc("on", e.CompleteTargets())
	return c
}
