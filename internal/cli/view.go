package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
)

// view tells a run to people while it happens and when it is over.
type view struct {
	app     *App
	preview bool
	verbose bool
	wide    int // of the longest host name
	dir     string
}

// word is a status as it is shown.
func (v *view) word(s plan.Status) string {
	if v.preview && s == plan.Changed {
		return "would change"
	}
	return string(s)
}

func moodOf(s plan.Status) mood {
	switch s {
	case plan.Failed, plan.Blocked:
		return bad
	case plan.Changed:
		return loud
	}
	return quiet
}

func took(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1fs", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0fs", d.Seconds())
	}
	return d.Round(time.Second).String()
}

func (v *view) printf(m mood, format string, args ...any) {
	fmt.Fprintln(v.app.Out, v.app.style(m).Render(fmt.Sprintf(format, args...)))
}

// event prints one event as it happens.
func (v *view) event(e run.Event) {
	if e.Task == nil {
		v.hostEnded(e.Host)
		return
	}
	t := e.Task
	if t.Status == plan.Unchanged && !v.verbose {
		return
	}
	line := fmt.Sprintf("%-*s  %s  %s", v.wide, e.Host.Name, t.Ref, v.word(t.Status))
	if t.BlockedBy != "" {
		line += " by " + t.BlockedBy
	}
	v.printf(moodOf(t.Status), "%s  %s", value.Printable(line), took(t.Took))
	if t.Status == plan.Changed {
		v.changes(t.Changes)
	}
	if t.Status == plan.Failed {
		v.block(bad, "    ", t.Message)
	}
}

// changes prints what differs. Whole texts are shown where they are decided
// on: in a preview, and in an apply when asked for.
func (v *view) changes(list []plan.Change) {
	for _, c := range list {
		line := fmt.Sprintf("was %s, becomes %s", value.Printable(c.Before), value.Printable(c.After))
		if c.Diff != "" && c.What == "content" {
			line = lines(c.Diff) // tells more than sizes
		}
		v.printf(plain, "    %s: %s", c.What, line)
		if c.Diff != "" && (v.preview || v.verbose) {
			v.diff(c.Diff)
		}
	}
}

// block prints a text of one or more lines, each indented.
func (v *view) block(m mood, indent, text string) {
	for line := range strings.SplitSeq(value.Printable(strings.TrimRight(text, "\n")), "\n") {
		v.printf(m, "%s%s", indent, line)
	}
}

// lines counts what a unified diff takes out and puts in.
func lines(diff string) string {
	out, in := 0, 0
	for line := range strings.Lines(diff) {
		switch {
		case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
		case strings.HasPrefix(line, "-"):
			out++
		case strings.HasPrefix(line, "+"):
			in++
		}
	}
	return fmt.Sprintf("%s taken out, %d put in", count(out, "line"), in)
}

func (v *view) diff(text string) {
	for line := range strings.Lines(value.Printable(text)) {
		line = strings.TrimRight(line, "\n")
		m := quiet
		switch {
		case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
		case strings.HasPrefix(line, "+"):
			m = added
		case strings.HasPrefix(line, "-"):
			m = removed
		}
		v.printf(m, "      %s", line)
	}
}

func (v *view) hostEnded(h *run.Host) {
	m, text := quiet, string(h.State)
	switch {
	case h.Wrong != nil:
		m, text = bad, "cannot be resolved"
	case h.State == run.Off:
		text += ": " + h.Message
	case h.State != run.Reached:
		m = bad
		first, _, _ := strings.Cut(h.Message, ";")
		text += ": " + first
	default:
		text += ": " + v.counts(h)
		if h.Stopped {
			text += ", stopped early"
		}
		if n := h.Count(plan.Failed) + h.Count(plan.Blocked); n > 0 {
			m = bad
		}
	}
	if v.verbose {
		for _, t := range h.Tasks {
			if t.Status == plan.LeftOut {
				v.printf(quiet, "%-*s  %s  left out", v.wide, h.Name, t.Ref)
				v.printf(quiet, "    %s", t.Reason)
			}
		}
	}
	if h.State != run.Off {
		text += "  " + took(h.Took)
	}
	v.printf(m, "%-*s  %s", v.wide, h.Name, value.Printable(text))
}

var statusOrder = []plan.Status{plan.Failed, plan.Blocked, plan.Changed, plan.Unchanged, plan.LeftOut}

func (v *view) counts(h *run.Host) string {
	var parts []string
	for _, s := range statusOrder {
		if n := h.Count(s); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, v.word(s)))
		}
	}
	if len(parts) == 0 {
		return "no task"
	}
	return strings.Join(parts, ", ")
}

// class is a host's outcome in one word; the order is worst first.
type class int

const (
	wrong class = iota
	lost
	notReached
	busy
	failed
	changed
	unchanged
	off
)

func classOf(h *run.Host) class {
	switch {
	case h.Wrong != nil:
		return wrong
	case h.State == run.Lost:
		return lost
	case h.State == run.NotReached:
		return notReached
	case h.State == run.Busy:
		return busy
	case h.State == run.Off:
		return off
	case h.Count(plan.Failed)+h.Count(plan.Blocked) > 0:
		return failed
	case h.Count(plan.Changed) > 0:
		return changed
	}
	return unchanged
}

func (v *view) className(c class) string {
	return [...]string{"not resolved", "lost", "not reached", "busy", "failed", v.word(plan.Changed), "unchanged", "off"}[c]
}

// ending prints the sentence, the table and every failure in full.
func (v *view) ending(hosts []*run.Host) {
	by := map[class][]*run.Host{}
	for _, h := range hosts {
		by[classOf(h)] = append(by[classOf(h)], h)
	}
	var parts []string
	for _, c := range []class{unchanged, changed, failed, busy, notReached, lost, wrong, off} {
		if n := len(by[c]); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, v.className(c)))
		}
	}
	fmt.Fprintln(v.app.Out)
	v.printf(loud, "%s: %s", count(len(hosts), "host"), strings.Join(parts, ", "))
	fmt.Fprintln(v.app.Out)
	v.table(by)
	v.failures(hosts)
	v.rest(hosts)
}

// foldFrom is how many unchanged hosts become one row.
const foldFrom = 4

type row struct {
	name  string
	mood  mood
	state string
	cells []string // one for each of statusOrder, then the time
}

func (v *view) table(by map[class][]*run.Host) {
	var rows []row
	for c := wrong; c <= off; c++ {
		if c == unchanged && len(by[c]) >= foldFrom {
			rows = append(rows, v.fold(by[c]))
			continue
		}
		for _, h := range by[c] {
			rows = append(rows, v.row(h, c))
		}
	}
	used := make([]bool, len(statusOrder)+1)
	states := false // the column says nothing when every host was reached
	for _, r := range rows {
		states = states || r.state != string(run.Reached)
		for i, cell := range r.cells {
			used[i] = used[i] || cell != ""
		}
	}
	head := row{name: "host", mood: quiet, state: "state"}
	for _, s := range statusOrder {
		head.cells = append(head.cells, v.word(s))
	}
	head.cells = append(head.cells, "time")
	rows = append([]row{head}, rows...)
	wide := make([]int, len(head.cells)+2)
	for _, r := range rows {
		wide[0] = max(wide[0], lipgloss.Width(r.name))
		wide[1] = max(wide[1], lipgloss.Width(r.state))
		for i, cell := range r.cells {
			wide[i+2] = max(wide[i+2], lipgloss.Width(cell))
		}
	}
	for _, r := range rows {
		line := fmt.Sprintf("%-*s", wide[0], r.name)
		if states {
			line += fmt.Sprintf("  %-*s", wide[1], r.state)
		}
		for i, cell := range r.cells {
			if used[i] {
				line += fmt.Sprintf("  %*s", wide[i+2], cell)
			}
		}
		v.printf(r.mood, "%s", strings.TrimRight(line, " "))
	}
}

func (v *view) row(h *run.Host, c class) row {
	r := row{name: h.Name, state: string(h.State), mood: quiet}
	switch c {
	case wrong, lost, notReached, busy, failed:
		r.mood = bad
	case changed:
		r.mood = loud
	}
	for _, s := range statusOrder {
		cell := ""
		if n := h.Count(s); n > 0 {
			cell = fmt.Sprint(n)
		}
		r.cells = append(r.cells, cell)
	}
	at := ""
	if h.State != run.Off {
		at = took(h.Took)
	}
	r.cells = append(r.cells, at)
	return r
}

// fold makes one row of many unchanged hosts.
func (v *view) fold(hosts []*run.Host) row {
	r := row{name: fmt.Sprintf("%d hosts unchanged", len(hosts)), state: string(run.Reached), mood: quiet}
	for _, s := range statusOrder {
		low, high := hosts[0].Count(s), hosts[0].Count(s)
		for _, h := range hosts {
			low, high = min(low, h.Count(s)), max(high, h.Count(s))
		}
		switch {
		case high == 0:
			r.cells = append(r.cells, "")
		case low == high:
			r.cells = append(r.cells, fmt.Sprint(high))
		default:
			r.cells = append(r.cells, fmt.Sprintf("%d-%d", low, high))
		}
	}
	var longest time.Duration
	for _, h := range hosts {
		longest = max(longest, h.Took)
	}
	r.cells = append(r.cells, took(longest))
	return r
}

// failure is one failure, with all hosts that have it.
type failure struct {
	task  run.Task
	hosts []string
	holds []string // what it blocks
}

// failures prints every failed task once, with its manifest line, however many
// hosts share it.
func (v *view) failures(hosts []*run.Host) {
	var list []*failure
	for _, h := range hosts {
		own := map[string]*failure{}
		for _, t := range h.Tasks {
			if t.Status == plan.Failed {
				own[t.Ref.String()] = merge(&list, t, h.Name)
			}
		}
		for _, t := range h.Tasks {
			f := own[t.BlockedBy]
			if t.Status != plan.Blocked || f == nil {
				continue
			}
			own[t.Ref.String()] = f // what this one blocks goes back to the same failure
			f.hold(t.Ref.String())
		}
	}
	src := &sources{dir: v.dir}
	for _, f := range list {
		fmt.Fprintln(v.app.Out)
		v.printf(bad, "%s  %s  failed", several(f.hosts), f.task.Ref)
		v.printf(plain, "  %s", f.task.Place)
		fmt.Fprint(v.app.Out, v.app.excerpt(src, f.task.Place))
		v.block(plain, "  ", f.task.Message)
		v.output(f.task.Output, f.task.Message)
		if len(f.holds) > 0 {
			v.printf(plain, "  it blocks %s", strings.Join(f.holds, ", "))
		}
	}
	for _, h := range hosts {
		if h.State != run.Reached && h.State != run.Off || h.Wrong != nil {
			fmt.Fprintln(v.app.Out)
			state := string(h.State)
			if h.Wrong != nil {
				state = "not resolved"
			}
			v.printf(bad, "%s  %s", h.Name, state)
			for part := range strings.SplitSeq(h.Message, "; ") {
				v.printf(plain, "  %s", value.Printable(part))
			}
			if h.Wrong != nil {
				v.block(plain, "  ", h.Wrong.Error())
			}
		}
	}
}

func merge(list *[]*failure, t run.Task, host string) *failure {
	for _, f := range *list {
		if f.task.Ref == t.Ref && f.task.Place == t.Place && f.task.Message == t.Message {
			f.hosts = append(f.hosts, host)
			return f
		}
	}
	f := &failure{task: t, hosts: []string{host}}
	*list = append(*list, f)
	return f
}

func (f *failure) hold(ref string) {
	for _, h := range f.holds {
		if h == ref {
			return
		}
	}
	f.holds = append(f.holds, ref)
}

// output prints what a failed command wrote, when that is more than the line
// that the message has already.
func (v *view) output(text, message string) {
	text = strings.TrimSpace(text)
	if text == "" || !strings.Contains(text, "\n") && strings.Contains(message, text) {
		return
	}
	v.printf(quiet, "  it printed:")
	v.block(quiet, "    | ", text)
}

// rest prints what else is worth knowing: results that an earlier run left
// behind, and things that nothing declares any more.
func (v *view) rest(hosts []*run.Host) {
	for _, h := range hosts {
		for _, c := range h.Collected {
			fmt.Fprintln(v.app.Out)
			v.printf(loud, "%s  results of the run %s, which broke off before they arrived", h.Name, value.Printable(c.Run))
			for _, r := range c.Results {
				if r.Status != plan.Unchanged || v.verbose {
					v.printf(moodOf(r.Status), "  %s  %s  %s", value.Printable(r.Ref.String()), string(r.Status), took(r.Took))
				}
				if r.Message != "" {
					v.block(bad, "    ", r.Message)
				}
			}
		}
	}
	v.shared(hosts, func(h *run.Host) []value.Ref { return h.Needed }, "what was selected needs what was not: %s; --with-needs takes it along")
	v.shared(hosts, func(h *run.Host) []value.Ref { return h.Leftovers }, "left over, since nothing declares it any more: %s")
}

// shared prints a list of things once for all hosts that have the same one.
func (v *view) shared(hosts []*run.Host, of func(*run.Host) []value.Ref, format string) {
	var order []string
	names := map[string][]string{}
	for _, h := range hosts {
		if list := refs(of(h)); list != "" {
			if names[list] == nil {
				order = append(order, list)
			}
			names[list] = append(names[list], h.Name)
		}
	}
	for _, list := range order {
		fmt.Fprintln(v.app.Out)
		v.printf(plain, "%s  "+format, several(names[list]), list)
	}
}

// several names hosts, the first few of many.
func several(names []string) string {
	if len(names) > 6 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	return strings.Join(names, ", ")
}

func refs(list []value.Ref) string {
	var out []string
	for _, ref := range list {
		out = append(out, value.Printable(ref.String()))
	}
	return strings.Join(out, ", ")
}
