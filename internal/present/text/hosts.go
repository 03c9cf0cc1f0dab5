package text

import (
	"fmt"
	"io"
	"strings"
	"time"

	"jadekettle/internal/app"
	"jadekettle/internal/core/explain"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history/store"
)

// Hosts lists hosts with their groups and manifests.
func Hosts(w io.Writer, list []app.Membership) {
	rows, notes, open := [][]string{{"host", "address", "groups", "manifests"}}, []string{""}, false
	for _, s := range list {
		groups := s.Names()
		for _, g := range s.Maybe() {
			groups, open = append(groups, g+"?"), true
		}
		rows = append(rows, []string{s.Host.Name, s.Host.Address(), strings.Join(groups, " "),
			strings.Join(s.Manifests(), " ")})
		note := ""
		if s.Host.Disabled != "" {
			note = "disabled: " + s.Host.Disabled
		}
		notes = append(notes, note)
	}
	Table(w, rows, notes)
	if open {
		fmt.Fprintln(w, "\n"+Paint(Quiet,
			"? depends on facts that were never collected; run `jadekettle facts HOST`"))
	}
}

// Members shows who is in a group, and by what.
func Members(w io.Writer, group string, members []app.Member) {
	if len(members) == 0 {
		fmt.Fprintf(w, "no host is a member of %s\n", group)
		return
	}
	rows, notes := [][]string{{"host", "is a member"}}, []string{""}
	for _, m := range members {
		note := ""
		if !m.Known {
			note = "its facts were never collected; run `jadekettle facts " + m.Name + "`"
		}
		rows, notes = append(rows, []string{m.Name, m.By}), append(notes, note)
	}
	Table(w, rows, notes)
}

// Moves shows what moved in or out of groups since the last run of each host.
func Moves(w io.Writer, list []store.Move) {
	for _, m := range list {
		line := m.Host + "  " + m.What
		if m.Group != "" {
			line += " " + m.Group
		}
		if m.Why != "" {
			line += "  " + Paint(Quiet, m.Why)
		}
		fmt.Fprintln(w, line)
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "no host has moved in or out of a group since its last run")
	}
}

// MovesLog shows what runs have found to move, when, and why.
func MovesLog(w io.Writer, list []store.Move) {
	rows := [][]string{{"WHEN", "RUN", "HOST", "MOVED", "WHY"}}
	for _, m := range list {
		number := ""
		if m.Run > 0 {
			number = fmt.Sprint(m.Run)
		}
		rows = append(rows, []string{When(m.At), number, m.Host, strings.TrimSpace(m.What + " " + m.Group),
			Line(m.Why)})
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "no host has moved in or out of a group since then")
		return
	}
	Columns(w, rows)
}

// HostShown prints a host with all that applies to it. read is when its facts were.
func HostShown(w io.Writer, p *app.Project, e *explain.Explanation, read time.Time) {
	h, known := e.Host, e.Known
	fmt.Fprintf(w, "%s  %s\n", Paint(Loud, h.Name), h.Address())
	if h.Disabled != "" {
		fmt.Fprintln(w, "  disabled: "+h.Disabled)
	}
	if known {
		fmt.Fprintf(w, "  facts collected %s\n", Ago(read, time.Now()))
	} else {
		fmt.Fprintf(w, "  facts never collected; run `jadekettle facts %s`\n", h.Name)
	}
	var own [][]string
	for _, k := range value.Keys(h.Vars) {
		if k != "name" && k != "address" && k != "groups" {
			own = append(own, []string{"  " + k, value.Shown(h.Vars[k])})
		}
	}
	Section(w, "custom keys", own)
	var rows [][]string
	f, _ := p.FactsOf(h)
	tree := f.Tree()
	for _, g := range e.Groups {
		rows = append(rows, []string{"  " + g.Name, p.Inventory.Why(h, g, tree)})
	}
	if !known {
		for _, g := range h.Maybe {
			rows = append(rows, []string{"  " + g.Name + "?", "may apply (depends on facts)"})
		}
	}
	Section(w, "groups", rows)
	rows = nil
	for _, d := range e.Declared() {
		rows = append(rows, []string{"  " + d.Ref.String(), wayText(d.Ways[0]), d.Ways[0].Place.String(), leftOut(d)})
		for _, w := range d.Ways[1:] {
			rows = append(rows, []string{"", wayText(w), w.Place.String(), ""})
		}
	}
	Section(w, "declarations, in order", rows)
}

func leftOut(d explain.Declared) string {
	if d.State == explain.Perhaps {
		return "may apply (depends on facts)"
	}
	if d.State == string(plan.Skipped) {
		return "skipped: " + d.Reason
	}
	return ""
}

func wayText(w explain.Way) string {
	text := w.Group + " > " + w.Manifest
	for _, u := range w.Uses {
		text += " > " + u.Name
	}
	return text
}
