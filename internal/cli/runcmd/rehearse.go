package runcmd

import (
	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/junit"
	"jadekettle/internal/present/text"
)

func rehearse(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "rehearse [FILE...]", Short: "Test the project on simulated hosts",
		Annotations: map[string]string{cli.MoreOutputs: "junit"},
		Long: "Applies the project to simulated hosts, which files in rehearsal/ describe: their operating " +
			"system, memory, packages, services and users. Applies twice, and fails if the second run changes " +
			"anything, if a host does not have the expected result, or if a condition in the project was never " +
			"both true and false. Needs no network and no privileges, so it can test a project in CI.",
		Example: "  jadekettle rehearse\n  jadekettle rehearse --output junit > rehearsal.xml",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			cases, failed, err := s.Rehearse(c.Context(), args)
			if c.Context().Err() != nil {
				return cli.Exit(app.CodeStopped)
			}
			if err != nil {
				return err
			}
			switch e.Output {
			case "json":
				err = e.Document(document.Rehearsals{Head: document.One, Failed: failed, Cases: cases})
			case "junit":
				err = junit.Write(e.Raw, junit.Rehearsal(cases))
			default:
				text.Rehearsed(e.Out, e.Sources(), e.Width, cases, failed)
			}
			if err == nil && failed > 0 {
				return cli.Exit(app.CodeFailed)
			}
			return err
		},
	}
}
