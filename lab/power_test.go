//go:build lab

package lab

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestPowerLossOfARealHost cuts a host's power at random moments of an apply and boots what
// had come to its disk by then. The next apply ends as declared, whatever was half written.
// SEED and LOSSES in the environment say with which numbers, and how often.
func TestPowerLossOfARealHost(t *testing.T) {
	if out, err := exec.Command("losetup", "-f").CombinedOutput(); err != nil {
		t.Skipf("no loop device for a disk: %s", out)
	}
	losses, seed := 6, uint64(time.Now().UnixNano())
	if n, err := strconv.Atoi(os.Getenv("LOSSES")); err == nil {
		losses = n
	}
	if n, err := strconv.ParseUint(os.Getenv("SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("SEED=%d LOSSES=%d", seed, losses)
	dice := rand.New(rand.NewPCG(seed, 0))
	t.Setenv("LAB_DISK", "1")
	l := up(t, "gauge-01")
	declared := func(n int) string {
		return fmt.Sprintf(`[package.tide-logger]
version = "%s"
[user.keeper-%d]
on_removal = "remove"
[file."/etc/tide-logger.toml"]
content = "sample = %d\n"
check = "sleep 0.2; test -s ${candidate}"
[dir."/srv/%d"]
on_removal = "remove"
[file."/srv/%d/readings"]
content = "%s"
on_removal = "remove"
[service.tide-logger]
running = true
at_boot = true
restart_on = ["file /etc/tide-logger.toml"]
[lines."/etc/ssh/sshd_config#banner"]
add = [{ line = "# pier %d", replaces = "^# pier" }]
[service.ssh]
running = true
reload_on = ["lines /etc/ssh/sshd_config#banner"]
`, []string{"1.4.2-1", "1.5.0-1"}[n%2], n%3, n, n%2, n%2, strings.Repeat(fmt.Sprint(n), 3000), n)
	}
	l.write("manifests/all.toml", declared(0))
	l.apply(0)
	cut := 0
	for n := 1; n <= losses; n++ {
		l.write("manifests/all.toml", declared(n))
		apply := l.in(l.program, "--project", l.project, "apply", "gauge-01", "--yes")
		var out strings.Builder
		apply.Stdout, apply.Stderr = &out, &out
		if err := apply.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(200+dice.IntN(4000)) * time.Millisecond)
		if said, err := exec.Command("./power", l.dir, "gauge-01").CombinedOutput(); err != nil {
			t.Fatalf("SEED=%d, loss %d: %v\n%s", seed, n, err, said)
		}
		apply.Process.Kill() // which waits for a host that says no more
		if apply.Wait(); !strings.Contains(out.String(), "\nchanged  ") {
			cut++
		}
		if code, said := l.jk("apply", "gauge-01", "--yes"); code != 0 {
			t.Fatalf("SEED=%d, loss %d: the next apply ends with %d\n%s\nafter\n%s", seed, n, code, said, out.String())
		}
		if code, said := l.jk("preview", "gauge-01", "--fail-if-changes"); code != 0 ||
			strings.Contains(said, "no longer declared") {
			t.Errorf("SEED=%d, loss %d: a preview ends with %d\n%s", seed, n, code, said)
		}
		got := l.on("gauge-01", "cat /etc/tide-logger.toml; wc -c </srv/"+fmt.Sprint(
			n%2)+"/readings; grep '^# pier' /etc/ssh/sshd_config; "+
			"dpkg --audit; find / -xdev -name '.jadekettle-*' -not -path '/proc/*'; ls /srv; systemctl is-active "+
			"tide-logger; "+
			"ls /etc/systemd/system/jadekettle-guard* /var/lib/jadekettle/guard.json 2>/dev/null; pgrep -c -x "+
			"jadekettle; true")
		if want := fmt.Sprintf("sample = %d\n%d\n# pier %d\n%d\nrepo\nactive\n0", n, 3000*len(fmt.Sprint(n)), n,
			n%2); got != want {
			t.Errorf("SEED=%d, loss %d: there is\n%s\nand not\n%s", seed, n, got, want)
		}
	}
	t.Logf("%d of %d applies were cut off", cut, losses)
}
