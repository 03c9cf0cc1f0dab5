//go:build lab

package lab

import (
	"strings"
	"testing"
)

// buildRPMs makes a repository of rpm packages in /srv/rpms: tide-logger in two
// versions, and salt-lamp.
const buildRPMs = `set -e
mkdir -p /etc/rpm; echo "%_dbpath /var/lib/rpm" >/etc/rpm/macros # Debian's rpm has root's database in root's home
mkdir -p /srv/rpms /root/b && cd /root/b
spec() {
	printf 'Name: %s\nVersion: %s\nRelease: 1\nSummary: made up\nLicense: none\nBuildArch: noarch\n' "$1" "$2"
	printf '%%description\nmade up\n%%install\nmkdir -p %%{buildroot}/usr/share/%s\necho %s > ' "$1" "$2"
	printf '%%{buildroot}/usr/share/%s/version\n%%files\n/usr/share/%s\n' "$1" "$1"
}
spec tide-logger 1.4.2 >a.spec; spec tide-logger 1.10.0 >b.spec; spec salt-lamp 2.0 >c.spec
for s in a b c; do rpmbuild -bb --quiet --define "_rpmdir /srv/rpms" $s.spec >/dev/null 2>&1; done
createrepo_c -q /srv/rpms
rm -f /var/lib/rpm/.rpm.lock
`

// buildPacman makes a repository of pacman's in /srv/pac. Debian's repo-add lacks
// what it needs, so its database is made by hand.
const buildPacman = `set -e
mkdir -p /srv/pac /root/p && cd /root/p
for nv in tide-logger=1.10.0-1 salt-lamp=2.0-1; do
	n=${nv%%=*}; v=${nv#*=}
	rm -rf t; mkdir -p t/usr/share/$n; echo $v >t/usr/share/$n/version
	printf 'pkgname = %s\npkgbase = %s\npkgver = %s\npkgdesc = made up\n'\
'builddate = 1\npackager = keepers\nsize = 9\narch = any\n' \
		$n $n $v >t/.PKGINFO
	f=$n-$v-any.pkg.tar.zst
	printf '#mtree\n./usr type=dir\n./usr/share type=dir\n'\
'./usr/share/%s type=dir\n./usr/share/%s/version type=file sha256digest=%s\n' \
		$n $n $(sha256sum <t/usr/share/$n/version | cut -d' ' -f1) | gzip >t/.MTREE
	tar -C t --zstd -cf /srv/pac/$f .PKGINFO .MTREE usr
	mkdir -p db/$n-$v
	printf '%%FILENAME%%\n%s\n\n%%NAME%%\n%s\n\n%%VERSION%%\n%s\n\n'\
'%%CSIZE%%\n%s\n\n%%SHA256SUM%%\n%s\n\n%%ARCH%%\nany\n\n' \
		$f $n $v $(stat -c %s /srv/pac/$f) $(sha256sum </srv/pac/$f | cut -d' ' -f1) >db/$n-$v/desc
done
(cd db && tar -czf /srv/pac/tides.db *)
printf '[options]\nArchitecture = auto\nSigLevel = Never\n[tides]\nServer = file:///srv/pac\n' >/etc/pacman.conf
`

const rpmRepo = `[repo.tides]
urls = ["file:///srv/rpms"]
insecure_without_key = true
[package.tide-logger]
version = "1.4.*"
hold = true
[package.salt-lamp]
`

// TestPackageManagersOnRealHosts takes packages through their round on hosts
// that have dnf, zypper and pacman.
func TestPackageManagersOnRealHosts(t *testing.T) {
	l := up(t, "gauge-dnf", "gauge-zypper", "gauge-pacman")
	l.on("gauge-dnf", "rm /usr/bin/apt-get /usr/bin/zypper /usr/bin/pacman; "+buildRPMs)
	l.on("gauge-zypper", "rm /usr/bin/apt-get /usr/bin/dnf /usr/bin/pacman; "+buildRPMs)
	l.on("gauge-pacman", "rm /usr/bin/apt-get /usr/bin/dnf /usr/bin/zypper; "+buildPacman)
	l.write("groups.toml", `[group.rpm]
members = ["gauge-dnf", "gauge-zypper"]
manifests = ["rpm"]
[group.pacman]
members = ["gauge-pacman"]
manifests = ["pacman"]
`)
	// Debian's dnf comes without the plug-in that holds packages.
	l.write("manifests/rpm.toml", strings.Replace(rpmRepo, "hold = true", "", 1))
	l.write("manifests/pacman.toml", "[package.tide-logger]\nversion = \"newest\"\n[package.salt-lamp]\n")
	if code, out := l.jk("preview"); code != 0 || !strings.Contains(out, "3 to change") {
		t.Fatalf("preview ended with %d:\n%s", code, out)
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	for host, want := range map[string]string{"gauge-dnf": "1.4.2", "gauge-zypper": "1.4.2",
		"gauge-pacman": "1.10.0-1"} {
		if got := l.on(host, "cat /usr/share/tide-logger/version /usr/share/salt-lamp/version | head -1"); got != want {
			t.Errorf("%s has tide-logger %s, want %s", host, got, want)
		}
	}
	// Broken by hand, and in another version from now on.
	l.on("gauge-dnf", "rpm -e salt-lamp")
	l.on("gauge-zypper", "rpm -e salt-lamp")
	l.on("gauge-pacman", "pacman -R --noconfirm salt-lamp >/dev/null")
	l.write("manifests/rpm.toml", strings.Replace(rpmRepo, "hold = true", "", 1)+
		"[package.never-heard-of]\nif = 'facts.hostname == \"gauge-dnf\"'\n")
	r := l.apply(1)
	if got := strings.Join(r.changed(), "\n"); strings.Count(got, "package salt-lamp changed") != 3 ||
		!strings.Contains(got, "package \"never-heard-of\" not found in any repository") {
		t.Errorf("the repair changed:\n%s", got)
	}
	l.write("manifests/rpm.toml", strings.NewReplacer("hold = true", "", "1.4.*", "newest").Replace(rpmRepo))
	l.apply(0)
	for _, host := range []string{"gauge-dnf", "gauge-zypper"} {
		if got := l.on(host, "cat /usr/share/tide-logger/version"); got != "1.10.0" {
			t.Errorf("%s has tide-logger %s as its newest", host, got)
		}
	}
	packagesTakenAway(t, l)
}

// packagesTakenAway captures, takes away and undoes.
func packagesTakenAway(t *testing.T, l *lab) {
	t.Helper()
	l.along()
	l.held()
	out, _ := l.in(l.program, "--project", l.project, "capture", "gauge-pacman", "package").Output()
	if !strings.Contains(string(out), "[package.salt-lamp]\n") {
		t.Errorf("captured is:\n%s", out)
	}
	l.on("gauge-pacman", "echo by hand >/usr/share/salt-lamp/version")
	if _, out := l.jk("capture", "gauge-pacman", "file"); !strings.Contains(out,
		"[file.\"/usr/share/salt-lamp/version\"]") ||
		strings.Contains(out, "[file.\"/usr/share/tide-logger/version\"]") {
		t.Errorf("what differs from what a package brought is reported as\n%.3000s", out)
	}
	const versions = "cat /usr/share/tide-logger/version; ls /usr/share/salt-lamp"
	before := map[string]string{}
	for host := range l.addresses {
		before[host] = l.on(host, versions)
	}
	gone := "[package.tide-logger]\nabsent = true\n[package.salt-lamp]\nabsent = true\npurge = true\n"
	l.write("manifests/rpm.toml", gone+"[repo.tides]\nabsent = true\n")
	l.write("manifests/pacman.toml", gone)
	l.apply(0)
	if code, out := l.jk("undo", "last", "--yes"); code != 0 {
		t.Errorf("undo ends with %d\n%s", code, out)
	}
	for host, want := range before {
		if got := l.on(host, versions); got != want {
			t.Errorf("undone, %s has %s, want %s", host, got, want)
		}
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Errorf("taken away again, this changed:\n%s", strings.Join(again, "\n"))
	}
	for host := range l.addresses {
		if got := l.on(host, "ls /usr/share | grep -c -e tide-logger -e salt-lamp; ls /etc/yum.repos.d "+
			"/etc/zypp/repos.d "+
			"2>/dev/null | grep -c tides; true"); got != "0\n0" {
			t.Errorf("%s still has %q", host, got)
		}
	}
}

// along asks what else a package brings about: nothing, if it is named with its architecture, and
// the end of one that it takes the place of.
func (l *lab) along() {
	l.t.Helper()
	const build = `cd /root/b && mkdir -p /srv/later && (spec() {
	printf 'Name: dusk-lamp\nVersion: 1.0\nRelease: 1\nSummary: made up\nLicense: none\nBuildArch: noarch\n'
	printf 'Obsoletes: salt-lamp\n%%description\nmade up\n%%files\n'
}; spec >d.spec; rpmbuild -bb --quiet --define "_rpmdir /srv/later" d.spec >/dev/null 2>&1); ls /srv/later/noarch`
	newest := strings.NewReplacer("hold = true", "", "1.4.*", "newest").Replace(rpmRepo)
	l.write("manifests/rpm.toml", newest+"[package.dusk-lamp]\nversion = \"1.0-1\"\n"+
		"from = \"/srv/later/noarch/dusk-lamp-1.0-1.noarch.rpm\"\n")
	for _, host := range []string{"gauge-dnf", "gauge-zypper"} {
		l.on(host, build)
		if code, out := l.jk("apply", host); code != 1 ||
			!strings.Contains(out, "it would also remove salt-lamp, which is declared differently") {
			l.t.Errorf("%s: one that takes the place of another: %d\n%s", host, code, out)
		}
		l.on(host, "rpm -q salt-lamp && ! rpm -q dusk-lamp && rpm -e salt-lamp")
	}
	l.write("manifests/rpm.toml", strings.Replace(newest, "salt-lamp", `"salt-lamp.noarch"`, 1))
	if code, out := l.jk("preview", "@rpm"); code != 0 || !strings.Contains(out, "gauge-dnf gauge-zypper  package "+
		"salt-lamp.noarch  would") ||
		strings.Contains(out, "also package") {
		l.t.Errorf("with its architecture: %d\n%s", code, out)
	}
	l.write("manifests/rpm.toml", newest)
	l.apply(0)
}

// held holds a package where zypper is, goes back to an older version, and
// meets a lock.
func (l *lab) held() {
	l.t.Helper()
	l.write("manifests/rpm.toml", rpmRepo)
	r := l.apply(1)
	if got := strings.Join(r.changed(), "\n"); !strings.Contains(got, "dnf on this host cannot hold packages") ||
		!strings.Contains(got, "gauge-zypper package tide-logger changed") {
		l.t.Errorf("holding changed:\n%s", got)
	}
	if got := l.on("gauge-zypper",
		"cat /usr/share/tide-logger/version; zypper -q locks | grep -c tide-logger"); got != "1.4.2\n1" {
		l.t.Errorf("held is %q", got)
	}
}
