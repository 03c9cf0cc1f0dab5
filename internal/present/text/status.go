package text

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
)

// Ago writes how long ago a time was, roughly.
func Ago(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	d := max(0, now.Sub(t))
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return Count(int(d/time.Minute), "minute") + " ago"
	case d < 48*time.Hour:
		return Count(int(d/time.Hour), "hour") + " ago"
	}
	return Count(int(d/(24*time.Hour)), "day") + " ago"
}

// Conditions tells in one sentence how hosts are.
func Conditions(list []history.HostStatus) string {
	counts := map[history.Condition]int{}
	for i := range list {
		counts[list[i].Condition]++
	}
	var parts []string
	for _, c := range history.Conditions {
		if counts[c] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[c], c))
		}
	}
	return Count(len(list), "host") + ": " + strings.Join(parts, ", ")
}

// Status prints how hosts are: one sentence, those that need a person with the reason, and
// then all of them, hosts alike in one line.
func Status(w io.Writer, list []history.HostStatus, width int, now time.Time) {
	fmt.Fprintln(w, Paint(Loud, Conditions(list)))
	fmt.Fprintln(w)
	rows := [][]string{{"", "hosts", "since", "reached", "applied", "by", "revision", "facts"}}
	moods := []Mood{Quiet}
	groups := alikeStatus(list, now)
	for _, g := range groups {
		rows, moods = append(rows, g.cells), append(moods, moodOfCondition(g.first.Condition))
	}
	for i, line := range Aligned(rows) {
		fmt.Fprintln(w, Paint(moods[i], Cut(line, width)))
		if i == 0 {
			continue
		}
		if why := groups[i-1].first.Why; why != "" {
			fmt.Fprint(w, Wrap(Line(why), "    ", width))
		}
		owed(w, groups[i-1].first, width)
	}
}

func moodOfCondition(c history.Condition) Mood {
	switch c {
	case history.Failing, history.Unreached:
		return Bad
	case history.Drifted, history.Outdated, history.Never:
		return Loud
	}
	return Quiet
}

// statusGroup are hosts of which all is alike that is shown.
type statusGroup struct {
	first *history.HostStatus
	names []string
	cells []string
}

func alikeStatus(list []history.HostStatus, now time.Time) []*statusGroup {
	var out []*statusGroup
	at := map[string]*statusGroup{}
	for i := range list {
		h := &list[i]
		since := Ago(h.Since, now)
		if h.Since.IsZero() {
			since = ""
		}
		revision := h.Revision[:min(12, len(h.Revision))]
		if h.Edited {
			revision += " edited"
		}
		applied := Ago(h.Applied, now)
		if h.AppliedBy > 0 && h.Condition != history.AsDeclared { // those are many, and alike but for this
			applied += fmt.Sprintf(", run %d", h.AppliedBy)
		}
		var facts []string
		for _, name := range value.Keys(h.Facts) {
			facts = append(facts, fmt.Sprint(h.Facts[name]))
		}
		cells := []string{string(h.Condition), "", since, Ago(h.Reached, now), applied, h.Who, revision,
			strings.Join(facts, " ")}
		key := fmt.Sprint(cells, h.Why, h.Leftovers, h.Debts, h.Mended)
		if at[key] == nil {
			at[key] = &statusGroup{first: h, cells: cells}
			out = append(out, at[key])
		}
		at[key].names = append(at[key].names, h.Host)
	}
	for _, g := range out {
		slices.SortFunc(g.names, cmp.Compare)
		g.cells[1] = hosts(g.names)
	}
	return out
}

// owed prints what is owed and left over on a host.
func owed(w io.Writer, h *history.HostStatus, width int) {
	var parts []string
	for _, d := range h.Debts {
		parts = append(parts, fmt.Sprintf("owed: %s of %s %s", d.Action, d.Kind, d.Name))
	}
	if len(h.Leftovers) > 0 {
		var names []value.Ref
		for _, l := range h.Leftovers {
			names = append(names, value.Ref{Kind: l.Kind, Name: l.Name})
		}
		parts = append(parts, "left over: "+refs(names))
	}
	if h.Mended > 0 {
		parts = append(parts, fmt.Sprintf("mended %s, last %s", Count(h.Mended, "time"), When(h.MendedAt)))
	}
	if len(parts) > 0 {
		fmt.Fprint(w, Paint(Quiet, Wrap(Line(strings.Join(parts, "; ")), "    ", width)))
	}
}
