package html

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"jadekettle/internal/core/record"
)

// timeline is when hosts and tasks were at work, in units of the drawing.
type timeline struct {
	Width, Height int
	Rows          []span
	Marks         []mark
	Left          int // tasks that are too short, or too many, to be drawn
}

// span is one host, and the tasks of it that are drawn.
type span struct {
	Name, Class string
	X, W, Y     float64
	Text        string
	Tasks       []span
}

// mark is one time on the axis.
type mark struct {
	X    float64
	Text string
}

// The drawing's measures, and how many tasks it has at most: the longest.
const (
	lineLeft, lineWide = 150, 1000
	rowHigh, axisHigh  = 18, 22
	mostDrawn          = 6000
	shortest           = 1.0 // what is shorter cannot be seen
)

// newTimeline draws the time of a run: a bar for each host that had its turn, and in it one
// for each task that took long enough to be seen.
func newTimeline(k *record.Run) timeline {
	end := 0.0
	for _, h := range k.Hosts {
		end = max(end, h.After+h.Seconds)
		for _, t := range h.Tasks {
			end = max(end, t.After+t.Seconds)
		}
	}
	out := timeline{Width: lineLeft + lineWide + 10}
	if end <= 0 {
		return out
	}
	scale := lineWide / end
	type drawn struct {
		host int
		span
	}
	var all []drawn
	for _, h := range k.Hosts {
		if h.Seconds == 0 && len(h.Tasks) == 0 {
			continue
		}
		row := len(out.Rows)
		y := float64(axisHigh + row*rowHigh)
		out.Rows = append(out.Rows, span{Name: h.Name, Class: class(h.Outcome), X: lineLeft + h.After*scale,
			W: max(1, h.Seconds*scale), Y: y, Text: fmt.Sprintf("%s: %s, %s", h.Name, h.Outcome, seconds(h.Seconds))})
		for _, t := range h.Tasks {
			if t.Seconds*scale < shortest {
				out.Left++
				continue
			}
			all = append(all, drawn{row, span{Name: t.Kind + " " + t.Name, Class: class(t.Status),
				X: lineLeft + t.After*scale,
				W: t.Seconds * scale, Y: y, Text: fmt.Sprintf("%s  %s %s: %s, %s", h.Name, t.Kind, t.Name, t.Status,
					seconds(t.Seconds))}})
		}
	}
	slices.SortStableFunc(all, func(a, b drawn) int { return cmp.Compare(b.W, a.W) })
	if len(all) > mostDrawn {
		out.Left += len(all) - mostDrawn
		all = all[:mostDrawn]
	}
	for _, d := range all {
		out.Rows[d.host].Tasks = append(out.Rows[d.host].Tasks, d.span)
	}
	out.Height = axisHigh + len(out.Rows)*rowHigh + 6
	out.Marks = marks(end, scale)
	return out
}

// marks gives five to ten times on the axis, in round numbers.
func marks(end, scale float64) []mark {
	step := math.Pow(10, math.Floor(math.Log10(end)))
	for _, of := range []float64{0.1, 0.2, 0.5, 1} {
		if end/(step*of) <= 10 {
			step *= of
			break
		}
	}
	var out []mark
	for i := 0; float64(i)*step <= end; i++ {
		out = append(out, mark{lineLeft + float64(i)*step*scale,
			fmt.Sprintf("%g s", math.Round(float64(i)*step*1000)/1000)})
	}
	return out
}
