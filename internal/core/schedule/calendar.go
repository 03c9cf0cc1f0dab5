package schedule

import (
	"fmt"
	"strings"
	"time"

	cron "github.com/robfig/cron/v3"
)

// star is the bit by which a field of the parser says that it was a star.
const star = 1 << 63

// Calendar gives the schedule as calendar events of systemd, see systemd.time(7): none where it
// goes by an interval. A cron line that restricts both the day of the month and that of the
// week means either, which takes two.
func (s *Schedule) Calendar() []string {
	if s.line == nil {
		return nil
	}
	days, weekdays := "*", ""
	if s.line.Dom&star == 0 {
		days = list(s.line.Dom, 1, 31, "%d")
	}
	if s.line.Dow&star == 0 {
		var names []string
		for d, name := range dayNames {
			if s.line.Dow&(1<<d) != 0 {
				names = append(names, strings.ToUpper(name[:1])+name[1:])
			}
		}
		weekdays = strings.Join(names, ",") + " "
	}
	months := "*"
	if s.line.Month&star == 0 {
		months = list(s.line.Month, 1, 12, "%d")
	}
	at := fmt.Sprintf("%s:%s:00", hour(s.line), list(s.line.Minute, 0, 59, "%02d"))
	if s.Zone != time.Local {
		at += " " + s.Zone.String()
	}
	event := func(weekdays, days string) string { return fmt.Sprintf("%s*-%s-%s %s", weekdays, months, days, at) }
	if days != "*" && weekdays != "" {
		return []string{event("", days), event(weekdays, "*")}
	}
	return []string{event(weekdays, days)}
}

func hour(l *cron.SpecSchedule) string {
	if l.Hour&star != 0 && l.Hour&(1<<24-1) == 1<<24-1 {
		return "*"
	}
	return list(l.Hour, 0, 23, "%02d")
}

// list writes the bits of a field from low to high, with commas between.
func list(bits uint64, low, high int, form string) string {
	var out []string
	for n := low; n <= high; n++ {
		if bits&(1<<n) != 0 {
			out = append(out, fmt.Sprintf(form, n))
		}
	}
	return strings.Join(out, ",")
}
