//go:build lab

package lab

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestPackagesOfARelease installs the .deb on a host with dpkg and the .rpm on one with dnf, runs the program, reads a
// man page, and removes them. DIST names the directory of a release; without it, one is made.
func TestPackagesOfARelease(t *testing.T) {
	dist := os.Getenv("DIST")
	if dist == "" {
		dist = t.TempDir()
		run(t, "../build/release", dist, goarch(t))
	}
	l := up(t)
	l.on("archive-01", "rm /usr/bin/apt-get /usr/bin/zypper /usr/bin/pacman; mkdir -p /etc/rpm; "+
		`echo "%_dbpath /var/lib/rpm" >/etc/rpm/macros`)
	for _, c := range []struct{ host, pattern, install, verify, remove string }{
		{"gauge-01", "*.deb", "dpkg -i /root/PACKAGE", "dpkg --verify jadekettle", "dpkg --purge jadekettle"},
		{"archive-01", "*.rpm", "dnf -y -q --disablerepo=* install /root/PACKAGE", "rpm -V jadekettle",
			"dnf -y -q --disablerepo=* remove jadekettle"},
	} {
		files, err := filepath.Glob(filepath.Join(dist, c.pattern))
		if err != nil || len(files) != 1 {
			t.Fatalf("%s has %d files %s, not one (%v)", dist, len(files), c.pattern, err)
		}
		name := filepath.Base(files[0])
		run(t, "cp", files[0], filepath.Join(l.dir, c.host, "root/root", name))
		l.on(c.host, strings.ReplaceAll(c.install, "PACKAGE", name))
		if got := l.on(c.host, "jadekettle version"); !strings.HasPrefix(got, "jadekettle 0.") {
			t.Errorf("%s: its version is %q", name, got)
		}
		if got := l.on(c.host, "man jadekettle-undo | cat"); !strings.Contains(got, "Revert the changes") {
			t.Errorf("%s: the man page is %q", name, got)
		}
		if got := l.on(c.host, c.verify+"; ls /usr/share/doc/jadekettle"); !strings.Contains(got, "changelog.gz") ||
			strings.Contains(got, "/usr/bin") {
			t.Errorf("%s: verified with\n%s", name, got)
		}
		l.on(c.host, c.remove)
		if got := l.on(c.host, "find /usr /etc -path '*jadekettle*' | head"); got != "" {
			t.Errorf("%s: removing it leaves\n%s", name, got)
		}
	}
}
