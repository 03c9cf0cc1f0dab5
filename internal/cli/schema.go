package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/jsonschema"
)

// schemaDir is where init puts the schemas that editors read.
const schemaDir = ".schemas"

func (a *App) schemaCommand() *cobra.Command {
	dir := ""
	c := &cobra.Command{
		Use: "schema [FILE-SORT]", Short: "Print JSON Schemas of the files that people write", GroupID: "grow",
		Args: cobra.MaximumNArgs(1),
		Long: "Schema prints a JSON Schema (draft 7) of one sort of file: " + strings.Join(jsonschema.Sorts, ", ") +
			".\nWith --write it puts all of them into a folder. Editors that know TOML find one by the first line of a " +
			"file,\nwhich init puts there:\n\n  #:schema ../" + schemaDir + "/manifest.json",
		RunE: func(_ *cobra.Command, args []string) error {
			all := jsonschema.All(a.kinds())
			switch {
			case dir != "":
				names, err := a.writeSchemas(dir)
				for _, name := range names {
					fmt.Fprintln(a.Out, name)
				}
				return err
			case len(args) == 0:
				return problem.Errorf("schema wants a sort of file, or --write DIR").
					Remedy("there are %s", strings.Join(value.Keys(all), ", "))
			case all[args[0]] == nil:
				return problem.Errorf("there is no schema %q", args[0]).Meant(args[0], value.Keys(all),
					"there are "+strings.Join(value.Keys(all), ", "))
			}
			return a.document(all[args[0]])
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return jsonschema.Sorts, noFiles
		},
	}
	c.Flags().StringVar(&dir, "write", "", "a `DIR` that all schemas are written into")
	return c
}

// writeSchemas writes every schema into a folder.
func (a *App) writeSchemas(dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var out []string
	all := jsonschema.All(a.kinds())
	for _, name := range value.Keys(all) {
		data, err := json.MarshalIndent(all[name], "", "  ")
		if err != nil {
			return out, err
		}
		file := filepath.Join(dir, name+".json")
		if err := atomicfile.Write(file, append(data, '\n'), 0o644); err != nil {
			return out, err
		}
		out = append(out, file)
	}
	return out, nil
}
