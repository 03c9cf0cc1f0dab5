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

// Conditions sums up the state of hosts in one sentence.
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
	rows := [][]string{{"state", "hosts", "since", "reached", "applied", "by", "revision", "facts"}}
	moods := []Mood{Quiet}
	groups := alikeStatus(list, now)
	for _, g := range groups {
		rows, moods = append(rows, g.cells), append(moods, moodOfCondition(g.first.Condition))
	}
	for i, line := range Aligned(headed(rows)) {
		fmt.Fprintln(w, Paint(moods[i], Cut(line, width)))
		if i == 0 {
			continue
		}
		if why := groups[i-1].first.Why; why != "" {
			fmt.Fprint(w, Wrap(Line(why), "    ", width))
		}
		pending(w, groups[i-1].first, width)
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
			revision += " modified"
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
		key := fmt.Sprint(cells, h.Why, h.Undeclared, h.Pending, h.Corrected)
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

// pending prints what is pending and no longer declared on a host.
func pending(w io.Writer, h *history.HostStatus, width int) {
	var parts []string
	for _, d := range h.Pending {
		parts = append(parts, fmt.Sprintf("pending: %s of %s %s", d.Action, d.Kind, d.Name))
	}
	if len(h.Undeclared) > 0 {
		var names []value.Ref
		for _, l := range h.Undeclared {
			names = append(names, value.Ref{Kind: l.Kind, Name: l.Name})
		}
		parts = append(parts, "no longer declared: "+refs(names))
	}
	if h.Corrected > 0 {
		parts = append(parts, fmt.Sprintf("corrected %s, last %s", Count(h.Corrected, "time"), When(h.CorrectedAt)))
	}
	if len(parts) > 0 {
		fmt.Fprint(w, Paint(Quiet, Wrap(Line(strings.Join(parts, "; ")), "    ", width)))
	}
}
