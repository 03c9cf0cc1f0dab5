// Package visible makes text from elsewhere fit to be shown or written beside our own.
//
// What a host, a project or a source says may hold anything: escape sequences that steer a terminal, line breaks that
// forge a line, characters that nobody sees. [Line] is for a text in a line with others, [Block] for one that has lines
// of its own. Both write what does not belong there as \u{...}.
package visible

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// The characters by which package present/text marks moods, of the private use area. No text from elsewhere may hold
// them.
const (
	FirstMark = '\uF8E0'
	LastMark  = '\uF8EF'
)

// Line makes text from elsewhere fit to stand in a line beside other text: what
// would end the line, move or hide something is written as an escape.
func Line(s string) string {
	return escaped(s, func(r rune) bool { return r == '\n' || r == '\t' || Mark(r) || Hostile(r) })
}

// Block makes text from elsewhere fit to stand in lines of its own.
func Block(s string) string {
	return escaped(s, func(r rune) bool { return Mark(r) || Hostile(r) })
}

func escaped(s string, which func(rune) bool) string {
	if !strings.ContainsFunc(s, which) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if which(r) {
			b.WriteString(Escape(r))
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Escape writes a character by its number.
func Escape(r rune) string { return fmt.Sprintf("\\u{%x}", r) }

// Mark says whether a character marks a mood.
func Mark(r rune) bool { return r >= FirstMark && r <= LastMark }

// Hostile says whether a character steers a terminal or is seen by nobody: C0 and
// C1 controls, bidirectional and other format characters, and the separators of
// lines and paragraphs.
func Hostile(r rune) bool {
	if r < utf8.RuneSelf { // most of any text
		return r < ' ' && r != '\n' && r != '\t' || r == 0x7f
	}
	return unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) || r == utf8.RuneError
}
