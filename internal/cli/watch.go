package cli

import (
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"jadekettle/internal/app"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/live"
	"jadekettle/internal/present/text"
)

// Live shows a run while it goes, where there is a terminal to show it on; elsewhere it
// does nothing. It is a record.Sink.
type Live struct {
	env   *Env
	board *live.Board
	view  *live.View // nil where nothing is shown

	mu      sync.Mutex
	release []func() // of what is held back while the view has the screen
	shows   atomic.Bool
	stops   atomic.Int32
}

// Watch begins to show a run, unless nothing is to be shown of it.
func (e *Env) Watch(of *app.Outlook, nothing bool) *Live {
	w := &Live{env: e}
	in, isFile := e.In.(*os.File)
	out, outFile := text.Under(e.Raw).(*os.File)
	if nothing || !e.Terminal || e.Width == 0 || e.Plain || e.Output != "text" || !isFile || !outFile ||
		e.Getenv("TERM") == "dumb" || !live.Fits(in, out) {
		return w
	}
	w.board = live.NewBoard(of.Mode, of.Meant, time.Now())
	w.board.Would, w.board.Parallel, w.board.Usual = of.Would, of.Parallel, of.Usual
	w.view = &live.View{Board: w.board, In: in, Out: out, Colour: e.Color, Interrupt: w.interrupt, Left: w.letGo}
	e.shown.Store(w)
	w.view.Start(w.hold)
	return w
}

// Follows says that the run is one that another process began at a time.
func (w *Live) Follows(began time.Time) {
	if w.view != nil {
		w.board.Began, w.board.Follows = began, true
	}
}

// Beside writes only while no view has the screen: what it says is there already.
func (w *Live) Beside() io.Writer { return besides{w, w.env.Err} }

// Event takes what has happened.
func (w *Live) Event(e record.Event) {
	if w.view == nil || e.Ended != nil && e.Ended.State == record.Disabled {
		return
	}
	w.board.Event(e)
}

// hold keeps back what is printed while the view has the screen.
func (w *Live) hold() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.release) > 0 {
		return
	}
	w.shows.Store(true)
	for _, of := range []struct {
		w        io.Writer
		reported func(string)
	}{{w.env.Out, nil}, {w.env.Err, w.board.Note}} {
		if s, ok := of.w.(*text.Writer); ok {
			w.release = append(w.release, s.Hold(of.reported))
		}
	}
}

// letGo prints what was kept back.
func (w *Live) letGo() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, release := range w.release {
		release()
	}
	w.release = nil
	w.shows.Store(false)
}

// End ends the view; what follows is printed.
func (w *Live) End(*record.Run) error {
	if w.view != nil {
		w.view.Close()
		w.letGo()
		w.env.shown.Store(nil)
	}
	return nil
}

// aside gives the terminal back for a question, until what it gives is called.
func (w *Live) aside() (back func()) {
	if w == nil || w.view == nil {
		return func() {}
	}
	again := w.view.Aside()
	held := w.shows.Load()
	w.letGo()
	return func() {
		if held {
			w.hold()
		}
		again()
	}
}

// interrupt does what Ctrl-C does where no view has the keys: the second one ends the
// program at once, for which the terminal is given back first.
func (w *Live) interrupt() {
	again := w.stops.Add(1) > 1
	go func() {
		if again {
			w.view.Aside()
		}
		interruptSelf()
	}()
}

// besides writes only while no view has the screen.
type besides struct {
	live *Live
	w    io.Writer
}

func (b besides) Write(p []byte) (int, error) {
	if b.live.shows.Load() {
		return len(p), nil
	}
	return b.w.Write(p)
}
