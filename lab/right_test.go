//go:build lab

package lab

import (
	"fmt"
	"strings"
	"testing"
)

// TestRightOnRealHosts tries what was once reported as unchanged or changed and was not, where only
// a real host shows it.
func TestRightOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	is, on := l.ends, l.prints
	l.on("gauge-01", "apt-get update -q >/dev/null")

	// Drop-ins and a unit file over a package's, of which systemd's NeedDaemonReload says nothing.
	const cron = "[service.cron]\nrunning = true\nrestart_on = [\"file %s\"]\n[file.\"%s\"]\ncontent = \"%s\"\n"
	const dropIn, unitFile = "/etc/systemd/system/cron.service.d/env.conf", "/etc/systemd/system/cron.service"
	l.write("manifests/all.toml", "[dir.\"/etc/systemd/system/cron.service.d\"]\n"+
		fmt.Sprintf(cron, dropIn, dropIn, "[Service]\\nEnvironment=HARBOR=north\\n"))
	is("a drop-in", 0, "service cron  changed")
	on("systemctl show -p DropInPaths,Environment cron; tr \"\\\\0\" \"\\\\n\" </proc/$(systemctl show --value -p "+
		"MainPID cron)/environ | grep HARBOR",
		"Environment=HARBOR=north\nDropInPaths="+dropIn+"\nHARBOR=north")
	is("a drop-in again", 0, "3 unchanged")
	l.write("manifests/all.toml", fmt.Sprintf(cron, unitFile, unitFile, "[Service]\\nExecStart=/usr/sbin/cron -f "+
		"-L 5\\n"))
	is("a unit file over the package's", 0, "service cron  changed")
	on("systemctl show --value -p FragmentPath cron; tr \"\\\\0\" \" \" </proc/$(systemctl show --value -p MainPID "+
		"cron)/cmdline",
		unitFile+"\n/usr/sbin/cron -f -L 5")
	l.on("gauge-01", "sudo sh -c 'mkdir -p /run/systemd/system/cron.service.d; echo \"[Service]\" "+
		">/run/systemd/system/cron.service.d/h.conf'")
	is("a drop-in by hand", 0, "definition: changed since it was loaded -> loaded")
	l.on("gauge-01", "sudo rm -r /run/systemd/system/cron.service.d")
	l.write("manifests/all.toml", "[service.cron]\nrunning = true\n")
	if code, out := l.jk("apply", "gauge-01", "--yes", "--remove-undeclared"); code != 0 {
		t.Errorf("what left ended with %d\n%s", code, out)
	}
	on("systemctl show --value -p FragmentPath,DropInPaths cron", "/lib/systemd/system/cron.service")

	// What goes along with a package.
	l.write("manifests/all.toml", "[package.tide-tables]\n")
	is("what comes along", 0, "also package reed-40: absent -> 1.0-1")
	l.write("manifests/all.toml", "[package.reed-40]\nabsent = true\n")
	is("what is managed and would go along", 1, "it would also remove tide-tables, which the project")
	l.jk("apply", "gauge-01", "--yes", "--forget-undeclared")
	is("what goes along", 0, "also package tide-tables: 1.0-1 -> absent")
	on("dpkg-query -W tide-tables reed-40 2>&1 | grep -c \"no packages found\"", "2")
	l.write("manifests/all.toml", "[package.perl-base]\nabsent = true\n")
	is("what is essential", 1, "it would remove perl-base, which is essential to this host")

	// A hold that nothing is said of stays, and a file of another package is not installed.
	l.write("manifests/all.toml", "[package.buoy-tools]\nversion = \"1.0-1\"\nhold = true\n")
	is("a hold", 0, "package buoy-tools  installed")
	l.write("manifests/all.toml", "[package.buoy-tools]\nversion = \"1.1-1\"\n")
	is("a newer one that is held", 0, "version: 1.0-1 -> 1.1-1")
	on("apt-mark showhold; dpkg-query -W buoy-tools", "buoy-tools\nbuoy-tools\t1.1-1")
	l.write("manifests/all.toml", "[package.salt-lamp]\nversion = \"0.2-1\"\nfrom = "+
		"\"/srv/repo/old-ticker_0.3-1_all.deb\"\n")
	is("a file of another package", 1, "the file is the package old-ticker in the version 0.3-1")
	on("dpkg-query -W old-ticker salt-lamp 2>&1 | grep -c \"no packages found\"", "2")

	// A preview of a checkout reads, and writes nothing.
	l.on("gauge-01", "sudo sh -c '"+strings.ReplaceAll(gitPages, "'", `'\''`)+"; chown -R root /srv/at/git'")
	l.write("manifests/all.toml", "[checkout.\"/srv/at/copy\"]\nurl = \"/srv/at/git\"\nrevision = \"main\"\n")
	is("a checkout", 0, "1 changed")
	head := l.on("gauge-01", "sudo git -C /srv/at/copy rev-parse HEAD")
	l.write("manifests/all.toml", "[dir.\"/srv/at/below\"]\n[checkout.\"/srv/at/below/copy\"]\nurl = \"/srv/at/git\"\n"+
		"revision = \"main\"\n")
	if _, out := l.jk("preview", "gauge-01"); !strings.Contains(out, head[:12]+" (main)") {
		t.Errorf("below a folder that is new the preview says\n%s", out)
	}
	l.write("manifests/all.toml", "[checkout.\"/srv/at/copy\"]\nurl = \"/srv/at/git\"\nrevision = \"main\"\n")
	l.on("gauge-01", "sudo sh -c 'touch -d 2020-01-01 /srv/at/copy/index; stat -c \"%i %y\" "+
		"/srv/at/copy/.git/index >/srv/at/was'")
	l.jk("preview", "gauge-01")
	on("stat -c \"%i %y\" /srv/at/copy/.git/index | cmp - /srv/at/was && echo same", "same")
}
