// Package live shows a run while it goes, on a terminal: how far it is, who is at work at
// what, what failed and what has changed. A [Board] gathers what happens and draws it as
// text, knowing no terminal; a [View] puts that on one and takes keys.
package live

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// phase is how far a host is.
type phase int

const (
	waiting phase = iota
	atWork
	ended
)

// host is one host on the board.
type host struct {
	name    string
	phase   phase
	began   time.Time
	planned int
	counts  map[plan.Status]int
	tasks   []record.Task
	hand    *record.AtWork // what it is at, where that takes long
	visit   *record.Host   // once it has ended
}

// failure is one failed task, or a host that could not be gone through.
type failure struct {
	host string
	ref  value.Ref
	text string
}

// change is one thing that changed on hosts.
type change struct {
	ref   value.Ref
	hosts []string
}

// Board is what is known of a run that goes. Its methods may be called by several goroutines.
type Board struct {
	Title string // what the run is, such as "apply"
	Would bool   // it is a preview: what differs would change
	// Follows says that the run is another process's, which goes on without us.
	Follows bool
	Began   time.Time
	// Usual is how long each host usually takes; empty where that is not known.
	Usual    map[string]time.Duration
	Parallel int // how many hosts are gone through at once

	mu       sync.Mutex
	hosts    []*host
	by       map[string]*host
	failures []failure
	changes  []*change
	changed  map[value.Ref]*change
	notes    []string // what the program has said meanwhile, the newest last

	screen  sheet
	cursor  int    // of the list that is shown
	at      string // the host that the cursor is on, which moves in the list as the run goes; empty before it was moved
	scroll  int    // of the text that is shown
	chosen  string
	task    int
	stopped bool
}

// sheet is what the board shows.
type sheet int

const (
	overview sheet = iota
	ofHost
	ofTask
)

// NewBoard makes the board of a run over hosts that begins now.
func NewBoard(title string, names []string, now time.Time) *Board {
	b := &Board{Title: title, Began: now, by: map[string]*host{}, changed: map[value.Ref]*change{}, Parallel: 1}
	for _, name := range names {
		b.host(name)
	}
	return b
}

func (b *Board) host(name string) *host {
	h := b.by[name]
	if h == nil {
		h = &host{name: name, counts: map[plan.Status]int{}}
		b.by[name], b.hosts = h, append(b.hosts, h)
	}
	return h
}

// Event takes what has happened.
func (b *Board) Event(e record.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	h := b.host(e.Host)
	switch {
	case e.Begun != nil:
		h.phase, h.began, h.planned = atWork, e.Begun.At, max(h.planned, e.Begun.Tasks)
	case e.AtWork != nil:
		h.hand = e.AtWork
	case e.Task != nil:
		b.taskEnded(h, *e.Task)
	default:
		h.phase, h.hand, h.visit = ended, nil, e.Ended
		b.unwell(h)
	}
}

func (b *Board) taskEnded(h *host, t record.Task) {
	if h.hand != nil && h.hand.Ref() == t.Ref() {
		h.hand = nil
	}
	if i := slices.IndexFunc(h.tasks, func(o record.Task) bool { return t.Again && o.Ref() == t.Ref() }); i >= 0 {
		h.counts[h.tasks[i].Status]--
		h.tasks = slices.Delete(h.tasks, i, i+1)
		if c := b.changed[t.Ref()]; c != nil {
			c.hosts = slices.DeleteFunc(c.hosts, func(name string) bool { return name == h.name })
		}
	}
	h.counts[t.Status]++
	h.tasks = append(h.tasks, t)
	switch t.Status {
	case plan.Failed:
		text, _, _ := strings.Cut(t.Message, "\n")
		b.failures = append(b.failures, failure{h.name, t.Ref(), text})
	case plan.Changed:
		c := b.changed[t.Ref()]
		if c == nil {
			c = &change{ref: t.Ref()}
			b.changed[t.Ref()], b.changes = c, append(b.changes, c)
		}
		c.hosts = append(c.hosts, h.name)
	}
}

// unwell notes a host that could not be gone through.
func (b *Board) unwell(h *host) {
	v := h.visit
	switch {
	case v.Outcome == record.OutWrong:
		b.failures = append(b.failures, failure{host: h.name, text: "cannot be resolved"})
	case v.Executed != nil && !v.Executed.Well():
		b.failures = append(b.failures, failure{host: h.name,
			text: cmp.Or(v.Executed.Wrong, fmt.Sprintf("exit status %d", v.Executed.Code))})
	case v.State != record.Reached && v.State != record.Disabled:
		text, _, _ := strings.Cut(v.Message, "\n")
		b.failures = append(b.failures, failure{host: h.name, text: string(v.State) + ": " + text})
	}
}

// Note takes a line that the program has to say meanwhile.
func (b *Board) Note(text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			b.notes = append(b.notes, line)
		}
	}
	const most = 2
	b.notes = b.notes[max(0, len(b.notes)-most):]
}

// progress reports how many hosts have ended, and how much of the whole is done, from 0 to 1.
func (b *Board) progress(now time.Time) (over int, share float64) {
	var done, all float64
	for _, h := range b.hosts {
		weight := 1.0
		if u := b.Usual[h.name]; u > 0 {
			weight = u.Seconds()
		}
		all += weight
		switch h.phase {
		case ended:
			over++
			done += weight
		case atWork:
			part := 0.0
			if u := b.Usual[h.name]; u > 0 {
				part = now.Sub(h.began).Seconds() / u.Seconds()
			}
			if h.planned > 0 {
				part = max(part, float64(len(h.tasks))/float64(h.planned))
			}
			done += weight * min(part, 0.95)
		}
	}
	if all == 0 {
		return over, 0
	}
	return over, done / all
}

// left estimates how long the run will still take: by how long its hosts usually take, or
// else by how far it is. ok is false as long as there is no estimate.
func (b *Board) left(now time.Time, share float64) (d time.Duration, ok bool) {
	var sum, longest time.Duration
	for _, h := range b.hosts {
		u := b.Usual[h.name]
		if u == 0 && h.phase != ended {
			sum = -1
			break
		}
		switch h.phase {
		case waiting:
			sum, longest = sum+u, max(longest, u)
		case atWork:
			rest := max(0, u-now.Sub(h.began))
			sum, longest = sum+rest, max(longest, rest)
		}
	}
	if sum >= 0 && len(b.Usual) > 0 {
		return max(longest, sum/time.Duration(max(1, b.Parallel))), true
	}
	gone := now.Sub(b.Began)
	if share < 0.05 || gone < 3*time.Second {
		return 0, false
	}
	return time.Duration(float64(gone) * (1 - share) / share), true
}

// listed gives the hosts in the order in which people want to see them: those that failed,
// those at work, those that have ended, those that wait.
func (b *Board) listed() []*host {
	rank := func(h *host) int {
		switch {
		case h.bad():
			return 0
		case h.phase == atWork:
			return 1
		case h.phase == ended:
			return 2
		}
		return 3
	}
	out := slices.Clone(b.hosts)
	slices.SortStableFunc(out, func(x, y *host) int { return cmp.Compare(rank(x), rank(y)) })
	return out
}

// bad says whether something is wrong with a host.
func (h *host) bad() bool {
	if h.counts[plan.Failed]+h.counts[plan.Blocked] > 0 {
		return true
	}
	v := h.visit
	return v != nil && (v.Outcome == record.OutWrong || v.State != record.Reached && v.State != record.Disabled ||
		v.Executed != nil && !v.Executed.Well())
}

// Key takes a key by its name. It is false when nobody wants to see the board any more.
func (b *Board) Key(name string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	const far = 10
	move := func(by int) {
		if b.screen == ofTask {
			b.scroll = max(0, b.scroll+by)
			return
		}
		if b.screen == ofHost {
			b.cursor = max(0, b.cursor+by)
			return
		}
		list := b.listed()
		b.moveCursor(list)
		b.cursor = max(0, min(b.cursor+by, len(list)-1))
		if len(list) > 0 {
			b.at = list[b.cursor].name
		}
	}
	k := bindings()
	is := func(of key.Binding) bool { return key.Matches(pressed(name), of) }
	switch {
	case is(k.leave):
		return false
	case is(k.up):
		move(-1)
	case is(k.down):
		move(1)
	case is(k.pageUp):
		move(-far)
	case is(k.pageDown):
		move(far)
	case is(k.top):
		b.cursor, b.scroll, b.at = 0, 0, ""
	case is(k.open):
		b.open()
	case is(k.back):
		b.back()
	}
	return true
}

// pressed is the name of a key.
type pressed string

func (p pressed) String() string { return string(p) }

// keys are what the board takes.
type keys struct{ up, down, pageUp, pageDown, top, open, back, leave, stop key.Binding }

func bindings() keys {
	of := func(names ...string) key.BindingOpt { return key.WithKeys(names...) }
	return keys{
		up: key.NewBinding(of("up", "k"), key.WithHelp("up, down:", "move")), down: key.NewBinding(of("down", "j")),
		pageUp: key.NewBinding(of("pgup")), pageDown: key.NewBinding(of("pgdown", "space")),
		top:  key.NewBinding(of("home")),
		open: key.NewBinding(of("enter", "right"), key.WithHelp("Enter:", "open")),
		back: key.NewBinding(of("esc", "left", "backspace"), key.WithHelp("Esc:", "back")),
		// Ctrl-C comes as a key of its own, see model.Update.
		leave: key.NewBinding(of("q"), key.WithHelp("q:", "close view (run continues)")),
		stop:  key.NewBinding(of("ctrl+c"), key.WithHelp("Ctrl-C:", "stop the run")),
	}
}

func (b *Board) open() {
	switch b.screen {
	case overview:
		list := b.listed()
		if len(list) == 0 {
			return
		}
		b.moveCursor(list)
		b.chosen = list[b.cursor].name
		b.screen, b.cursor = ofHost, 0
	case ofHost:
		if h := b.by[b.chosen]; len(h.tasks) > 0 {
			b.task = min(b.cursor, len(h.tasks)-1)
			b.screen, b.scroll = ofTask, 0
		}
	}
}

func (b *Board) back() {
	switch b.screen {
	case ofTask:
		b.screen, b.cursor = ofHost, b.task
	case ofHost:
		b.screen, b.at = overview, b.chosen
	}
}

// moveCursor puts the cursor on the host that it was on.
func (b *Board) moveCursor(list []*host) {
	if i := slices.IndexFunc(list, func(h *host) bool { return h.name == b.at }); i >= 0 {
		b.cursor = i
	}
	b.cursor = min(b.cursor, max(0, len(list)-1))
}

// Stopping notes that the run is to end.
func (b *Board) Stopping() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stopped = !b.Follows
}
