//go:build lab

package lab

import (
	"strings"
	"testing"
)

// TestFixesOnRealHosts breaks real hosts in the ways that were found to harm them, each of which
// the next run has to come through.
func TestFixesOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	is, on := l.ends, l.prints

	// A dpkg that was killed in the middle.
	l.on("gauge-01", `sudo sh -c 'apt-get update -qq; dpkg --unpack /srv/repo/tide-logger_1.4.2*.deb >/dev/null; `+
		`touch /var/lib/dpkg/updates/0001'`)
	on("apt-get install -y tide-logger 2>&1 | grep -c interrupted", "1")
	l.write("manifests/all.toml", "[package.tide-logger]\nversion = \"1.4.2-1\"\n")
	is("a dpkg that was cut off", 0, "package manager: interrupted", "1 changed")
	on("ls /var/lib/dpkg/updates; dpkg-query -W -f \"\\${db:Status-Status} \\${Version}\" tide-logger",
		"installed 1.4.2-1")

	// A restart by another hand while a file is checked.
	tide := "[package.tide-logger]\n[file.\"/etc/tide.conf\"]\ncontent = \"a = %\\n\"\ncheck = \"systemctl restart " +
		"tide-logger; test -s ${candidate}\"\n[service.tide-logger]\nrunning = true\nrestart_on = [\"file " +
		"/etc/tide.conf\"]\n"
	l.write("manifests/all.toml", strings.Replace(tide, "%", "1", 1))
	l.apply(0)
	l.write("manifests/all.toml", strings.Replace(tide, "%", "2", 1))
	is("a restart by others meanwhile", 0, "service tide-logger  restarted because")

	// What is mounted inside a folder that is to go.
	l.on("gauge-01", "sudo sh -c 'mkdir -p /srv/old/inside; mount -t tmpfs none /srv/old/inside; touch "+
		"/srv/old/inside/kept'")
	l.write("manifests/all.toml", "[dir.\"/srv/old\"]\nabsent = true\nwith_contents = true\n")
	is("a mount inside", 1, "something is mounted at /srv/old/inside")
	on("ls /srv/old/inside; umount /srv/old/inside; rm -r /srv/old", "kept")

	// What an old file had.
	l.on("gauge-01", "sudo sh -c 'echo old >/srv/a; cp /srv/a /srv/b; ln /srv/b /srv/c'")
	l.write("manifests/all.toml", "[file.\"/srv/a\"]\ncontent = \"new\\n\"\n[file.\"/srv/b\"]\ncontent = \"new\\n\"\n")
	is("a file with two names", 1, "/srv/b has 2 hard links", "file /srv/a  changed")
	l.write("manifests/all.toml", "[file.\"/srv/a\"]\ncontent = \"new\\n\"\n[file.\"/srv/b\"]\ncontent = "+
		"\"new\\n\"\nfollow = true\n")
	is("a file with two names, followed", 0, "file /srv/b  changed")
	on("cat /srv/c; stat -c %h /srv/b", "new\n2")

	// A worker's file that is emptied, or cut off, or no program.
	for _, damage := range []string{": >$f", "head -c 1000 $f >$f.x; mv $f.x $f", "chmod 600 $f",
		"s=$(stat -c %s $f); rm $f; head -c $s /dev/urandom >$f; chmod 700 $f", "rm $f; mkdir $f"} {
		l.on("gauge-01", "sudo sh -c 'for f in /var/lib/jadekettle/bin/*; do "+damage+"; done'")
		is("a worker after "+damage, 0, "2 unchanged")
	}
	l.on("gauge-01", "sudo sh -c ': >/var/lib/jadekettle/start'")
	is("a starter that is empty", 0, "2 unchanged")

	// A host that takes one command at a time, and no tasks but unit files that run once.
	l.on("gauge-01", "sudo sh -c 'rm -r /var/lib/jadekettle/bin; echo MaxSessions 1 "+
		">/etc/ssh/sshd_config.d/one.conf; systemctl reload ssh'; sleep 1")
	is("MaxSessions 1", 0, "2 unchanged")
	l.write("manifests/all.toml", "[file.\"/etc/systemd/system/once.service\"]\ncontent = "+
		"\"[Service]\\nType=oneshot\\nExecStart=/bin/true\\n\"\n"+
		"[service.once]\nrunning = true\n")
	is("a unit that runs once", 1, "never stays running")
	l.write("manifests/all.toml", "[user.divers]\nhome = \"/srv/divers\"\n")
	l.on("gauge-01", "sudo sh -c 'mkdir /srv/divers; mount -t tmpfs none /srv/divers'")
	is("a home that is a mount", 0, "user divers  created")
	on("stat -c %U /srv/divers", "divers")
}

// ends applies, and holds what that ends with and prints to what is wanted.
func (l *lab) ends(name string, code int, says ...string) {
	l.t.Helper()
	got, out := l.jk("apply", "gauge-01", "--yes")
	for _, want := range says {
		if got != code || !strings.Contains(out, want) {
			l.t.Errorf("%s: ended with %d, without %q\n%s", name, got, want, out)
			return
		}
	}
}

// prints holds what a shell line prints, as root, to what is wanted.
func (l *lab) prints(line, want string) {
	l.t.Helper()
	if got := strings.TrimSpace(l.on("gauge-01", "sudo sh -c '"+line+"' 2>&1; true")); got != want {
		l.t.Errorf("%s\n says %q, want %q", line, got, want)
	}
}
