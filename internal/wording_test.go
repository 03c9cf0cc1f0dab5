package internal_test

import (
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// refused are words that once made our texts read like a translation, each with what to write instead. A
// letter in brackets keeps a pattern from finding itself.
var refused = []struct {
	pattern *regexp.Regexp
	instead string
}{
	{regexp.MustCompile(`(?i)\bte[l]ls?\b|\bto[l]d\b|\bte[l]ling\b`), "show, list, print, report, warn, notify or " +
		"explain"},
	{regexp.MustCompile(`(?i)\bis\s+n[o]\s+\w+`), `"is not a valid X", "invalid X" or "does not exist"`},
	{regexp.MustCompile(`(?i)\bhas\s+n[o]\s+%q`), `"unknown X %q in Y" or "does not contain %q"`},
	{regexp.MustCompile(`(?i)wants\s+to\s+[k]now`), `"X is required" or "no X given"`},
	{regexp.MustCompile(`(?i)\bst[a]nds\b|\bst[o]od\b`), `"is", "exists" or "current"`},
	{regexp.MustCompile(`(?i)\bl[i]es\s+(in|on|beside)\b`), `"is in"`},
	{regexp.MustCompile(`(?i)\ban[e]w\b`), `"again"`},
	{regexp.MustCompile(`(?i)\botherwise\s+t[h]an\b`), `"differently from" or "other than"`},
	{regexp.MustCompile(`(?i)left\s+[o]ut`), `"skipped" or "omitted"`},
}

// longer is what may follow the second pattern.
var longer = regexp.MustCompile(`(?i)\bis\s+n[o]\s+longer\b`)

// prose are the extensions of texts, and of files that the program prints or embeds.
var prose = map[string]bool{".md": true, ".html": true, ".js": true, ".css": true, ".toml": true, ".yaml": true,
	".tmpl": true, ".golden": true, ".sh": true, ".txt": true}

// TestWording holds string literals, embedded files and documents to plain English, without exceptions, and comments
// to all of it but "there is no", which is good English where nobody has to act on it.
func TestWording(t *testing.T) {
	read := 0
	err := filepath.WalkDir("..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if d != nil && (d.Name() == ".git" || d.Name() == "corpus") {
				return fs.SkipDir
			}
			return err
		}
		ext := filepath.Ext(p)
		if ext != ".go" && !prose[ext] {
			return nil
		}
		src, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		read++
		name := strings.TrimPrefix(filepath.ToSlash(p), "../")
		if ext == ".go" {
			literals(t, name, src)
			return nil
		}
		plain(t, name, 1, string(src), false)
		return nil
	})
	if err != nil || read < 300 {
		t.Fatalf("%d files were read: %v", read, err)
	}
}

// literals holds the strings and comments of a Go file to plain English. Lines of one comment are read as one text.
func literals(t *testing.T, name string, src []byte) {
	t.Helper()
	file := token.NewFileSet().AddFile(name, -1, len(src))
	var s scanner.Scanner
	s.Init(file, src, nil, scanner.ScanComments)
	var comment strings.Builder
	first, last := 0, 0
	for {
		pos, tok, text := s.Scan()
		line := file.Line(pos)
		if tok == token.COMMENT && line == last+1 {
			comment.WriteString("\n" + strings.TrimPrefix(text, "//"))
			last = line
			continue
		}
		if tok == token.COMMENT || tok == token.EOF {
			plain(t, name, first, comment.String(), true)
			comment.Reset()
			comment.WriteString(strings.TrimPrefix(text, "//"))
			first, last = line, line
		}
		switch tok {
		case token.EOF:
			return
		case token.STRING:
			plain(t, name, line, text, false)
		}
	}
}

// plain reports the refused words of a text that begins at a line.
func plain(t *testing.T, name string, line int, text string, comment bool) {
	t.Helper()
	for i, r := range refused {
		if i == 1 {
			if text = longer.ReplaceAllStringFunc(text, blank); comment {
				continue
			}
		}
		for _, at := range r.pattern.FindAllStringIndex(text, -1) {
			t.Errorf("%s:%d: %q; write %s", name, line+strings.Count(text[:at[0]], "\n"), text[at[0]:at[1]], r.instead)
		}
	}
}

// blank keeps the lines of what it takes out of a text.
func blank(s string) string { return strings.Repeat("\n", strings.Count(s, "\n")) }
