//go:build lab

package lab

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheHarbour sets up mail, web and archive hosts by the project in harbour,
// which was written from the documentation: three package managers, and two hosts
// that only the gate reaches and where sudo wants an encrypted password.
func TestTheHarbour(t *testing.T) {
	l := up(t, "gate-01", "mail-01", "web-01", "archive-01")
	l.on("web-01", "rm /usr/bin/apt-get /usr/bin/zypper /usr/bin/pacman; "+buildRPMs)
	l.on("archive-01", "rm /usr/bin/apt-get /usr/bin/dnf /usr/bin/pacman; "+buildRPMs)
	l.on("archive-01", "cd /srv && git init -q --bare methods.git -b main && git clone -q methods.git m 2>&1 && cd "+
		"m && "+
		"echo harmonics >methods.txt && git add . && git -c user.name=m -c user.email=m@example.org commit -qm "+
		"first && "+
		"git push -q origin HEAD:main && rm -rf /srv/m")
	l.on("archive-01", "useradd wenzel; mkdir -p /srv/archive; date >/srv/archive/kept")
	for _, host := range []string{"mail-01", "archive-01"} {
		l.on(host, "echo 'ops:ebb & flow' | chpasswd; echo 'ops ALL=(ALL) ALL' > /etc/sudoers.d/ops")
	}
	if err := os.RemoveAll(l.project); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(l.project, os.DirFS("harbour")); err != nil {
		t.Fatal(err)
	}
	l.write("hosts.toml", strings.Replace(read(t, "harbour/hosts.toml"), "\"KEY\"", `"`+l.dir+`/key"`, 1))
	l.write("jadekettle.toml", read(t, "harbour/jadekettle.toml")+"[ssh]\nknown_hosts = \""+l.dir+"/known_hosts\"\n")
	t.Setenv("HOME", t.TempDir())
	for _, args := range [][]string{{"", "secret", "init"}, {"ebb & flow", "secret", "set", "shared", "sudo.password"},
		{"salt-water-99", "secret", "set", "shared", "relay.password"}, {"", "lint", "--strict"}} {
		cmd := l.in(append([]string{l.program, "--project", l.project}, args[1:]...)...)
		cmd.Stdin = strings.NewReader(args[0] + "\n")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", args[1:], err, out)
		}
	}
	if code, out := l.jk("preview"); code != 0 || strings.Contains(out, "salt-water") ||
		strings.Contains(out, "ebb &") {
		t.Fatalf("preview ended with %d\n%s", code, out)
	}
	// The web host fetches from the archive, so that one comes first.
	if code, out := l.jk("apply", "@archive", "--yes"); code != 0 {
		t.Fatalf("the archive ended with %d\n%s", code, out)
	}
	l.apply(0)
	if again := moved(l.apply(0)); len(again) > 0 {
		t.Errorf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	if code, out := l.jk("verify", "--all"); code != 0 {
		t.Errorf("verify ended with %d\n%s", code, out)
	}
	if l.in("timeout", "2", "bash", "-c", "</dev/tcp/192.0.2.14/22").Run() == nil {
		t.Error("the archive can be reached past the gate")
	}
	for file, want := range theHarbourCases {
		if got := read(t, filepath.Join(l.dir, file)); got != want {
			t.Errorf("%s holds %q, want %q", file, got, want)
		}
	}
	if got := read(t, filepath.Join(l.dir, "archive-01/root/etc/passwd")); strings.Contains(got, "wenzel") ||
		!strings.Contains(got, "maren") {
		t.Errorf("accounts of the archive are\n%s", got)
	}
	// Worst of days: things are changed by hand, and one apply puts them right.
	l.on("web-01", "echo '<h1>Sold</h1>' >/srv/pages/index.html; touch /srv/pages/new.html; systemctl stop pages")
	l.on("gate-01", "usermod -aG sudo maren; timedatectl set-timezone UTC; sed -i /harbour/d /etc/hosts")
	want := []string{"gate-01 timezone", "gate-01 hosts_entry", "gate-01 user maren", "web-01 dir /srv/pages",
		"web-01 service pages"}
	repaired := strings.Join(moved(l.apply(0)), "\n")
	for _, task := range want {
		if !strings.Contains(repaired, task) {
			t.Errorf("%s was not repaired:\n%s", task, repaired)
		}
	}
	if again := moved(l.apply(0)); len(again) > 0 {
		t.Errorf("once repaired, this changed:\n%s", strings.Join(again, "\n"))
	}
}

// theHarbourCases are what TestTheHarbour goes through.
var theHarbourCases = map[string]string{
	"mail-01/root/etc/post/relay":                 "relay.example.org post salt-water-99\n",
	"web-01/root/usr/share/tide-logger/version":   "1.4.2\n",
	"web-01/root/srv/tables.txt":                  "north-pier 3.2\nsouth-pier 2.9\n",
	"archive-01/root/srv/archive/index":           "methods.txt\n",
	"archive-01/root/usr/share/salt-lamp/version": "2.0\n",
	"archive-01/root/srv/archive/README":          "Readings of harbour.example.org, indexed: not yet.\n",
	"mail-01/root/usr/share/tide-logger/version":  "1.4.2-1\n",
	"web-01/root/srv/viewer/bin/viewer":           "echo viewer\n",
}
