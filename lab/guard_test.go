//go:build lab

package lab

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestNeverLockedOutOfRealHosts makes the changes by which people lock themselves out, each
// with the controller there, with the controller killed in the middle, and with the worker
// killed as well: the host puts back what was there, and says so.
func TestNeverLockedOutOfRealHosts(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	l := up(t, "gauge-01")
	l.write("jadekettle.toml", read(t, filepath.Join(l.project, "jadekettle.toml"))+"[run]\nguard = \"10s\"\n")
	l.write("manifests/all.toml", "[package.nftables]\n[package.sudo]\n[dir.\"/srv/tide\"]\n")
	l.apply(0)
	for name, c := range map[string]struct{ declared, failed string }{
		"a wrong port of sshd": {`[file."/etc/ssh/sshd_config.d/port.conf"]
content = "Port 2222\n"
[service.ssh]
running = true
restart_on = ["file /etc/ssh/sshd_config.d/port.conf"]
`, "service ssh"},
		"a firewall that drops all": {`[firewall.shut]
refuse = ["all"]
may_close_our_port = true
`, "firewall shut"},
		"a rule of sudo without us": {`[file."/etc/sudoers.d/ops"]
content = "# nobody\n"
`, "file /etc/sudoers.d/ops"},
		"a key that is removed": {`[user.ops]
keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPQdwpGmDKzVvnDPmYdwHkBHWBmlGxzoRHmzDw3W1nJJ maren@desk"]
only_keys = true
`, "user ops"},
		"the directory of keys goes": {`[dir."/home/ops/.ssh"]
absent = true
with_contents = true
`, "dir /home/ops/.ssh"},
	} {
		current := l.current()
		l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n"+c.declared)
		begun := time.Now()
		code, out := l.jk("apply", "gauge-01", "--yes")
		if code != 1 || !strings.Contains(out, c.failed+"  failed") ||
			!strings.Contains(out, "restored the previous state") {
			t.Errorf("%s: %d\n%s", name, code, out)
		}
		if got := l.current(); got != current {
			t.Errorf("%s: it was\n%s\nand is\n%s", name, current, got)
		}
		t.Logf("%s: %v", name, time.Since(begun).Round(time.Second))
		for _, killed := range []string{"controller", "worker as well", "host rebooted as well"} {
			if killed == "host rebooted as well" && name != "a wrong port of sshd" {
				continue
			}
			begun := time.Now()
			l.cutOff("gauge-01", name, killed)
			l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n")
			var code int
			for range 60 { // until the host has put things back
				if code, out = l.jk("apply", "gauge-01", "--yes"); code == 0 {
					break
				}
				time.Sleep(time.Second)
			}
			if got := l.current(); code != 0 || got != current {
				t.Errorf("%s, killed: %s: %d, it was\n%s\nand is\n%s\n%s", name, killed, code, current, got, out)
			}
			if !strings.Contains(out, "restored the previous state") {
				t.Errorf("%s, killed: %s: the next run does not show it:\n%s", name, killed, out)
			}
			l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n"+c.declared)
			t.Logf("%s, killed: %s: %v", name, killed, time.Since(begun).Round(time.Second))
		}
	}
}

// TestTheServerThatCannotComeBack stays: nobody could install it again here, where no list has it.
func TestTheServerThatCannotComeBack(t *testing.T) {
	l := up(t, "gauge-01")
	l.write("manifests/all.toml", "[package.openssh-server]\nabsent = true\n")
	code, out := l.jk("apply", "gauge-01", "--yes")
	if code != 1 || !strings.Contains(out, "could not be installed again") || l.on("gauge-01", "pgrep -c sshd") == "0" {
		t.Errorf("%d\n%s", code, out)
	}
}

// TestWhatSshdCannotRead is put back before it is read, and not reported as changed; what it reads only with the next
// start too.
func TestWhatSshdCannotRead(t *testing.T) {
	l := up(t, "gauge-01")
	file := "[file.\"/etc/ssh/sshd_config.d/tide.conf\"]\ncontent = \"Tides yes\\n\"\n"
	for name, c := range map[string]struct{ declared, says string }{
		"at once": {file + "[service.ssh]\nrunning = true\nrestart_on = [\"file " +
			"/etc/ssh/sshd_config.d/tide.conf\"]\n", "service ssh  failed"},
		"at the next start": {file, "file /etc/ssh/sshd_config.d/tide.conf  failed"},
	} {
		l.write("manifests/all.toml", c.declared)
		code, out := l.jk("apply", "gauge-01", "--yes")
		if code != 1 || !strings.Contains(out, c.says) || !strings.Contains(out, "could not start with its settings") ||
			!strings.Contains(out, "Bad configuration option: Tides") {
			t.Errorf("%s: %d\n%s", name, code, out)
		}
		if left := l.on("gauge-01",
			"ls /etc/ssh/sshd_config.d /var/lib/jadekettle | grep -E 'tide|late' || true"); left != "" {
			t.Errorf("%s: there is still %s", name, left)
		}
		if _, shown := l.jk("runs", "show", "last"); !strings.Contains(shown,
			"file /etc/ssh/sshd_config.d/tide.conf failed") {
			t.Errorf("%s: the run is kept as\n%s", name, shown)
		}
	}
}

// TestNeverLockedOutWithoutSystemd sets the guard on hosts of which no service manager has
// timers: a process of its own puts things back there.
func TestNeverLockedOutWithoutSystemd(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	l := up(t, "gauge-openrc", "mudflat-busybox")
	l.write("jadekettle.toml", read(t, filepath.Join(l.project, "jadekettle.toml"))+"[run]\nguard = \"10s\"\n")
	l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n")
	l.apply(0)
	for _, c := range []struct{ host, file, declared string }{
		{"gauge-openrc", "/etc/sudoers.d/ops", "[file.\"/etc/sudoers.d/ops\"]\ncontent = \"# nobody\\n\"\n"},
		{"mudflat-busybox", "/root/.ssh/authorized_keys", "[file.\"/root/.ssh/authorized_keys\"]\ncontent = \"# " +
			"nobody\\n\"\n"},
	} {
		before := l.on(c.host, "cat "+c.file)
		for _, killed := range []string{"", "controller", "worker as well"} {
			l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n"+c.declared)
			var code int
			var out string
			if killed == "" {
				if code, out = l.jk("apply", c.host, "--yes"); code != 1 {
					t.Errorf("%s: %d\n%s", c.host, code, out)
				}
			} else {
				l.cutOff(c.host, c.file, killed)
				l.write("manifests/all.toml", "[dir.\"/srv/tide\"]\n")
				for range 60 {
					if code, out = l.jk("apply", c.host, "--yes"); code == 0 {
						break
					}
					time.Sleep(time.Second)
				}
			}
			if now := l.on(c.host, "cat "+c.file); now != before ||
				!strings.Contains(out, "restored the previous state") {
				t.Errorf("%s, killed: %q: it was %q, is %q\n%s", c.host, killed, before, now, out)
			}
			if left := l.on(c.host, "ls /var/lib/jadekettle | grep guard.json || true; ls /etc/cron.d 2>/dev/null "+
				"| grep guard || true"); left != "" {
				t.Errorf("%s, killed: %q: the guard is left: %s", c.host, killed, left)
			}
		}
	}
}

// is describes how people get into the host.
func (l *lab) current() string {
	l.t.Helper()
	return l.on("gauge-01", "sudo sh -c 'cat /etc/sudoers.d/ops /home/ops/.ssh/authorized_keys; stat -c \"%n %U %G "+
		"%a\" "+
		"/etc/sudoers.d/ops /home/ops /home/ops/.ssh /home/ops/.ssh/authorized_keys; ls /etc/ssh/sshd_config.d; "+
		"nft list ruleset; "+
		"ss -Hltn sport = :22 | wc -l; ls /var/lib/jadekettle | grep guard | grep -v lock; "+
		"ls /etc/systemd/system /etc/systemd/system/sysinit.target.wants | grep jadekettle; "+
		"systemctl show -p LoadState jadekettle-guard.service jadekettle-firewall.service; "+
		"systemctl list-timers --all --no-legend | grep -c guard'; true")
}

// cutOff begins an apply that cuts us off, and kills the controller once the guard is set
// and the change is made, and with it the worker where that is asked for, or the host.
func (l *lab) cutOff(host, name, killed string) {
	l.t.Helper()
	root := filepath.Join(l.dir, host, "root")
	cmd := l.in(l.program, "--project", l.project, "apply", host, "--yes")
	if err := cmd.Start(); err != nil {
		l.t.Fatal(err)
	}
	defer cmd.Wait()
	armed := filepath.Join(root, "var/lib/jadekettle/guard.json")
	late := strings.Contains(name, "sshd") // the file is guarded first, and then the service
	for range 600 {
		data, err := os.ReadFile(armed)
		text := string(data)
		if err == nil && strings.Contains(text, `"made": true`) && (!late || strings.Contains(text, `"service ssh"`)) {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if killed == "controller" {
		cmd.Process.Kill()
		return
	}
	for _, p := range l.workers(root) { // first, since it puts things back once the controller is gone
		syscall.Kill(p, syscall.SIGKILL)
	}
	cmd.Process.Kill()
	if killed != "worker as well" {
		nspawn := strings.TrimSpace(read(l.t, filepath.Join(l.dir, host, "pid")))
		children := strings.Fields(read(l.t, "/proc/"+nspawn+"/task/"+nspawn+"/children"))
		host, _ := strconv.Atoi(children[0])
		const rebootSignal = syscall.Signal(34 + 5) // SIGRTMIN+5 reboots, see systemd(1), SIGNALS
		syscall.Kill(host, rebootSignal)
	}
}

// workers are the processes of the worker on a host, by its root folder.
func (l *lab) workers(root string) []int {
	above := map[int]int{}
	lines := map[int]string{}
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, d := range dirs {
		pid, _ := strconv.Atoi(filepath.Base(d))
		stat, _ := os.ReadFile(d + "/stat")
		line, _ := os.ReadFile(d + "/cmdline")
		if _, rest, ok := strings.Cut(string(stat), ") "); ok {
			above[pid], _ = strconv.Atoi(strings.Fields(rest)[1])
			lines[pid] = string(line)
		}
	}
	nspawn, _ := strconv.Atoi(strings.TrimSpace(read(l.t, filepath.Join(filepath.Dir(root), "pid"))))
	var out []int
	for pid, line := range lines {
		for up := pid; strings.Contains(line, "worker-session") && up > 1; up = above[up] {
			if up == nspawn {
				out = append(out, pid)
				break
			}
		}
	}
	if len(out) == 0 {
		l.t.Error(fmt.Errorf("no worker on %s", root))
	}
	return out
}
