// Command docs writes the man pages of every command into a directory: docs DIR. Their date is that of
// SOURCE_DATE_EPOCH (https://reproducible-builds.org/specs/source-date-epoch/), so that a release is reproducible.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: docs DIR")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "docs:", err)
		os.Exit(1)
	}
}

func write(dir string) error {
	at, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH: %w", err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, text := range cli.NewManual(commands.All...).ManPages(time.Unix(at, 0)) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
