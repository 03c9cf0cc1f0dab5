package projectcmd

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/edit"
	"jadekettle/internal/cli"
	"jadekettle/internal/present/jsonschema"
	"jadekettle/internal/present/text"
)

func initCommand(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "init [DIR]", Short: "Create a new project", Args: cli.Args(0, 1),
		Long: "Creates a small project in a directory, by default the current one, which must not contain any of " +
			"its files yet. Comments in each file explain its purpose and format.",
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
			fmt.Fprintf(e.Out, "%s: schemas for editors\n", filepath.Join(dir, schemaDir))
			what, into := "the project", ""
			if dir = filepath.Clean(dir); dir != "." {
				what, into = dir+string(filepath.Separator), "cd "+app.Shown([]string{dir})+" && "
			}
			fmt.Fprintf(e.Out, "\nCreated %s. Next: %sjadekettle lint && jadekettle preview\n", text.Line(what), into)
			return nil
		},
	}
}
