package projectcmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/jsonschema"
)

// schemaDir is where init puts the schemas that editors read.
const schemaDir = ".schemas"

func schemaCommand(e *cli.Env) *cobra.Command {
	dir := ""
	c := &cobra.Command{
		Use: "schema TYPE", Short: "Print JSON Schemas for project files",
		Args: cli.Args(0, 1),
		Long: "Schema prints a JSON Schema (draft 7) of one sort of file: " + strings.Join(jsonschema.Sorts, ", ") +
			".\nWith --write it puts all of them into a directory. Editors that know TOML find one by the first " +
			"line of a " +
			"file,\nwhich init puts there:\n\n  #:schema ../" + schemaDir + "/manifest.json",
		RunE: func(c *cobra.Command, args []string) error {
			all := jsonschema.All(kindsOf(c.Context(), e))
			switch {
			case dir != "":
				names, err := jsonschema.WriteAll(kindsOf(c.Context(), e), dir)
				for _, name := range names {
					fmt.Fprintln(e.Out, name)
				}
				return err
			case len(args) == 0:
				return problem.Errorf("expected TYPE, or --write DIR").
					Remedy("available types: %s", strings.Join(value.Keys(all), ", "))
			case all[args[0]] == nil:
				return problem.Errorf("unknown schema %q", args[0]).
					Meant(args[0], value.Keys(all), "available: "+strings.Join(value.Keys(all), ", "))
			}
			return e.Document(all[args[0]])
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return jsonschema.Sorts, cli.NoFiles
		},
	}
	c.Flags().StringVar(&dir, "write", "", "write all schemas to `DIR`")
	return c
}
