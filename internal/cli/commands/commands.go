// Package commands lists the commands of the program, for the program itself, its manual and its tests.
package commands

import (
	"jadekettle/internal/cli"
	"jadekettle/internal/cli/hostscmd"
	"jadekettle/internal/cli/jobscmd"
	"jadekettle/internal/cli/projectcmd"
	"jadekettle/internal/cli/runcmd"
	"jadekettle/internal/cli/runscmd"
)

// All are the commands.
var All = []cli.Commands{runcmd.Commands, hostscmd.Commands, runscmd.Commands, jobscmd.Commands, projectcmd.Commands}
