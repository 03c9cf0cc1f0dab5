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
	{regexp.MustCompile(`(?i)\bis n[o] \w+`), `"is not a valid X", "invalid X" or "does not exist"`},
	{regexp.MustCompile(`(?i)\bhas n[o] %q`), `"unknown X %q in Y" or "does not contain %q"`},
	{regexp.MustCompile(`(?i)wants to [k]now`), `"X is required" or "no X given"`},
	{regexp.MustCompile(`(?i)\bst[a]nds\b|\bst[o]od\b`), `"is", "exists" or "current"`},
	{regexp.MustCompile(`(?i)\bl[i]es (in|on|beside)\b`), `"is in"`},
	{regexp.MustCompile(`(?i)\ban[e]w\b`), `"again"`},
	{regexp.MustCompile(`(?i)\botherwise t[h]an\b`), `"differently from" or "other than"`},
	{regexp.MustCompile(`(?i)left [o]ut`), `"skipped" or "omitted"`},
}

// longer is what may follow the second pattern.
var longer = regexp.MustCompile(`(?i)\bis n[o] longer\b`)

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
		n := 0
		for line := range strings.Lines(string(src)) {
			n++
			plain(t, name, n, line, false)
		}
		return nil
	})
	if err != nil || read < 300 {
		t.Fatalf("%d files were read: %v", read, err)
	}
}

// literals holds the strings and comments of a Go file to plain English.
func literals(t *testing.T, name string, src []byte) {
	t.Helper()
	file := token.NewFileSet().AddFile(name, -1, len(src))
	var s scanner.Scanner
	s.Init(file, src, nil, scanner.ScanComments)
	for {
		pos, tok, text := s.Scan()
		switch tok {
		case token.EOF:
			return
		case token.STRING, token.COMMENT:
			plain(t, name, file.Line(pos), text, tok == token.COMMENT)
		}
	}
}

// plain reports the refused words of a text.
func plain(t *testing.T, name string, line int, text string, comment bool) {
	t.Helper()
	for i, r := range refused {
		if i == 1 {
			if text = longer.ReplaceAllString(text, ""); comment {
				continue
			}
		}
		if found := r.pattern.FindString(text); found != "" {
			t.Errorf("%s:%d: %q; write %s", name, line, found, r.instead)
		}
	}
}
