//go:build lab

package lab

import (
	"fmt"
	"strings"
	"testing"
)

// TestMendsOnRealHosts breaks real hosts in the ways that were found to harm, each of which
// the next run has to come through.
func TestMendsOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	is := func(name string, code int, says ...string) {
		t.Helper()
		got, out := l.jk("apply", "gauge-01", "--yes")
		for _, want := range says {
			if got != code || !strings.Contains(out, want) {
				t.Errorf("%s: ended with %d, without %q\n%s", name, got, want, out)
				return
			}
		}
	}
	on := func(line, want string) {
		t.Helper()
		if got := strings.TrimSpace(l.on("gauge-01", "sudo sh -c '"+line+"' 2>&1; true")); got != want {
			t.Errorf("%s\n says %q, want %q", line, got, want)
		}
	}

	// A dpkg that was killed in the middle.
	l.on("gauge-01", `sudo sh -c 'apt-get update -qq; dpkg --unpack /srv/repo/tide-logger_1.4.2*.deb >/dev/null; `+
		`touch /var/lib/dpkg/updates/0001'`)
	on("apt-get install -y tide-logger 2>&1 | grep -c interrupted", "1")
	l.write("manifests/all.toml", "[package.tide-logger]\nversion = \"1.4.2-1\"\n")
	is("a dpkg that was cut off", 0, "package manager: was interrupted", "1 changed")
	on("ls /var/lib/dpkg/updates; dpkg-query -W -f \"\\${db:Status-Status} \\${Version}\" tide-logger", "installed 1.4.2-1")

	// A restart by another hand while a file is checked.
	tide := "[package.tide-logger]\n[file.\"/etc/tide.conf\"]\ncontent = \"a = %\\n\"\ncheck = \"systemctl restart tide-logger; " +
		"test -s ${candidate}\"\n[service.tide-logger]\nrunning = true\nrestart_on = [\"file /etc/tide.conf\"]\n"
	l.write("manifests/all.toml", strings.Replace(tide, "%", "1", 1))
	l.apply(0)
	l.write("manifests/all.toml", strings.Replace(tide, "%", "2", 1))
	is("a restart by others meanwhile", 0, "service tide-logger  changed", "restart: was due")

	// What is mounted inside a folder that is to go.
	l.on("gauge-01", "sudo sh -c 'mkdir -p /srv/old/inside; mount -t tmpfs none /srv/old/inside; touch /srv/old/inside/kept'")
	l.write("manifests/all.toml", "[dir.\"/srv/old\"]\nabsent = true\nwith_contents = true\n")
	is("a mount inside", 1, "something is mounted at /srv/old/inside")
	on("ls /srv/old/inside; umount /srv/old/inside; rm -r /srv/old", "kept")

	// What an old file had.
	l.on("gauge-01", "sudo sh -c 'echo old >/srv/a; cp /srv/a /srv/b; ln /srv/b /srv/c'")
	l.write("manifests/all.toml", "[file.\"/srv/a\"]\ncontent = \"new\\n\"\n[file.\"/srv/b\"]\ncontent = \"new\\n\"\n")
	is("a file with two names", 1, "/srv/b has 2 names", "file /srv/a  changed")
	l.write("manifests/all.toml", "[file.\"/srv/a\"]\ncontent = \"new\\n\"\n[file.\"/srv/b\"]\ncontent = \"new\\n\"\nfollow = true\n")
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
	l.on("gauge-01", "sudo sh -c 'rm -r /var/lib/jadekettle/bin; echo MaxSessions 1 >/etc/ssh/sshd_config.d/one.conf; systemctl reload ssh'; sleep 1")
	is("MaxSessions 1", 0, "2 unchanged")
	l.write("manifests/all.toml", "[file.\"/etc/systemd/system/once.service\"]\ncontent = \"[Service]\\nType=oneshot\\nExecStart=/bin/true\\n\"\n"+
		"[service.once]\nrunning = true\n")
	is("a unit that runs once", 1, "never stays running")
	l.write("manifests/all.toml", "[user.divers]\nhome = \"/srv/divers\"\n")
	l.on("gauge-01", "sudo sh -c 'mkdir /srv/divers; mount -t tmpfs none /srv/divers'")
	is("a home that is a mount", 0, "user divers  changed")
	on("stat -c %U /srv/divers", "divers")

	// Drop-ins and a unit file over a package's, of which systemd's NeedDaemonReload says nothing.
	const cron = "[service.cron]\nrunning = true\nrestart_on = [\"file %s\"]\n[file.\"%s\"]\ncontent = \"%s\"\n"
	const dropIn, unitFile = "/etc/systemd/system/cron.service.d/env.conf", "/etc/systemd/system/cron.service"
	l.write("manifests/all.toml", "[dir.\"/etc/systemd/system/cron.service.d\"]\n"+
		fmt.Sprintf(cron, dropIn, dropIn, "[Service]\\nEnvironment=HARBOR=north\\n"))
	is("a drop-in", 0, "service cron  changed")
	on("systemctl show -p DropInPaths,Environment cron; tr \"\\\\0\" \"\\\\n\" </proc/$(systemctl show --value -p MainPID cron)/environ | grep HARBOR",
		"Environment=HARBOR=north\nDropInPaths="+dropIn+"\nHARBOR=north")
	is("a drop-in again", 0, "3 unchanged")
	l.write("manifests/all.toml", fmt.Sprintf(cron, unitFile, unitFile, "[Service]\\nExecStart=/usr/sbin/cron -f -L 5\\n"))
	is("a unit file over the package's", 0, "service cron  changed")
	on("systemctl show --value -p FragmentPath cron; tr \"\\\\0\" \" \" </proc/$(systemctl show --value -p MainPID cron)/cmdline",
		unitFile+"\n/usr/sbin/cron -f -L 5")
	l.on("gauge-01", "sudo sh -c 'mkdir -p /run/systemd/system/cron.service.d; echo \"[Service]\" >/run/systemd/system/cron.service.d/h.conf'")
	is("a drop-in by hand", 0, "definition: was changed since it was loaded")
	l.on("gauge-01", "sudo rm -r /run/systemd/system/cron.service.d")
	l.write("manifests/all.toml", "[service.cron]\nrunning = true\n")
	if code, out := l.jk("apply", "gauge-01", "--yes", "--take-leftovers"); code != 0 {
		t.Errorf("what left ended with %d\n%s", code, out)
	}
	on("systemctl show --value -p FragmentPath,DropInPaths cron", "/lib/systemd/system/cron.service")

	// What goes along with a package.
	l.write("manifests/all.toml", "[package.tide-tables]\n")
	is("what comes along", 0, "with it package reed-40: was absent, becomes 1.0-1")
	l.write("manifests/all.toml", "[package.reed-40]\nabsent = true\n")
	is("what is managed and would go along", 1, "tide-tables would go along with it, which the project")
	l.jk("apply", "gauge-01", "--yes", "--forget-leftovers")
	is("what goes along", 0, "with it package tide-tables: was 1.0-1, becomes absent")
	on("dpkg-query -W tide-tables reed-40 2>&1 | grep -c \"no packages found\"", "2")
	l.write("manifests/all.toml", "[package.perl-base]\nabsent = true\n")
	is("what is essential", 1, "perl-base would go, which is essential to this host")

	// A hold that nothing is said of stays, and a file of another package is not installed.
	l.write("manifests/all.toml", "[package.buoy-tools]\nversion = \"1.0-1\"\nhold = true\n")
	is("a hold", 0, "package buoy-tools  changed")
	l.write("manifests/all.toml", "[package.buoy-tools]\nversion = \"1.1-1\"\n")
	is("a newer one that is held", 0, "version: was 1.0-1, becomes 1.1-1")
	on("apt-mark showhold; dpkg-query -W buoy-tools", "buoy-tools\nbuoy-tools\t1.1-1")
	l.write("manifests/all.toml", "[package.salt-lamp]\nversion = \"0.2-1\"\nfrom = \"/srv/repo/old-ticker_0.3-1_all.deb\"\n")
	is("a file of another package", 1, "the file is the package old-ticker in the version 0.3-1")
	on("dpkg-query -W old-ticker salt-lamp 2>&1 | grep -c \"no packages found\"", "2")

	// A preview of a checkout reads, and writes nothing.
	l.on("gauge-01", "sudo sh -c '"+strings.ReplaceAll(gitPages, "'", `'\''`)+"; chown -R root /srv/at/git'")
	l.write("manifests/all.toml", "[checkout.\"/srv/at/copy\"]\nurl = \"/srv/at/git\"\nrevision = \"main\"\n")
	is("a checkout", 0, "1 changed")
	head := l.on("gauge-01", "sudo git -C /srv/at/copy rev-parse HEAD")
	l.write("manifests/all.toml", "[dir.\"/srv/at/below\"]\n[checkout.\"/srv/at/below/copy\"]\nurl = \"/srv/at/git\"\n"+
		"revision = \"main\"\n")
	if _, out := l.jk("preview", "gauge-01"); !strings.Contains(out, "commit: becomes "+head[:12]+" (main)") {
		t.Errorf("below a folder that is new the preview says\n%s", out)
	}
	l.write("manifests/all.toml", "[checkout.\"/srv/at/copy\"]\nurl = \"/srv/at/git\"\nrevision = \"main\"\n")
	l.on("gauge-01", "sudo sh -c 'touch -d 2020-01-01 /srv/at/copy/index; stat -c \"%i %y\" /srv/at/copy/.git/index >/srv/at/was'")
	l.jk("preview", "gauge-01")
	on("stat -c \"%i %y\" /srv/at/copy/.git/index | cmp - /srv/at/was && echo same", "same")
}
