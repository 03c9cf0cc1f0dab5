package projectcmd

import (
	"fmt"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/edit"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/text"
)

func format(e *cli.Env) *cobra.Command {
	preview, strict := false, false
	c := &cobra.Command{
		Use: "format [FILE...]", Short: "Write the project's TOML files in one style", GroupID: cli.Grow,
		Long: "Format writes TOML files canonically and keeps their comments: one space around =, an empty line " +
			"before\neach table, keys without needless quotes, long lists one item a line. Without files it takes " +
			"all of the\nproject but its sources. A file that is no valid TOML is left as it is.",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			changed := 0
			right, err := edit.Format(s, args, preview, func(f edit.Formatted) {
				changed++
				if preview {
					fmt.Fprint(e.Out, udiff.Unified(f.Name+" as it is", f.Name+" formatted", f.Old, f.New))
					return
				}
				fmt.Fprintln(e.Out, f.Name)
			})
			if err != nil {
				return err
			}
			what := "formatted"
			if preview {
				what = "would be formatted"
			}
			fmt.Fprintf(e.Out, "%s %s, %d were right already\n", text.Count(changed, "file"), what, right)
			if strict && changed > 0 {
				return cli.Exit(app.CodeChanges)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "show what would change, and change nothing")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "end with 3 when something changed or would change")
	return c
}
