package schedule

import (
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
)

func read(t *testing.T, text string) (*Schedule, error) {
	t.Helper()
	var ps problem.Problems
	root, _ := manifest.ParseTOML("jobs.toml", []byte("[schedule]\n"+text+"\n"), &ps)
	s := Read(root.Keys[0].Node, &ps)
	return s, ps.Err()
}

// TestStarts lists starts, also where the clock is put forward (2026-03-29, from 02:00 to 03:00
// in Berlin) and back (2026-10-25, from 03:00 to 02:00).
func TestStarts(t *testing.T) {
	for name, c := range map[string]struct{ schedule, after, want string }{
		"a working day": {`cron = "30 4 * * 1-5"`, "2026-11-27T12:00Z", "11-30T03:30 12-01T03:30"},
		"a time that is skipped comes when the gap ends, once": {`cron = "30,45 2 * * *"`, "2026-03-28T20:00Z",
			"03-29T01:00 03-30T00:30"},
		"a time that comes twice counts once": {`cron = "30 2 * * *"`, "2026-10-24T12:00Z", "10-25T00:30 10-26T01:30"},
		"asked between the two":               {`cron = "30 2 * * *"`, "2026-10-25T00:45Z", "10-26T01:30 10-27T01:30"},
		"each hour goes on through both": {`cron = "0 * * * *"`, "2026-10-24T23:30Z",
			"10-25T00:00 10-25T01:00 10-25T02:00"},
		"each hour skips none": {`cron = "0 */1 * * *"`, "2026-03-29T00:30Z", "03-29T01:00 03-29T02:00"},
		"every half hour":      {`every = "30m"`, "2026-11-29T12:10Z", "11-29T12:30 11-29T13:00"},
		"only at night": {"every = \"6h\"\nwindows = [\"22:00-05:00\"]", "2026-11-29T12:10Z",
			"11-30T00:00 12-01T00:00"},
		"only on days": {"every = \"1m\"\nwindows = [\"sat\"]", "2026-11-29T12:10Z",
			"12-04T23:00 12-04T23:01"},
		"a window begins on its day": {"cron = \"0 1 * * *\"\nwindows = [\"mon 22:00-05:00\"]", "2026-11-29T12:10Z",
			"12-01T00:00 12-08T00:00"},
		"a leap day": {`cron = "0 0 29 2 *"`, "2026-11-29T12:10Z", "02-28T23:00"},
	} {
		s, err := read(t, c.schedule+"\nzone = \"Europe/Berlin\"")
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		at, _ := time.Parse("2006-01-02T15:04Z", c.after)
		var got []string
		for range strings.Fields(c.want) {
			next, ok := s.Next("tide", at)
			if !ok || !next.After(at) {
				t.Errorf("%s: after %v comes %v", name, at, next)
			}
			got, at = append(got, next.UTC().Format("01-02T15:04")), next
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %s, not %s", name, strings.Join(got, " "), c.want)
		}
	}
}

func TestSpread(t *testing.T) {
	s, err := read(t, "cron = \"0 4 * * *\"\nspread = \"1h\"\nzone = \"UTC\"")
	if err != nil {
		t.Fatal(err)
	}
	day, seen, late := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC), map[time.Duration]bool{}, 0
	for _, name := range strings.Fields("a b c d e f g h i j k l m n o p") {
		first, _ := s.Next(name, day)
		again, _ := s.Next(name, first)
		part := first.Sub(day.Add(4 * time.Hour))
		if part < 0 || part > time.Hour || again.Sub(first) != 24*time.Hour {
			t.Errorf("%s starts at %v and %v", name, first, again)
		}
		if seen[part] = true; part > 30*time.Minute {
			late++
		}
	}
	if len(seen) < 14 || late < 3 || late > 13 {
		t.Errorf("there are %d parts, %d of them late", len(seen), late)
	}
	n, last := s.Starts("a", day, day.Add(72*time.Hour))
	if n != 3 || last.Day() != 1 {
		t.Errorf("%d starts, the last %v", n, last)
	}
}

func TestNoSchedules(t *testing.T) {
	for text, want := range map[string]string{
		`cron = "30 4 * *"`: "invalid cron schedule", `cron = "61 4 * * *"`: "invalid cron schedule",
		`cron = "@daily"`:            "invalid cron schedule",
		`cron = "TZ=UTC 30 4 * * *"`: "invalid cron schedule", `cron = 4`: "invalid cron schedule",
		`every = "10s"`: "less than a minute", `every = "soon"`: "invalid duration",
		"every = \"1h\"\ncron = \"0 4 * * *\"":                              "exactly one of cron and every",
		`spread = "1h"`:                                                     "exactly one of cron and every",
		"every = \"1h\"\nzone = \"Atlantis\"":                               "unknown time zone",
		"every = \"1h\"\nmissed = \"twice\"":                                "invalid missed",
		"every = \"1h\"\nwindows = [\"monday\"]":                            "invalid maintenance window",
		"every = \"1h\"\nwindows = [\"25:00-26:00\"]":                       "invalid maintenance window",
		"every = \"1h\"\nspred = \"1m\"":                                    "did you mean \"spread\"",
		"cron = \"0 4 * * *\"\nwindows = [\"22:00-23:00\"]\nzone = \"UTC\"": "never starts anything",
		`cron = "0 4 31 2 *"`:                                               "never starts anything",
		"every = \"1h\"\nspread = \"2h\"":                                   "longer than the time between",
	} {
		if _, err := read(t, text); err == nil || !strings.Contains(err.Error(), want) ||
			!strings.Contains(err.Error(), "jobs.toml:") {
			t.Errorf("%s gives %v", text, err)
		}
	}
}

func FuzzWindow(f *testing.F) {
	f.Add("mon-fri 22:00-05:00")
	f.Add("sat,sun")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := ParseWindow(text)
		if err != nil {
			return
		}
		open := 0
		for h := range 24 * 7 * 60 {
			if w.Open(time.Date(2026, 11, 1, 0, h, 0, 0, time.UTC)) {
				open++
			}
		}
		if open == 0 {
			t.Errorf("%q is never open", text)
		}
	})
}

// BenchmarkThousand asks for the next start of each of a thousand schedules.
func BenchmarkThousand(b *testing.B) {
	var ps problem.Problems
	root, _ := manifest.ParseTOML("jobs.toml", []byte("[schedule]\ncron = \"30 4 * * 1-5\"\nspread = \"1h\"\n"+
		"windows = [\"01:00-06:00\"]\nzone = \"Europe/Berlin\"\n"), &ps)
	s := Read(root.Keys[0].Node, &ps)
	at := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	for b.Loop() {
		for range 1000 {
			if _, ok := s.Next("tide", at); !ok {
				b.Fatal(ps.Err())
			}
		}
	}
}

func TestCalendar(t *testing.T) {
	for line, want := range map[string]string{
		"30 4 * * 1-5": "Mon,Tue,Wed,Thu,Fri *-*-* 04:30:00 UTC", "*/20 * * * *": "*-*-* *:00,20,40:00 UTC",
		"0 6,18 1 */6 *": "*-1,7-1 06,18:00:00 UTC", "0 0 13 * 5": "*-*-13 00:00:00 UTC|Fri *-*-* 00:00:00 UTC",
		"5 */8 * * 0": "Sun *-*-* 00,08,16:05:00 UTC",
	} {
		s, err := read(t, "cron = \""+line+"\"\nzone = \"UTC\"")
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(s.Calendar(), "|"); got != want {
			t.Errorf("%s is %s, not %s", line, got, want)
		}
	}
}
