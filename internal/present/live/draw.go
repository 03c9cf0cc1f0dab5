package live

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/progress"
	"charm.land/bubbles/v2/viewport"
	"charm.land/lipgloss/v2"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/text"
)

// Draw gives the board as a screen of so many columns and lines.
func (b *Board) Draw(width, height int, now time.Time, color bool) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := &page{width: max(10, width), left: max(3, height) - 1, color: color} // the last line is the foot's
	b.head(p, now)
	switch b.screen {
	case ofHost:
		b.drawHost(p, now)
	case ofTask:
		b.drawTask(p)
	default:
		b.drawOverview(p, now)
	}
	p.lines = append(p.lines, make([]string, p.left)...)
	return strings.Join(append(p.lines, p.shown(text.Quiet, b.foot(p.width))), "\n")
}

// page is a screen that is being drawn. In its lines, moods are already terminal codes, and anything else that could
// control a terminal is escaped, so components can lay them out.
type page struct {
	width, left int // columns, and lines that are free
	color       bool
	lines       []string
}

// shown returns a line with terminal codes, cut to the width.
func (p *page) shown(m text.Mood, line string) string {
	return p.painted(text.Paint(m, text.Cut(line, p.width)))
}

// painted returns text with its moods as terminal codes.
func (p *page) painted(s string) string {
	var b strings.Builder
	text.New(&b, p.color).Write([]byte(s))
	return b.String()
}

// add writes a line, while there is room.
func (p *page) add(m text.Mood, line string) {
	if p.left > 0 {
		p.lines, p.left = append(p.lines, p.shown(m, line)), p.left-1
	}
}

// list shows the part of a list around the cursor, at most height lines. It makes only lines near the cursor: a list
// may have ten thousand, and is drawn ten times a second.
func (p *page) list(n, cursor, height int, line func(i int) (text.Mood, string)) {
	lines := make([]string, n)
	for i := max(0, cursor-height); i < min(n, cursor+height+1); i++ {
		lines[i] = p.shown(line(i))
	}
	p.window(lines, cursor-height/2, height)
}

// window shows at most height of the lines, starting at from or as close to it as the end of the lines allows. It
// returns the first line that is shown.
func (p *page) window(lines []string, from, height int) (first int) {
	height = min(height, p.left, len(lines))
	if height <= 0 {
		return 0
	}
	v := viewport.New(viewport.WithWidth(p.width), viewport.WithHeight(height))
	v.SetContentLines(lines)
	v.SetYOffset(from)
	for line := range strings.SplitSeq(v.View(), "\n") {
		p.lines, p.left = append(p.lines, strings.TrimRight(line, " ")), p.left-1
	}
	return v.YOffset()
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
	p := progress.New(progress.WithWidth(wide), progress.WithoutPercentage(),
		progress.WithFillCharacters('=', '.'), progress.WithColors(lipgloss.NoColor{}))
	p.EmptyColor = lipgloss.NoColor{}
	return p.ViewAs(share)
}

// head writes how far the whole is.
func (b *Board) head(p *page, now time.Time) {
	over, share := b.progress(now)
	line := fmt.Sprintf("%s  %d of %s", b.Title, over, text.Count(len(b.hosts), "host"))
	if p.width >= 70 {
		line += "  " + bar(share, min(30, p.width-60))
	}
	line += fmt.Sprintf("  %2.0f%%  %s", share*100, clock(now.Sub(b.Began)))
	if d, ok := b.left(now, share); ok && over < len(b.hosts) {
		line += ", about " + clock(d) + " left"
	}
	p.add(text.Loud, line)
	p.add(text.Plain, b.counts())
	for _, n := range b.notes {
		p.add(text.Quiet, text.Line(n))
	}
	if p.left > 6 {
		p.add(text.Plain, "")
	}
}

// counts reports how many hosts came to what so far.
func (b *Board) counts() string {
	names := []string{"failed", b.word(plan.Changed), "unchanged", "running", "queued"}
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

// foot lists the keys.
func (b *Board) foot(width int) string {
	if b.stopped {
		return "Stopping after the current tasks. Press Ctrl-C again to abort immediately."
	}
	k, h := bindings(), help.Model{ShortSeparator: "   ", Ellipsis: "..."}
	h.SetWidth(width)
	k.open.SetEnabled(b.screen != ofTask)
	k.back.SetEnabled(b.screen != overview)
	k.stop.SetEnabled(b.screen == overview)
	if b.Follows {
		k.stop.SetHelp("Ctrl-C:", "stop following (run continues)")
	}
	return h.ShortHelpView([]key.Binding{k.up, k.open, k.back, k.leave, k.stop})
}

// drawOverview draws failures, hosts and changes. Failures have a third of what is there at
// most, hosts what they need of two thirds of the rest, and changes what is left.
func (b *Board) drawOverview(p *page, now time.Time) {
	if room := min(p.left/3, 2*len(b.failures)+1); len(b.failures) > 0 && room > 0 {
		b.drawFailures(p, max(1, room))
	}
	list := b.listed()
	b.moveCursor(list)
	room := p.left
	if len(b.changes) > 0 {
		room = max(room*2/3, room-len(b.changes)-1)
	}
	wide := 0
	for _, h := range list {
		wide = max(wide, utf8.RuneCountInString(h.name))
	}
	p.list(len(list), b.cursor, max(1, room), func(i int) (text.Mood, string) {
		return b.hostLine(list[i], i == b.cursor, min(wide, p.width/3), now)
	})
	b.drawChanges(p)
}

// drawFailures writes the newest failures, what is alike on several hosts once.
func (b *Board) drawFailures(p *page, room int) {
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
			line += text.Line(g.Key.ref.String()) + "  failed: "
		}
		p.add(text.Bad, line+text.Line(g.Key.text))
	}
	if earlier > 0 {
		p.add(text.Bad, fmt.Sprintf("and %d earlier", earlier))
	}
	if p.left > 8 {
		p.add(text.Plain, "")
	}
}

// folded writes the names of hosts shortly.
func folded(names []string) string {
	names = slices.Sorted(slices.Values(names))
	list := inventory.Fold(names)
	const most = 4
	if len(list) > most {
		shown := inventory.Fold(names[:most-1])
		return text.Line(strings.Join(shown, " ")) + fmt.Sprintf(" and %d more", len(names)-most+1)
	}
	return text.Line(strings.Join(list, " "))
}

// hostLine writes one host: how far it is and what it is at.
func (b *Board) hostLine(h *host, here bool, wide int, now time.Time) (text.Mood, string) {
	mark, mood := "  ", text.Quiet
	if here {
		mark = "> "
	}
	state := "queued"
	switch {
	case h.phase == atWork:
		mood, state = text.Plain, b.work(h, now)
	case h.phase == ended:
		state = b.came(h)
		if h.counts[plan.Changed] > 0 {
			mood = text.Loud
		}
	}
	if h.bad() {
		mood = text.Bad
	}
	name := text.Cut(text.Line(h.name), wide)
	return mood, mark + name + strings.Repeat(" ", max(0, wide-utf8.RuneCountInString(name))) + "  " + state
}

// work says what a host is at.
func (b *Board) work(h *host, now time.Time) string {
	out := fmt.Sprintf("%d/%d", len(h.tasks), h.planned)
	if h.planned == 0 {
		out = "connecting and reading"
	}
	if h.hand == nil {
		out += "  " + clock(now.Sub(h.began))
		if n := len(h.tasks); n > 0 && n < h.planned {
			out += "  after " + text.Line(h.tasks[n-1].Ref().String())
		}
		return out
	}
	if h.hand.Ref() != (value.Ref{}) {
		out += "  " + text.Line(h.hand.Ref().String())
	}
	out += "  " + clock(h.hand.For(now))
	if h.hand.Try > 1 {
		out += fmt.Sprintf(", attempt %d", h.hand.Try)
	}
	if h.hand.Line != "" {
		out += "  " + text.Line(h.hand.Line)
	}
	return out
}

// came says what a host that has ended came to.
func (b *Board) came(h *host) string {
	v := h.visit
	if v != nil && v.State != record.Reached {
		first, _, _ := strings.Cut(v.Message, "\n")
		return string(v.State) + ": " + text.Line(first)
	}
	if v != nil && v.Executed != nil {
		return fmt.Sprintf("exit status %d", v.Executed.Code)
	}
	var parts []string
	for _, s := range []plan.Status{plan.Failed, plan.Blocked, plan.Changed, plan.Unchanged} {
		if h.counts[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", h.counts[s], b.word(s)))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "no tasks")
	}
	return strings.Join(parts, ", ")
}

// drawChanges writes what has changed, the newest first, like changes of many hosts once.
func (b *Board) drawChanges(p *page) {
	if len(b.changes) == 0 || p.left < 2 {
		return
	}
	p.add(text.Plain, "")
	shown := min(len(b.changes), p.left)
	if shown < len(b.changes) {
		shown = max(1, shown-1)
	}
	for i := range shown {
		c := b.changes[len(b.changes)-1-i]
		p.add(text.Loud, text.Line(c.ref.String())+"  "+b.word(plan.Changed)+" on "+folded(c.hosts))
	}
	if n := len(b.changes) - shown; n > 0 {
		p.add(text.Quiet, fmt.Sprintf("and %d more", n))
	}
}

// drawHost draws one host with its tasks, what failed and changed first.
func (b *Board) drawHost(p *page, now time.Time) {
	h := b.by[b.chosen]
	p.add(b.hostLine(h, false, utf8.RuneCountInString(h.name), now))
	b.cursor = min(b.cursor, max(0, len(h.tasks)-1))
	if len(h.tasks) == 0 {
		p.add(text.Quiet, "  no task has finished here yet")
		return
	}
	p.list(len(h.tasks), b.cursor, p.left, func(i int) (text.Mood, string) {
		t, mark, mood := &h.tasks[i], "  ", text.Quiet
		if i == b.cursor {
			mark = "> "
		}
		switch t.Status {
		case plan.Failed, plan.Blocked:
			mood = text.Bad
		case plan.Changed:
			mood = text.Loud
		}
		return mood, strings.TrimRight(fmt.Sprintf("%s%s  %s  %s", mark, text.Line(t.Ref().String()), b.word(t.Status),
			text.Took(t.Seconds)), " ")
	})
}

// drawTask draws all that is known of one task.
func (b *Board) drawTask(p *page) {
	h := b.by[b.chosen]
	t := h.tasks[b.task]
	var out strings.Builder
	v := &text.Run{W: &out, Preview: b.Would, Detail: text.Whole, Width: p.width}
	v.TaskOf(h.name, &t)
	b.scroll = p.window(strings.Split(p.painted(strings.TrimRight(out.String(), "\n")), "\n"), b.scroll, p.left)
}
