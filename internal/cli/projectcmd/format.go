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
		Use: "format [FILE...]", Short: "Format the project's TOML files",
		Long: "Formats TOML files and keeps their comments: one space around =, an empty line before each table, " +
			"no unnecessary quotes around keys, and long lists with one item per line. Without files, formats all " +
			"files of the project except its sources. A file that is not valid TOML is not changed.",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			changed := 0
			right, err := edit.Format(s, args, preview, func(f edit.Formatted) {
				changed++
				if preview {
					fmt.Fprint(e.Out, udiff.Unified(f.Name+" (current)", f.Name+" formatted", f.Old, f.New))
					return
				}
				fmt.Fprintln(e.Out, f.Name)
			})
			if err != nil {
				return err
			}
			what := "formatted"
			if preview {
				what = "to format"
			}
			fmt.Fprintf(e.Out, "%s %s, %d already formatted\n", text.Count(changed, "file"), what, right)
			if strict && changed > 0 {
				return cli.Exit(app.CodeChanges)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "show what would change, without changing anything")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "exit with status 3 if anything changed or would change")
	return c
}
