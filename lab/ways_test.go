//go:build lab

package lab

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestWaysIntoRealHosts elevates by sudo with a password, logs in with one, and
// goes through another host, all by OpenSSH's own server.
func TestWaysIntoRealHosts(t *testing.T) {
	l := up(t)
	l.write("groups.toml", "[group.first]\nmembers = [\"gauge-01\"]\nmanifests = [\"all\"]\n")
	l.write("manifests/all.toml", "[dir.\"/srv/pool\"]\nowner = \"root\"\nmode = \"0755\"\n")
	l.on("gauge-01", "printf 'PasswordAuthentication yes\\nKbdInteractiveAuthentication yes\\n' > "+
		"/etc/ssh/sshd_config.d/pw.conf; systemctl reload ssh; sleep 1") // which it takes
	l.admitted()
	l.certified()
	l.on("gauge-01", "echo 'ops:ebb & flow' | chpasswd; echo 'ops ALL=(ALL) ALL' > /etc/sudoers.d/ops")
	right, wrong := filepath.Join(l.project, "right"), filepath.Join(l.project, "wrong")
	for name, text := range map[string]string{right: "ebb & flow\n", wrong: "low tide\n"} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	tries := func(name string, code int, says string, args ...string) {
		t.Helper()
		got, out := l.jk(append([]string{"apply", "gauge-01", "--yes"}, args...)...)
		if got != code || !strings.Contains(out, says) || strings.Contains(out, "ebb & flow") ||
			strings.Contains(out, "low tide") {
			t.Errorf("%s: ended with %d\n%s", name, got, out)
		}
	}
	tries("without a password", 1, "sudo refuses ops: a password is required")
	tries("with a wrong one", 1, "sudo rejected the password of ops", "--password-file", wrong)
	tries("with the right one", 0, "1 changed", "--password-file", right)
	tries("from a command", 0, "1 unchanged", "--password-command", "cat "+right)
	l.write("hosts.toml", strings.ReplaceAll(read(t, filepath.Join(l.dir, "hosts.toml")), "key = ", "# key = "))
	t.Setenv("HOME", t.TempDir())
	tries("no key, no password", 1, "no key to log in with")
	tries("the password for both", 0, "1 unchanged", "--ask", "login,elevate", "--password-file", right)
	tries("a wrong one to log in with", 1, `permission denied for user "ops"`, "--ask", "login",
		"--password-file", wrong)
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml"))+
		"[host.gauge-01.connect]\njump = \"ops@192.0.2.12\"\n")
	home := t.TempDir()
	t.Setenv("HOME", home)
	if err := os.Mkdir(filepath.Join(home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, ".ssh/id_ed25519"), []byte(read(t, l.dir+"/key")), 0o600); err != nil {
		t.Fatal(err)
	}
	tries("through another host", 0, "1 unchanged", "--password-file", right)
	if by := l.on("archive-01", "ss -tn state all 2>/dev/null | grep -c '192.0.2.11:22' || true"); by == "0" {
		t.Error("nothing went through the other host")
	}
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml")))
	config := "Host 192.0.2.11\n  ProxyCommand ssh -q -W %h:%p -i " + l.dir + "/key -o UserKnownHostsFile=" + l.dir +
		"/known_hosts ops@192.0.2.12\n"
	if err := os.WriteFile(filepath.Join(home, ".ssh/config"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	tries("through a command", 0, "1 unchanged", "--password-file", right)
	if err := os.Remove(filepath.Join(home, ".ssh/config")); err != nil {
		t.Fatal(err)
	}
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml"))+"[host.gauge-01.connect]\ncommand = \"ssh -q -i "+
		l.dir+"/key -o UserKnownHostsFile="+l.dir+"/known_hosts ops@$JADEKETTLE_ADDRESS sh\"\n")
	tries("through a shell", 0, "1 unchanged", "--password-file", right)
	tries("through a shell, with a wrong password", 1, "sudo rejected the password of ops",
		"--password-file", wrong)
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml"))+"[host.gauge-01.connect]\ncommand = \"exit 3\"\n")
	tries("through a shell that is none", 1, "gauge-01", "--password-file", right)
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml")))
	if err := os.WriteFile(filepath.Join(home, ".ssh/config"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	l.on("archive-01", "systemctl stop ssh")
	tries("through a command that fails", 1, "gauge-01", "--password-file", right)
	if err := os.Remove(filepath.Join(home, ".ssh/config")); err != nil {
		t.Fatal(err)
	}
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml"))+
		"[host.gauge-01.connect]\njump = \"ops@192.0.2.99\"\n")
	tries("through a host that does not exist", 1, "the jump host ops@192.0.2.99", "--password-file", right)
}

// admitted takes in a host that has only a login with a password, by an account
// that may use sudo with it.
func (l *lab) admitted() {
	l.t.Helper()
	before := read(l.t, filepath.Join(l.project, "hosts.toml"))
	l.on("gauge-01", "useradd -m -s /bin/bash pi; echo 'pi:salt & pepper' | chpasswd; echo 'pi ALL=(ALL) ALL' > "+
		"/etc/sudoers.d/pi")
	right, wrong := filepath.Join(l.project, "pi"), filepath.Join(l.project, "not-pi")
	for name, text := range map[string]string{right: "salt & pepper\n", wrong: "low tide\n"} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			l.t.Fatal(err)
		}
	}
	l.write("hosts.toml", strings.Replace(before, "user = \"ops\"", "user = \"warden\"", 1))
	l.write("known", "")
	settings := read(l.t, filepath.Join(l.project, "jadekettle.toml"))
	l.write("jadekettle.toml", strings.Replace(settings, l.dir+"/known_hosts", "known", 1))
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{1, "is unknown, and confirming it needs a terminal", []string{"--password-file", right}},
		{1, `permission denied for user "pi"`, []string{"--password-file", wrong, "--yes"}},
		{0, "gauge-01  admitted: warden can log in with a key and become root with sudo",
			[]string{"--password-file", right,
				"--yes"}},
		{0, "already admitted", []string{"--password-file", wrong}},
	} {
		got, out := l.jk(append([]string{"hosts", "admit", "gauge-01", "--as", "pi"}, c.args...)...)
		if got != c.code || !strings.Contains(out, c.says) || strings.Contains(out, "salt & pepper") {
			l.t.Errorf("admit %v: ended with %d\n%s", c.args, got, out)
		}
	}
	l.write("hosts.toml", strings.Replace(before, "user = \"ops\"", "user = \"narrow\"", 1))
	if got, out := l.jk("hosts", "admit", "gauge-01", "--as", "pi", "--password-file", right,
		"--worker-only"); got != 0 {
		l.t.Errorf("admitted for the worker alone: %d\n%s", got, out)
	}
	if out := l.on("gauge-01",
		"su narrow -c \"sudo -n id\" 2>&1; rm /etc/sudoers.d/jadekettle-narrow"); strings.Contains(out,
		"uid=0") {
		l.t.Errorf("its rule allows more: %s", out)
	}
	if out := l.on("gauge-01", "ls /etc/sudoers.d; grep -s warden /var/lib/jadekettle/ledger.json; true"); out !=
		"README\njadekettle-warden\nops\npi" {
		l.t.Errorf("after the admission there are %q", out)
	}
	l.write("hosts.toml", before)
	l.write("jadekettle.toml", settings)
}

// certified logs in with a certificate that an authority gave a key, to a host
// that shows a certificate, and with a key that has a passphrase.
func (l *lab) certified() {
	l.t.Helper()
	hosts, settings := read(l.t, filepath.Join(l.project, "hosts.toml")), read(l.t, filepath.Join(l.project,
		"jadekettle.toml"))
	at := l.t.TempDir()
	for _, name := range []string{"authority", "warden"} {
		run(l.t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(at, name))
	}
	run(l.t, "ssh-keygen", "-q", "-s", filepath.Join(at, "authority"), "-I", "warden", "-n", "ops", filepath.Join(at,
		"warden.pub"))
	host := filepath.Join(l.dir, "gauge-01/root/etc/ssh/ssh_host_ed25519_key")
	run(l.t, "ssh-keygen", "-q", "-s", filepath.Join(at, "authority"), "-I", "gauge", "-h", "-n", "192.0.2.11",
		host+".pub")
	public := strings.TrimSpace(read(l.t, filepath.Join(at, "authority.pub")))
	l.on("gauge-01", "echo '"+public+"' >/etc/ssh/authority.pub; printf 'TrustedUserCAKeys /etc/ssh/authority.pub\\n"+
		"HostCertificate /etc/ssh/ssh_host_ed25519_key-cert.pub\\n' >/etc/ssh/sshd_config.d/ca.conf; systemctl "+
		"reload ssh; "+
		"sleep 1")
	l.write("known", "@cert-authority 192.0.2.* "+public+"\n")
	l.write("jadekettle.toml", strings.Replace(settings, l.dir+"/known_hosts", "known", 1))
	l.write("hosts.toml", strings.ReplaceAll(hosts, l.dir+"/key", filepath.Join(at, "warden")))
	if code, out := l.jk("preview", "gauge-01"); code != 0 {
		l.t.Errorf("with certificates on both sides: %d\n%s", code, out)
	}
	l.write("known", "@cert-authority 192.0.2.* "+strings.TrimSpace(read(l.t, filepath.Join(at, "warden.pub")))+"\n")
	if code, out := l.jk("preview", "gauge-01"); code != 1 || !strings.Contains(out, "not reached") {
		l.t.Errorf("with another authority: %d\n%s", code, out)
	}
	run(l.t, "ssh-keygen", "-q", "-p", "-P", "", "-N", "neap tide", "-f", filepath.Join(at, "warden"))
	if code, out := l.jk("preview", "gauge-01"); code != 1 ||
		!strings.Contains(out, "needs a terminal") {
		l.t.Errorf("with a passphrase and no terminal: %d\n%s", code, out)
	}
	l.write("hosts.toml", hosts)
	l.write("jadekettle.toml", settings)
}
