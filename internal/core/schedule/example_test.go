package schedule_test

import (
	"fmt"
	"time"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
)

// A schedule says when a job starts next, which depends on nothing but what is declared, the job's name and the time.
func ExampleSchedule() {
	var ps problem.Problems
	root, _ := manifest.Parse("jobs.toml", []byte("schedule = { cron = \"30 4 * * mon\", zone = \"UTC\" }\n"), &ps)
	s := schedule.Read(root.Keys[0].Node, &ps)
	next, ok := s.Next("night-tide", time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC))
	fmt.Println(next.Format(time.RFC1123), ok, ps.Err())
	// Output: Mon, 30 Nov 2026 04:30:00 UTC true <nil>
}
