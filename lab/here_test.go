//go:build lab

package lab

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// hereFrom is where the hosts have their project from. The server plays one that proves who it is, as a host that
// keeps itself wants it.
const hereFrom = "https://git.example.org/tide.git@main"

// TestHostsKeepThemselves has three hosts keep themselves from a git repository: one is broken by
// hand and repaired, a changed declaration comes to all, and the repository being gone changes
// nothing.
func TestHostsKeepThemselves(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	names := []string{"gauge-01", "gauge-02", "archive-01"}
	l := up(t, names...)
	git := func(args ...string) string {
		t.Helper()
		return run(t, append([]string{"git", "-C", l.project, "-c", "user.name=Maren", "-c",
			"user.email=maren@example.org"}, args...)...)
	}
	declare := func(text string) {
		t.Helper()
		l.write("manifests/all.toml", "[file.\"/etc/tide\"]\ncontent = \""+text+"\\n\"\n[file.\"/etc/token\"]\nif "+
			"= \"has(data.token)\"\ncontent = \"${data.token}\\n\"\nmode = \"0600\"\nowner = \"root\"\n")
		git("add", "-A")
		git("commit", "-qm", text)
		run(t, "git", "-C", l.project, "push", "-q", filepath.Join(l.dir, "git", "tide.git"), "HEAD:main")
	}
	l.write(".gitignore", ".jadekettle\n")
	l.write("jadekettle.toml", strings.Replace(read(t, l.project+"/jadekettle.toml"), "[history]\nfile = "+
		"\"../runs.db\"\n", "", 1))
	git("init", "-q", "-b", "main")
	run(t, "git", "init", "-q", "--bare", "-b", "main", filepath.Join(l.dir, "git", "tide.git"))
	declare("ebb")
	stop := served(t, l)
	defer func() { stop() }()
	const instead = "[url \"git://192.0.2.1/\"]\ninsteadOf = https://git.example.org/\n"
	if err := os.MkdirAll(filepath.Join(l.dir, "home"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(l.dir, "home", ".gitconfig"), []byte(instead), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if err := os.WriteFile(filepath.Join(l.dir, name, "root", "etc", "gitconfig"), []byte(instead),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	jk := func(want int, args ...string) string {
		t.Helper()
		c := l.in(append([]string{l.program}, args...)...)
		c.Env = append(os.Environ(), "HOME="+filepath.Join(l.dir, "home"), "XDG_STATE_HOME=", "XDG_CACHE_HOME=")
		out, err := c.CombinedOutput()
		if c.ProcessState == nil || c.ProcessState.ExitCode() != want {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	time.Sleep(time.Second)
	said := jk(0, "hosts", "enroll", "gauge-01", "gauge-02", "archive-01", "--from", hereFrom, "--every", "1m")
	if strings.Count(said, "enrolled: applies "+hereFrom+" every 1m") != 3 ||
		strings.Count(said, "encrypt_for = \"age1") != 3 || strings.Contains(said, "AGE-SECRET") {
		t.Fatalf("enroll shows\n%s", said)
	}
	until := func(host, line, want string) {
		t.Helper()
		got := ""
		for deadline := time.Now().Add(4 * time.Minute); ; time.Sleep(time.Second) {
			out, _ := l.ssh(host, line).CombinedOutput()
			if got = strings.TrimSpace(string(out)); got == want {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s: %s gives %q, not %q\n%s", host, line, got, want,
					l.on(host, "journalctl --no-pager -n 40 -u jadekettle-here; systemctl --no-pager status "+
						"jadekettle-here; true"))
			}
		}
	}
	// what is encrypted for one host alone, and broken by hand on another; no controller is there
	recipient := ""
	for _, line := range strings.Split(said, "\n") {
		if strings.Contains(line, "[host.gauge-01]") {
			recipient = strings.Split(line, "\"")[1]
		}
	}
	hosts := hostsFix(t, names, l, declare, jk, until, recipient)
	stop()
	hostsLeftAlone(t, l, jk, until, hosts)
}

// served serves the repositories of the lab, until they are to be gone.
func served(t *testing.T, l *lab) (stop func()) {
	t.Helper()
	c := l.in("git", "daemon", "--export-all", "--reuseaddr", "--base-path="+filepath.Join(l.dir, "git"),
		"--listen=192.0.2.1")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	return func() { exec.Command("pkill", "-P", strconv.Itoa(c.Process.Pid)).Run(); c.Process.Kill(); c.Wait() }
}

// hostsFix has what is encrypted for one host come to it alone, and what was broken by hand repaired, while no
// controller is there. It gives the inventory that was there before.
func hostsFix(t *testing.T, names []string, l *lab, declare func(text string),
	jk func(want int, args ...string) string,
	until func(host, line, want string), recipient string) string {
	t.Helper()
	for _, name := range names {
		until(name, "cat /etc/tide", "ebb")
	}
	hosts := read(t, l.project+"/hosts.toml")
	l.write("hosts.toml", strings.Replace(hosts, "[host.gauge-01]\n",
		"[host.gauge-01]\nencrypt_for = \""+recipient+"\"\n", 1))
	jk(0, "--project", l.project, "secret", "init")
	c := l.in(l.program, "--project", l.project, "secret", "set", "host/gauge-01", "token")
	c.Env = append(os.Environ(), "HOME="+filepath.Join(l.dir, "home"))
	c.Stdin = strings.NewReader("rip-tide-7781")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l.on("gauge-02", "echo broken by hand > /etc/tide")
	declare("flood")
	until("gauge-01", "cat /etc/token", "rip-tide-7781")
	for _, name := range names {
		until(name, "cat /etc/tide", "flood")
	}
	if out := l.on("gauge-02", "ls /etc/token 2>&1; true"); !strings.Contains(out, "No such file") {
		t.Errorf("another host has the token: %s", out)
	}
	return hosts
}

// hostsLeftAlone takes the repository away, fills a disk, has a controller and a host meet, and lets the hosts go.
func hostsLeftAlone(t *testing.T, l *lab,
	jk func(want int, args ...string) string, until func(host, line, want string), hosts string) {
	t.Helper()
	// The repository is gone, and somebody breaks a host
	l.on("gauge-02", "echo broken again > /etc/tide; systemctl restart jadekettle-here")
	until("gauge-02", "cat /etc/tide", "flood")
	const here = "XDG_STATE_HOME=/var/lib/jadekettle/here/state XDG_CACHE_HOME=/var/lib/jadekettle/here/cache " +
		"HOME=/root /usr/local/lib/jadekettle/jadekettle "
	if out := l.on("gauge-02", here+"tend status --here --from "+hereFrom+"; true"); !strings.Contains(out,
		"last good version is kept") {
		t.Errorf("without its repository it shows\n%s", out)
	}
	at := l.on("gauge-02", "ls -td /var/lib/jadekettle/here/cache/jadekettle/from/*/at/* | head -n 1")
	life := l.on("gauge-02", here+"--project "+at+" runs history gauge-02 file /etc/tide")
	if strings.Count(life, "changed") < 3 || !strings.Contains(life, "broken again") {
		t.Errorf("its history shows\n%s", life)
	}
	defer served(t, l)()
	// a full disk where the host keeps its check-ins and its state: it fixes all the same
	const kept = "/var/lib/jadekettle/here/state"
	l.on("archive-01", "mount -t tmpfs -o size=64k none "+kept+"; dd if=/dev/zero of="+kept+"/fill bs=1k "+
		"2>/dev/null; echo broken > /etc/tide; systemctl restart jadekettle-here")
	until("archive-01", "cat /etc/tide", "flood")
	if out := l.on("archive-01", "journalctl --no-pager -u jadekettle-here"); !strings.Contains(out,
		"the state cannot be kept") {
		t.Errorf("of a full disk it shows\n%s", out)
	}
	l.on("archive-01", "systemctl stop jadekettle-here; umount "+kept)
	if out := jk(0, "preview", "gauge-02", "--from", hereFrom); !strings.Contains(out, "unchanged  gauge-02") {
		t.Errorf("the controller finds\n%s", out)
	}
	// a controller and the host at once: one is informed who holds it
	slow := filepath.Join(l.dir, "slow")
	for name, text := range map[string]string{"jadekettle.toml": "project = \"another\"\n[ssh]\nknown_hosts = \"" +
		l.dir + "/known_hosts\"\n",
		"hosts.toml":         hosts + "\n[group.all]\nmembers = [\"gauge-02\"]\nmanifests = [\"all\"]\n",
		"manifests/all.toml": "[command.\"wait for the tide\"]\nscript = \"sleep 66\"\nalways = true\n"} {
		os.MkdirAll(filepath.Dir(filepath.Join(slow, name)), 0o755)
		if err := os.WriteFile(filepath.Join(slow, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	jk(0, "--project", slow, "apply", "gauge-02", "--yes")
	if out := l.on("gauge-02", here+"--project "+at+" runs show last-failed"); !strings.Contains(out, "busy") ||
		!strings.Contains(out, "root@") {
		t.Errorf("its own check-in was reported\n%s", out)
	}
	t.Log(l.on("gauge-02", "systemctl show -p CPUUsageNSec -p MemoryPeak -p MemoryCurrent jadekettle-here; "+
		here+"--project "+at+" runs --most 0 | grep -c apply; uptime"))
	said := jk(0, "hosts", "unenroll", "gauge-01", "gauge-02", "archive-01", "--from", hereFrom)
	if strings.Count(said, "unenrolled") != 3 {
		t.Errorf("release shows\n%s", said)
	}
	if out := l.on("gauge-01", "ls /etc/systemd/system/jadekettle-here.service /usr/local/lib/jadekettle "+
		"/var/lib/jadekettle/here 2>&1; pgrep -c -x jadekettle; cat /etc/tide"); strings.Count(out,
		"No such file") != 3 ||
		!strings.HasSuffix(out, "0\nflood") {
		t.Errorf("of it there is left\n%s", out)
	}
}
