//go:build lab

package lab

import (
	"strings"
	"testing"
)

// TestNothingInTheWayOnRealHosts tries what once stopped people, or let somebody in, where only a real
// host shows it.
func TestNothingInTheWayOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	is, on := l.ends, l.prints

	// A service that does not start shows why, and its own last lines.
	l.on("gauge-01", "sudo sh -c 'printf \"[Service]\\nExecStart=/bin/sh -c \\\"echo cannot read the gauge; exit "+
		"3\\\"\\n\" >/etc/systemd/system/ebb.service; "+
		"printf \"[Unit]\\nConditionPathExists=/srv/pier\\n[Timer]\\nOnCalendar=hourly\\n\" "+
		">/etc/systemd/system/ebb.timer; systemctl daemon-reload'")
	l.write("manifests/all.toml", "[service.ebb]\nrunning = true\n")
	is("a service that ends", 1, "its process exited with status 3")
	is("its own last lines", 1, "| cannot read the gauge")
	l.write("manifests/all.toml", "[service.\"ebb.timer\"]\nrunning = true\n")
	is("a timer with a condition", 1,
		"a condition prevented it from starting: ConditionPathExists=/srv/pier is not met")
	l.jk("apply", "gauge-01", "--forget-undeclared")

	// A folder that leaves takes what was copied along and lets go of what others put there.
	l.write("manifests/tree/index", "tides\n")
	l.write("manifests/all.toml", "[dir.\"/srv/pages\"]\ncopy = \"tree\"\non_removal = \"remove\"\n")
	is("a copied tree", 0, "1 changed")
	l.on("gauge-01", "sudo touch /srv/pages/mine")
	l.write("manifests/all.toml", "[dir.\"/srv/other\"]\n")
	is("it leaves", 0, "it is kept because it still contains mine")
	on("ls /srv/pages", "mine")
	if _, out := l.jk("apply", "gauge-01"); strings.Contains(out, "/srv/pages") {
		t.Errorf("it is reported again\n%s", out)
	}

	// A tag does not take the place of a branch, nor of a commit.
	l.on("gauge-01", "sudo sh -c '"+strings.ReplaceAll(gitPages, "'", `'\''`)+"; chown -R root /srv/at/git'")
	head := l.on("gauge-01", "sudo git -C /srv/at/git rev-parse main")
	evil := l.on("gauge-01", "sudo sh -c 'cd /srv/at/git && git -c user.name=M -c user.email=m@example.org "+
		"commit-tree -m evil main^{tree}'")
	l.on("gauge-01", "sudo git -C /srv/at/git update-ref refs/tags/main "+evil+"; sudo git -C /srv/at/git "+
		"update-ref refs/tags/"+head+" "+evil)
	checkout := func(rev string) {
		l.write("manifests/all.toml", "[checkout.\"/srv/at/copy\"]\nurl = \"/srv/at/git\"\nrevision = \""+rev+"\"\n")
	}
	checkout("main")
	is("a branch and a tag", 1, "main is both a branch and a tag in the repository")
	checkout("refs/heads/main")
	is("the branch", 0, "1 changed")
	on("git -C /srv/at/copy rev-parse HEAD", head)
	checkout(head)
	is("a whole commit", 0, "1 unchanged")
	checkout("refs/tags/main")
	is("the tag", 0, "1 changed")
	checkout(head)
	is("a whole commit that a tag is called like", 0, "1 changed")
	on("git -C /srv/at/copy rev-parse HEAD", head)
}
