// Package projectcmd has the commands about a project itself: to make one, check it, explain it, and bring things into
// it.
package projectcmd

import (
	"fmt"
	"io"
	"runtime"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/present/document"
)

// Commands gives them.
func Commands(e *cli.Env) []*cobra.Command {
	return []*cobra.Command{initCommand(e), demonstrate(e), lintCommand(e), format(e), add(e), factsCommand(e), why(e),
		kindsCommand(e), schemaCommand(e), secret(e), sourceCommand(e), captureCommand(e), version(e)}
}

func version(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: cli.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return e.Render(document.Version{Head: document.One, Version: cli.Version, Go: runtime.Version()},
				func(w io.Writer) {
					fmt.Fprintln(w, "jadekettle", cli.Version)
				})
		},
	}
}
