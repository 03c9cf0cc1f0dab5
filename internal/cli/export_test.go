package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// Tree gives the commands as they hang together, for tests that look at them without a call.
func Tree(commands []Commands) *cobra.Command {
	return (&Env{In: strings.NewReader(""), Getenv: func(string) string { return "" }}).root(commands)
}
