package text

import (
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
)

// Past is a run that is over, with the project's lines as they were then.
func Past(w io.Writer, width int, p store.Project, k *record.Run, whole bool) *Run {
	v := &Run{W: w, Past: true, Width: width, Number: k.Number, Preview: k.Would(), Mode: k.Mode,
		Sources: &Sources{Text: func(name string) ([]byte, error) { return p.Text(k.Number, name) }}}
	if whole {
		v.Detail = Whole
	}
	for _, h := range k.Hosts {
		v.Names = max(v.Names, len(h.Name))
	}
	return v
}

// RunShown prints a run again as it was printed when it ended.
func RunShown(w io.Writer, width int, p store.Project, k *record.Run, whole bool) {
	RunHead(w, &k.Head)
	fmt.Fprintln(w)
	v := Past(w, width, p, k, whole)
	if k.Mode == record.ModeExec {
		v.Executed(k.Hosts)
		return
	}
	for _, h := range k.Hosts {
		for i := range h.Tasks {
			v.Event(record.Event{Host: h.Name, Task: &h.Tasks[i]})
		}
	}
	v.Hosts(k.Hosts)
	for _, h := range k.Hosts {
		if h.CollectedBy > 0 {
			fmt.Fprintf(w, "%s  late results were collected by run %d\n", h.Name, h.CollectedBy)
		}
	}
}

// RunHost shows what became of the hosts of a run, each by itself.
func RunHost(w io.Writer, width int, p store.Project, k *record.Run, whole bool) {
	RunHead(w, &k.Head)
	v := Past(w, width, p, k, whole)
	for _, h := range k.Hosts {
		fmt.Fprintln(w)
		if k.Mode == record.ModeExec {
			v.Executed(k.Hosts)
			return
		}
		pad, hiddenTasks := 0, 0
		for _, t := range h.Tasks {
			if whole || t.Status != plan.Unchanged {
				pad = max(pad, len(t.Kind)+1+len(t.Name))
			}
		}
		for j := range h.Tasks {
			t := &h.Tasks[j]
			if !whole && t.Status == plan.Unchanged {
				hiddenTasks++
				continue
			}
			v.TaskLine(t, min(pad, 60))
			v.TaskWhole(t)
		}
		if hiddenTasks > 0 {
			fmt.Fprintln(w, Paint(Quiet, fmt.Sprintf("%s unchanged (list them with -v)", Count(hiddenTasks, "task"))))
		}
		for _, d := range h.Pending {
			fmt.Fprintf(w, "pending: %s of %s\n", d.Action, Line(d.Kind+" "+d.Name))
		}
		v.HostEnd(h)
	}
}

// RunTask shows all that is kept of one task, and the lines of the manifest as they were then.
func RunTask(w io.Writer, width int, p store.Project, k *record.Run, host string, t *record.Task, manifest string) {
	RunHead(w, &k.Head)
	fmt.Fprintln(w)
	v := Past(w, width, p, k, true)
	fmt.Fprintf(w, "%s  ", host)
	v.TaskLine(t, 0)
	v.TaskWhole(t)
	if t.Manifest == "" {
		return
	}
	fmt.Fprintf(w, "\n%s\n", Paint(Loud, Line(fmt.Sprintf("%s:%d", t.Manifest, t.Line))))
	if manifest == "" {
		fmt.Fprintln(w, "  its content at the time is not kept")
		return
	}
	Declaration(w, manifest, t.Line)
}

// Hits shows where words were found, and how many places more there are.
func Hits(w, beside io.Writer, hits []history.Hit, all int) {
	if all == 0 {
		fmt.Fprintln(w, "no matches")
		return
	}
	number := 0
	for _, h := range hits {
		if h.Number != number {
			number = h.Number
			fmt.Fprintln(w, Paint(Loud, Line(fmt.Sprintf("run %d  %s  %s  by %s", h.Number, h.Mode,
				When(h.Started), h.Who))))
		}
		what := "the run itself"
		switch {
		case h.Kind != "":
			what = fmt.Sprintf("%s  %s %s  %s", h.Host, h.Kind, h.Name, h.Status)
		case h.Host != "":
			what = fmt.Sprintf("%s  %s", h.Host, h.Status)
		}
		fmt.Fprintf(w, "  %s\n", Line(what))
		if h.Line != "" {
			fmt.Fprintf(w, "      %s\n", Line(h.Line))
		}
	}
	if all > len(hits) {
		fmt.Fprintln(beside, Paint(Quiet, fmt.Sprintf("%d more (show them with --most)", all-len(hits))))
	}
}

// Life shows what became of one thing on a host, newest first.
func Life(w io.Writer, width int, p store.Project, host string, ref value.Ref, list []history.Moment) {
	fmt.Fprintln(w, Paint(Loud, Line(host+"  "+ref.String())))
	for i := range list {
		m := &list[i]
		v := Past(w, width, p, &record.Run{Head: record.Head{Number: m.Number, Mode: m.Mode}}, true)
		if m.Task.Status == plan.Unchanged {
			text := fmt.Sprintf("unchanged in run %d, %s", m.Number, When(m.Started))
			if m.Runs > 1 {
				text = fmt.Sprintf("unchanged in %d runs, from run %d, %s, to run %d, %s", m.Runs, m.SinceNumber,
					When(m.Since),
					m.Number, When(m.Started))
			}
			fmt.Fprintln(w, Paint(Quiet, text))
			continue
		}
		by := m.Who + "@" + m.Machine
		if m.Revision != "" {
			by += ", revision " + m.Revision[:min(12, len(m.Revision))]
			if m.Edited {
				by += " modified"
			}
		}
		v.TaskInRun(&m.Task, fmt.Sprintf("run %d  %s  %s  by %s", m.Number, m.Mode, When(m.Started), by))
	}
}

// Slow shows where the time of a run went.
func Slow(w io.Writer, s *history.Slow) {
	line := fmt.Sprintf("run %d, %s, took %s", s.Number, s.Mode, Long(s.Seconds))
	if s.Runs > 0 {
		line += fmt.Sprintf("; usually %s, based on %s", Long(s.Usual), Count(s.Runs, "run"))
	}
	fmt.Fprintln(w, Paint(Loud, line))
	for _, part := range []struct {
		title string
		list  []history.Part
	}{{"tasks", s.Tasks}, {"kinds, over all hosts", s.Kinds}, {"hosts", s.Hosts}} {
		if len(part.list) == 0 {
			continue
		}
		rows := [][]string{{part.title, "took", "usually", ""}}
		moods := []Mood{Quiet}
		for _, t := range part.list {
			usual, times, mood := "", "", Plain
			if t.Usual > 0 {
				usual = Long(t.Usual)
				if t.Seconds > 2*t.Usual && t.Seconds-t.Usual > 1 {
					times, mood = fmt.Sprintf("%.1f times", t.Seconds/t.Usual), Loud
				}
			}
			what := strings.TrimSpace(t.Host + "  " + strings.TrimSpace(t.Kind+" "+t.Name))
			rows, moods = append(rows, []string{what, Long(t.Seconds), usual, times}), append(moods, mood)
		}
		fmt.Fprintln(w)
		for i, line := range Aligned(rows) {
			fmt.Fprintln(w, Paint(moods[i], line))
		}
	}
}

// Health shows what a check of the history has found.
func Health(w io.Writer, place string, h *store.Health) {
	fmt.Fprintf(w, "%s  %s: %s, %s, %s, %s\n", Line(place), Size(h.Bytes), Count(h.Runs, "run"),
		Count(h.Hosts, "visit"),
		Count(h.Tasks, "task"), Count(h.Texts, "text"))
	for _, wrong := range h.Wrong {
		fmt.Fprintln(w, Paint(Bad, "  "+Line(wrong)))
	}
	if len(h.Wrong) == 0 {
		fmt.Fprintln(w, "No problems found.")
		return
	}
	fmt.Fprintln(w, "readable runs are still shown; if you move the file away, a new one is created")
}

// FactsAsRead prints the facts of a host as a run read them, a line for each.
func FactsAsRead(w io.Writer, f *facts.Facts) {
	flat := history.FlatFacts(f)
	var rows [][]string
	for _, name := range value.Keys(flat) {
		rows = append(rows, []string{name, flat[name]})
	}
	Pairs(w, rows)
}
