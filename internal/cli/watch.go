package cli

import (
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/record"
	"jadekettle/internal/present/live"
	screen "jadekettle/internal/present/text"
)

// watching shows a run while it goes, where there is a terminal to show it on; elsewhere it
// does nothing.
type watching struct {
	app   *App
	board *live.Board
	view  *live.View // nil where nothing is shown

	mu      sync.Mutex
	release []func() // of what is held back while the view has the screen
	shows   atomic.Bool
	stops   atomic.Int32
}

// plainFlag lets a call go without a live view.
func (a *App) plainFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.plain, "plain", false, "on a terminal too, print lines as things happen in the place of the live view")
}

// watch begins to show a run that is made of these hosts.
func (a *App) watch(title string, would bool, hosts []string, parallel int, usual func() map[string]time.Duration) *watching {
	w := &watching{app: a}
	in, isFile := a.In.(*os.File)
	out, outFile := under(a.raw).(*os.File)
	if !a.Terminal || a.Width == 0 || a.plain || a.output != "text" || !isFile || !outFile || a.Getenv("TERM") == "dumb" || !live.Fits(in, out) {
		return w
	}
	w.board = live.NewBoard(title, hosts, time.Now())
	w.board.Would, w.board.Parallel, w.board.Usual = would, parallel, usual()
	w.view = &live.View{Board: w.board, In: in, Out: out, Colour: a.Color, Interrupt: w.interrupt, Left: w.letGo}
	a.watched.Store(w)
	w.view.Start(w.hold)
	return w
}

// Event takes what has happened.
func (w *watching) Event(e record.Event) {
	if w.view == nil || e.Ended != nil && e.Ended.State == record.Off {
		return
	}
	w.board.Event(e)
}

// hold keeps back what is printed while the view has the screen.
func (w *watching) hold() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.release) > 0 {
		return
	}
	w.shows.Store(true)
	for _, of := range []struct {
		w    io.Writer
		told func(string)
	}{{w.app.Out, nil}, {w.app.Err, w.board.Note}} {
		if s, ok := of.w.(*screen.Writer); ok {
			w.release = append(w.release, s.Hold(of.told))
		}
	}
}

// letGo prints what was kept back.
func (w *watching) letGo() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, release := range w.release {
		release()
	}
	w.release = nil
	w.shows.Store(false)
}

// end ends the view; what follows is printed.
func (w *watching) end() {
	if w.view == nil {
		return
	}
	w.view.Close()
	w.letGo()
	w.app.watched.Store(nil)
}

// aside gives the terminal back for a question, until what it gives is called.
func (w *watching) aside() (back func()) {
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
func (w *watching) interrupt() {
	again := w.stops.Add(1) > 1
	go func() {
		if again {
			w.view.Aside()
		}
		if self, err := os.FindProcess(os.Getpid()); err == nil {
			self.Signal(os.Interrupt)
		}
	}()
}

// besides writes only while no view has the screen: what it says stands there already.
type besides struct {
	watching *watching
	w        io.Writer
}

func (b besides) Write(p []byte) (int, error) {
	if b.watching.shows.Load() {
		return len(p), nil
	}
	return b.w.Write(p)
}

// under gives what is written to in the end.
func under(w io.Writer) io.Writer {
	if raw, ok := w.(*screen.Raw); ok {
		return raw.W
	}
	return w
}
