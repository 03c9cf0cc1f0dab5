package live

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	screen "jadekettle/internal/present/text"
)

// Draw gives the board as lines, at most so many and at most so wide, in the moods of package
// screen.
func (b *Board) Draw(width, height int, now time.Time) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := &paper{width: max(10, width), height: max(3, height)}
	b.head(p, now)
	switch b.screen {
	case ofHost:
		b.drawHost(p, now)
	case ofTask:
		b.drawTask(p)
	default:
		b.drawOverview(p, now)
	}
	return p.text(b.foot())
}

// paper takes lines until it is full; the last one is the foot's.
type paper struct {
	width, height int
	lines         []string
}

func (p *paper) left() int { return p.height - 1 - len(p.lines) }

// add writes a line; what does not fit in its width is cut.
func (p *paper) add(m screen.Mood, text string) {
	if p.left() > 0 {
		p.lines = append(p.lines, screen.Paint(m, screen.Cut(text, p.width)))
	}
}

func (p *paper) text(foot string) string {
	for p.left() > 0 {
		p.lines = append(p.lines, "")
	}
	return strings.Join(append(p.lines, screen.Paint(screen.Quiet, screen.Cut(foot, p.width))), "\n")
}

// clock writes a length of time as minutes and seconds.
func clock(d time.Duration) string {
	d = d.Round(time.Second)
	if d >= time.Hour {
		return fmt.Sprintf("%d:%02d:%02d", d/time.Hour, d%time.Hour/time.Minute, d%time.Minute/time.Second)
	}
	return fmt.Sprintf("%d:%02d", d/time.Minute, d%time.Minute/time.Second)
}

// bar draws how much of the whole is done, as wide as asked for.
func bar(share float64, wide int) string {
	full := int(share*float64(wide) + 0.5)
	return "[" + strings.Repeat("=", full) + strings.Repeat(" ", wide-full) + "]"
}

// head writes how far the whole is.
func (b *Board) head(p *paper, now time.Time) {
	over, share := b.progress(now)
	line := fmt.Sprintf("%s  %d of %s", b.Title, over, screen.Count(len(b.hosts), "host"))
	if p.width >= 70 {
		line += "  " + bar(share, min(30, p.width-60))
	}
	line += fmt.Sprintf("  %2.0f%%  %s", share*100, clock(now.Sub(b.Began)))
	if d, ok := b.left(now, share); ok && over < len(b.hosts) {
		line += ", about " + clock(d) + " left"
	}
	p.add(screen.Loud, line)
	p.add(screen.Plain, b.counts())
	for _, n := range b.notes {
		p.add(screen.Quiet, screen.Line(n))
	}
	if p.height > 8 {
		p.add(screen.Plain, "")
	}
}

// counts tells how many hosts came to what so far.
func (b *Board) counts() string {
	names := []string{"failed", b.word(plan.Changed), "unchanged", "at work", "waiting"}
	n := make([]int, len(names))
	for _, h := range b.hosts {
		switch {
		case h.bad():
			n[0]++
		case h.phase == atWork:
			n[3]++
		case h.phase == waiting:
			n[4]++
		case h.counts[plan.Changed] > 0:
			n[1]++
		default:
			n[2]++
		}
	}
	var parts []string
	for i, name := range names {
		if n[i] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[i], name))
		}
	}
	return strings.Join(parts, ", ")
}

func (b *Board) word(s plan.Status) string {
	if b.Would && s == plan.Changed {
		return "would change"
	}
	return string(s)
}

func (b *Board) foot() string {
	if b.stopped {
		return "stopping: every host finishes the task in hand; Ctrl-C again ends at once"
	}
	switch b.screen {
	case ofHost:
		return "up, down, Enter: a task   Esc: back   q: leave the view, the run goes on"
	case ofTask:
		return "up, down: scroll   Esc: back   q: leave the view, the run goes on"
	}
	if b.Follows {
		return "up, down, Enter: a host   q: leave the view   Ctrl-C: follow no more; the run goes on"
	}
	return "up, down, Enter: a host   q: leave the view, the run goes on   Ctrl-C: stop the run"
}

// drawOverview draws failures, hosts and changes. Failures have a third of what is there at
// most, hosts what they need of two thirds of the rest, and changes what is left.
func (b *Board) drawOverview(p *paper, now time.Time) {
	if room := min(p.left()/3, 2*len(b.failures)+1); len(b.failures) > 0 && room > 0 {
		b.drawFailures(p, max(1, room))
	}
	list := b.listed()
	b.moveCursor(list)
	room := p.left()
	if len(b.changes) > 0 {
		room = max(room*2/3, room-len(b.changes)-1)
	}
	from, to := window(len(list), b.cursor, room)
	wide := 0
	for _, h := range list {
		wide = max(wide, utf8.RuneCountInString(h.name))
	}
	for i := from; i < to; i++ {
		b.hostLine(p, list[i], i == b.cursor, min(wide, p.width/3), now)
	}
	b.drawChanges(p)
}

// window gives the part of a list that is shown, so that the cursor is in it.
func window(n, cursor, room int) (from, to int) {
	room = max(1, room)
	if n <= room {
		return 0, n
	}
	from = max(0, min(cursor-room/2, n-room))
	return from, from + room
}

// drawFailures writes the newest failures, what is alike on several hosts once.
func (b *Board) drawFailures(p *paper, room int) {
	all := record.GroupBy(b.failures, func(f failure) failure { return failure{"", f.ref, f.text} })
	earlier := 0
	if len(all) > room {
		earlier = len(all) - max(1, room-1)
		all = all[earlier:]
	}
	for _, g := range all {
		var hosts []string
		for _, f := range g.Items {
			hosts = append(hosts, f.host)
		}
		line := folded(hosts) + "  "
		if g.Key.ref != (value.Ref{}) {
			line += screen.Line(g.Key.ref.String()) + "  failed: "
		}
		p.add(screen.Bad, line+screen.Line(g.Key.text))
	}
	if earlier > 0 {
		p.add(screen.Bad, fmt.Sprintf("and %d earlier", earlier))
	}
	if p.height > 12 {
		p.add(screen.Plain, "")
	}
}

// folded writes the names of hosts shortly.
func folded(names []string) string {
	names = slices.Sorted(slices.Values(names))
	list := inventory.Fold(names)
	const most = 4
	if len(list) > most {
		shown := inventory.Fold(names[:most-1])
		return screen.Line(strings.Join(shown, " ")) + fmt.Sprintf(" and %d more", len(names)-most+1)
	}
	return screen.Line(strings.Join(list, " "))
}

// hostLine writes one host: how far it is and what it is at.
func (b *Board) hostLine(p *paper, h *host, here bool, wide int, now time.Time) {
	mark, mood := "  ", screen.Quiet
	if here {
		mark = "> "
	}
	state := "waiting"
	switch {
	case h.phase == atWork:
		mood, state = screen.Plain, b.work(h, now)
	case h.phase == ended:
		state = b.came(h)
		if h.counts[plan.Changed] > 0 {
			mood = screen.Loud
		}
	}
	if h.bad() {
		mood = screen.Bad
	}
	name := screen.Cut(screen.Line(h.name), wide)
	p.add(mood, mark+name+strings.Repeat(" ", max(0, wide-utf8.RuneCountInString(name)))+"  "+state)
}

// work tells what a host is at.
func (b *Board) work(h *host, now time.Time) string {
	out := fmt.Sprintf("%d/%d", len(h.tasks), h.planned)
	if h.planned == 0 {
		out = "being reached and read"
	}
	if h.hand == nil {
		out += "  " + clock(now.Sub(h.began))
		if n := len(h.tasks); n > 0 && n < h.planned {
			out += "  after " + screen.Line(h.tasks[n-1].Ref().String())
		}
		return out
	}
	if h.hand.Ref() != (value.Ref{}) {
		out += "  " + screen.Line(h.hand.Ref().String())
	}
	out += "  " + clock(h.hand.For(now))
	if h.hand.Try > 1 {
		out += fmt.Sprintf(", try %d", h.hand.Try)
	}
	if h.hand.Line != "" {
		out += "  " + screen.Line(h.hand.Line)
	}
	return out
}

// came tells what a host that has ended came to.
func (b *Board) came(h *host) string {
	v := h.visit
	if v != nil && v.State != record.Reached {
		text, _, _ := strings.Cut(v.Message, "\n")
		return string(v.State) + ": " + screen.Line(text)
	}
	if v != nil && v.Executed != nil {
		return fmt.Sprintf("ended with %d", v.Executed.Code)
	}
	var parts []string
	for _, s := range []plan.Status{plan.Failed, plan.Blocked, plan.Changed, plan.Unchanged} {
		if h.counts[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", h.counts[s], b.word(s)))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "no task")
	}
	return strings.Join(parts, ", ")
}

// drawChanges writes what has changed, the newest first, like changes of many hosts once.
func (b *Board) drawChanges(p *paper) {
	if len(b.changes) == 0 || p.left() < 2 {
		return
	}
	p.add(screen.Plain, "")
	shown := min(len(b.changes), p.left())
	if shown < len(b.changes) {
		shown = max(1, shown-1)
	}
	for i := range shown {
		c := b.changes[len(b.changes)-1-i]
		p.add(screen.Loud, screen.Line(c.ref.String())+"  "+b.word(plan.Changed)+" on "+folded(c.hosts))
	}
	if n := len(b.changes) - shown; n > 0 {
		p.add(screen.Quiet, fmt.Sprintf("and %d more", n))
	}
}

// drawHost draws one host with its tasks, what failed and changed first.
func (b *Board) drawHost(p *paper, now time.Time) {
	h := b.by[b.chosen]
	b.hostLine(p, h, false, utf8.RuneCountInString(h.name), now)
	b.cursor = min(b.cursor, max(0, len(h.tasks)-1))
	if len(h.tasks) == 0 {
		p.add(screen.Quiet, "  no task has ended here yet")
		return
	}
	from, to := window(len(h.tasks), b.cursor, p.left())
	for i := from; i < to; i++ {
		t := h.tasks[i]
		mark, mood := "  ", screen.Quiet
		if i == b.cursor {
			mark = "> "
		}
		switch t.Status {
		case plan.Failed, plan.Blocked:
			mood = screen.Bad
		case plan.Changed:
			mood = screen.Loud
		}
		p.add(mood, strings.TrimRight(fmt.Sprintf("%s%s  %s  %s", mark, screen.Line(t.Ref().String()), b.word(t.Status),
			screen.Took(t.Seconds)), " "))
	}
}

// drawTask draws all that is known of one task.
func (b *Board) drawTask(p *paper) {
	h := b.by[b.chosen]
	t := h.tasks[b.task]
	var out strings.Builder
	v := &screen.Run{W: &out, Preview: b.Would, Detail: screen.Whole, Width: p.width}
	v.TaskOf(h.name, &t)
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	b.scroll = min(b.scroll, max(0, len(lines)-p.left()))
	for _, line := range lines[b.scroll:] {
		if p.left() == 0 {
			break
		}
		p.lines = append(p.lines, screen.CutPainted(line, p.width))
	}
}
