//go:build lab

package lab

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestDoorsOfRealHosts comes in by login shells that are not sh, by rules of sudo
// and doas that allow our worker and nothing else, and to hosts where programs may
// not lie where they usually do.
func TestDoorsOfRealHosts(t *testing.T) {
	l := up(t, "gauge-01", "mudflat-busybox")
	l.write("manifests/all.toml", "[dir.\"/srv/pool\"]\nmode = \"0750\"\n[file.\"/srv/pool/tide\"]\ncontent = "+
		"\"ebb\\n\"\n")
	hosts := read(t, filepath.Join(l.dir, "hosts.toml"))
	is := func(name string, code int, says string, args ...string) {
		t.Helper()
		if got, out := l.jk(append([]string{"apply", "gauge-01", "--yes"}, args...)...); got != code ||
			!strings.Contains(out, says) || strings.Contains(out, "ebb & flow") {
			t.Errorf("%s: ended with %d\n%s", name, got, out)
		}
	}
	as := func(user, elevate, more string) {
		l.write("hosts.toml", hosts+fmt.Sprintf("[host.gauge-01.connect]\nuser = %q\nelevate = %q\n", user,
			elevate)+more)
	}
	login := func(user, more string) {
		l.on("gauge-01", "useradd -m "+more+" "+user+" && mkdir -p /home/"+user+"/.ssh && cp "+
			"/home/ops/.ssh/authorized_keys "+
			"/home/"+user+"/.ssh/ && chown -R "+user+" /home/"+user)
	}
	forget := func() { l.on("gauge-01", "rm -rf /var/lib/jadekettle /root/.cache /srv/pool") }

	// A connection ends with its last command, and there is neither sudo nor bash.
	if code, out := l.jk("apply", "mudflat-busybox", "--yes"); code != 0 || !strings.Contains(out, "2 changed") {
		t.Errorf("a host of busybox and dropbear: %d\n%s", code, out)
	}
	if code, out := l.jk("apply", "mudflat-busybox", "--yes"); code != 0 || !strings.Contains(out, "2 unchanged") {
		t.Errorf("a host of busybox and dropbear, again: %d\n%s", code, out)
	}

	for _, shell := range []string{"bash", "dash", "fish", "tcsh", "zsh"} {
		login(shell, "-s $(command -v "+shell+")")
		l.on("gauge-01", "echo '"+shell+" ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/"+shell)
		as(shell, "sudo", "")
		forget()
		is("the login shell "+shell+", the first time", 0, "2 changed")
		is("the login shell "+shell, 0, "2 unchanged")
	}
	login("nobody-in", "-s /usr/sbin/nologin")
	as("nobody-in", "sudo", "")
	is("no login shell", 1, "the login shell of nobody-in does not run commands")

	narrowDoors(t, l, is, as, login, forget)
}

// narrowDoors goes on with accounts that may do one thing only, and with programs that may not run where they usually
// lie.
func narrowDoors(t *testing.T, l *lab, is func(name string, code int, says string, args ...string),
	as func(user, elevate, more string), login func(user, more string), forget func()) {
	t.Helper()
	login("narrow", "-s /bin/sh")
	as("narrow", "sudo", "")
	is("no rule", 1, "`narrow ALL=(root) NOPASSWD: /var/lib/jadekettle/start`")
	l.on("gauge-01", "echo 'narrow ALL=(root) NOPASSWD: /var/lib/jadekettle/start' >/etc/sudoers.d/narrow")
	is("a rule for our worker alone", 0, "2 unchanged")
	l.on("gauge-01", "rm -rf /var/lib/jadekettle/bin /srv/pool")
	is("that rule, and a worker to be sent", 0, "2 changed")
	if out := l.on("gauge-01", "su narrow -c \"sudo -n id; sudo -n /var/lib/jadekettle/start start n "+
		"x=../../../bin/sh; "+
		"sudo -n /var/lib/jadekettle/start sh -c id\" 2>&1; true"); strings.Contains(out, "uid=0") {
		t.Errorf("the rule allows more:\n%s", out)
	}
	l.on("gauge-01", "chmod o+w /var/lib/jadekettle")
	is("others may write there", 1, "/var/lib/jadekettle is a symlink, or writable by users other than root")
	l.on("gauge-01", "chmod o-w /var/lib/jadekettle; echo 'permit nopass narrow as root cmd "+
		"/var/lib/jadekettle/start' "+
		">/etc/doas.conf")
	as("narrow", "doas", "")
	is("doas, and a rule for our worker alone", 0, "2 unchanged")
	l.on("gauge-01", "echo 'permit nopass ops' >/etc/doas.conf")
	is("doas without a rule", 1, "`permit nopass narrow as root cmd /var/lib/jadekettle/start`")
	as("ops", "doas", "")
	is("doas", 0, "2 unchanged")

	// Programs may not be run where they usually lie.
	as("ops", "sudo", "")
	forget()
	l.on("gauge-01", "mkdir -p /var/lib/jadekettle && mount -t tmpfs -o noexec,mode=755 none /var/lib/jadekettle")
	is("noexec, the first time", 0, "2 changed")
	is("noexec", 0, "2 unchanged")
	l.on("gauge-01", "umount /var/lib/jadekettle; rm -rf /root/.cache; mount -t tmpfs -o size=64k none /tmp; "+
		"head -c 70000 /dev/zero >/tmp/full 2>/dev/null; true")
	is("a full /tmp", 0, "2 unchanged")
	l.on("gauge-01", "umount /tmp; useradd -M -s /bin/sh homeless; echo 'homeless:ebb & flow' | chpasswd; "+
		"printf 'PasswordAuthentication no\\nKbdInteractiveAuthentication yes\\n' >/etc/ssh/sshd_config.d/a.conf; "+
		"systemctl reload ssh; sleep 1; echo 'homeless ALL=(ALL) ALL' >/etc/sudoers.d/homeless")
	secret := filepath.Join(l.project, "pw")
	if err := os.WriteFile(secret, []byte("ebb & flow\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	as("homeless", "", "")
	is("no home, the login by questions alone, not root", 1, "no directory found for the host's state", "--ask",
		"login", "--password-file", secret)
	as("homeless", "sudo", "")
	is("no home, and root", 0, "2 unchanged", "--ask", "login,elevate", "--password-file", secret)
	as("ops", "", "")
	l.on("gauge-01", "mount -t tmpfs -o noexec,mode=777 none /home/ops && mkdir -m 700 /home/ops/.ssh && cp "+
		"/home/narrow/.ssh/authorized_keys /home/ops/.ssh/ && chmod 700 /home/ops && chown -R ops /home/ops")
	is("a home without exec, not root", 1, "file /srv/pool/tide  failed")
	l.on("gauge-01", "umount -l /home/ops")
}
