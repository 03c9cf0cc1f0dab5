//go:build lab

package lab

import (
	"slices"
	"strings"
	"testing"
)

// look lists all of a host that an undo has to bring back: packages, accounts, files of
// /etc and /srv with owners and modes, services, and what the kernel is set to.
const look = `dpkg-query -W -f '${Package} ${Version} ${db:Status-Status}\n' | grep ' installed$'
cat /etc/passwd /etc/group; cut -d: -f1,2,8 /etc/shadow
find /etc /srv -xdev -path /srv/repo -prune -o ! -name '*-' \
! -name ld.so.cache ! -name '.pwd.lock' -printf '%p %y %m %u:%g %l\n' | sort
find /etc /srv -xdev -path /srv/repo -prune -o -type f ! -name '*-' ! -name ld.so.cache -exec sha256sum {} + | sort -k 2
systemctl is-active tide-logger; systemctl is-enabled tide-logger
hostname; sysctl net.ipv4.ip_forward`

const priorThen = `
[package.tide-logger]
version = "1.4.2-1"
[package.old-ticker]
[package.chart-press]
version = "2.0.1-1"
[package.sudo]
[group.keepers]
[group.divers]
gid = 2500
[user.maren]
groups = ["keepers"]
shell = "/bin/sh"
expires = "2031-05-31"
password = "salt & water"
[file."/etc/tide-logger.toml"]
content = "sample = 60\n"
owner = "root"
mode = "0640"
[dir."/srv/pool"]
owner = "maren"
mode = "2750"
[dir."/srv/pool/low"]
[file."/srv/pool/low/water"]
content = "ebb\n"
owner = "maren"
[link."/srv/now"]
to = "pool/low"
[service.tide-logger]
running = true
at_boot = true
restart_on = ["file /etc/tide-logger.toml"]
[sysctl."net.ipv4.ip_forward"]
value = 0
`

const comesNow = `
[package.tide-logger]
version = "1.5.0-1"
[package.old-ticker]
absent = true
[package.chart-press]
absent = true
[package.tide-tables]
[group.divers]
absent = true
[user.maren]
groups = []
only_groups = true
shell = "/bin/bash"
locked = true
password = "ebb and flow"
keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPQdwpGmDKzVvnDPmYdwHkBHWBmlGxzoRHmzDw3W1nJJ maren@desk"]
[user.ottokar]
home = "/srv/ottokar"
[file."/etc/tide-logger.toml"]
content = "sample = 15\n"
owner = "root"
mode = "0600"
[dir."/srv/pool"]
absent = true
with_contents = true
[link."/srv/now"]
to = "/srv"
[dir."/srv/new"]
[file."/srv/new/tide"]
content = "flood\n"
[lines."/etc/ssh/sshd_config#root"]
add = [{ line = "PermitRootLogin no", replaces = "^#?PermitRootLogin" }]
check = "sshd -t -f ${candidate}"
[service.ssh]
running = true
restart_on = ["lines /etc/ssh/sshd_config#root"]
[service.tide-logger]
running = false
at_boot = false
[sysctl."net.ipv4.ip_forward"]
value = 1
[hostname.gauge-renamed]
[timezone."Europe/Berlin"]
[sudo_rule.divers]
who = ["maren"]
[cron.rotate]
schedule = "@daily"
run = "true"
[locale."C.UTF-8"]
`

// TestUndoOnRealHosts has a run change most of what can be put back, and puts it back; what
// somebody has changed since stays, and is reported with who where apt knows.
func TestUndoOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	current := func() string {
		return l.on("gauge-01", "{ "+look+"; } 2>&1; true")
	}
	l.write("manifests/all.toml", priorThen)
	l.apply(0)
	before := current()
	l.write("manifests/all.toml", comesNow)
	l.apply(0)
	after := current()
	if after == before {
		t.Fatal("nothing changed")
	}
	if lines := l.on("gauge-01", "journalctl -t jadekettle -o cat"); strings.Count(lines, "run ") != 2 ||
		!strings.Contains(lines, " changed") {
		t.Errorf("the host's journal shows two runs as\n%s", lines)
	}
	if code, out := l.jk("undo", "last", "--preview"); code != 0 || current() != after {
		t.Errorf("a preview ends with %d, and it moved: %v\n%s", code, current() != after, out)
	}
	if code, out := l.jk("undo", "last", "--yes"); code != 0 {
		t.Errorf("undo ends with %d\n%s", code, out)
	} else {
		for _, word := range []string{"salt & water", "ebb and flow", "$y$"} {
			if strings.Contains(out, word) {
				t.Errorf("it shows %q", word)
			}
		}
	}
	for _, line := range differing(before, current()) {
		if !strings.Contains(line, "/srv/ottokar") && !ordered(line) { // a user's home stays
			t.Errorf("undone: %s", line)
		}
	}
	if _, out := l.jk("undo", "last", "--yes"); !strings.Contains(out, "package tide-tables  installed") {
		t.Errorf("the undo is not undone:\n%s", out)
	}
	for _, line := range differing(after, current()) {
		if !ordered(line) {
			t.Errorf("restore in turn: %s", line)
		}
	}
	l.on("gauge-01", "apt-get install -qq -y chart-press >/dev/null && echo more >>/srv/new/tide")
	code, out := l.jk("undo", "2", "--yes")
	if code != 1 || !strings.Contains(out, "by ops (1000) with `apt-get install -qq -y chart-press`") ||
		!strings.Contains(out, "its content, last modified at") {
		t.Errorf("with what moved since: %d\n%s", code, out)
	}
}

// ordered says of a line that it is about a file of accounts as a whole: what comes back is
// at its end.
func ordered(line string) bool {
	f := strings.Fields(line)
	return slices.Contains([]string{"/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow", "/etc/subuid",
		"/etc/subgid"},
		f[len(f)-1]) && len(f) > 2 && len(f[len(f)-2]) == 64
}

// differing gives the lines that only one of two texts has.
func differing(a, b string) []string {
	has := func(text string) map[string]bool {
		out := map[string]bool{}
		for line := range strings.Lines(text) {
			out[line] = true
		}
		return out
	}
	var out []string
	in, other := has(a), has(b)
	for line := range strings.Lines(a) {
		if !other[line] {
			out = append(out, "missing: "+strings.TrimSpace(line))
		}
	}
	for line := range strings.Lines(b) {
		if !in[line] {
			out = append(out, "there is: "+strings.TrimSpace(line))
		}
	}
	return out
}
