// Package schedule says when a job starts by itself: by a cron line or at an interval, with a
// steady part of its own, inside maintenance windows, and through changes of the clock. It
// reads no clock; every answer is about a time that is given.
package schedule

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	cron "github.com/robfig/cron/v3"

	"jadekettle/internal/core/cronline"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// What becomes of starts that were missed, since nothing ran then.
const (
	Skip = "skip" // nothing; the next one counts
	Once = "once" // one start makes up for all of them
)

// Schedule says when a job starts. Exactly one of Cron and Every is set.
type Schedule struct {
	Cron    string         // five fields, see crontab(5)
	Every   time.Duration  // from midnight of 1970-01-01 UTC on
	Zone    *time.Location // of Cron and Windows
	Spread  time.Duration  // a start is later by a part of this, always the same one of a job
	Windows []Window       // outside of which nothing starts; none for always
	Missed  string         // Skip or Once
	Place   value.Place

	line  *cron.SpecSchedule // of Cron, in UTC
	fixed bool               // it names hours, and does not go by every hour
}

// Keys document the keys of [job.NAME.schedule].
var Keys = []schema.Key{
	{Name: "cron", Takes: schema.TakesText, Doc: "A cron schedule: five fields for minute, hour, day of the month, " +
		"month and day of the week. A time that a clock change skips runs right " +
		"after it; one that occurs twice runs once."},
	{Name: "every", Takes: schema.TakesText, Doc: "Instead of cron: an interval such as \"30m\", counted from a " +
		"fixed midnight UTC so that restarts do not shift it."},
	{Name: "zone", Takes: schema.TakesText, Default: "the machine's", Doc: "The time zone, such as " +
		"\"Europe/Berlin\" or \"UTC\"."},
	{Name: "spread", Takes: schema.TakesText, Default: `"0s"`, Doc: "Delays each start by a part of this duration; " +
		"the part is random but always the same for a job."},
	{Name: "windows", Takes: schema.TakesList, Default: "always", Doc: "Maintenance windows outside of which " +
		"nothing starts: days, hours or both, such as \"sat-sun\" or \"mon-fri 22:00-05:00\". The days are those " +
		"on which a window begins."},
	{Name: "missed", Takes: schema.TakesText, Default: `"skip"`, Choices: []string{Skip, Once},
		Doc: "What to do about missed starts: skip them, or start once for all of them."},
}

// Read reads a schedule; nil when it is none.
func Read(n *manifest.Node, problems *problem.Problems) *Schedule {
	s := &Schedule{Zone: time.Local, Missed: Skip, Place: n.Place}
	if n.Kind != manifest.Table {
		problems.At(n.Place, "a schedule must be a table",
			`write schedule = { cron = "30 4 * * *" }, or a table [job.NAME.schedule]`)
		return nil
	}
	if !n.Decode("a schedule", Keys, manifest.Fields{"cron": s.setCron, "every": &s.Every, "spread": &s.Spread,
		"zone": s.setZone, "missed": &s.Missed, "windows": s.setWindows}, problems) {
		return nil
	}
	if at := n.Get("every"); at != nil && s.Every < time.Minute {
		problems.At(at.Place, fmt.Sprintf("every is %q, which is less than a minute", at.Value), `use "1m" or more`)
		return nil
	}
	if (s.Cron == "") == (s.Every == 0) {
		problems.At(n.Place, "a schedule needs exactly one of cron and every",
			`write cron = "30 4 * * *", or every = "30m"`)
		return nil
	}
	if s.Every > 0 && s.Spread > s.Every {
		problems.At(n.Place, "the spread is longer than the time between two starts", "make it shorter")
		return nil
	}
	// some start of the years to come has to fall into a window, by any clock
	if _, ok := s.Next("", time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)); !ok {
		problems.At(n.Place, "this schedule never starts anything", "check that its times are within its windows "+
			"and that its day exists")
		return nil
	}
	return s
}

func (s *Schedule) setZone(n *manifest.Node) (err error) {
	text, _ := n.Value.(string)
	if s.Zone, err = time.LoadLocation(text); err != nil || text == "" {
		return problem.Errorf("unknown time zone %q", text).
			Remedy(`use a name from the IANA database, such as "Europe/Berlin", or "UTC"`)
	}
	return nil
}

func (s *Schedule) setWindows(n *manifest.Node, problems *problem.Problems) {
	if n.Kind == manifest.List && len(n.Items) == 0 {
		problems.At(n.Place, "windows is empty, so nothing would ever start",
			`write windows = ["mon-fri 22:00-05:00"]`)
	}
	for _, item := range n.Texts("windows", problems) {
		w, err := ParseWindow(item.Value.(string))
		problems.AddErr(item.Place, err)
		s.Windows = append(s.Windows, w)
	}
}

func (s *Schedule) setCron(n *manifest.Node) error {
	text, _ := n.Value.(string)
	fields := strings.Fields(text)
	plain, err := cronline.Plain(text)
	if err != nil {
		return err
	}
	parsed, err := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(plain)
	line, ok := parsed.(*cron.SpecSchedule)
	if err != nil || !ok || len(fields) != 5 {
		return problem.Errorf("invalid cron schedule %q", text).
			Remedy(`write minute, hour, day of the month, month and day of the week, such as "30 4 * * 1-5"`)
	}
	line.Location = time.UTC
	s.Cron, s.line, s.fixed = text, line, !strings.HasPrefix(fields[1], "*")
	return nil
}

// farAhead bounds how far a start is looked for: cron days such as the 29th of February.
const farAhead = 9 * 366 * 24 * time.Hour

// Next gives the first start of a job after a time; false when there is none any more. name
// gives its part of the spread.
func (s *Schedule) Next(name string, after time.Time) (time.Time, bool) {
	part := s.part(name)
	at := after.Add(-part)
	for at.Before(after.Add(farAhead)) {
		next, ok := s.bare(at)
		if !ok {
			return time.Time{}, false
		}
		start := next.Add(part)
		if s.Open(start) {
			return start, true
		}
		if at = next; s.Every > 0 { // not through all of a closed week by minutes
			if opens := s.opens(start); opens.Sub(start) > s.Every {
				at = opens.Add(-part - s.Every - time.Second)
			}
		}
	}
	return time.Time{}, false
}

// Starts says how many starts lie after one time and up to another, and when the last was.
func (s *Schedule) Starts(name string, after, until time.Time) (n int, last time.Time) {
	const enough = 10_000 // nobody counts them
	for n < enough {
		next, ok := s.Next(name, after)
		if !ok || next.After(until) {
			break
		}
		n, last, after = n+1, next, next
	}
	return n, last
}

// part is what of the spread a job has. It is random, and steady.
func (s *Schedule) part(name string) time.Duration {
	if s.Spread == 0 {
		return 0
	}
	h := fnv.New64a()
	h.Write([]byte(name))
	n := h.Sum64()
	n ^= n >> 33 // fnv leaves the high bits of short names alike
	n *= 0xff51afd7ed558ccd
	n ^= n >> 33
	return time.Duration(n % uint64(s.Spread/time.Second+1) * uint64(time.Second))
}

// bare gives the first start after a time, without spread and windows.
func (s *Schedule) bare(after time.Time) (time.Time, bool) {
	if s.Every > 0 {
		return time.Unix(0, (after.UnixNano()/int64(s.Every)+1)*int64(s.Every)).In(s.Zone), true
	}
	if !s.fixed { // each hour as it really comes
		line := *s.line
		line.Location = s.Zone
		next := line.Next(after.In(s.Zone))
		return next, !next.IsZero()
	}
	// the hands of the clock, and then when they really stand so
	hands := hands(after.In(s.Zone))
	for {
		if hands = s.line.Next(hands); hands.IsZero() {
			return time.Time{}, false
		}
		if start := s.when(hands); start.After(after) {
			return start, true
		}
	}
}

// hands gives what a clock shows at a time, as a time of UTC.
func hands(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// when is the first time at which the clock shows this, or the end of the gap over which it
// was put forward.
func (s *Schedule) when(shows time.Time) time.Time {
	const most = 3 * time.Hour // by which a clock is put
	t := time.Date(shows.Year(), shows.Month(), shows.Day(), shows.Hour(), shows.Minute(), shows.Second(), 0, s.Zone)
	if !hands(t).Equal(shows) { // it never shows this: the gap ends where the offset changes
		low, high := t.Add(-most), t.Add(most)
		_, was := low.Zone()
		for high.Sub(low) > time.Second {
			mid := low.Add(high.Sub(low) / 2)
			if _, is := mid.Zone(); is == was {
				low = mid
			} else {
				high = mid
			}
		}
		return high.Truncate(time.Second)
	}
	for _, back := range []time.Duration{time.Hour, 30 * time.Minute, 2 * time.Hour} { // it may have shown it before
		if earlier := t.Add(-back); hands(earlier).Equal(shows) {
			return earlier
		}
	}
	return t
}

// Open says whether a job may start at a time.
func (s *Schedule) Open(t time.Time) bool {
	return len(s.Windows) == 0 || slices.ContainsFunc(s.Windows, func(w Window) bool { return w.Open(t.In(s.Zone)) })
}

// opens is about when the next window opens, to within an hour.
func (s *Schedule) opens(t time.Time) time.Time {
	for i := 0; i < 24*8 && !s.Open(t); i++ {
		t = t.Add(time.Hour)
	}
	return t.Add(-time.Hour)
}

// String is the schedule as it is written.
func (s *Schedule) String() string {
	out := s.Cron
	if s.Every > 0 {
		out = "every " + measure.DurationText(s.Every)
	}
	if s.Zone != time.Local {
		out += " " + s.Zone.String()
	}
	if s.Spread > 0 {
		out += ", spread over " + measure.DurationText(s.Spread)
	}
	if len(s.Windows) > 0 {
		var all []string
		for _, w := range s.Windows {
			all = append(all, w.String())
		}
		out += ", only " + strings.Join(all, " and ")
	}
	return out
}
