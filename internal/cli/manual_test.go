package cli_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// TestManPages looks at two man pages closely, and at all of them for what man(7) would take for a request of its own.
func TestManPages(t *testing.T) {
	pages := cli.NewManual(commands.All...).ManPages(time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC))
	for _, name := range []string{"jadekettle-undo.1", "jadekettle-lint.1"} {
		golden(t, name, pages[name])
	}
	if len(pages) < 60 || pages["jadekettle.1"] == "" || pages["jadekettle-runs-show.1"] == "" {
		t.Errorf("there are %d pages", len(pages))
	}
	requests := strings.Fields(".TH .SH .PP .TP .nf .fi")
	for name, text := range pages {
		for line := range strings.Lines(text) {
			request, _, _ := strings.Cut(strings.TrimSpace(line), " ")
			if strings.HasPrefix(line, "'") || strings.HasPrefix(line, ".") &&
				!slices.Contains(requests, request) {
				t.Errorf("%s has the line %q", name, line)
			}
		}
	}
}
