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
	one("jadekettle_tend_since_seconds", "gauge", "When the scheduler was started.", seconds(s.Since))
	one("jadekettle_tend_looked_seconds", "gauge", "When the project was last checked for changes.",
		seconds(s.Looked))
	one("jadekettle_tend_read_seconds", "gauge", "When the project was last read.", seconds(s.Read))
	one("jadekettle_tend_unreadable", "gauge", "Whether the project cannot be read.", bit(s.Wrong != ""))
	for _, f := range []struct {
		name, sort, end, help string
		of                    func(d *tend.Done) string
	}{
		{"jadekettle_job_running", "gauge", "", "Whether a job is running.",
			func(d *tend.Done) string { return bit(d.Running) }},
		{"jadekettle_job_queued", "gauge", "", "Whether a job is due and waiting for hosts.",
			func(d *tend.Done) string { return bit(d.Queued) }},
		{"jadekettle_job_next_seconds", "gauge", "", "The next start of a job; 0 for none.",
			func(d *tend.Done) string { return seconds(d.Next) }},
		{"jadekettle_job_began_seconds", "gauge", "", "When a job was last started; 0 for never.",
			func(d *tend.Done) string { return seconds(d.Began) }},
		{"jadekettle_job_late_seconds", "gauge", "", "How long after its due time it was started.",
			func(d *tend.Done) string { return fmt.Sprintf("%.3f", d.Late) }},
		{"jadekettle_job_code", "gauge", "", "The exit status of a job.",
			func(d *tend.Done) string { return fmt.Sprint(d.Code) }},
		{"jadekettle_job_starts", "counter", "_total", "The number of starts.",
			func(d *tend.Done) string { return fmt.Sprint(d.Starts) }},
		{"jadekettle_job_failures", "counter", "_total", "The number of runs with an exit status other than 0.",
			func(d *tend.Done) string { return fmt.Sprint(d.Failed) }},
		{"jadekettle_job_missed", "counter", "_total", "The number of missed starts.",
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
