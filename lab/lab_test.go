//go:build lab

// Package lab tests Jade Kettle on real Debian hosts with systemd, sshd and
// apt, which lab/up brings up. Run it as root:
//
//	go test -tags lab ./lab
package lab

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// lab is running hosts and a project for them.
type lab struct {
	t       testing.TB
	dir     string // of the hosts
	project string
	program string
	netns   string

	addresses map[string]string
}

// bringing is held while a program is built and hosts come up, which both have one place for.
var bringing sync.Mutex

// up brings hosts up, gauge-01 and archive-01 when none are named, or skips with
// the reason.
func up(t testing.TB, hosts ...string) *lab {
	t.Helper()
	if len(hosts) == 0 {
		hosts = []string{"gauge-01", "archive-01"}
	}
	if os.Geteuid() != 0 {
		t.Skip("the lab needs root to bring up hosts")
	}
	for _, program := range []string{"debootstrap", "systemd-nspawn", "ip", "nsenter", "dpkg-deb", "ssh"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("the lab needs %s (packages debootstrap systemd-container iproute2 util-linux dpkg-dev "+
				"openssh-client)", program)
		}
	}
	l := &lab{t: t, dir: filepath.Join(t.TempDir(), "hosts"), project: filepath.Join(t.TempDir(), "project"),
		program: filepath.Join(t.TempDir(), "jadekettle")}
	t.Cleanup(func() { exec.Command("./down", l.dir).Run() })
	bringing.Lock()
	defer bringing.Unlock()
	run(t, "../build/program", l.program, goarch(t))
	run(t, append([]string{"./up", l.dir}, hosts...)...)
	l.addresses = map[string]string{}
	for i, host := range hosts {
		l.addresses[host] = fmt.Sprintf("192.0.2.%d", 11+i)
	}
	l.netns = "/run/netns/" + strings.TrimSpace(read(t, filepath.Join(l.dir, "netns")))
	l.write("jadekettle.toml",
		"project = \"saltmarsh-lab\"\n[history]\nfile = \"../runs.db\"\n[inventory]\nfiles = [\"hosts.toml\", "+
			"\"groups.toml\"]\n[ssh]\nknown_hosts = "+
			"\""+l.dir+"/known_hosts\"\n")
	l.write("hosts.toml", read(t, filepath.Join(l.dir, "hosts.toml")))
	l.write("groups.toml", "[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n")
	return l
}

func goarch(t testing.TB) string { return strings.TrimSpace(run(t, "go", "env", "GOARCH")) }

func run(t testing.TB, args ...string) string {
	t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

func read(t testing.TB, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func (l *lab) write(name, text string) {
	l.t.Helper()
	p := filepath.Join(l.project, name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		l.t.Fatal(err)
	}
	if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
		l.t.Fatal(err)
	}
}

// in runs a command in the hosts' network.
func (l *lab) in(args ...string) *exec.Cmd {
	return exec.Command("nsenter", append([]string{"--net=" + l.netns}, args...)...)
}

// jk runs jadekettle and gives its exit code and output.
func (l *lab) jk(args ...string) (int, string) {
	l.t.Helper()
	if i := slices.IndexFunc(args, func(a string) bool {
		return a == "apply" || a == "exec" ||
			a == "start"
	}); i >= 0 && !slices.Contains(args, "--yes") {
		args = slices.Insert(slices.Clone(args), i+1, "--yes")
	}
	cmd := l.in(append([]string{l.program, "--project", l.project}, args...)...)
	out, err := cmd.CombinedOutput()
	if cmd.ProcessState == nil {
		l.t.Fatal(err)
	}
	return cmd.ProcessState.ExitCode(), string(out)
}

// on runs a shell line on a host as root, over OpenSSH.
func (l *lab) on(host, line string) string {
	l.t.Helper()
	out, err := l.ssh(host, line).CombinedOutput()
	if err != nil {
		l.t.Fatalf("%s: %s: %v\n%s", host, line, err, out)
	}
	return strings.TrimSpace(string(out))
}

func (l *lab) ssh(host, line string) *exec.Cmd {
	line = "sh -c '" + strings.ReplaceAll(line, "'", `'\''`) + "'"
	login := "ops"
	if strings.HasSuffix(host, "-busybox") {
		login = "root"
	} else {
		line = "sudo " + line
	}
	return l.in("ssh", "-q", "-i", l.dir+"/key", "-o", "UserKnownHostsFile="+l.dir+"/known_hosts",
		login+"@"+l.addresses[host], line)
}

type report struct {
	Hosts []struct {
		Name, State, Message                string
		Changed, Failed, Unchanged, Blocked int
		Tasks                               []struct{ Kind, Name, Status, Message string }
	}
}

// apply runs an apply of all hosts and gives its report.
func (l *lab) apply(wantCode int, args ...string) report {
	l.t.Helper()
	code, out := l.jk(append([]string{"apply", "--all", "--output", "json"}, args...)...)
	var r report
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != wantCode {
		if list := r.changed(); err == nil {
			out = strings.Join(slices.DeleteFunc(list,
				func(s string) bool { return strings.HasSuffix(s, " changed ") }), "\n")
			for _, h := range r.Hosts {
				out += "\n" + h.Name + " " + h.State + " " + h.Message
			}
		}
		l.t.Fatalf("apply ended with %d, not %d: %v\n%s", code, wantCode, err, out)
	}
	return r
}

// changed lists what changed anywhere, as host task.
func (r report) changed() []string {
	var out []string
	for _, h := range r.Hosts {
		for _, t := range h.Tasks {
			if t.Status != "unchanged" {
				out = append(out, h.Name+" "+t.Kind+" "+t.Name+" "+t.Status+" "+t.Message)
			}
		}
	}
	return out
}

const everyKind = `
[package.tide-logger]
version = "newest"
[package.chart-press]
version = "2.0.1-1"
[package.buoy-tools]
[package.old-ticker]
absent = true

[user.tidelog]
system = true
groups = ["gauges", "dialout"]
home = "/var/lib/tide"
shell = "/bin/sh"
comment = "Tide logger"
[group.gauges]
gid = 2100
[user.maren]
uid = 2101
password = "salt & 'water' 01"
[user.old-keeper]
absent = true

[dir."/var/lib/tide"]
owner = "tidelog"
group = "gauges"
mode = "2750"

[file."/etc/tide-logger.toml"]
template = "logger.toml.tmpl"
owner = "root"
group = "gauges"
mode = "0640"
check = "tide-logger --check ${candidate}"
[file."/var/lib/tide/harmonics.bin"]
copy = "harmonics.bin"
owner = "tidelog"
mode = "0600"
[file."/etc/systemd/system/ebb.service"]
content = "[Unit]\nDescription=ebb\n[Service]\nExecStart=/bin/sleep 1000000\n[Install]\nWantedBy=multi-user.target\n"
owner = "root"
mode = "0644"
[file."/etc/old-notes"]
absent = true

[service.tide-logger]
running = true
at_boot = true
restart_on = ["file /etc/tide-logger.toml"]
[service.chart-press]
running = false
at_boot = false
[service.ebb]
running = true
at_boot = true
restart_on = ["file /etc/systemd/system/ebb.service"]
[service.tsunami-siren]
optional = true
running = true
`

func TestEveryKindOnRealHosts(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	l := up(t)
	l.write("manifests/all/manifest.toml", everyKind)
	l.write("manifests/all/logger.toml.tmpl", "host = \"{{ host.name }}\"\nos = \"{{ facts.os.id }}\"\n")
	l.write("manifests/all/harmonics.bin", strings.Repeat("\x00\x01\xfe tides", 100_000))
	for host := range l.addresses {
		// The package list is left unread, as on a fresh host.
		l.on(host, "useradd old-keeper; echo x > /etc/old-notes; dpkg -i /srv/repo/old-ticker_*.deb >/dev/null")
	}
	if code, out := l.jk("lint"); code != 0 {
		t.Fatalf("lint: %s", out)
	}
	if code, out := l.jk("preview"); code != 0 || !strings.Contains(out, "2 to change") {
		t.Fatalf("preview ended with %d:\n%s", code, out)
	}
	l.apply(0)
	if again := l.apply(0).changed(); len(again) > 0 {
		t.Fatalf("the second apply changed:\n%s", strings.Join(again, "\n"))
	}
	for host := range l.addresses {
		l.look(host)
	}
	l.breakAndFix()
	l.capture()
	l.attacked()
	l.grown()
}

// attacked plays an ordinary account in a folder of its own in which things are
// declared: nothing of what it left becomes root's with rights in it.
func (l *lab) attacked() {
	l.t.Helper()
	everything := read(l.t, filepath.Join(l.project, "manifests/all/manifest.toml"))
	l.write("manifests/all/manifest.toml", `[file."/srv/drop/shell"]
owner = "root"
group = "root"
[file."/srv/drop/rewritten"]
content = "ours\n"
owner = "root"
[file."/srv/drop/conf"]
content = "x\n"
owner = "nobody"
follow = true
[user.mallory]
keys = ["`+olgasKey+`"]
`)
	l.on("gauge-01", `useradd -m mallory; install -d -o mallory -m 755 /srv/drop; su mallory -c '
		cp /bin/sh /srv/drop/shell; chmod 4755 /srv/drop/shell; cp /bin/sh /srv/drop/rewritten;
		chmod 6755 /srv/drop/rewritten; ln -s /etc/shadow /srv/drop/conf;
		mkdir /home/mallory/.ssh; ln -s /etc/shadow /home/mallory/.ssh/authorized_keys'`)
	l.apply(1)
	for line, want := range map[string]string{
		"stat -c '%U %a' /srv/drop/shell":     "mallory 4755",
		"stat -c '%U %a' /srv/drop/rewritten": "root 755",
		"cat /srv/drop/rewritten":             "ours",
		"stat -c '%U %a' /etc/shadow":         "root 640",
		"grep -c ^x /etc/shadow; true":        "0",
	} {
		if got := strings.TrimSpace(l.on("gauge-01", line)); got != want {
			l.t.Errorf("after the attack %s gives %q, want %q", line, got, want)
		}
	}
	l.on("gauge-01", "rm -rf /srv/drop; userdel -r mallory 2>/dev/null")
	l.write("manifests/all/manifest.toml", everything)
	l.apply(0)
}

// capture takes what is on a host for its manifest, which then changes
// nothing.
func (l *lab) capture() {
	l.t.Helper()
	everything := read(l.t, filepath.Join(l.project, "manifests/all/manifest.toml"))
	var all strings.Builder
	for _, what := range []string{"user", "group", "service", "package", "file /etc/tide-logger.toml",
		"dir /var/lib/tide", "user tidelog old-keeper"} {
		args := append([]string{l.program, "--project", l.project, "capture", "gauge-01"}, strings.Fields(what)...)
		out, err := l.in(args...).Output()
		if err != nil {
			l.t.Errorf("capture %s: %v\n%s", what, err, out)
			return
		}
		all.Write(append(out, '\n'))
	}
	out := all.String()
	for _, want := range []string{"[user.maren]\n", "uid = 2101\n", "[package.tide-logger]\n",
		"[service.tide-logger]\nrunning = true\nat_boot = true\n", "[user.old-keeper]\nabsent = true\n",
		"os = \"debian\"\n"} {
		if !strings.Contains(string(out), want) {
			l.t.Errorf("captured lacks %q:\n%s", want, out)
		}
	}
	l.write("manifests/all/manifest.toml", string(out))
	if code, out := l.jk("preview", "gauge-01", "--fail-if-changes"); code != 0 {
		l.t.Errorf("what was captured changes something (%d):\n%s", code, out)
	}
	l.write("manifests/all/manifest.toml", everything)
}

// grown gives one host, chosen by its facts, an encrypted value, and a task that
// only follows a change.
func (l *lab) grown() {
	l.t.Helper()
	l.write("groups.toml", "[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n[group.first]\n"+
		"where = 'facts.hostname == \"gauge-01\"'\ntrust_facts = true\nmanifests = [\"locker\"]\n")
	l.write("manifests/locker.toml", `[file."/etc/relay-token"]
content = "token ${data.relay.token}\n"
owner = "root"
mode = "0600"
[file."/etc/peers"]
content = "${fleet.hosts.filter(h, has(h.facts)).map(h, h.name + ' ' + h.facts.os.id).join(',')}\n"
owner = "root"
mode = "0644"
[dir."/srv/followed"]
only_if_changed = ["file /etc/relay-token"]
owner = "root"
mode = "0755"
`)
	identity := filepath.Join(l.project, "identity.txt")
	if code, out := l.jk("secret", "init", "--file", identity); code != 0 {
		l.t.Fatalf("secret init: %s", out)
	}
	set := l.in(l.program, "--project", l.project, "--identity", identity, "secret", "set", "shared", "relay.token")
	set.Stdin = strings.NewReader("rip-tide-7781\n")
	if out, err := set.CombinedOutput(); err != nil {
		l.t.Fatalf("secret set: %v\n%s", err, out)
	}
	for _, want := range []string{"3 changed", "1 skipped"} {
		code, out := l.jk("apply", "@first", "--identity", identity, "-v")
		if code != 0 || !strings.Contains(out, want) || strings.Contains(out, "rip-tide") ||
			!strings.Contains(out, "Run ") {
			l.t.Errorf("apply of what has grown ended with %d, wanting %s:\n%s", code, want, out)
		}
	}
	for line, want := range map[string]string{
		"cat /etc/relay-token":                               "token rip-tide-7781",
		"cat /etc/peers":                                     "gauge-01 debian,archive-01 debian",
		"stat -c %U /srv/followed":                           "root",
		"grep -rl rip-tide /var/lib/jadekettle || echo none": "none",
	} {
		if got := l.on("gauge-01", line); got != want {
			l.t.Errorf("gauge-01: %s gives %q, want %q", line, got, want)
		}
	}
	if got := l.on("archive-01", "test -e /etc/relay-token && echo there || echo none"); got != "none" {
		l.t.Error("the other host has it too")
	}
}

// look asks a host with its own commands whether all is as declared.
func (l *lab) look(host string) {
	l.t.Helper()
	for line, want := range map[string]string{
		"dpkg-query -W -f '${Version}' tide-logger":                        "1.5.0-1",
		"dpkg-query -W -f '${Version}' chart-press":                        "2.0.1-1",
		"dpkg-query -W -f '${Status}' buoy-tools":                          "install ok installed",
		"dpkg-query -W -f '${Status}' old-ticker 2>/dev/null || echo gone": "gone",
		"systemctl is-active tide-logger ebb":                              "active\nactive",
		"systemctl is-enabled tide-logger ebb":                             "enabled\nenabled",
		"systemctl is-active chart-press; true":                            "inactive",
		"systemctl is-enabled chart-press; true":                           "disabled",
		"getent passwd tidelog | cut -d: -f5-":                             "Tide logger:/var/lib/tide:/bin/sh",
		"getent group gauges":                                              "gauges:x:2100:tidelog",
		"id -nG tidelog | tr ' ' '\\n' | sort | tr '\\n' ' '":              "dialout gauges tidelog ",
		"getent passwd maren | cut -d: -f3":                                "2101",
		"getent passwd old-keeper || echo gone":                            "gone",
		"stat -c '%U:%G %a' /var/lib/tide":                                 "tidelog:gauges 2750",
		"stat -c '%U:%G %a' /etc/tide-logger.toml":                         "root:gauges 640",
		"cat /etc/tide-logger.toml": fmt.Sprintf(
			"host = %q\nos = \"debian\"", host),
		"sha256sum < /var/lib/tide/harmonics.bin": strings.TrimSpace(run(l.t, "sh", "-c",
			"sha256sum < "+l.project+"/manifests/all/harmonics.bin")),
		"stat -c '%U %a' /var/lib/tide/harmonics.bin":                      "tidelog 600",
		"test -e /etc/old-notes || echo gone":                              "gone",
		`printf "salt & 'water' 01\0" | unix_chkpwd maren nullok; echo $?`: "0",
		"ls -A /etc /var/lib/tide | grep jadekettle- || echo none":         "none",
		"stat -c '%U %a' /var/lib/jadekettle /var/lib/jadekettle/bin":      "root 711\nroot 700",
		"grep -rl 'salt & ' /var/lib/jadekettle || echo none":              "none",
	} {
		if got := l.on(host, line); strings.TrimSpace(got) != strings.TrimSpace(want) {
			l.t.Errorf("%s: %s\n got %q\nwant %q", host, line, got, want)
		}
	}
}

// breakAndFix breaks a host by hand in several ways and sees each repaired.
func (l *lab) breakAndFix() {
	for name, c := range map[string]struct {
		line string
		want []string
	}{
		"a file edited": {"echo broken >> /etc/tide-logger.toml",
			[]string{"file /etc/tide-logger.toml", "service tide-logger"}},
		"a mode and an owner changed": {"chmod 777 /var/lib/tide; chown root /var/lib/tide/harmonics.bin",
			[]string{"dir /var/lib/tide", "file /var/lib/tide/harmonics.bin"}},
		"a service stopped and disabled": {"systemctl disable --now ebb", []string{"service ebb"}},
		"a package removed, one downgraded": {"apt-get remove -y buoy-tools; apt-get install -y --allow-downgrades " +
			"tide-logger=1.4.2-1", []string{"package buoy-tools", "package tide-logger"}},
		"a password and groups changed": {"echo maren:other | chpasswd; gpasswd -d tidelog gauges",
			[]string{"user maren", "user tidelog"}},
		"a user and a folder deleted": {"pkill -u tidelog; userdel tidelog; rm -rf /var/lib/tide",
			[]string{"user tidelog", "dir /var/lib/tide", "file /var/lib/tide/harmonics.bin"}},
	} {
		before := l.on("gauge-01", "systemctl show -p MainPID --value tide-logger")
		l.on("gauge-01", c.line)
		got := l.apply(0).changed()
		for _, want := range c.want {
			if !strings.Contains(strings.Join(got, "\n"), "gauge-01 "+want+" changed") {
				l.t.Errorf("%s: %s was not repaired; got\n%s", name, want, strings.Join(got, "\n"))
			}
		}
		if len(got) != len(c.want) {
			l.t.Errorf("%s: changed\n%s\nwant only %v", name, strings.Join(got, "\n"), c.want)
		}
		if name == "a file edited" && before == l.on("gauge-01", "systemctl show -p MainPID --value tide-logger") {
			l.t.Errorf("%s: the service was not restarted", name)
		}
		l.look("gauge-01")
	}
}

func TestFaultsOnRealHosts(t *testing.T) {
	l := up(t)
	l.write("manifests/all.toml",
		"[file.\"/etc/salt\"]\ncontent = \"salt\\n\"\nmode = \"0644\"\n[package.foghorn-relay]\n[package.buoy-tools]\n"+
			"[package.salt-lamp]\n")
	l.on("gauge-01", "echo 'echo Welcome to the pier; echo mind the gap' > /home/ops/.bashrc; chown ops: "+
		"/home/ops/.bashrc")
	r := l.apply(1)
	for _, h := range r.Hosts {
		if h.Changed != 3 || h.Failed != 1 {
			t.Errorf("%s: one bad package sank others: %+v", h.Name, h)
		}
	}

	l.on("gauge-01", "rm /home/ops/.bashrc")
	t.Run("a planted link in the worker's folder", func(t *testing.T) {
		l.on("gauge-01", "mv /var/lib/jadekettle/bin /tmp/bin; ln -s /tmp/bin /var/lib/jadekettle/bin")
		l.fails(t, "preview", "/var/lib/jadekettle/bin is a symlink, or writable by users other than root")
		l.on("gauge-01", "rm /var/lib/jadekettle/bin; mv /tmp/bin /var/lib/jadekettle/bin")
	})
	t.Run("a worker that others can write", func(t *testing.T) {
		l.on("gauge-01", "chmod o+w /var/lib/jadekettle/bin/*")
		l.fails(t, "preview", "is a symlink, or writable by users other than root")
		l.on("gauge-01", "chmod o-w /var/lib/jadekettle/bin/*")
	})
	t.Run("a planted link in a file's place, and on the way", func(t *testing.T) {
		l.on("gauge-01", "rm /etc/salt; ln -s /etc/shadow /etc/salt")
		l.fails(t, "apply", "/etc/salt is a symlink to /etc/shadow")
		l.on("gauge-01", "rm /etc/salt")
	})
	t.Run("sudo refused", func(t *testing.T) {
		l.on("gauge-01", "mv /etc/sudoers.d/ops /root/ops")
		l.fails(t, "preview", "sudo refuses ops")
		if err := os.Rename(filepath.Join(l.dir, "gauge-01/root/root/ops"),
			filepath.Join(l.dir, "gauge-01/root/etc/sudoers.d/ops")); err != nil {
			t.Fatal(err)
		}
	})
	t.Run("a full disk under the worker", func(t *testing.T) {
		l.on("gauge-01", "mkdir -p /var/lib/jadekettle.old && mv /var/lib/jadekettle/* /var/lib/jadekettle.old/ && "+
			"mount -t tmpfs -o size=64k,mode=700 full /var/lib/jadekettle")
		l.fails(t, "apply", "cannot be stored in /var/lib/jadekettle/bin", "No space left")
		l.on("gauge-01", "umount /var/lib/jadekettle; mv /var/lib/jadekettle.old/* /var/lib/jadekettle/")
	})
	t.Run("a changed host key, then trusted", func(t *testing.T) {
		known := read(t, l.dir+"/known_hosts")
		fields := strings.Fields(known)
		os.WriteFile(l.dir+"/known_hosts", []byte(strings.Replace(known, fields[2], fields[5], 1)), 0o600)
		l.fails(t, "preview", "HOST KEY HAS CHANGED")
		if code, out := l.jk("hosts", "trust", "--yes", "gauge-01"); code != 1 {
			t.Errorf("trust took a changed key without --replace: %d\n%s", code, out)
		}
		if code, out := l.jk("hosts", "trust", "--yes", "--replace", "gauge-01"); code != 0 ||
			!strings.Contains(out, "accepted") {
			t.Errorf("ended with %d:\n%s", code, out)
		}
		if code, out := l.jk("preview", "gauge-01"); code != 0 && !strings.Contains(out, "reached") {
			t.Errorf("after trusting: %d\n%s", code, out)
		}
	})
	t.Run("a worker killed mid-run", func(t *testing.T) { l.killed(t) })
}

// fails runs a preview or an apply of the first host that must fail and say so.
func (l *lab) fails(t *testing.T, verb string, says ...string) {
	t.Helper()
	code, out := l.jk(verb, "gauge-01")
	for _, want := range says {
		if code != 1 || !strings.Contains(out, want) {
			t.Errorf("%s ended with %d, or does not say %q:\n%s", verb, code, want, out)
		}
	}
}

// killed kills the worker while it installs, and sees the next run come out right.
func (l *lab) killed(t *testing.T) {
	l.t = t
	l.write("manifests/all.toml", `
[package.tide-logger]
[file."/etc/tide-logger.toml"]
content = "a = 1\n"
mode = "0644"
[file."/etc/slow"]
content = "slow\n"
mode = "0644"
check = "sleep 3; test -s ${candidate}"
[service.tide-logger]
running = true
restart_on = ["file /etc/tide-logger.toml", "file /etc/slow"]
`)
	l.on("gauge-01", "apt-get update -qq; apt-get install -y -qq tide-logger; systemctl start tide-logger")
	pid := l.on("gauge-01", "systemctl show -p MainPID --value tide-logger")
	done := make(chan string)
	go func() {
		_, out := l.jk("apply", "gauge-01")
		done <- out
	}()
	for range 100 {
		time.Sleep(50 * time.Millisecond)
		if l.on("gauge-01", "pgrep -x sleep -a | grep -c 'sleep 3' || true") == "1" {
			break
		}
	}
	l.on("gauge-01", "pkill -9 -f [w]orker-session")
	if out := <-done; !strings.Contains(out, "lost") {
		t.Errorf("the killed run said\n%s", out)
	}
	code, out := l.jk("apply", "gauge-01")
	if code != 0 || !strings.Contains(out, "results collected from the interrupted run") ||
		!strings.Contains(out, "restarted because") {
		t.Errorf("the next run ended with %d:\n%s", code, out)
	}
	if now := l.on("gauge-01", "systemctl show -p MainPID --value tide-logger"); now == pid {
		t.Error("the owed restart did not happen")
	}
	if left := l.on("gauge-01", "ls -A /etc | grep jadekettle- || echo none"); left != "none" {
		t.Errorf("strays are left: %s", left)
	}
	if code, out := l.jk("preview", "gauge-01", "--fail-if-changes"); code != 0 {
		t.Errorf("after that a preview shows %d:\n%s", code, out)
	}
}
