package schedule

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/problem"
)

// Window is a part of the week in which something may start.
type Window struct {
	Days     [7]bool // on which it begins, by time.Weekday
	From, To int     // minutes of the day; a window whose To is not after From goes on into the next day
	text     string
}

// String gives it as it was written.
func (w Window) String() string { return w.text }

var (
	dayNames   = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"} // as time.Weekday counts
	hoursForm  = lazy.Regexp(`^([0-9]{1,2}):([0-9]{2})-([0-9]{1,2}):([0-9]{2})$`)
	wholeDay   = 24 * 60
	windowHelp = `write days, hours or both, such as "sat-sun", "22:00-05:00" or "mon,wed 01:00-04:30"`
)

// ParseWindow reads a window.
func ParseWindow(text string) (Window, error) {
	w := Window{To: wholeDay, text: text}
	wrong := problem.Errorf("invalid maintenance window %q", text).Remedy("%s", windowHelp)
	parts := strings.Fields(strings.ToLower(text))
	if len(parts) == 0 || len(parts) > 2 {
		return w, wrong
	}
	if m := hoursForm().FindStringSubmatch(parts[len(parts)-1]); m != nil {
		var n [4]int
		for i := range n {
			n[i], _ = strconv.Atoi(m[i+1])
		}
		w.From, w.To = n[0]*60+n[1], n[2]*60+n[3]
		if n[1] > 59 || n[3] > 59 || w.From >= wholeDay || w.To > wholeDay || w.From == w.To {
			return w, wrong
		}
		parts = parts[:len(parts)-1]
	} else if len(parts) == 2 {
		return w, wrong
	}
	if len(parts) == 0 {
		w.Days = [7]bool{true, true, true, true, true, true, true}
		return w, nil
	}
	for _, span := range strings.Split(parts[0], ",") {
		first, last, ranged := strings.Cut(span, "-")
		if !ranged {
			last = first
		}
		from, to := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if from < 0 || to < 0 {
			return w, wrong
		}
		for d := from; ; d = (d + 1) % 7 {
			w.Days[d] = true
			if d == to {
				break
			}
		}
	}
	return w, nil
}

// Open says whether a time, by the clock of its zone, is in the window.
func (w Window) Open(t time.Time) bool {
	minute := t.Hour()*60 + t.Minute()
	today, yesterday := w.Days[t.Weekday()], w.Days[(t.Weekday()+6)%7]
	if w.From < w.To {
		return today && minute >= w.From && minute < w.To
	}
	return today && minute >= w.From || yesterday && minute < w.To
}
