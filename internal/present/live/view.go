package live

import (
	"os"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/term"
)

// View puts a board on a terminal for as long as somebody wants to see it.
type View struct {
	Board   *Board
	In, Out *os.File
	Colour  bool
	// Interrupt is called when Ctrl-C is pressed, which the terminal hands over as a key.
	Interrupt func()
	// Left is called when somebody leaves the view, or it ends: the terminal is as it was.
	Left func()

	mu      sync.Mutex
	program *tea.Program
	done    chan struct{}
	over    bool
	asking  int // questions that have the terminal
	timer   *time.Timer
}

// Delay is how long a run goes on before there is a view of it: most are over by then.
const Delay = 700 * time.Millisecond

// frame is how often the view is drawn again.
const frame = 100 * time.Millisecond

// Fits says whether there can be a view on these files.
func Fits(in, out *os.File) bool {
	return term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}

// Start shows the board after a moment. shown is called just before.
func (v *View) Start(shown func()) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.timer = time.AfterFunc(Delay, func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.over {
			return
		}
		if v.asking > 0 {
			v.timer.Reset(Delay)
			return
		}
		shown()
		v.run()
	})
}

// run begins the program, with the lock held.
func (v *View) run() {
	v.program = tea.NewProgram(&model{view: v}, tea.WithInput(v.In), tea.WithOutput(v.Out),
		tea.WithoutSignalHandler(), tea.WithFPS(20))
	v.done = make(chan struct{})
	go func(p *tea.Program, done chan struct{}) {
		defer close(done)
		p.Run() // its error would help nobody: the run is what matters
		v.Left()
	}(v.program, v.done)
}

// lastFrame is how long the end of a view waits for a terminal that is still.
const lastFrame = 2 * time.Second

// Close ends the view, if there is one.
func (v *View) Close() {
	v.mu.Lock()
	v.over = true
	if v.timer != nil {
		v.timer.Stop()
	}
	p, done := v.program, v.done
	v.mu.Unlock()
	if p == nil {
		return
	}
	p.Quit()
	select {
	case <-done:
	case <-time.After(lastFrame):
		p.Kill()
	}
}

// Aside gives the terminal back for something else, such as a question, until what it gives
// is called.
func (v *View) Aside() (back func()) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.asking++
	p := v.program
	if p != nil {
		p.ReleaseTerminal()
	}
	return func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.asking--
		if p != nil && !v.over {
			p.RestoreTerminal()
		}
	}
}

// model is the view as the program that draws it sees it.
type model struct {
	view          *View
	width, height int
}

type tick struct{}

func next() tea.Cmd { return tea.Tick(frame, func(time.Time) tea.Msg { return tick{} }) }

// Init implements tea.Model.
func (m *model) Init() tea.Cmd { return next() }

// Update implements tea.Model.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tick:
		return m, next()
	case tea.KeyPressMsg:
		switch key := msg.String(); key {
		case "ctrl+c":
			m.view.Board.Stopping()
			m.view.Interrupt()
		case "ctrl+z":
			return m, tea.Suspend
		default:
			if !m.view.Board.Key(key) {
				return m, tea.Quit
			}
		}
	}
	return m, nil
}

// View implements tea.Model.
func (m *model) View() tea.View {
	var v tea.View
	if m.width > 0 {
		v = tea.NewView(m.view.Board.Draw(m.width, m.height, time.Now(), m.view.Colour))
	}
	v.AltScreen = true
	return v
}
