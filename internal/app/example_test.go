package app_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"jadekettle/internal/app"
)

// A project is read and checked before anything is dialed. What is asked of it is a request, and what came of that is
// a record.
func ExampleOpen() {
	dir, _ := os.MkdirTemp("", "pier")
	defer os.RemoveAll(dir)
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n",
		"hosts.toml":      "[host.gauge-01]\nfacts = { os = { id = \"debian\" } }\n[group.gauge]\nmembers = [\"*\"]\n",
	} {
		os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
	}
	caller := &app.Caller{Getenv: func(string) string { return "" }}
	p, err := app.Open(context.Background(), caller, app.Where{Dir: dir})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(p.Settings.Project, len(p.Inventory.Hosts))
	// Output: saltmarsh 1
}
