package hostscmd

import (
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/present/text"
)

func disconnect(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "disconnect", Short: "End the connections that are kept for later runs", Args: cli.NoArgs,
		Long: "Ends all connections to hosts that earlier runs of this account have kept because of keep under [ssh] " +
			"in jadekettle.toml. Runs in progress over them are cut off.",
		RunE: func(*cobra.Command, []string) error {
			n, err := e.Caller().Disconnect()
			if err == nil {
				fmt.Fprintf(e.Out, "%s ended\n", text.Count(n, "connection"))
			}
			return err
		},
	}
}
