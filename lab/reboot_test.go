//go:build lab

package lab

import (
	"strings"
	"testing"
)

// TestARebootOfRealHosts reboots one host in the middle of a run over two, with
// what comes after it done in its new boot, and one that does not come back.
func TestARebootOfRealHosts(t *testing.T) {
	l := up(t)
	l.write("manifests/all.toml", `[file."/etc/modprobe.d/tide.conf"]
content = "blacklist floppy\n"
[reboot.modules]
if = 'facts.hostname == "gauge-01"'
only_if_changed = ["file /etc/modprobe.d/tide.conf"]
[command."in the new boot"]
run = ["sh", "-c", "cat /proc/sys/kernel/random/boot_id >/var/lib/boot"]
done_if_exists = "/var/lib/boot"
after = ["file /etc/modprobe.d/tide.conf"]
`)
	before := l.on("gauge-01", "cat /proc/sys/kernel/random/boot_id")
	if code, out := l.jk("preview"); code != 0 || strings.Count(out, "reboot modules  would change") != 1 {
		t.Errorf("preview: %d\n%s", code, out)
	}
	r := l.apply(0)
	if got := strings.Join(r.changed(), "\n"); strings.Count(got, "reboot modules changed") != 1 ||
		strings.Count(got, "in the new boot changed") != 2 {
		t.Errorf("it changed:\n%s", got)
	}
	now := l.on("gauge-01", "cat /proc/sys/kernel/random/boot_id")
	if kept := l.on("gauge-01", "cat /var/lib/boot"); now == before || kept != now {
		t.Errorf("it was in boot %s, is in %s, and what comes after was done in %s", before, now, kept)
	}
	l.apply(0)
	if still := l.on("gauge-01", "cat /proc/sys/kernel/random/boot_id"); still != now {
		t.Error("it was rebooted again")
	}
	l.write("manifests/all.toml", `[file."/etc/modprobe.d/tide.conf"]
content = "blacklist parport\n"
[reboot."for good"]
if = 'facts.hostname == "gauge-01"'
only_if_changed = ["file /etc/modprobe.d/tide.conf"]
timeout = "20s"
[reboot.modules]
if = 'facts.hostname != "gauge-01"'
only_if_changed = ["file /etc/modprobe.d/tide.conf"]
`)
	l.on("gauge-01", "systemctl disable ssh; systemctl mask ssh.socket")
	if code, out := l.jk("apply", "--all", "--yes"); code != 1 ||
		!strings.Contains(out, "it was not back 20s after its "+
			"reboot for good") || !strings.Contains(out, "1 lost") {
		t.Errorf("a host that does not come back: %d\n%s", code, out)
	}
}
