package text

import (
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/record"
)

// Executed shows what a command came to, once for all hosts on which it came to the same,
// and why it did not come to an end on others.
func (v *Run) Executed(hostsOf []*record.Host) {
	codes := map[int]int{}
	var order []int
	wrong, other := 0, map[record.State]int{}
	for _, h := range hostsOf {
		switch {
		case h.Executed == nil:
			other[h.State]++
		case h.Executed.Wrong != "":
			wrong++
		default:
			if codes[h.Executed.Code]++; codes[h.Executed.Code] == 1 {
				order = append(order, h.Executed.Code)
			}
		}
	}
	ran := slices.DeleteFunc(slices.Clone(hostsOf), func(h *record.Host) bool { return h.Executed == nil })
	for _, g := range record.GroupBy(ran, func(h *record.Host) record.Executed {
		e := *h.Executed
		e.Seconds = 0
		return e
	}) {
		longest := 0.0
		for _, h := range g.Items {
			longest = max(longest, h.Executed.Seconds)
		}
		mood, what := Loud, fmt.Sprintf("exit status %d", g.Key.Code)
		if g.Key.Wrong != "" {
			what = g.Key.Wrong
		}
		if !g.Key.Well() {
			mood = Bad
		}
		v.printf(mood, "%s", behind(fmt.Sprintf("%s  %s", hosts(names(g.Items)), Line(what)), Took(longest)))
		for line := range strings.Lines(Block(g.Key.Output)) {
			v.printf(Plain, "    %s", strings.TrimRight(line, "\n"))
		}
	}
	v.unreached(hostsOf)
	if len(hostsOf) == 1 && len(ran) == 1 { // the line above says it all
		return
	}
	var parts []string
	for _, code := range order {
		parts = append(parts, fmt.Sprintf("%d with exit status %d", codes[code], code))
	}
	if wrong > 0 {
		parts = append(parts, fmt.Sprintf("%d did not finish", wrong))
	}
	for _, s := range []record.State{record.Busy, record.NotReached, record.Refused, record.Lost, record.NotStarted,
		record.Disabled} {
		if other[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", other[s], s))
		}
	}
	fmt.Fprintln(v.W)
	v.printf(Loud, "%s: %s", Count(len(hostsOf), "host"), strings.Join(parts, ", "))
}

// Exec reports what a command comes to: a record.Sink for a run of one.
type Exec struct{ *Run }

// Event reports a command that takes long.
func (x Exec) Event(e record.Event) {
	if e.AtWork != nil {
		x.Run.Event(e)
	}
}

// End reports what it came to.
func (x Exec) End(r *record.Run) error {
	x.Number = r.Number
	x.Executed(r.Hosts)
	x.numbered(r)
	return nil
}
