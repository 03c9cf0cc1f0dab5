package text

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
)

// When writes a time for people, in their own zone.
func When(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.Local().Format("2006-01-02 15:04 MST")
}

// Interval writes a duration as people do: 30m, and not 30m0s.
func Interval(d time.Duration) string { return measure.DurationText(d) }

// Took writes a length of time in seconds for people; empty where it is too short to matter.
func Took(seconds float64) string { return took(time.Duration(seconds * float64(time.Second))) }

// Long writes a length of time in seconds for people, however short.
func Long(seconds float64) string {
	if text := Took(seconds); text != "" {
		return text
	}
	return fmt.Sprintf("%.3fs", seconds)
}

// Outcome says in a few words how a run came out: its state where it has not ended, and how
// many hosts came to what.
func Outcome(b *record.Summary) (Mood, string) {
	would := b.Mode == record.ModePreview || b.Mode == record.ModeDrift
	var parts []string
	add := func(n int, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	add(b.Failed, "failed")
	add(b.NotReached, string(record.NotReached))
	add(b.Changed, map[bool]string{true: "to change", false: "changed"}[would])
	switch b.Mode {
	case record.ModeExec:
		add(b.Unchanged, "succeeded")
	case record.ModeVerify:
		add(b.Unchanged, "passed")
	default:
		add(b.Unchanged, "unchanged")
	}
	if b.State == record.Ended {
		add(b.NotStarted, string(record.NotStarted))
	} else {
		add(b.NotStarted, "not finished")
	}
	text := strings.Join(parts, ", ")
	mood := Quiet
	switch {
	case b.State == record.Interrupted:
		mood, text = Bad, strings.TrimSuffix("interrupted: "+text, ": ")
	case b.State == record.Running:
		mood, text = Loud, strings.TrimSuffix("running: "+text, ": ")
	case b.Failed+b.NotReached > 0:
		mood = Bad
	case b.Changed > 0:
		mood = Loud
	}
	if text == "" {
		text = "no hosts"
	}
	return mood, text
}

// Runs prints runs as a table, a line for each, cut at a width; 0 cuts none.
func Runs(w io.Writer, list []record.Summary, width int) {
	rows := [][]string{{"run", "when", "what", "by", "took", "result", "hosts"}}
	moods := []Mood{Quiet}
	for i := range list {
		b := &list[i]
		mood, text := Outcome(b)
		what := b.Mode
		if b.Undoes > 0 {
			what += fmt.Sprintf(" of %d", b.Undoes)
		}
		by := b.Who
		if b.State == record.Elsewhere {
			by = "another machine"
		}
		rows = append(rows, []string{fmt.Sprint(b.Number), When(b.Started), what, by, Took(b.Seconds), text,
			strings.Join(inventory.Fold(b.Hosts), " ")})
		moods = append(moods, mood)
	}
	for i, line := range Aligned(headed(rows)) {
		fmt.Fprintln(w, Paint(moods[i], Cut(line, width)))
		if i > 0 {
			notes(w, list[i-1].Notes)
		}
	}
}

// notes prints what was noted on a run.
func notes(w io.Writer, notes map[string]string) {
	for _, key := range value.Keys(notes) {
		fmt.Fprintln(w, Paint(Quiet, "     "+Line(key)+": "+Line(notes[key])))
	}
}

// RunHead prints what is kept of a run besides what became of its hosts.
func RunHead(w io.Writer, h *record.Head) {
	mood, state := Loud, ""
	switch h.State {
	case record.Running:
		state = ", still running"
	case record.Interrupted:
		mood, state = Bad, ", interrupted"
	case record.Elsewhere:
		state = ", known only from results kept on a host"
	}
	what := h.Mode
	if h.Undoes > 0 {
		what += fmt.Sprintf(" of run %d", h.Undoes)
	}
	if h.Env != "" {
		what += " in " + h.Env
	}
	fmt.Fprintln(w, Paint(mood, fmt.Sprintf("run %d: %s on %s%s", h.Number, Line(what), When(h.Started), state)))
	var rows [][]string
	add := func(name, text string) {
		if text != "" {
			rows = append(rows, []string{"  " + name, text})
		}
	}
	if h.Who != "" {
		add("by", strings.TrimSuffix(h.Who+" on "+h.Machine, " on "))
	}
	if len(h.Command) > 0 {
		add("command", "jadekettle "+shell.Join(h.Command...))
	}
	add("job", h.Job)
	for _, key := range value.Keys(h.Inputs) {
		add("  "+key, h.Inputs[key])
	}
	add("source", h.Source)
	if h.Revision != "" {
		text := h.Revision[:min(12, len(h.Revision))]
		if h.Edited {
			text += ", with modified files"
		}
		add("revision", text)
	}
	took := Long(h.Seconds)
	if h.State == record.Ended {
		took += fmt.Sprintf(", exit status %d", h.Code)
	}
	add("took", took)
	add("run ID", h.Run)
	for _, key := range value.Keys(h.Notes) {
		add(key, h.Notes[key])
	}
	for _, line := range Aligned(rows) {
		fmt.Fprintln(w, Paint(Quiet, line))
	}
}

// Pairs prints names and texts in two columns.
func Pairs(w io.Writer, rows [][]string) {
	for _, line := range Aligned(rows) {
		fmt.Fprintln(w, line)
	}
}

// HostEnd prints the line of a host that is shown by itself.
func (v *Run) HostEnd(h *record.Host) {
	fmt.Fprintln(v.W)
	v.hostEnded(h)
}

// TaskLine prints one task of a host that is shown by itself.
func (v *Run) TaskLine(t *record.Task, pad int) {
	status := v.word(t.Status)
	name := Line(t.Kind + " " + t.Name)
	line := fmt.Sprintf("%s%s  %s", name, strings.Repeat(" ", max(0, pad-utf8.RuneCountInString(name))),
		status+because(t.Drift))
	v.printf(moodOf(t.Status), "%s", behind(line, Took(t.Seconds)))
}

// TaskWhole prints all that is kept of a task, below its line.
func (v *Run) TaskWhole(t *record.Task) { v.whole(t) }

// Declaration prints a declaration as it is in a text, from its first line to the next
// one, with line numbers.
func Declaration(w io.Writer, text string, line int) {
	const most = 40
	lines := strings.Split(text, "\n")
	for n := line; n >= 1 && n <= len(lines) && n < line+most; n++ {
		if n > line && strings.HasPrefix(strings.TrimSpace(lines[n-1]), "[") {
			break
		}
		if n > line && strings.TrimSpace(lines[n-1]) == "" &&
			(n == len(lines) || strings.HasPrefix(strings.TrimSpace(lines[n]), "[") ||
				strings.HasPrefix(strings.TrimSpace(lines[n]), "#")) {
			break
		}
		fmt.Fprintf(w, "%s %s\n", Paint(Quiet, fmt.Sprintf("%5d |", n)), Block(lines[n-1]))
	}
}

// TaskInRun prints one task of one run, the run in its line.
func (v *Run) TaskInRun(t *record.Task, head string) {
	v.printf(moodOf(t.Status), "%s", behind(Line(head)+"  "+v.word(t.Status)+because(t.Drift), Took(t.Seconds)))
	v.TaskWhole(t)
}

// Size writes a number of bytes for people.
func Size(n int64) string { return measure.BytesText(n) }

// Differences prints what differs between two runs.
func Differences(w io.Writer, d *history.Differences, width int) {
	v := &Run{W: w, Width: width}
	for _, h := range []*record.Head{&d.A, &d.B} {
		text := fmt.Sprintf("run %d  %s  %s  by %s", h.Number, h.Mode, When(h.Started), h.Who)
		if h.Revision != "" {
			text += "  revision " + h.Revision[:min(12, len(h.Revision))]
		}
		v.printf(Quiet, "%s", Line(behind(text, Long(h.Seconds))))
	}
	if len(d.Hosts)+len(d.Tasks)+len(d.Files)+len(d.Facts)+len(d.Times) == 0 {
		fmt.Fprintln(w, "\nno differences")
		return
	}
	v.outcomes(d)
	for _, f := range d.Files {
		fmt.Fprintln(w)
		v.printf(Loud, "%s  %s", Line(f.Path), f.How)
		v.diff(f.Diff)
	}
	if len(d.Facts) > 0 {
		fmt.Fprintln(w)
		v.printf(Quiet, "facts")
		reported(v, d.Facts, func(f history.FactDiff) (string, string) {
			return f.Host, fmt.Sprintf("%s: %s -> %s", Line(f.Fact), orNone(f.A), orNone(f.B))
		})
	}
	if len(d.Times) > 0 {
		fmt.Fprintln(w)
		v.printf(Quiet, "time")
		for _, t := range d.Times {
			fmt.Fprintf(w, "%s  %s  took %s -> %s\n", Line(t.Host), Line(t.Kind+" "+t.Name), Long(t.A), Long(t.B))
		}
	}
}

func (v *Run) outcomes(d *history.Differences) {
	if len(d.Hosts) > 0 {
		fmt.Fprintln(v.W)
		v.printf(Quiet, "hosts")
		reported(v, d.Hosts, func(h history.HostDiff) (string, string) {
			switch {
			case h.A == "":
				return h.Host, "only in the second run: " + string(h.B)
			case h.B == "":
				return h.Host, "only in the first run: " + string(h.A)
			}
			return h.Host, fmt.Sprintf("%s -> %s", h.A, h.B)
		})
	}
	if len(d.Tasks) > 0 {
		fmt.Fprintln(v.W)
		v.printf(Quiet, "tasks")
		reported(v, d.Tasks, func(t history.TaskDiff) (string, string) {
			text := fmt.Sprintf("%s  %s -> %s", Line(t.Kind+" "+t.Name), orNone(t.A), orNone(t.B))
			if t.Message != "" {
				first, _, _ := strings.Cut(t.Message, "\n")
				text += ": " + Line(first)
			}
			return t.Host, text
		})
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return Line(s)
}

// reported prints things of hosts, what is alike on several once.
func reported[T any](v *Run, list []T, of func(T) (host, text string)) {
	for _, g := range record.GroupBy(list, func(one T) string { _, text := of(one); return text }) {
		var names []string
		for _, one := range g.Items {
			host, _ := of(one)
			names = append(names, host)
		}
		fmt.Fprintf(v.W, "%s  %s\n", hosts(names), g.Key)
	}
}
