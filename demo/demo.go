// Package demo holds the example project: the Saltmarsh Tide Observatory with
// its tide gauges, archive and chart hosts.
package demo

import "embed"

// Files is the project, below the folder project.
//
//go:embed all:project
var Files embed.FS
