package hostscmd

import (
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/present/text"
)

func disconnect(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "disconnect", Short: "Close connections that were kept open for later runs", Args: cli.NoArgs,
		Long: "Closes all connections that runs of this account have kept open for later runs, as [ssh] keep in " +
			"jadekettle.toml asks for. Runs that are using them are cut off.",
		RunE: func(*cobra.Command, []string) error {
			n, err := e.Caller().Disconnect()
			if err == nil {
				fmt.Fprintf(e.Out, "%s closed\n", text.Count(n, "connection"))
			}
			return err
		},
	}
}
