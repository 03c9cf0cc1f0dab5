package text

import (
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
)

// inline is how many characters of changes fit behind a task on its own line.
const inline = 60

// verdict says in a few words what was done to something: created, removed, installed, restarted or changed. The
// changes that it does not cover are for the lines below.
func (v *Run) verdict(list []plan.Change) (words string, below []plan.Change) {
	would := func(done string) string { return map[bool]string{true: "would be "}[v.Preview] + done }
	words = v.word(plan.Changed)
	left := slices.Clone(list)
	take := func(i int) { left = slices.Delete(left, i, i+1) }
	if i := slices.IndexFunc(left, func(c plan.Change) bool { return c.What == "existence" }); i >= 0 {
		words = would("created")
		if left[i].Becomes == "absent" {
			words = would("removed")
		}
		take(i)
	} else if i := slices.IndexFunc(left, func(c plan.Change) bool { return c.What == "version" }); i >= 0 {
		switch c := left[i]; {
		case c.Was == "absent":
			words = would("installed") + strings.TrimPrefix(": "+Line(c.Becomes), ": installed")
			take(i)
		case c.Becomes == "absent":
			words = would("removed") + ": " + Line(c.Was)
			take(i)
		}
	} else if len(left) == 1 && done[left[0].What] != "" && left[0].Becomes == "done" && !v.Preview {
		words = done[left[0].What]
		if cause, ok := strings.CutPrefix(left[0].Was, "required since "); ok {
			words += " because " + Line(cause)
		}
		take(0)
	}
	if v.Detail == Whole || len(left) == 0 || slices.ContainsFunc(left, v.needsLines) {
		return words, left
	}
	var parts []string
	for _, c := range joined(left) {
		switch {
		case c.Was != "" || strings.HasSuffix(words, v.word(plan.Changed)):
			parts = append(parts, v.change(c))
		case c.What == "content" && c.Diff != "": // of something new
			parts = append([]string{strings.TrimPrefix(v.change(c), "content: ")}, parts...)
		default:
			parts = append(parts, strings.TrimSpace(Line(c.What)+" "+Line(c.Becomes)))
		}
	}
	if more := strings.Join(parts, ", "); len(words)+len([]rune(more)) <= inline {
		return words + " (" + more + ")", nil
	}
	return words, left
}

// done are the words for actions that are changes of their own.
var done = map[string]string{"restart": "restarted", "reload": "reloaded", "reboot": "rebooted"}

// needsLines says whether a change is more than a few words.
func (v *Run) needsLines(c plan.Change) bool { return c.Closed || c.Diff != "" && v.shows() }

// shows says whether diffs are shown: where they are decided on, and where they are asked for.
func (v *Run) shows() bool { return v.Preview || v.Past || v.Detail == Whole }

// joined makes one change of the owner, group and mode of something new.
func joined(list []plan.Change) []plan.Change {
	at := func(what string) int {
		return slices.IndexFunc(list, func(c plan.Change) bool { return c.What == what && c.Was == "" })
	}
	owner, group, mode := at("owner"), at("group"), at("mode")
	if owner < 0 || group < 0 || mode < 0 {
		return list
	}
	out := slices.Clone(list)
	out[owner].What = ""
	out[owner].Becomes += ":" + list[group].Becomes + " " + list[mode].Becomes
	return slices.DeleteFunc(out, func(c plan.Change) bool {
		return c.Was == "" &&
			(c.What == "group" || c.What == "mode")
	})
}

// change writes one change in a few words.
func (v *Run) change(c plan.Change) string {
	switch {
	case c.Diff != "" && c.What == "content": // says more than sizes
		return "content: " + lines(c.Diff, c.Was == "")
	case c.What == "":
		return Line(c.Becomes)
	case c.What == "existence":
		return map[bool]string{true: "removed", false: "created"}[c.Becomes == "absent"]
	case done[c.What] != "" && strings.HasPrefix(c.Becomes, "required "):
		return c.What + ": " + Line(c.Becomes)
	case done[c.What] != "" && v.Preview && c.Becomes == "done":
		return c.What + ": " + Line(c.Was)
	case c.Was == "":
		return Line(c.What) + ": " + Line(c.Becomes)
	}
	return Line(c.What) + ": " + Line(c.Was) + " -> " + Line(c.Becomes)
}

// changes prints what differs, a line for each change.
func (v *Run) changes(list []plan.Change) {
	for _, c := range joined(list) {
		v.printf(Plain, "    %s", v.change(c))
		if c.Closed {
			v.printf(Quiet, "      the old text is private and not shown; use --show-closed to show it")
		}
		if c.Diff != "" && v.shows() {
			v.diff(c.Diff)
		}
	}
}

// lines counts what a unified diff removes and adds.
func lines(diff string, created bool) string {
	out, in, n := 0, 0, 0
	for line := range strings.Lines(diff) {
		switch n++; moodOfLine(line, n) {
		case Removed:
			out++
		case Added:
			in++
		}
	}
	switch {
	case created:
		return Count(in, "line")
	case out == 0:
		return "+" + Count(in, "line")
	case in == 0:
		return "-" + Count(out, "line")
	}
	return fmt.Sprintf("-%d +%d lines", out, in)
}

// moodOfLine says what the nth line of a unified diff is, counted from 1: Added, Removed, or Quiet for all else. The
// first two name the sides; a later "---" is a line that is removed and begins with two dashes.
func moodOfLine(line string, n int) Mood {
	switch {
	case n <= 2:
	case strings.HasPrefix(line, "+"):
		return Added
	case strings.HasPrefix(line, "-"):
		return Removed
	}
	return Quiet
}

// maxLines is how much of a diff is shown.
const maxLines = 40

func (v *Run) diff(text string) {
	n := 0
	for line := range strings.Lines(Block(text)) {
		if n++; n > maxLines && v.Detail != Whole {
			continue
		}
		v.printf(moodOfLine(line, n), "      %s", strings.TrimRight(line, "\n"))
	}
	if n > maxLines && v.Detail != Whole {
		v.printf(Quiet, "      and %s more (show all with -v)", Count(n-maxLines, "line"))
	}
}
