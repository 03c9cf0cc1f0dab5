package cli_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var (
	link     = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	notDash  = regexp.MustCompile(`[^\p{L}\p{N} _-]`)
	messages = regexp.MustCompile("`([^`]+)`")
)

// TestLinks holds every link of the documents to a file that is there, and to a heading of it.
func TestLinks(t *testing.T) {
	pages := map[string]string{}
	for _, top := range []string{"../../docs", "../../README.md", "../../CONTRIBUTING.md", "../../SECURITY.md",
		"../../CHANGELOG.md"} {
		err := filepath.WalkDir(top, func(p string, d fs.DirEntry, err error) error {
			if err != nil || filepath.Ext(p) != ".md" {
				return err
			}
			text, err := os.ReadFile(p)
			pages[filepath.Clean(p)] = string(text)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	reached := map[string]bool{}
	for page, text := range pages {
		for _, m := range link.FindAllStringSubmatch(text, -1) {
			to, heading, _ := strings.Cut(m[1], "#")
			if strings.Contains(to, "://") {
				continue
			}
			at := page
			if to != "" {
				at = filepath.Join(filepath.Dir(page), to)
			}
			if _, err := os.Stat(at); err != nil {
				t.Errorf("%s leads to %s, which does not exist", page, m[1])
			}
			reached[at] = reached[at] || at != page
			if heading != "" && !headings(pages[at])[heading] {
				t.Errorf("%s leads to %s, which has no such heading", page, m[1])
			}
		}
	}
	for page := range pages {
		if !reached[page] && filepath.Base(page) != "README.md" {
			t.Errorf("no page leads to %s", page)
		}
	}
}

// headings gives the anchors of a page.
func headings(text string) map[string]bool {
	out := map[string]bool{}
	for line := range strings.Lines(text) {
		if title := strings.TrimLeft(line, "#"); title != line {
			title = notDash.ReplaceAllString(strings.ToLower(strings.TrimSpace(title)), "")
			out[strings.ReplaceAll(title, " ", "-")] = true
		}
	}
	return out
}

// TestTroubleshooting holds the messages that the page explains to those that the program has.
func TestTroubleshooting(t *testing.T) {
	page, err := os.ReadFile("../../docs/troubleshooting.md")
	if err != nil {
		t.Fatal(err)
	}
	var code strings.Builder
	err = filepath.WalkDir("..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
			return err
		}
		text, err := os.ReadFile(p)
		code.Write(text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for line := range strings.Lines(string(page)) {
		if !strings.HasPrefix(line, "### ") {
			continue
		}
		for _, m := range messages.FindAllStringSubmatch(line, -1) {
			n++
			for _, part := range strings.Split(m[1], " ... ") {
				if !strings.Contains(code.String(), part) {
					t.Errorf("the program never says %q", part)
				}
			}
		}
	}
	if n < 25 {
		t.Errorf("only %d messages were looked for", n)
	}
}
