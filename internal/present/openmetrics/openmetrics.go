// Package openmetrics writes how hosts are, and how schedules go, as OpenMetrics text 1.0, which monitoring systems
// read.
package openmetrics

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"jadekettle/internal/history"
)

// Type is the media type of what this package writes.
const Type = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// Status writes how hosts are. Times are in seconds since 1970; a
// host that was never reached or applied to has no such line.
func Status(list []history.HostStatus, env string, now time.Time) []byte {
	var b bytes.Buffer
	family := func(name, kind, help string) {
		fmt.Fprintf(&b, "# TYPE %s %s\n", name, kind)
		if unit := "_seconds"; strings.HasSuffix(name, unit) {
			fmt.Fprintf(&b, "# UNIT %s seconds\n", name)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", name, help)
	}
	labels := func(h *history.HostStatus) string {
		out := `host="` + Label(h.Host) + `"`
		if env != "" {
			out += `,env="` + Label(env) + `"`
		}
		return out
	}
	family("jadekettle_host_condition", "stateset", "The state of each host, according to the recorded runs.")
	for i := range list {
		for _, c := range history.Conditions {
			n := 0
			if list[i].Condition == c {
				n = 1
			}
			fmt.Fprintf(&b, "jadekettle_host_condition{%s,jadekettle_host_condition=%q} %d\n", labels(&list[i]),
				string(c), n)
		}
	}
	for _, g := range []struct {
		name, help string
		of         func(*history.HostStatus) time.Time
	}{
		{"jadekettle_host_condition_since_seconds", "When each host entered its current state.",
			func(h *history.HostStatus) time.Time { return h.Since }},
		{"jadekettle_host_reached_seconds", "When each host was last reached.",
			func(h *history.HostStatus) time.Time { return h.Reached }},
		{"jadekettle_host_applied_seconds", "When each host was last applied to.",
			func(h *history.HostStatus) time.Time { return h.Applied }},
	} {
		family(g.name, "gauge", g.help)
		for i := range list {
			if at := g.of(&list[i]); !at.IsZero() {
				fmt.Fprintf(&b, "%s{%s} %.3f\n", g.name, labels(&list[i]), float64(at.UnixMilli())/1000)
			}
		}
	}
	for _, g := range []struct {
		name, help string
		of         func(*history.HostStatus) int
	}{
		{"jadekettle_host_undeclared", "The number of resources managed on each host but no longer declared.",
			func(h *history.HostStatus) int { return len(h.Undeclared) }},
		{"jadekettle_host_pending_restarts", "The number of pending restarts on each host.",
			func(h *history.HostStatus) int { return len(h.Pending) }},
	} {
		family(g.name, "gauge", g.help)
		for i := range list {
			fmt.Fprintf(&b, "%s{%s} %d\n", g.name, labels(&list[i]), g.of(&list[i]))
		}
	}
	family("jadekettle_revision", "info", "The revision of the project last applied to each host.")
	for i := range list {
		if list[i].Revision != "" {
			fmt.Fprintf(&b, "jadekettle_revision_info{%s,revision=\"%s\"} 1\n", labels(&list[i]),
				Label(list[i].Revision))
		}
	}
	family("jadekettle_status_seconds", "gauge", "When this was written.")
	fmt.Fprintf(&b, "jadekettle_status_seconds %.3f\n# EOF\n", float64(now.UnixMilli())/1000)
	return b.Bytes()
}

// Label escapes a text for the value of a label of OpenMetrics.
func Label(s string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(strings.ToValidUTF8(s, "\uFFFD"))
}
