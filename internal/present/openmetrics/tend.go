package openmetrics

import (
	"bytes"
	"fmt"
	"time"

	"jadekettle/internal/app/tend"
	"jadekettle/internal/core/value"
)

// Tend writes what a tender does.
func Tend(s *tend.State) []byte {
	var b bytes.Buffer
	family := func(name, sort, help string) { fmt.Fprintf(&b, "# TYPE %s %s\n# HELP %s %s\n", name, sort, name, help) }
	seconds := func(t time.Time) string {
		if t.IsZero() {
			return "0"
		}
		return fmt.Sprintf("%.3f", float64(t.UnixMilli())/1000)
	}
	one := func(name, sort, help, v string) {
		family(name, sort, help)
		fmt.Fprintf(&b, "%s %s\n", name, v)
	}
	one("jadekettle_tend_since_seconds", "gauge", "When it began.", seconds(s.Since))
	one("jadekettle_tend_looked_seconds", "gauge", "When it was last looked whether the project has moved.",
		seconds(s.Looked))
	one("jadekettle_tend_read_seconds", "gauge", "When the project was read last.", seconds(s.Read))
	one("jadekettle_tend_unreadable", "gauge", "Whether the project cannot be read as it is now.", bit(s.Wrong != ""))
	for _, f := range []struct {
		name, sort, end, help string
		of                    func(d *tend.Done) string
	}{
		{"jadekettle_job_running", "gauge", "", "Whether a job runs.",
			func(d *tend.Done) string { return bit(d.Running) }},
		{"jadekettle_job_queued", "gauge", "", "Whether a job is due and waits for hosts.",
			func(d *tend.Done) string { return bit(d.Queued) }},
		{"jadekettle_job_next_seconds", "gauge", "", "The next start of a job; 0 for none.",
			func(d *tend.Done) string { return seconds(d.Next) }},
		{"jadekettle_job_began_seconds", "gauge", "", "When a job was started last; 0 for never.",
			func(d *tend.Done) string { return seconds(d.Began) }},
		{"jadekettle_job_late_seconds", "gauge", "", "How long after it was due it was started.",
			func(d *tend.Done) string { return fmt.Sprintf("%.3f", d.Late) }},
		{"jadekettle_job_code", "gauge", "", "The code that it ended with.",
			func(d *tend.Done) string { return fmt.Sprint(d.Code) }},
		{"jadekettle_job_starts", "counter", "_total", "How often a job was started.",
			func(d *tend.Done) string { return fmt.Sprint(d.Starts) }},
		{"jadekettle_job_failures", "counter", "_total", "How often that ended with another code than 0.",
			func(d *tend.Done) string { return fmt.Sprint(d.Failed) }},
		{"jadekettle_job_missed", "counter", "_total", "How many starts were missed.",
			func(d *tend.Done) string { return fmt.Sprint(d.Missed) }},
	} {
		family(f.name, f.sort, f.help)
		for _, name := range value.Keys(s.Jobs) {
			fmt.Fprintf(&b, "%s%s{job=\"%s\"} %s\n", f.name, f.end, Label(name), f.of(s.Jobs[name]))
		}
	}
	b.WriteString("# EOF\n")
	return b.Bytes()
}

func bit(is bool) string {
	if is {
		return "1"
	}
	return "0"
}
