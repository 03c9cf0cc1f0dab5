package run

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/host/worker"
)

// Limits is how long a host may take for each phase of its talk. What is still
// going on there is not ended by cutting the connection: the worker finishes
// the task in hand and keeps the results for the next run.
type Limits struct {
	Facts time.Duration // until its facts are here
	Task  time.Duration // from one result to the next; a package manager may take long
	Bye   time.Duration // from its last word until it lets go
	Stop  time.Duration // after the run was stopped
}

// usual is what holds where a limit is 0.
var usual = Limits{Facts: 5 * time.Minute, Task: 3 * time.Hour, Bye: time.Minute, Stop: time.Minute}

// orUsual replaces limits that are not set with the usual ones.
func (l Limits) orUsual() Limits {
	return Limits{cmp.Or(l.Facts, usual.Facts), cmp.Or(l.Task, usual.Task), cmp.Or(l.Bye, usual.Bye),
		cmp.Or(l.Stop, usual.Stop)}
}

// line is the connection of a talk, and the timers that end it.
type line struct {
	session *reach.Session
	conn    *wire.Conn
	limits  Limits
	due     *time.Timer  // ends a phase that takes too long
	late    atomic.Value // what took too long, a string
	heard   *worker.Pulse
	silent  atomic.Bool // it was cut off for its silence
}

// connect begins to count and to hear what a host says.
func (t *talk) connect(s *reach.Session) {
	t.session = s
	t.conn = wire.NewConn(counted{t}, s)
	t.heard = worker.NewPulse()
}

// phase begins a phase that may take so long.
func (l *line) phase(limit time.Duration, what string) {
	if l.due != nil {
		l.due.Stop()
	}
	l.due = time.AfterFunc(limit, func() {
		l.late.CompareAndSwap(nil, what)
		l.session.Abort()
	})
}

// watch closes a session that has been silent for too long, which also ends a
// write that waits for a dead connection.
func (l *line) watch(silence time.Duration, over chan struct{}) {
	ticker := time.NewTicker(silence / 4)
	defer ticker.Stop()
	for {
		select {
		case <-over:
			return
		case <-ticker.C:
		}
		if l.heard.Silent() > silence {
			l.silent.Store(true)
			l.session.Abort()
			return
		}
	}
}

// receive passes on what comes in until the connection ends.
func (l *line) receive(incoming chan<- wire.Message, ended chan<- error, over <-chan struct{}) {
	for {
		m, err := l.conn.Receive()
		if err != nil {
			ended <- err
			return
		}
		select {
		case incoming <- m:
		case <-over:
			return
		}
	}
}

// broken says why the connection ended.
func (l *line) broken(err error) error {
	if late := l.late.Load(); late != nil {
		return problem.Errorf("connection lost: %s", late).
			Remedy("results are kept on the host and will be collected by the next run")
	}
	if l.silent.Load() {
		return errors.New("connection lost: the host was silent for too long")
	}
	if errors.Is(err, wire.ErrFrame) {
		return fmt.Errorf("connection lost: %w", err)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("connection lost")
	}
	return fmt.Errorf("connection lost: %w", err)
}
