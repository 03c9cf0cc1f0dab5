package projectcmd

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/edit"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/jsonschema"
)

func initCommand(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "init [DIR]", Short: "Make a small project", GroupID: cli.Begin, Args: cobra.MaximumNArgs(1),
		Long: "Init makes a project in a folder, which may exist but must hold none of its files yet. Each file says " +
			"in\na few lines of comment what it is for and how it is written.",
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			made, err := edit.Starter(dir)
			if err != nil {
				return err
			}
			for _, name := range made {
				fmt.Fprintln(e.Out, filepath.Join(dir, name))
			}
			if _, err := jsonschema.WriteAll(app.BuiltIn(), filepath.Join(dir, schemaDir)); err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "%s, the schemas that editors read\n", filepath.Join(dir, schemaDir))
			fmt.Fprintf(e.Out, "\nA project is ready. Next: cd %s, jadekettle lint, jadekettle rehearse, "+
				"jadekettle preview\n", dir)
			return nil
		},
	}
}
