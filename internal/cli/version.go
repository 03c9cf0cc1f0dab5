package cli

import (
	"fmt"
	"runtime"

	"jadekettle/internal/present/document"

	"github.com/spf13/cobra"
)

// Version is this program's version.
const Version = "0.1.0"

func (a *App) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", GroupID: "start", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.output == "json" {
				return a.document(document.Version{Head: document.One, Version: Version, Go: runtime.Version()})
			}
			_, err := fmt.Fprintln(a.Out, "jadekettle", Version)
			return err
		},
	}
}
