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
		Use: "rehearse [FILE...]", Short: "Try the project on simulated hosts, without any server", GroupID: cli.Grow,
		Annotations: map[string]string{cli.MoreOutputs: "junit"},
		Long: "Rehearse applies the project to hosts that are simulated inside this program, as the files in " +
			"rehearsal/\nsay: their system, memory, packages, services and accounts. It applies twice, and fails " +
			"when the second run\nchanges anything, when a host does not come out as its file expects, or when a " +
			"condition of the project was\nnever both true and false. It contacts nobody and needs no rights, so " +
			"it is the way to test a project in CI.",
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
