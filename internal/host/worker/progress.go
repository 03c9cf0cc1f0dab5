package worker

import (
	"context"
	"strings"
	"sync"
	"time"

	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine"
)

// reportEvery is how often a task that takes long is reported.
const reportEvery = 5 * time.Second

// firstReport is when it is reported for the first time, for those who watch.
const firstReport = time.Second

// maxLine bounds the line of output that is reported with it, in bytes.
const maxLine = 400

// lastWords keeps the last whole line that commands print. Of a line that is not at its
// end nobody can say yet whether a secret is in it.
type lastWords struct {
	mu      sync.Mutex
	last    string
	current []byte
	endless bool // the current line is longer than is kept
}

// Write takes lines apart. A program that draws its progress goes back to the begin of a
// line for that, which ends it as well.
func (l *lastWords) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range p {
		switch {
		case c != '\n' && c != '\r' && len(l.current) < machine.MaxOutput:
			l.current = append(l.current, c)
		case c != '\n' && c != '\r':
			l.endless = true
		default:
			if text := strings.TrimSpace(string(l.current)); text != "" && !l.endless {
				l.last = text
			}
			l.current, l.endless = l.current[:0], false
		}
	}
	return len(p), nil
}

// line gives it as clean makes it.
func (l *lastWords) line(clean func(string) string) string {
	l.mu.Lock()
	text := l.last
	l.mu.Unlock()
	if text = clean(text); len(text) > maxLine {
		text = strings.ToValidUTF8(text[:maxLine], "") + "..."
	}
	return text
}

// watched lets something be done for a task, and reports every few seconds how long it
// takes and what its command printed last.
func (r *runner) watched(ctx context.Context, task, try int, do func(context.Context)) {
	if r.s == nil || r.s.quiet {
		do(ctx)
		return
	}
	words, over, reported := &lastWords{}, make(chan struct{}), make(chan struct{})
	begun := time.Now()
	go func() {
		defer close(reported)
		first := min(firstReport, r.s.reportEvery)
		next := r.s.reportEvery - first // then as often as ever, counted from the beginning
		t := time.NewTimer(first)
		defer t.Stop()
		for {
			select {
			case <-over:
				return
			case <-t.C:
				t.Reset(max(next, time.Millisecond))
				next = r.s.reportEvery
			}
			m := wire.Progress{Task: task, Took: time.Since(begun), Line: words.line(r.clean), Try: try}
			select {
			case r.s.outbox <- letter{message: wire.Message{Progress: &m}}:
			default: // enough is on its way, and this is worth no wait
			}
		}
	}()
	do(machine.Listen(ctx, words))
	close(over)
	<-reported
}
