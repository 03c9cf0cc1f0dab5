package screen

import (
	"fmt"
	"strings"

	"jadekettle/internal/fleet/run"
)

// Executed tells what a command came to, once for all hosts on which it came to the same,
// and why it did not come to an end on others.
func (v *Run) Executed(hostsOf []*run.Visit) {
	codes := map[int]int{}
	var order []int
	wrong, other := 0, map[run.State]int{}
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
	for _, a := range run.Grouped(hostsOf) {
		mood, what := Loud, fmt.Sprintf("ended with %d", a.Code)
		switch {
		case a.Wrong != "":
			mood, what = Bad, a.Wrong
		case a.Code != 0:
			mood = Bad
		}
		v.printf(mood, "%s", behind(fmt.Sprintf("%s  %s", hosts(a.Hosts), Line(what)), took(a.Took)))
		for line := range strings.Lines(Block(a.Output)) {
			v.printf(Plain, "    %s", strings.TrimRight(line, "\n"))
		}
	}
	v.unreached(hostsOf)
	var parts []string
	for _, code := range order {
		parts = append(parts, fmt.Sprintf("%d ended with %d", codes[code], code))
	}
	if wrong > 0 {
		parts = append(parts, fmt.Sprintf("%d not run to an end", wrong))
	}
	for _, s := range []run.State{run.Busy, run.NotReached, run.Lost, run.NotBegun, run.Off} {
		if other[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", other[s], s))
		}
	}
	fmt.Fprintln(v.W)
	v.printf(Loud, "%s: %s", Count(len(hostsOf), "host"), strings.Join(parts, ", "))
	v.numbered()
}
