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
		Use: "lint", Short: "Check the project for errors, offline", Args: cli.NoArgs,
		Annotations: map[string]string{cli.MoreOutputs: "sarif"},
		Long: "Checks the whole project for every host and environment without connecting, and prints each " +
			"problem with file, line and column. Exits with 2 if there are any.\n\nWarnings have a code. To allow " +
			"one, give a reason in a comment on the same line, or above the line or its table:\n\n  # jadekettle " +
			"allow CODE: reason\n  # jadekettle allow CODE in this file: reason\n\n" + codesHelp(),
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
	c.Flags().BoolVar(&strict, "strict", false, "also exit with 2 if there are warnings")
	return c
}

func codesHelp() string {
	out := "Codes:\n"
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
	text.Advice(e.Out, &text.Sources{Dir: s.Root}, e.Width, found.Advice)
	text.Problems(e.Out, &text.Sources{Dir: s.Root}, e.Width, problems)
	if len(problems) > 0 && found.Hosts == 0 { // it could not be read as a whole
		fmt.Fprintf(e.Out, "%s, %s\n", text.Count(len(problems), "error"), text.Count(found.Spoken(), "warning"))
		return nil
	}
	fmt.Fprintf(e.Out, "%s, %s (%s, %s, %s)\n", text.Count(len(problems), "error"),
		text.Count(found.Spoken(), "warning"), text.Count(found.Hosts, "host"),
		text.Count(found.Manifests, "manifest"), text.Count(found.Declarations, "declaration"))
	return nil
}
