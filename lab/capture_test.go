//go:build lab

package lab

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestCaptureOfAWholeHost reads a host that people set up by hand, with and without
// encrypting, and has a preview of what came out change nothing.
func TestCaptureOfAWholeHost(t *testing.T) {
	l := up(t, "archive-01", "archive-dnf")
	t.Setenv("HOME", t.TempDir())
	l.on("archive-dnf", "rm /usr/bin/apt-get /usr/bin/zypper /usr/bin/pacman; "+buildRPMs)
	l.on("archive-01", "apt-get update -qq; apt-get install -qq -y tide-logger >/dev/null 2>&1; groupadd -g 2100 "+
		"keepers; "+
		"useradd -m -u 2101 -g keepers maren; echo 'maren:ebb & flow' | chpasswd; echo 'hello ${data.x} {{ y }}' "+
		">/etc/tide.conf; chown maren /etc/tide.conf; echo salt-and-pepper >/etc/tide.key; chmod 600 /etc/tide.key; "+
		"getent shadow maren >/etc/tide.users; echo '# ours' >>/etc/default/cron; mkdir -p /usr/local/etc; "+
		"echo one >/usr/local/etc/tide; printf '\\001\\377' >/etc/blob; "+
		"printf '# by hand\\n5 * * * * root true\\n' >/etc/cron.d/tides; systemctl disable --now cron 2>/dev/null; "+
		"mkdir /srv/pad; "+
		"printf '# ours\\ntmpfs\\t/srv/pad tmpfs size=1m,noexec 0 0\\n' >/etc/fstab; mount /srv/pad; "+
		"echo 'maren ALL=(ALL) NOPASSWD: /bin/true' >/etc/sudoers.d/maren; chmod 440 /etc/sudoers.d/maren; "+
		"git init -q --bare -b main /srv/a.git; cd /srv; git clone -q a.git b 2>/dev/null; cd b; echo 1 >n; git "+
		"add n; "+
		"git -c user.name=m -c user.email=m@example.org commit -qm n; git push -q origin HEAD:main")
	if code, out := l.jk("capture", "archive-01", "--all"); code != 2 ||
		!strings.Contains(out, "--all requires --to") {
		t.Errorf("without a place to put it: %d\n%s", code, out)
	}
	l.write("groups.toml", "[group.archive]\nmembers = [\"archive-01\"]\nmanifests = [\"left\"]\n")
	l.write("manifests/left.toml", "about = \"what there was\"\n")
	if code, out := l.jk("capture", "archive-01", "--all", "--to", "manifests/left"); code != 2 ||
		!strings.Contains(out, "left.toml already exists") {
		t.Errorf("over what is there: %d\n%s", code, out)
	}
	code, out := l.jk("capture", "archive-01", "--all", "--to", "manifests/archive")
	if code != 0 || !strings.Contains(out, "shows no changes") {
		t.Fatalf("capture ended with %d\n%s", code, out)
	}
	for _, want := range []string{"file /etc/tide.key: only its owner may read it",
		"file /etc/tide.users: it contains a private key or a password hash",
		"file /etc/ssh/ssh_host_ed25519_key: "} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not show %q:\n%s", want, out)
		}
	}
	text := read(t, filepath.Join(l.project, "manifests/archive/manifest.toml"))
	for _, want := range []string{"[package.tide-logger]", "[user.maren]", "[group.keepers]",
		"[file.\"/etc/tide.conf\"]",
		"[file.\"/etc/default/cron\"]", "[file.\"/usr/local/etc/tide\"]", "[file.\"/etc/cron.d/tides\"]",
		"[service.cron]\nrunning = false\nat_boot = false\n", "[mount.\"/srv/pad\"]",
		"[file.\"/etc/sudoers.d/maren\"]"} {
		if !strings.Contains(text, want) {
			t.Errorf("the manifest has no %s", want)
		}
	}
	l.write("groups.toml", "[group.archive]\nmembers = [\"archive-01\"]\nmanifests = [\"archive\"]\n")
	if code, out := l.jk("preview", "archive-01", "--fail-if-changes"); code != 0 {
		t.Errorf("the preview of it: %d\n%s", code, out)
	}
	if code, out := l.jk("secret", "init"); code != 0 {
		t.Fatal(out)
	}
	code, out = l.jk("capture", "archive-01", "--all", "--to", "manifests/encrypted", "--encrypt")
	if code != 0 || strings.Contains(out, "tide.key") || strings.Contains(out, "salt-and-pepper") {
		t.Errorf("encrypting, capture ended with %d\n%s", code, out)
	}
	l.write("groups.toml", "[group.archive]\nmembers = [\"archive-01\"]\nmanifests = [\"encrypted\"]\n")
	if code, out := l.jk("preview", "archive-01", "--fail-if-changes"); code != 0 {
		t.Errorf("the preview of what is encrypted: %d\n%s", code, out)
	}
	if out, _ := l.in("grep", "-rl", "salt-and-pepper", l.project).Output(); len(out) > 0 {
		t.Errorf("a secret lies open in %s", out)
	}
	if got := read(t, filepath.Join(l.project, "manifests/archive/files/etc/blob")); got != "\x01\xff" {
		t.Errorf("what is not text came as %q", got)
	}
	code, out = l.jk("capture", "archive-01", "checkout", "/srv/b")
	if code != 0 || !strings.Contains(out, "url = \"/srv/a.git\"\nrevision = \"main\"\n") {
		t.Errorf("a working copy: %d\n%s", code, out)
	}
	if code, out := l.jk("capture", "archive-01", "sudo_rule"); code != 0 ||
		!strings.Contains(out, "[sudo_rule.maren]\n"+
			"who = [\"maren\"]\nrun_as = [\"ALL\"]\ncommands = [\"/bin/true\"]\npassword = false\n") {
		t.Errorf("rules of sudo: %d\n%s", code, out)
	}
	if code, out := l.jk("capture", "archive-dnf", "file"); code != 0 ||
		!strings.Contains(out, "[file.\"/etc/debian_version\"]") {
		t.Errorf("a host with dnf: %d\n%.2000s", code, out)
	}
}
