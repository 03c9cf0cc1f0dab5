package systemd

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/host/kinds/service/backend"
	"jadekettle/internal/host/machine"
)

// reportLimit is how long systemd may take for each part of a report.
const reportLimit = 10 * time.Second

// reported are the properties that say why a unit does not run; see org.freedesktop.systemd1(5).
const reported = "--property=ActiveState,Result,ConditionResult,ConditionTimestampMonotonic,AssertResult," +
	"AssertTimestampMonotonic,ExecMainCode,ExecMainStatus"

// Report asks systemd why a unit does not run, and the journal what was logged of it since.
func (sd Manager) Report(ctx context.Context, m machine.Machine, name string, since time.Time) backend.Report {
	unit := sd.Full(name)
	var out backend.Report
	// what was printed last may not have arrived; older journals cannot be asked to wait for it
	m.Run(ctx, machine.Command{Args: []string{"journalctl", "--sync"}, Limit: reportLimit})
	res, err := m.Run(ctx, machine.Command{Limit: reportLimit, Args: []string{"journalctl", "--no-pager", "--quiet",
		"--output=cat", fmt.Sprintf("--lines=%d", backend.MostLines), fmt.Sprintf("--since=@%d", since.Unix()),
		"--unit=" + unit}})
	if err == nil && res.Code == 0 {
		out.Lines = strings.TrimRight(res.Stdout, "\n")
	}
	res, err = m.Run(ctx, machine.Command{Args: []string{"systemctl", "show", "--no-pager", reported, "--", unit},
		Limit: reportLimit})
	if err == nil && res.Code == 0 {
		out.Why = why(values(res.Stdout), out.Lines)
	}
	return out
}

// unmet is how systemd logs which condition kept a unit from starting.
var unmet = lazy.Regexp(`unmet condition check \(([^)\n]+)\)`)

// why puts systemd's words for the result of a unit, listed in systemctl(1) and systemd.exec(5),
// into a sentence.
func why(v map[string]string, lines string) string {
	asked := func(stamp string) bool { return v[stamp] != "0" && v[stamp] != "" }
	found := unmet().FindAllStringSubmatch(lines, -1)
	switch {
	case len(found) > 0 && v["Result"] == "success": // systemd may have dropped the unit since, and what it knew of it
		return "a condition prevented it from starting: " + found[len(found)-1][1] + " is not met"
	case v["ConditionResult"] == "no" && asked("ConditionTimestampMonotonic"):
		return "a condition of its unit prevented it from starting"
	case v["AssertResult"] == "no" && asked("AssertTimestampMonotonic"):
		return "an assertion of its unit failed"
	}
	const exited, killed, dumped = "1", "2", "3" // CLD_EXITED and the like of waitid(2)
	switch r := v["Result"]; r {
	case "", "success":
		return ""
	case "exit-code":
		if n, err := strconv.Atoi(v["ExecMainStatus"]); err == nil && n > 0 && v["ExecMainCode"] == exited {
			return fmt.Sprintf("its process exited with status %d", n)
		}
		return "one of its processes failed"
	case "signal", "core-dump":
		if v["ExecMainCode"] == killed || v["ExecMainCode"] == dumped {
			return "its process was killed by signal " + v["ExecMainStatus"]
		}
		return "one of its processes was killed by a signal"
	case "timeout":
		return "it was not ready in time"
	case "start-limit-hit":
		return "it was started too many times in a short period"
	case "oom-kill":
		return "it ran out of memory"
	case "protocol":
		return "it did not report readiness"
	default:
		return "systemd reports " + r
	}
}
