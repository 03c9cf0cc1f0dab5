// Package recipe reads the pages of docs/how-to and does what they say, so that tests can try each of them.
//
// A page starts with what one has at its end. A fenced block after a line such as "`hosts.toml`, the group:" is a file
// of the project; a block of sh is lines to run. One of "sh lab" needs a real host, and one of "sh by-hand" a person.
package recipe

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// A Page is one recipe.
type Page struct {
	Name string // of the file, without .md
	Text string
}

// Pages reads every recipe of a directory.
func Pages(dir string) ([]Page, error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.md"))
	if err != nil {
		return nil, err
	}
	var out []Page
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".md")
		if name == "README" {
			continue
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		out = append(out, Page{name, string(text)})
	}
	return out, nil
}

// block is a fenced block of a page.
type block struct {
	line  int
	file  string // the path of a file of the project; empty for lines to run
	whole bool   // the file replaces an existing one
	added bool   // it is added to the last table of the file
	sort  string // what is written after the fence, such as "sh" or "sh lab"
	lines string
}

func (p Page) blocks() []block {
	named := regexp.MustCompile("^`([^`]+)`.*:$") // in the line before a block, the path of its file
	var out []block
	var before string
	open, n := false, 0
	for line := range strings.Lines(p.Text) {
		n++
		line = strings.TrimRight(line, "\n")
		sort, fence := strings.CutPrefix(line, "```")
		switch {
		case fence && open:
			open = false
		case fence:
			b := block{line: n, sort: sort}
			if m := named.FindStringSubmatch(before); m != nil {
				b.file, b.whole, b.added = m[1], strings.Contains(before, "in full"),
					strings.Contains(before, ", the table")
			}
			out, open = append(out, b), true
		case open:
			out[len(out)-1].lines += line + "\n"
		case line != "":
			before = line
		}
		if fence {
			before = ""
		}
	}
	return out
}

// Try does in the project dir what the page says, from top to bottom: it writes the files, and runs with sh the lines
// of the blocks of these sorts, all of which must succeed. A page that applies something is then applied twice more,
// and the second time must change nothing.
func (p Page) Try(dir string, sorts []string, sh func(lines string) (output string, err error)) error {
	if !strings.Contains(p.Text, "\nAt the end, ") {
		return fmt.Errorf("%s does not start with what one has at its end", p.Name)
	}
	applied := false
	for _, b := range p.blocks() {
		switch {
		case b.file != "":
			if err := b.write(dir); err != nil {
				return fmt.Errorf("%s:%d: %w", p.Name, b.line, err)
			}
		case slices.Contains(sorts, b.sort):
			applied = applied || strings.Contains(b.lines, "jadekettle apply")
			if out, err := sh(b.lines); err != nil {
				return fmt.Errorf("%s:%d: %w\n%s", p.Name, b.line, err, out)
			}
		}
	}
	if !applied {
		return nil
	}
	// The first is for pages that end with something else, such as an undo.
	for i := range 2 {
		out, err := sh("jadekettle apply --all")
		if err != nil || i > 0 && strings.Contains(out, " changed") {
			return fmt.Errorf("%s: apply number %d at its end: %v\n%s", p.Name, i+1, err, out)
		}
	}
	return nil
}

// write writes the file of a block. What a page says of hosts.toml, or of a table, is added to the file, unless it is
// the file in full.
func (b block) write(dir string) error {
	name := filepath.Join(dir, filepath.FromSlash(b.file))
	text := b.lines
	if b.file == "hosts.toml" && !b.whole || b.added {
		before, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		text = string(before) + "\n" + text
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, []byte(text), 0o644)
}
