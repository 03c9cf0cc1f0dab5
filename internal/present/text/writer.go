// Package text draws what the command line shows to people: moods, tables,
// problems with their lines, and runs.
//
// Text that came from elsewhere (a host, a project, a source) may hold anything.
// It is written through [Line], where it is beside other text, or [Block],
// where it has lines of its own, and a [Writer] escapes whatever is left.
package text

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"syscall"
	"unicode/utf8"

	"jadekettle/internal/core/visible"
)

// Mood is what a piece of text is to convey besides its words.
type Mood int

// The moods.
const (
	Plain   Mood = iota
	Bad          // something failed
	Loud         // something changed
	Quiet        // all else
	Added        // to a text
	Removed      // from a text
)

// sgr are the codes of ECMA-48, "Select graphic rendition". Grey is readable on
// light and on dark; faint is darker than plain on light ones.
var sgr = [...]string{Plain: "", Bad: "31", Loud: "1", Quiet: "90", Added: "32", Removed: "31"}

// Marks that Paint puts around a text, which a Writer turns into colours.
const (
	markBase = visible.FirstMark
	markEnd  = visible.LastMark
)

// Paint gives a text a mood. A Writer shows it.
func Paint(m Mood, text string) string {
	if m == Plain || text == "" {
		return text
	}
	return string(markBase+rune(m)) + text + string(markEnd)
}

// Writer writes text for people. Control characters and invisible ones other
// than line breaks and tabs are written as escapes, whoever put them there. A
// Writer whose other end is gone takes everything and says nothing: a run must
// not end because a pager did.
type Writer struct {
	mu       sync.Mutex
	w        io.Writer
	colour   bool
	rest     []byte // the beginning of a rune
	gone     bool
	err      error         // why the other end takes nothing any more; nil where its reader has left
	held     *bytes.Buffer // what is written goes here for now
	reported func(text string)
}

// New makes a Writer.
func New(w io.Writer, colour bool) *Writer { return &Writer{w: w, colour: colour} }

// Colour says whether moods are shown.
func (s *Writer) Colour(yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.colour = yes
}

// Hold keeps back what is written from now on, while something else has the screen. reported,
// which may be nil, is given each piece. What Hold gives lets all of it go, and ends that.
func (s *Writer) Hold(reported func(text string)) (release func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held != nil && reported == nil { // whoever holds it already releases it
		return func() {}
	}
	s.held, s.reported = &bytes.Buffer{}, reported
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.held == nil {
			return
		}
		s.writeText(s.held.String())
		s.held, s.reported = nil, nil
	}
}

// Held gives what is kept back.
func (s *Writer) Held() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held == nil {
		return ""
	}
	return s.held.String()
}

// Redirect writes to another end from now on.
func (s *Writer) Redirect(w io.Writer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.w = w
}

// writeText writes a text to the other end.
func (s *Writer) writeText(text string) {
	if text == "" || s.gone {
		return
	}
	if _, err := io.WriteString(s.w, text); err != nil {
		if s.gone = true; !errors.Is(err, syscall.EPIPE) {
			s.err = err
		}
	}
}

// Err says why not all could be written, as on a full disk; nil for a reader that has left.
func (s *Writer) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Raw writes as it is what programs read, and fails as a Writer does: once it is over Err says why.
type Raw struct {
	W   io.Writer
	Err error
}

// Write fails where the other end does, unless its reader has left.
func (r *Raw) Write(p []byte) (int, error) {
	n, err := r.W.Write(p)
	if errors.Is(err, syscall.EPIPE) {
		return len(p), nil
	}
	if err != nil {
		r.Err = err
	}
	return n, err
}

// Write never fails.
func (s *Writer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	data := append(s.rest, p...)
	s.rest = nil
	var b strings.Builder
	for len(data) > 0 {
		if !utf8.FullRune(data) {
			s.rest = append([]byte(nil), data...)
			break
		}
		r, n := utf8.DecodeRune(data)
		data = data[n:]
		s.rune(&b, r)
	}
	if s.held != nil {
		s.held.WriteString(b.String())
		if s.reported != nil {
			s.reported(string(p))
		}
		return len(p), nil
	}
	s.writeText(b.String())
	return len(p), nil
}

func (s *Writer) rune(b *strings.Builder, r rune) {
	switch {
	case visible.Mark(r):
		switch {
		case !s.colour:
		case r == markEnd:
			b.WriteString("\x1b[0m")
		case int(r-markBase) < len(sgr):
			b.WriteString("\x1b[" + sgr[r-markBase] + "m")
		}
	case visible.Hostile(r):
		b.WriteString(visible.Escape(r))
	default:
		b.WriteRune(r)
	}
}

// Line and Block are visible.Line and visible.Block, which whoever draws needs all the time.
func Line(s string) string { return visible.Line(s) }

// Block is for text from elsewhere in lines of its own.
func Block(s string) string { return visible.Block(s) }

// Wrap breaks a text at its blanks into lines of at most so many columns, each
// behind an indent. Lines of the text stay lines. With width 0 none is broken.
func Wrap(text, indent string, width int) string {
	var b strings.Builder
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		at := 0
		b.WriteString(indent)
		for i, word := range strings.Split(line, " ") {
			n := utf8.RuneCountInString(word)
			switch {
			case i == 0:
			case width > 0 && len(indent)+at+1+n > width && at > 0:
				b.WriteString("\n" + indent)
				at = 0
			default:
				b.WriteByte(' ')
				at++
			}
			b.WriteString(word)
			at += n
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// Cut shortens a line to so many columns, with a mark at the end of what is left.
func Cut(line string, width int) string {
	if r := []rune(line); width > 3 && len(r) > width {
		return string(r[:width-3]) + "..."
	}
	return line
}

// Count writes a number with its noun.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Under gives what a writer writes to in the end.
func Under(w io.Writer) io.Writer {
	if raw, ok := w.(*Raw); ok {
		return raw.W
	}
	return w
}
