package html

import (
	"io"

	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
)

// Front is a page over runs, and over hosts or of one of them.
type Front struct {
	Title    string
	Sentence string
	Hosts    []history.HostStatus
	Runs     []Row
	Up       string // the page over all; empty on that
	One      string // the host that it is about; empty for all
	RunPage  func(n int) string
	HostPage func(name string) string
}

// Row is one run in the list of a Front.
type Row struct {
	record.Summary
	Folded  []string // its hosts, written shortly
	Outcome string   // what it came to, in words
	Class   string   // the worst outcome in it
}

// WriteFront writes a page over runs.
func WriteFront(w io.Writer, f *Front) error {
	return execute(w, "front", struct {
		head
		*Front
	}{newHead(), f})
}
