package cli

import (
	"github.com/spf13/cobra"
)

// Tree gives the commands as they hang together, for tests that look at them without a call.
func Tree(commands []Commands) *cobra.Command {
	return NewManual(commands...).root
}
