// Command jadekettle-worker is the part of Jade Kettle that runs on managed
// hosts. It is sent and started by jadekettle and is of no use by itself.
package main

import (
	"fmt"
	"os"

	"jadekettle/internal/host/worker"
)

func main() {
	if len(os.Args) == 3 && os.Args[1] == worker.GuardArgument {
		os.Exit(worker.Guard(os.Args[2]))
	}
	if len(os.Args) != 3 || os.Args[1] != worker.Argument {
		fmt.Fprintln(os.Stderr, "jadekettle-worker is started by jadekettle over SSH; run jadekettle instead")
		os.Exit(2)
	}
	os.Exit(worker.Main(os.Args[2]))
}
