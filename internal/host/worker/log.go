package worker

import (
	"context"
	"fmt"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/machine"
)

// journalLimit is how long the host's journal may take for one line.
const journalLimit = 5 * time.Second

// log writes one line to the host's own journal about a run that changed something, by
// logger(1), which every system with a syslog has. Where there is none, or it fails, the run
// is not a worse for it.
func (r *runner) log(ctx context.Context) {
	text := r.journalLine()
	if text == "" || !r.s.m.Look("logger") {
		return
	}
	r.s.m.Run(ctx, machine.Command{Args: []string{"logger", "-t", "jadekettle", "-p", "user.notice", "--", text},
		Limit: journalLimit})
}

// journalLine says who changed how much, and by which revision; empty when nothing changed.
func (r *runner) journalLine() string {
	counts := map[plan.Status]int{}
	for _, s := range r.ended {
		counts[s]++
	}
	if counts[plan.Changed] == 0 {
		return ""
	}
	run := r.env.Run
	line := fmt.Sprintf("run %s by %s", run.ID, run.Who)
	if run.Env != "" {
		line += " in " + run.Env
	}
	if run.Revision != "" {
		line += " at revision " + run.Revision[:min(12, len(run.Revision))]
		if run.Edited {
			line += ", modified"
		}
	}
	line += fmt.Sprintf(": %d changed", counts[plan.Changed])
	for _, s := range []plan.Status{plan.Failed, plan.Blocked} {
		if counts[s] > 0 {
			line += fmt.Sprintf(", %d %s", counts[s], s)
		}
	}
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return '?'
		}
		return c
	}, line)
}
