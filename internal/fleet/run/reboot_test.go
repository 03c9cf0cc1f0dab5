package run_test

import (
	"context"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/host/machine"
)

const rebooting = `[file."/etc/modprobe.d/tide.conf"]
content = "blacklist floppy\n"
[file."/srv/before"]
content = "BEFORE"
[reboot.modules]
only_if_changed = ["file /etc/modprobe.d/tide.conf"]
[reboot.again]
only_if_changed = ["file /etc/modprobe.d/tide.conf", "file /srv/before"]
[file."/srv/after"]
content = "after\n"
after = ["reboot modules"]
[package.never-heard-of]
`

// includes fails when a line is not among an outcome's.
func includes(t *testing.T, h *record.Host, lines ...string) {
	t.Helper()
	for _, line := range lines {
		if got := statuses(h); !strings.Contains(got+"\n", line+"\n") {
			t.Errorf("%q is missing (%s %s) in:\n%s", line, h.State, h.Message, got)
		}
	}
}

// stubborn is a machine that will not be rebooted.
type stubborn struct{ machine.Machine }

func (m stubborn) Run(ctx context.Context, c machine.Command) (machine.Output, error) {
	if c.Args[len(c.Args)-1] == "reboot" {
		return machine.Output{Code: 1, Combined: machine.KeptText("Access denied")}, nil
	}
	return m.Machine.Run(ctx, c)
}

// TestAReboot does what is declared before a reboot and after it, in one run that
// waits between them, and reboots no more than once for several reasons.
func TestAReboot(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("/etc/modprobe.d/keep", "")
	boots := 0
	back := b.host().Rebooted
	b.host().Rebooted = func() { boots++; back() }
	b.manifest(strings.Replace(rebooting, "BEFORE", "one", 1))
	includes(t, b.one(true), "reboot modules changed", "reboot again changed", "file /srv/after changed")
	if boots != 0 {
		t.Fatal("a preview rebooted")
	}
	out := b.one(false)
	includes(t, out, "file /etc/modprobe.d/tide.conf changed", "reboot modules changed", "reboot again unchanged",
		"file /srv/after changed", "package never-heard-of failed")
	if out.State != record.Reached || boots != 1 || len(out.Tasks) != 6 || len(out.Collected) > 0 ||
		b.on("srv/after") == "" {
		t.Errorf("%s %s: %d boots, %d tasks, collected %v", out.State, out.Message, boots, len(out.Tasks),
			out.Collected)
	}
	if ledger := b.on("var/lib/jadekettle/ledger.json"); strings.Contains(ledger, `"reboot`) {
		t.Errorf("the ledger still has:\n%s", ledger)
	}
	includes(t, b.one(false), "reboot modules skipped", "reboot again skipped", "file /srv/after unchanged")

	// Left pending by a run that was stopped, and then done by somebody.
	b.manifest(strings.Replace(rebooting, "BEFORE", "two", 1))
	b.part.Tasks = []string{"file /srv/before"}
	includes(t, b.one(false), "file /srv/before changed")
	b.part.Tasks = nil
	b.host().Rebooted = nil
	if _, err := b.host().Run(t.Context(), machine.Command{Args: []string{"systemctl", "reboot"}}); err != nil {
		t.Fatal(err)
	}
	b.host().Rebooted = func() { boots++; back() }
	includes(t, b.one(false), "reboot modules skipped", "reboot again unchanged")
	if boots != 1 {
		t.Errorf("it was rebooted %d times", boots)
	}

	// It stays away, then it comes back and the next run goes on.
	b.manifest(strings.Replace(strings.Replace(rebooting, "BEFORE", "three", 1), "[reboot.again]",
		"[reboot.again]\ntimeout = "+
			"\"1s\"\n", 1))
	b.host().Rebooted = func() { go b.host().Down() }
	out = b.one(false)
	if out.State != record.Lost || !strings.Contains(out.Message, "it was not back 1s after its reboot again") {
		t.Errorf("a host that stays away is %s: %s", out.State, out.Message)
	}
	if err := b.host().Listen(b.host().Addr.Port); err != nil {
		t.Fatal(err)
	}
	out = b.one(false)
	includes(t, out, "reboot again unchanged", "file /srv/after unchanged")
	if len(out.Collected) == 0 {
		t.Error("what was done before the reboot is not collected")
	}

	// It is asked to and does not.
	b.manifest(strings.Replace(strings.Replace(rebooting, "BEFORE", "four", 1), "[reboot.again]",
		"[reboot.again]\ntimeout = "+
			"\"1s\"\n", 1))
	b.host().Wrap = func(m machine.Machine) machine.Machine { return stubborn{m} }
	includes(t, b.one(false), "reboot again failed", "file /srv/after unchanged")
	b.host().Wrap = nil

	// The call is stopped meanwhile.
	ctx, cancel := context.WithCancel(t.Context())
	b.host().Rebooted = func() { go func() { b.host().Down(); cancel() }() }
	b.manifest(strings.Replace(rebooting, "BEFORE", "five", 1))
	for _, out := range b.runCtx(ctx, false) {
		if out.State != record.Lost || !out.Stopped || out.Count(plan.Changed) == 0 {
			t.Errorf("stopped while it rebooted: %s %s", out.State, out.Message)
		}
	}
}
