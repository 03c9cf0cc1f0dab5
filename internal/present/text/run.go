package text

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// Detail is how much of the changes is shown.
type Detail int

// The details.
const (
	Usual   Detail = iota // long diffs shortened, like changes reported once
	Summary               // no changes, only who changed and what failed
	Whole                 // unchanged tasks too, and every line of every diff
)

// Run reports a run to people while it happens and when it is over.
type Run struct {
	W       io.Writer
	Preview bool
	Undo    int    // the number of the run that is undone; 0 in any other
	Mode    string // one of record.ModeApply and the like
	Past    bool   // it is over: what changed is reported once for all hosts, as in a preview
	Detail  Detail
	Number  int // of the run; 0 when it is not kept
	Names   int // how wide the longest host name is
	Width   int // of the terminal; 0 when it has none
	Sources *Sources

	Working io.Writer // where tasks that take long are reported; nil for nowhere

	worked map[string]time.Duration // by host and task, when that was reported last
	shown  map[string]string        // the changes shown so far, and on which host
	groups []*group                 // in a preview: changes that are alike
	byKey  map[string]*group
	began  bool // something was printed
}

// word is a status as it is shown.
func (v *Run) word(s plan.Status) string {
	if v.Preview && s == plan.Changed {
		return "would change"
	}
	if v.Mode == record.ModeVerify && s == plan.Unchanged {
		return "passed"
	}
	return string(s)
}

// count is a status behind a number.
func (v *Run) count(s plan.Status) string {
	if v.Preview && s == plan.Changed {
		return "to change"
	}
	return v.word(s)
}

func moodOf(s plan.Status) Mood {
	switch s {
	case plan.Failed, plan.Blocked:
		return Bad
	case plan.Changed:
		return Loud
	}
	return Quiet
}

// took writes a time from a tenth of a second on; below that it says nothing.
func took(d time.Duration) string {
	switch {
	case d < 100*time.Millisecond:
		return ""
	case d < 10*time.Second:
		return fmt.Sprintf("%.1fs", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0fs", d.Seconds())
	}
	return d.Round(time.Second).String()
}

func behind(text, more string) string {
	if more == "" {
		return text
	}
	return text + "  " + more
}

func (v *Run) printf(m Mood, format string, args ...any) {
	v.began = true
	fmt.Fprintln(v.W, Paint(m, fmt.Sprintf(format, args...)))
}

// Event prints one event as it happens. In a preview changes are gathered, and
// reported by End.
func (v *Run) Event(e record.Event) {
	if e.AtWork != nil {
		v.atWork(e.Host, e.AtWork)
		return
	}
	if e.Begun != nil {
		return
	}
	if e.Task == nil {
		v.hostEnded(e.Ended)
		return
	}
	t := e.Task
	switch {
	case t.Status == plan.Skipped: // reported with its host, where that is asked for
		return
	case t.Status == plan.Unchanged && v.Detail != Whole, v.Detail == Summary: // what failed is printed at the end
		return
	case v.Past && t.Status != plan.Changed && v.Detail != Whole:
		return
	case t.Status == plan.Changed && (v.Preview || v.Past) && v.Detail != Whole:
		v.gather(e.Host, t)
		return
	}
	words, below := v.word(t.Status), t.Changes
	if t.Status == plan.Changed {
		words, below = v.verdict(t.Changes)
	}
	line := fmt.Sprintf("%-*s  %s  %s", v.Names, e.Host, Line(t.Ref().String()), words+because(t.Drift))
	if t.Status == plan.Blocked {
		line += " by " + Line(t.BlockedBy.String())
	}
	if t.Tries > 1 {
		line += fmt.Sprintf(" after %d attempts", t.Tries)
	}
	v.printf(moodOf(t.Status), "%s", behind(line, Took(t.Seconds)))
	if t.Status == plan.Changed && len(below) > 0 {
		v.once(e.Host, t, below)
	}
	if t.Status == plan.Failed {
		v.block(Bad, "    ", t.Message)
	}
}

// How often a task that is still at work is reported: at first as often as its host says so,
// and later less often, so that a long one does not fill the screen.
const (
	notBefore  = 4 * time.Second // what is sooner over is not worth a line
	oftenUntil = time.Minute
	seldom     = 30 * time.Second
)

// atWork reports a task that takes long, apart from the results.
func (v *Run) atWork(host string, w *record.AtWork) {
	if v.Working == nil {
		return
	}
	key, took := host+"\x00"+w.Ref().String(), w.For(time.Now())
	if took < notBefore {
		return
	}
	if took > oftenUntil && took-v.worked[key] < seldom && took >= v.worked[key] {
		return
	}
	if v.worked == nil {
		v.worked = map[string]time.Duration{}
	}
	v.worked[key] = took
	text := "running for " + took.Round(time.Second).String()
	if w.Try > 1 {
		text += fmt.Sprintf(", attempt %d", w.Try)
	}
	if w.Line != "" {
		text += ": " + w.Line
	}
	what := Line(w.Ref().String()) + "  "
	if w.Ref() == (value.Ref{}) { // a command, and no task
		what = ""
	}
	line := fmt.Sprintf("%-*s  %s%s", v.Names, host, what, Line(text))
	if v.Width > 0 {
		line = Cut(line, v.Width)
	}
	fmt.Fprintln(v.Working, Paint(Quiet, line))
}

// once prints a task's changes, unless the same ones were shown already.
func (v *Run) once(host string, t *record.Task, below []plan.Change) {
	if v.shown == nil {
		v.shown = map[string]string{}
	}
	key := t.Ref().String() + "\x00" + fingerprint(t.Changes)
	if first, seen := v.shown[key]; seen && v.Detail != Whole && len(t.Changes) > 0 {
		v.printf(Quiet, "    same as %s", first)
		return
	}
	v.shown[key] = host
	v.changes(below)
}

func fingerprint(list []plan.Change) string { return fmt.Sprint(list) }

// group is a change that several hosts, or several things of one declaration,
// have alike.
type group struct {
	ref     value.Ref
	place   value.Place
	changes []plan.Change
	drift   plan.Drift
	task    *record.Task // the first that has it
	hosts   []string
	names   []string // of further things of the declaration, shown by name only
}

// alike is how many things of one declaration are shown in full.
const alike = 3

func (v *Run) gather(host string, t *record.Task) {
	if v.byKey == nil {
		v.byKey = map[string]*group{}
	}
	key := t.Ref().String() + "\x00" + string(t.Drift) + fingerprint(t.Changes)
	if g := v.byKey[key]; g != nil {
		g.hosts = append(g.hosts, host)
		return
	}
	g := &group{ref: t.Ref(), place: t.Place(), changes: t.Changes, drift: t.Drift, task: t, hosts: []string{host}}
	v.byKey[key] = g
	v.groups = append(v.groups, g)
}

// grouped puts further things of one declaration that change alike on the same
// hosts behind the first few of them.
func (v *Run) grouped() []*group {
	var out []*group
	seen := map[string][]*group{}
	for _, g := range v.groups {
		var what []string
		for _, c := range g.changes {
			what = append(what, c.What)
		}
		key := fmt.Sprint(g.place, g.ref.Kind, what, g.hosts, g.drift)
		if list := seen[key]; len(list) >= alike {
			last := list[len(list)-1]
			last.names = append(last.names, g.ref.Name)
			continue
		}
		seen[key] = append(seen[key], g)
		out = append(out, g)
	}
	return out
}

// drifted prints what differs, and of drift first what differs from what was last
// written.
func (v *Run) drifted(g *group, below []plan.Change) {
	if v.Mode != record.ModeDrift || g.drift == "" {
		v.changes(below)
		return
	}
	if at := g.task.LastWritten(); !at.IsZero() {
		v.printf(Quiet, "    last applied %s by %s", When(at), Line(cmp.Or(g.task.By, "an unknown user")))
	}
	for _, c := range g.task.Written {
		v.printf(Plain, "    %s: %s, last applied as %s", Line(c.What), Line(cmp.Or(c.Was, "missing")),
			Line(c.Becomes))
		if c.Diff != "" {
			v.diff(c.Diff)
		}
	}
	if g.drift != plan.ByHost {
		v.printf(Quiet, "    declared now:")
		v.changes(g.changes)
	}
}

// because says in a word why something differs.
func because(d plan.Drift) string {
	switch d {
	case plan.ByHost:
		return " (modified on host)"
	case plan.ByDeclaration:
		return " (declaration changed)"
	case plan.ByBoth:
		return " (modified on host and declaration changed)"
	case plan.ByLeaving:
		return " (no longer declared)"
	}
	return ""
}

func (v *Run) gathered() {
	for _, g := range v.grouped() {
		slices.Sort(g.hosts)
		words, below := v.verdict(g.changes)
		if v.Mode == record.ModeDrift && g.drift != "" {
			words = v.word(plan.Changed)
		}
		v.printf(Loud, "%s  %s  %s", hosts(g.hosts), Line(g.ref.String()), words+because(g.drift))
		v.drifted(g, below)
		if len(g.names) > 0 {
			v.printf(Loud, "    and likewise %d more from %s: %s", len(g.names), g.place,
				Line(few(g.names)))
		}
	}
	v.groups, v.byKey = nil, nil
}

// few names the first of many.
func few(names []string) string {
	if len(names) > 4 {
		return strings.Join(names[:3], ", ") + fmt.Sprintf(" and %d more", len(names)-3)
	}
	return strings.Join(names, ", ")
}

// block prints a text of one or more lines, each indented.
func (v *Run) block(m Mood, indent, text string) {
	for line := range strings.Lines(Wrap(Block(text), indent, v.Width)) {
		v.printf(m, "%s", strings.TrimRight(line, "\n"))
	}
}

func (v *Run) hostEnded(h *record.Host) {
	if v.Detail == Summary {
		return
	}
	m, text := Quiet, string(h.State)
	switch {
	case h.Outcome == record.OutWrong:
		m, text = Bad, "cannot be resolved"
	case h.State == record.Disabled && (v.Detail != Whole || v.Mode == record.ModeVerify): // nothing was expected of it
		return
	case h.State == record.Disabled:
		text += ": " + h.Message
	case h.State != record.Reached:
		m, text = Bad, text+": "+h.Message
	case h.Message == "" && (v.Detail != Whole || v.Mode == record.ModeVerify): // counted at the end
		return
	default:
		text = v.counts(h)
		if n := h.Count(plan.Failed) + h.Count(plan.Blocked); n > 0 {
			m = Bad
		}
	}
	if v.Detail == Whole {
		for _, t := range h.Tasks {
			if t.Status == plan.Skipped {
				v.printf(Quiet, "%-*s  %s  skipped", v.Names, h.Name, Line(t.Ref().String()))
				v.printf(Quiet, "    %s", Line(t.Message))
			}
		}
	}
	v.printf(m, "%s", behind(fmt.Sprintf("%-*s  %s", v.Names, h.Name, Line(text)), Took(h.Seconds)))
	if h.State == record.Reached && h.Message != "" {
		v.block(Bad, "    ", h.Message)
	}
}

var statusOrder = []plan.Status{plan.Failed, plan.Blocked, plan.Changed, plan.Unchanged, plan.Skipped}

func (v *Run) counts(h *record.Host) string {
	var parts []string
	for _, s := range statusOrder {
		if n := h.Count(s); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, v.count(s)))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "no tasks")
	}
	if h.Stopped {
		parts = append(parts, "stopped early")
	}
	return strings.Join(parts, ", ")
}

// outcomes are those of hosts, worst first, and in the order of the sentence.
var (
	worstFirst = []record.Outcome{record.OutWrong, record.OutRefused, record.OutLost, record.OutNotReached,
		record.OutBusy, record.OutFailed, record.OutStopped, record.OutNotStarted, record.OutChanged,
		record.OutUnchanged, record.OutDisabled}
	inSentence = []record.Outcome{record.OutChanged, record.OutUnchanged, record.OutFailed, record.OutBusy,
		record.OutNotReached, record.OutRefused, record.OutLost, record.OutStopped, record.OutNotStarted,
		record.OutWrong, record.OutDisabled}
)

func (v *Run) outcome(o record.Outcome) string {
	switch o {
	case record.OutChanged:
		return v.count(plan.Changed)
	case record.OutUnchanged:
		return v.count(plan.Unchanged)
	}
	return string(o)
}

// End reports how the run came out, which makes a Run a record.Sink.
func (v *Run) End(r *record.Run) error {
	v.Number = r.Number
	if r.Mode == record.ModeVerify && v.Detail == Whole && !v.Past {
		v.Detail = Usual // what is alike is reported once at the end
	}
	v.Hosts(r.Hosts)
	v.numbered(r)
	return nil
}

// Hosts prints the sentence, a block for each outcome, and every failure in full.
func (v *Run) Hosts(hosts []*record.Host) {
	v.gathered()
	by := map[record.Outcome][]*record.Host{}
	for _, h := range hosts {
		by[h.Outcome] = append(by[h.Outcome], h)
	}
	var parts []string
	for _, o := range inSentence {
		if n := len(by[o]); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, v.outcome(o)))
		}
	}
	if v.began || v.Past {
		fmt.Fprintln(v.W)
	}
	if len(hosts) != 1 { // of one, the next line says it all
		v.printf(Loud, "%s: %s", Count(len(hosts), "host"), strings.Join(parts, ", "))
		fmt.Fprintln(v.W)
	}
	v.blocks(by)
	v.failures(hosts)
	v.rest(hosts)
}

// numbered prints the number of a run that has just ended, and what to call next.
func (v *Run) numbered(r *record.Run) {
	if v.Number == 0 || v.Past {
		return
	}
	fmt.Fprintln(v.W)
	text := fmt.Sprintf("Run %d took %s. Details: jadekettle runs show %d", v.Number,
		cmp.Or(Took(r.Seconds), "0.0s"), v.Number)
	if r.Mode == record.ModeApply && slices.ContainsFunc(r.Hosts, func(h *record.Host) bool {
		return h.Unwell() || h.Outcome == record.OutFailed || h.Outcome == record.OutStopped
	}) {
		text += "   Retry: jadekettle apply --again"
	}
	v.printf(Quiet, "%s", text)
}

// foldFrom is how many hosts with the same result are folded into one line.
const foldFrom = 4

// row is one line of a block: hosts that fared alike.
type row struct {
	names     []string
	text      string
	low, high float64 // seconds
}

// blocks prints a block for each outcome, worst first.
func (v *Run) blocks(by map[record.Outcome][]*record.Host) {
	var cells [][]string
	var moods []Mood
	for _, o := range worstFirst {
		title := v.outcome(o)
		for _, r := range v.rows(o, by[o]) {
			at := Took(r.high)
			if low := Took(r.low); low != "" && low != at {
				at = low + " to " + at
			}
			cells = append(cells, []string{title, hosts(r.names), r.text, at})
			moods = append(moods, moodOfOutcome(o))
			title = ""
		}
	}
	for i, line := range Aligned(cells) {
		v.printf(moods[i], "%s", line)
	}
}

func moodOfOutcome(o record.Outcome) Mood {
	switch o {
	case record.OutChanged:
		return Loud
	case record.OutUnchanged, record.OutDisabled:
		return Quiet
	}
	return Bad
}

// rows puts hosts alike into one row, when they are enough and not all are
// wanted.
func (v *Run) rows(o record.Outcome, list []*record.Host) []row {
	var out []row
	for _, g := range record.GroupBy(list, func(h *record.Host) string { return v.sameText(o, h) }) {
		if len(g.Items) >= foldFrom && v.Detail != Whole {
			out = append(out, rowOf(g.Key, g.Items...))
			continue
		}
		for _, h := range g.Items {
			out = append(out, rowOf(g.Key, h))
		}
	}
	return out
}

func rowOf(text string, list ...*record.Host) row {
	out := row{names: names(list), text: text, low: list[0].Seconds}
	for _, h := range list {
		out.low, out.high = min(out.low, h.Seconds), max(out.high, h.Seconds)
	}
	if list[0].Outcome == record.OutDisabled {
		out.low, out.high = 0, 0
	}
	return out
}

// sameText is what a row says of a host: counts where it was reached, else why not.
func (v *Run) sameText(o record.Outcome, h *record.Host) string {
	switch o {
	case record.OutFailed, record.OutStopped, record.OutChanged, record.OutUnchanged:
		return v.counts(h)
	}
	return h.Message
}

// hosts names hosts as a target would, the first few of many.
func hosts(names []string) string {
	folded := inventory.Fold(names)
	if len(folded) > 6 {
		shown := inventory.Fold(names[:min(5, len(names))])
		return Line(strings.Join(shown, " ")) + fmt.Sprintf(" and %d more", len(names)-min(5, len(names)))
	}
	return Line(strings.Join(folded, " "))
}

// failures prints every failed task once, with its manifest line, however many
// hosts share it.
func (v *Run) failures(list []*record.Host) {
	for _, f := range record.Failures(list) {
		fmt.Fprintln(v.W)
		v.printf(Bad, "%s  %s failed", hosts(f.Hosts), Line(f.Ref().String()))
		switch {
		case f.Place() == (value.Place{}) && v.Undo > 0:
			v.printf(Plain, "  changed by run %d", v.Undo)
		case f.Place() == (value.Place{}):
			v.printf(Plain, "  no longer declared, and to be removed")
		default:
			v.printf(Plain, "  %s", f.Place())
			v.Sources.Excerpt(v.W, f.Place())
		}
		v.block(Plain, "  ", f.Message)
		if f.Do != "" {
			v.block(Plain, "  ", f.Do)
		}
		v.output(f.Output, f.Message)
		if len(f.Blocks) > 0 {
			v.block(Plain, "  ", "blocks: "+strings.Join(f.Blocks, ", "))
		}
	}
	v.unreached(list)
}

// unreached prints in full why hosts could not be worked on, once for all that
// say the same. What is one line and has no remedy is in their lines already.
func (v *Run) unreached(list []*record.Host) {
	type same struct{ outcome, message, do, wrong string }
	list = slices.DeleteFunc(slices.Clone(list), func(h *record.Host) bool {
		said := h.Do == "" && h.Wrong == nil && !strings.Contains(h.Message, "\n") // in its line above
		return !h.Unwell() || h.State == record.NotStarted || said
	})
	for _, g := range record.GroupBy(list, func(h *record.Host) same {
		return same{string(h.Outcome), h.Message, h.Do, fmt.Sprint(h.Wrong)}
	}) {
		h := g.Items[0]
		fmt.Fprintln(v.W)
		v.printf(Bad, "%s  %s", hosts(names(g.Items)), h.Outcome)
		if h.Wrong != nil { // which is reported below, with its places
			v.block(Plain, "  ", strings.TrimSuffix(h.Message, ": "+h.Wrong.Error()))
		} else if strings.Contains(h.Message, "\n") {
			v.block(Plain, "  ", h.Message)
		}
		if h.Do != "" {
			v.block(Plain, "  ", h.Do)
		}
		if h.Wrong != nil {
			v.wrong(h.Wrong)
		}
	}
}

// names gives those of hosts.
func names(list []*record.Host) []string {
	out := make([]string, len(list))
	for i, h := range list {
		out[i] = h.Name
	}
	return out
}

// wrong prints what is wrong in the project for a host.
func (v *Run) wrong(err error) {
	var ps problem.Problems
	ps.AddErr(value.Place{}, err)
	for _, p := range ps.List() {
		at := p.Place.String()
		if at != "" {
			at += ": "
		}
		v.block(Plain, "  ", at+p.What)
		if !p.Quiet {
			v.Sources.Excerpt(v.W, p.Place)
		}
		if p.Do != "" {
			v.block(Plain, "        ", p.Do)
		}
	}
}

// output prints what a failed command wrote, when that is more than the line
// that the message has already.
func (v *Run) output(text, message string) {
	text = strings.TrimSpace(text)
	if text == "" || !strings.Contains(text, "\n") && strings.Contains(message, text) {
		return
	}
	v.printf(Quiet, "  output:")
	for line := range strings.SplitSeq(Block(text), "\n") {
		v.printf(Quiet, "    | %s", line)
	}
}

// rest prints what else is worth knowing: results that an earlier run left
// behind, and things that nothing declares any more.
func (v *Run) rest(list []*record.Host) {
	for _, h := range list {
		for _, c := range h.Collected {
			v.collected(h, c)
		}
	}
	v.needed(list)
	v.undeclared(list)
}

// undeclared reports what is no longer declared, and in a preview what taking it away would do, once
// for all hosts on which it is alike.
func (v *Run) undeclared(list []*record.Host) {
	list = slices.DeleteFunc(slices.Clone(list), func(h *record.Host) bool { return len(h.Undeclared) == 0 })
	removable, kept := false, false
	for _, g := range record.GroupBy(list, func(h *record.Host) string { return fmt.Sprint(h.Undeclared) }) {
		on := hosts(names(g.Items))
		fmt.Fprintln(v.W)
		left := slices.DeleteFunc(slices.Clone(g.Items[0].Undeclared), func(l record.Undeclared) bool {
			if l.Stays {
				v.block(Plain, "", fmt.Sprintf("%s  %s is no longer declared; %s", on, l.Ref(), l.Why))
			}
			return l.Stays
		})
		if len(left) == 0 {
			continue
		}
		kept = true
		removable = removable || slices.ContainsFunc(left, func(l record.Undeclared) bool { return l.Why == "" })
		var what []value.Ref
		for _, l := range left {
			what = append(what, l.Ref())
		}
		if len(left) > maxRefs || !v.Preview && v.Detail != Whole {
			v.block(Plain, "", on+"  no longer declared: "+refs(what))
			continue
		}
		title := "no longer declared:"
		if v.Mode == record.ModeRetire {
			title = "to be removed:"
		}
		v.printf(Plain, "%s  %s", on, title)
		for _, l := range left {
			v.printf(Plain, "  %s", Line(l.Ref().String()))
			if l.Why != "" {
				v.block(Quiet, "    ", l.Why)
				continue
			}
			v.ifRemoved(l.Changes)
		}
	}
	switch {
	case !v.Preview || !kept || v.Mode == record.ModeRetire:
	case removable:
		v.block(Quiet, "", "remove with `apply --remove-undeclared`, or stop tracking with `apply --forget-undeclared`")
	default:
		v.block(Quiet, "", "stop tracking with `apply --forget-undeclared`")
	}
}

// ifRemoved prints what a removal would change besides the existence of the thing.
func (v *Run) ifRemoved(list []plan.Change) {
	list = slices.DeleteFunc(slices.Clone(list), func(c plan.Change) bool { return c.What == "existence" })
	if len(list) > 0 {
		v.printf(Quiet, "    if removed:")
		v.changes(list)
	}
}

func (v *Run) collected(h *record.Host, c record.Collected) {
	fmt.Fprintln(v.W)
	v.printf(Loud, "%s  results collected from the interrupted run %s", h.Name, Line(c.Run))
	for _, r := range c.Tasks {
		if r.Status != plan.Unchanged || v.Detail == Whole {
			v.printf(moodOf(r.Status), "%s", behind(fmt.Sprintf("  %s  %s", Line(r.Ref().String()),
				Line(string(r.Status))), Took(r.Seconds)))
		}
		if r.Message != "" {
			v.block(Bad, "    ", r.Message)
		}
	}
}

// needed reports what selected tasks need and was not selected, once for all hosts on which it is the same.
func (v *Run) needed(list []*record.Host) {
	for _, g := range record.GroupBy(list, func(h *record.Host) string {
		var needs []value.Ref
		for _, r := range h.Needed {
			needs = append(needs, r.Value())
		}
		return refs(needs)
	}) {
		if g.Key == "" {
			continue
		}
		fmt.Fprintln(v.W)
		v.block(Plain, "", fmt.Sprintf("%s  the selected tasks depend on tasks that are not selected: %s (use "+
			"--with-needs to include them)",
			hosts(names(g.Items)), g.Key))
	}
}

// maxRefs is how many things are listed by name; more are counted by their kinds.
const maxRefs = 20

func refs(list []value.Ref) string {
	var out []string
	byKind := map[string]int{}
	for _, ref := range list {
		byKind[ref.Kind]++
		out = append(out, Line(ref.String()))
	}
	if len(list) <= maxRefs {
		return strings.Join(out, ", ")
	}
	var counts []string
	for _, kind := range value.Keys(byKind) {
		counts = append(counts, fmt.Sprintf("%d of kind %s", byKind[kind], Line(kind)))
	}
	return fmt.Sprintf("%d resources (%s): %s, ...", len(list), strings.Join(counts, ", "),
		strings.Join(out[:3], ", "))
}

// TaskOf prints all that is known of one task of a host.
func (v *Run) TaskOf(host string, t *record.Task) {
	v.printf(moodOf(t.Status), "%s", behind(fmt.Sprintf("%s  %s  %s", Line(host), Line(t.Ref().
		String()), v.word(t.Status)+because(t.Drift)),
		Took(t.Seconds)))
	if t.Manifest != "" {
		v.printf(Quiet, "    declared at %s", Line(t.Place().String()))
	}
	v.whole(t)
}

// whole prints all that is known of a task, below its line.
func (v *Run) whole(t *record.Task) {
	if t.Message != "" {
		v.block(moodOf(t.Status), "    ", t.Message)
	}
	if t.Status == plan.Blocked {
		v.printf(Plain, "    blocked by %s", Line(t.BlockedBy.String()))
	}
	v.changes(t.Changes)
	if len(t.Written) > 0 {
		v.printf(Quiet, "    last applied %s by %s", When(t.LastWritten()), Line(t.By))
		v.changes(t.Written)
	}
	if t.Output != "" {
		v.printf(Quiet, "    output:")
		v.block(Plain, "      ", t.Output)
	}
	if t.Do != "" {
		v.block(Quiet, "    ", t.Do)
	}
}
