// Command jadekettle configures servers over SSH from declarative manifests.
package main

import (
	"os"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
	"jadekettle/internal/host/machine/system"
	"jadekettle/internal/host/worker"
)

func main() {
	system.KeepNoDumps()
	if len(os.Args) == 3 && os.Args[1] == worker.Argument {
		os.Exit(worker.Main(os.Args[2]))
	}
	if len(os.Args) == 3 && os.Args[1] == worker.GuardArgument {
		os.Exit(worker.Guard(os.Args[2]))
	}
	os.Exit(cli.Main(os.Args[1:], commands.All...))
}
