package projectcmd

import (
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/lint"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/sarif"
	"jadekettle/internal/present/text"
)

func lintCommand(e *cli.Env) *cobra.Command {
	strict := false
	c := &cobra.Command{
		Use: "lint", Short: "Check the project without contacting a host", GroupID: cli.Work, Args: cobra.NoArgs,
		Annotations: map[string]string{cli.MoreOutputs: "sarif"},
		Long: "Lint reads the whole project, resolves it for every host as far as that goes without facts, and\n" +
			"prints every problem with its file, line and column. It ends with 2 when there is one. Without --env " +
			"it does\nso for every environment.\n\n" +
			"Besides, it gives advice, each piece with a code. Advice that is not to be followed is silenced in " +
			"place,\nwith a reason, on the line itself or in a comment above it or its table:\n\n" +
			"  # jadekettle meant CODE: why\n  # jadekettle meant CODE in this file: why\n\n" + codesHelp(),
		RunE: func(c *cobra.Command, _ []string) error {
			where := e.Where()
			where.Newer = true
			s, err := app.Find(c.Context(), e.Caller(), where)
			if err != nil {
				return err
			}
			found, err := lint.Project(s)
			if err != nil {
				return err
			}
			if err := linted(e, s, found); err != nil {
				return err
			}
			if found.Problems.Err() != nil || strict && found.Spoken() > 0 {
				return cli.Exit(app.CodeWrong)
			}
			return nil
		},
	}
	e.FromFlag(c)
	c.Flags().BoolVar(&strict, "strict", false, "end with 2 when there is advice, too")
	return c
}

func codesHelp() string {
	out := "The codes:\n"
	for _, c := range lint.Codes {
		out += fmt.Sprintf("  %-21s %s\n", c.Code, c.Doc)
	}
	return out
}

// linted shows what lint found.
func linted(e *cli.Env, s *app.Site, found *lint.Found) error {
	problems := found.Problems.List()
	switch e.Output {
	case "json":
		return e.Document(document.NewLint(problems, found.Advice))
	case "sarif":
		return e.Document(sarif.Log(cli.Version, problems, found.Advice))
	}
	text.Advice(e.Err, &text.Sources{Dir: s.Root}, e.Width, found.Advice)
	if len(problems) > 0 {
		text.Problems(e.Err, &text.Sources{Dir: s.Root}, e.Width, problems)
		return nil
	}
	said := "no problem"
	if n := found.Spoken(); n > 0 {
		said += " and " + text.Count(n, "piece") + " of advice"
	}
	fmt.Fprintf(e.Out, "%s in %s, %s and %s\n", said, text.Count(found.Hosts, "host"),
		text.Count(found.Manifests, "manifest"), text.Count(found.Declarations, "declaration"))
	return nil
}
