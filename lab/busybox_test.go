//go:build lab

package lab

import (
	"strings"
	"testing"
)

const busyboxAccounts = `[group.gauges]
gid = 2100
[group.tides]
[user.tidelog]
system = true
group = "gauges"
groups = ["tides"]
home = "/var/lib/tide"
[user.olga]
uid = 2101
comment = "Olga, keeper"
shell = "/bin/ash"
groups = ["tides"]
only_groups = true
keys = ["` + olgasKey + `"]
only_keys = true
home_mode = "0700"
password = "ebb & flow"
[group.old]
absent = true
[user.leaver]
absent = true
[dir."/var/lib/tide"]
owner = "tidelog"
group = "gauges"
mode = "2750"
`

// TestAccountsOfBusybox takes accounts through their round on a host that has
// only busybox's adduser, addgroup, deluser and delgroup.
func TestAccountsOfBusybox(t *testing.T) {
	l := up(t, "mudflat-busybox")
	const host = "mudflat-busybox"
	l.on(host, "addgroup old; adduser -D -G old leaver; adduser leaver root; deluser leaver; adduser -D leaver")
	l.write("manifests/all.toml", busyboxAccounts)
	if code, out := l.jk("preview"); code != 0 || strings.Contains(out, "failed") {
		t.Fatalf("preview ended with %d:\n%s", code, out)
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	is := func(line, want string) {
		t.Helper()
		if got := l.on(host, line); got != want {
			t.Errorf("%s gives %q, want %q", line, got, want)
		}
	}
	is("grep -E 'tidelog|olga|leaver' /etc/passwd | cut -d: -f3,5-", "100::/var/lib/tide:/bin/false\n"+
		"2101:Olga, keeper:/home/olga:/bin/ash")
	is("id -nG olga; id -nG tidelog", "olga tides\ngauges tides")
	is("stat -c '%U %a' /home/olga /home/olga/.ssh/authorized_keys /etc/passwd /etc/shadow", "olga 700\nolga 600\n"+
		"root 644\nroot 600")
	is("grep -c '^olga:[$]6' /etc/shadow; grep -c ebb /etc/shadow || true", "1\n0")

	// Broken by hand, and otherwise from now on.
	l.on(host, "echo 'olga:low tide' | chpasswd; addgroup olga root; delgroup olga tides; sed -i "+
		"'s,^\\(olga.*\\):/bin/ash,\\1:/bin/sh,; s/^\\(tidelog:x:[0-9]*\\):2100/\\1:0/' /etc/passwd; "+
		"sed -i s/:2100:/:2200:/ /etc/group")
	repaired := strings.Join(l.apply(0).changed(), "\n")
	for _, want := range []string{"user olga changed", "user tidelog changed", "group gauges changed"} {
		if !strings.Contains(repaired, want) {
			t.Errorf("%s is missing in:\n%s", want, repaired)
		}
	}
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("after the repair there changed:\n%s", strings.Join(again, "\n"))
	}
	is("id -nG olga; grep ^tidelog /etc/passwd | cut -d: -f4", "olga tides\n2100")

	l.write("manifests/all.toml", "[user.olga]\nlocked = true\n[user.tidelog]\nuid = 4000\n")
	r := l.apply(1)
	if got := strings.Join(r.changed(), "\n"); !strings.Contains(got, "cannot be locked against key logins") ||
		!strings.Contains(got, "no program on this host can change the ID of an account") {
		t.Errorf("what cannot be had is reported so:\n%s", got)
	}
	before := l.on(host, "sort /etc/passwd /etc/shadow /etc/group | tr , '\\n' | sort")
	l.write("manifests/all.toml", "[user.olga]\nabsent = true\n[user.tidelog]\nabsent = true\n[group.tides]\n"+
		"absent = true\n"+
		"[group.gauges]\nabsent = true\n")
	l.apply(0)
	is("grep -E 'tidelog|olga' /etc/passwd /etc/shadow /etc/group; grep -E 'tides|gauges' /etc/group; true", "")
	if code, out := l.jk("undo", "last", "--yes"); code != 0 {
		t.Errorf("undo ends with %d\n%s", code, out)
	}
	is("sort /etc/passwd /etc/shadow /etc/group | tr , '\\n' | sort", before)
}
