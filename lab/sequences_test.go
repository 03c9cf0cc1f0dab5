//go:build lab

package lab

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// count reads how often something is done: a few times here, and as often as the variable says by hand.
func count(name string, few int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return few
}

// dice are those of a test, whose seed it prints. SEED has another one, and 0 one of its own each time.
func dice(t *testing.T) *rand.Rand {
	seed := uint64(count("SEED", 7))
	if seed == 0 {
		seed = uint64(time.Now().UnixNano() % 1e9)
	}
	t.Logf("SEED=%d", seed)
	return rand.New(rand.NewPCG(seed, 0))
}

func pick(r *rand.Rand, list ...string) string { return list[r.IntN(len(list))] }

// declared is a manifest of things of every sort, each in one of several ways, or not at all.
func declared(r *rand.Rand) string {
	var out []string
	for _, ways := range [][]string{
		{`[file."/etc/tide.conf"]` + "\ncontent = \"" + pick(r, "ebb", "flood", "slack") + "\\n\"\nmode = \"" +
			pick(r, "0644", "0640", "0600") +
			"\"\nowner = \"" + pick(r, "root", "daemon", "ops") + "\"\n", "[file.\"/etc/tide.conf\"]\nabsent = true\n"},
		{"[file.\"/srv/one\"]\ncontent = \"one\\n\"\n", "[file.\"/srv/one\"]\nabsent = true\n"},
		{"[dir.\"/srv/tree\"]\ncopy = \"" + pick(r, "a", "b") + "\"\nonly_declared = " +
			pick(r, "true", "false") + "\n",
			"[dir.\"/srv/tree\"]\nabsent = true\nwith_contents = true\n", "[dir.\"/srv/tree\"]\nmode = \"0750\"\n"},
		{"[dir.\"/srv/d\"]\nmode = \"" + pick(r, "0755", "2770") + "\"\nowner = \"" + pick(r, "root", "ops") + "\"\n",
			"[dir.\"/srv/d\"]\nabsent = true\nwith_contents = true\n"},
		{"[link.\"/srv/link\"]\nto = \"" + pick(r, "/tmp", "/etc") + "\"\n", "[link.\"/srv/link\"]\nabsent = true\n"},
		{"[lines.\"/etc/hosts.tide\"]\ncreate = true\nadd = [{ line = \"192.0.2." + pick(r, "7", "8") +
			" pier\", replaces = \"pier\" }]\n"},
		{"[block.\"/etc/tide.block#a\"]\ncontent = \"" + pick(r, "a\\nb", "c") + "\\n\"\ncreate = true\n"},
		{"[settings.\"/etc/tide.ini\"]\nformat = \"ini\"\ncreate = true\nset = { depth = " + pick(r, "3", "5") +
			", station = \"pier\" }\n"},
		{"[group.divers]\n" + pick(r, "", "gid = 2500\n"), "[group.divers]\nabsent = true\n"},
		{"[user.ottokar]\nshell = \"" + pick(r, "/bin/sh", "/bin/bash") + "\"\ncomment = \"" +
			pick(r, "night", "day") + "\"\ngroups = [\"" +
			pick(r, "adm", "dialout") + "\"]\n", "[user.ottokar]\nabsent = true\n"},
		{"[package.tide-logger]\nversion = \"" + pick(r, "1.4.2-1", "1.5.0-1") + "\"\nhold = " +
			pick(r, "true", "false") + "\n",
			"[package.tide-logger]\nabsent = true\n"},
		{"[package.old-ticker]\n", "[package.old-ticker]\nabsent = true\n"},
		{"[service.cron]\noptional = true\nrunning = " + pick(r, "true", "false") + "\nat_boot = " +
			pick(r, "true", "false") + "\n"},
		{"[sysctl.\"net.ipv4.ip_forward\"]\nvalue = " + pick(r, "0", "1") + "\n"},
		{"[cron.tide]\nschedule = \"" + pick(r, "@daily", "5 4 * * *") + "\"\nrun = \"true\"\n",
			"[cron.tide]\nabsent = true\n"},
		{"[hostname.gauge-" + pick(r, "north", "south") + "]\n"},
	} {
		if n := r.IntN(len(ways) + 1); n < len(ways) {
			out = append(out, ways[n])
		}
	}
	return strings.Join(out, "")
}

// byHand is something that a person does on the host.
func byHand(r *rand.Rand) string {
	return pick(r, "echo more >> /etc/tide.conf", "chmod 0604 /etc/tide.conf", "chown daemon /srv/d",
		"touch /srv/tree/mine", "rm -rf /srv/tree",
		"usermod -c other ottokar", "groupadd -f divers", "rm -f /srv/link; ln -s /tmp /srv/link",
		"sysctl -q -w net.ipv4.ip_forward=0",
		"echo 192.0.2.9 buoy >> /etc/hosts.tide", "echo x >> /srv/one", "apt-get -qq -y purge old-ticker", "true")
}

// listing lists all that is in a host's folders and may change, a line for each path: type, mode, owner, names,
// extended attributes and content; then its packages, services and what the kernel is set to.
func (l *lab) listing(host string) map[string]string {
	l.t.Helper()
	out := map[string]string{}
	root := filepath.Join(l.dir, host, "root")
	for _, top := range []string{"etc", "srv", "home", "root", "var/spool/cron"} {
		filepath.WalkDir(filepath.Join(root, top), func(p string, d fs.DirEntry, err error) error {
			name := strings.TrimPrefix(p, root)
			if err != nil || name == "/srv/repo" {
				return fs.SkipDir
			}
			if base := filepath.Base(name); strings.HasSuffix(base, "-") ||
				slices.Contains([]string{"ld.so.cache", ".pwd.lock", "subuid", "subgid", ".updated", ".depend.start",
					".depend.stop", ".depend.boot"}, base) ||
				strings.HasPrefix(name, "/home/ottokar") {
				return nil
			}
			out[name] = described(p, name)
			return nil
		})
	}
	for line := range strings.Lines(l.on(host,
		`dpkg-query -W -f 'package ${Package} ${Version} ${db:Status-Abbrev}\n'; echo "host name $(hostname)"; `+
			`echo "forward $(cat /proc/sys/net/ipv4/ip_forward)"; for s in cron tide-logger; do echo "service $s `+
			`$(systemctl is-active $s) $(systemctl is-enabled $s 2>&1)"; done`)) {
		words := strings.Fields(line)
		if words[0] == "package" {
			state := words[len(words)-1]
			// what dpkg does for it waits, since it was killed, until dpkg is called again
			if strings.ContainsAny(state[1:], "tW") {
				state = state[:1] + "i"
			}
			if state[1:] != "i" {
				continue // removed, and its configuration files are there still
			}
			words[len(words)-1] = state
		}
		out[strings.Join(words[:2], " ")] = strings.Join(words[2:], " ")
	}
	return out
}

func described(p, name string) string {
	var st syscall.Stat_t
	if err := syscall.Lstat(p, &st); err != nil {
		return err.Error()
	}
	text := fmt.Sprintf("%o %d:%d", st.Mode, st.Uid, st.Gid)
	switch st.Mode & syscall.S_IFMT {
	case syscall.S_IFLNK:
		to, _ := os.Readlink(p)
		return text + " to " + to
	case syscall.S_IFREG:
		data, err := os.ReadFile(p)
		// what comes back is at the end
		if slices.Contains([]string{"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow"}, name) {
			lines := strings.Split(string(data), "\n")
			slices.Sort(lines)
			data = []byte(strings.Join(lines, "\n"))
		}
		text += fmt.Sprintf(" names %d %x %v", st.Nlink, sha256.Sum256(data), err)
	}
	buf := make([]byte, 4096)
	n, _ := unix.Llistxattr(p, buf)
	for attr := range strings.SplitSeq(string(buf[:max(0, n)]), "\x00") {
		value := make([]byte, 4096)
		if n, err := unix.Lgetxattr(p, attr, value); attr != "" && err == nil {
			text += fmt.Sprintf(" %s=%x", attr, value[:n])
		}
	}
	return text
}

// plant puts what people leave in a folder: an ACL, a number without an account, a name that is not a text, and two
// names of one file.
func (l *lab) plant(host string) {
	l.t.Helper()
	tree := filepath.Join(l.dir, host, "root/srv/tree")
	os.MkdirAll(tree, 0o755)
	os.WriteFile(filepath.Join(tree, "acl"), []byte("acl\n"), 0o640)
	var acl []byte
	acl = binary.LittleEndian.AppendUint32(acl, 2) // see acl_ea_header in acl(5)'s library, and linux/posix_acl_xattr.h
	for _, e := range [][3]uint32{{1, 6, ^uint32(0)}, {2, 4, 1}, {4, 0, ^uint32(0)}, {16, 4, ^uint32(0)},
		{32, 0, ^uint32(0)}} {
		acl = binary.LittleEndian.AppendUint16(acl, uint16(e[0]))
		acl = binary.LittleEndian.AppendUint16(acl, uint16(e[1]))
		acl = binary.LittleEndian.AppendUint32(acl, e[2])
	}
	if err := unix.Setxattr(filepath.Join(tree, "acl"), "system.posix_acl_access", acl, 0); err != nil {
		l.t.Logf("no ACLs here: %v", err)
	}
	os.WriteFile(filepath.Join(tree, "number"), []byte("n\n"), 0o600)
	os.Chown(filepath.Join(tree, "number"), 4711, 4711)
	os.WriteFile(filepath.Join(tree, "g\xe4nge"), []byte("latin\n"), 0o644)
	os.WriteFile(filepath.Join(tree, "first"), []byte("names\n"), 0o644)
	os.Link(filepath.Join(tree, "first"), filepath.Join(tree, "second"))
}

// runsOf lists the numbers of the runs that are kept and come after one, newest first.
func (l *lab) runsOf(after int) []int {
	_, out := l.jk("runs", "--output", "json")
	var doc struct{ Runs []struct{ Number int } }
	if err := json.Unmarshal([]byte(out), &doc); err != nil {
		l.t.Fatalf("%v\n%s", err, out)
	}
	var list []int
	for _, r := range doc.Runs {
		if r.Number > after {
			list = append(list, r.Number)
		}
	}
	return list
}

// doing does something that changes a host, killed a few times on the way where the dice say so, and repeated until
// it comes to its end. It gives the runs that this was, newest first.
func (l *lab) doing(r *rand.Rand, kills bool, args ...string) []int {
	before := 0
	if have := l.runsOf(0); len(have) > 0 {
		before = have[0]
	}
	for kills && r.IntN(2) == 0 {
		l.killedAt(r, time.Duration(r.IntN(1500))*time.Millisecond, args...)
	}
	for try := 0; ; try++ {
		code, out := l.jk(args...)
		if strings.Contains(out, "busy") && try < 50 {
			time.Sleep(200 * time.Millisecond)
			continue
		}
		if code != 0 && code != 1 && !strings.Contains(out, "changed nothing") ||
			strings.Contains(out, "internal error") {
			l.t.Errorf("%v ends with %d\n%s", args, code, out)
		}
		break
	}
	return l.runsOf(before)
}

// killedAt begins a call, and kills the controller, the worker or both after a while.
func (l *lab) killedAt(r *rand.Rand, after time.Duration, args ...string) {
	who := r.IntN(3) // drawn whatever happens, so that a seed repeats what follows
	cmd := l.in(append([]string{l.program, "--project", l.project}, args...)...)
	if err := cmd.Start(); err != nil {
		l.t.Fatal(err)
	}
	over := make(chan bool)
	go func() { cmd.Wait(); close(over) }()
	select {
	case <-over:
		return
	case <-time.After(after):
	}
	if who != 0 {
		l.ssh("gauge-01", "pkill -9 -f [w]orker-session").Run()
	}
	if who != 1 {
		cmd.Process.Kill()
	}
	<-over
}

// announced gives what an undo of a run says that it cannot put back as it was.
func (l *lab) announced(run int) string {
	_, out := l.jk("undo", fmt.Sprint(run), "--preview", "--output", "json")
	var doc struct {
		Hosts []struct {
			Tasks []struct {
				Kind, Name, Status string
				Changes            []struct{ What string }
			}
		}
	}
	json.Unmarshal([]byte(out), &doc)
	said := ""
	for _, h := range doc.Hosts {
		for _, t := range h.Tasks {
			partly := slices.ContainsFunc(t.Changes, func(c struct{ What string }) bool { return c.What == "names" })
			if t.Status == "failed" || t.Status == "blocked" || partly {
				said += t.Kind + " " + t.Name + "\n"
			}
		}
	}
	if doc.Hosts == nil { // as where nothing was changed
		return out
	}
	return said
}

// apart gives what differs between two listings.
func apart(was, now map[string]string) map[string]bool {
	out := map[string]bool{}
	for _, names := range []map[string]string{was, now} {
		for name := range names {
			if was[name] != now[name] {
				out[name] = true
			}
		}
	}
	return out
}

// undone undoes runs, and compares the host with how it was; what was announced before may differ, and what
// somebody has changed by hand.
func (l *lab) undone(r *rand.Rand, step string, kills bool, runs []int, before map[string]string,
	mine map[string]bool, said *string) (by []int) {
	l.t.Helper()
	for _, run := range runs {
		*said += l.announced(run)
		by = append(l.doing(r, kills, "undo", fmt.Sprint(run), "--yes"), by...)
	}
	now := l.listing("gauge-01")
	l.t.Logf("%s: %d differ, %d of them by hand; announced were %d", step, len(apart(before, now)), len(mine),
		strings.Count(*said, "\n"))
	for name := range apart(before, now) {
		if !mine[name] && !concerns(*said, name) {
			l.t.Errorf("%s: %q is %q and was %q\nannounced was\n%s", step, name, now[name], before[name], *said)
		}
	}
	return by
}

// concerns says whether what was announced is about a path, or what lies above or below it, or an account or a package.
func concerns(said, name string) bool {
	name = strings.ToValidUTF8(name, "\uFFFD")
	for line := range strings.Lines(said) {
		kind, of, _ := strings.Cut(strings.TrimSpace(line), " ")
		of, _, _ = strings.Cut(of, "#")
		switch {
		case of == name, strings.HasPrefix(name, of+"/"), strings.HasPrefix(of, name+"/"):
			return true
		case (kind == "user" || kind == "group") &&
			slices.Contains([]string{"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow"}, name):
			return true
		case strings.HasSuffix(name, " "+of), kind == "hostname" &&
			(name == "/etc/hostname" || name == "host name" || name == "/etc/hosts"),
			kind == "sysctl" && (name == "forward" || strings.HasPrefix(name, "/etc/sysctl.d/")),
			kind == "cron" && strings.HasPrefix(name, "/etc/cron"):
			return true
		}
	}
	return false
}

// TestRandomSequences applies twice, changes something by hand, and takes it all back, and then that again; a third
// of the sequences are killed on the way. SEQUENCES says how many, SEED repeats them.
func TestRandomSequences(t *testing.T) {
	l := up(t, "gauge-01")
	r := dice(t)
	l.write("manifests/a/low/water", "ebb\n")
	l.write("manifests/a/high", "flood\n")
	l.write("manifests/b/high", "spring flood\n")
	for n := range count("SEQUENCES", 3) {
		kills := r.IntN(3) == 0 || n == 1
		t.Logf("sequence %d, killed: %v", n, kills)
		l.on("gauge-01", "rm -rf /srv/tree")
		l.plant("gauge-01")
		s0 := l.listing("gauge-01")
		m1, m2, hand := declared(r), declared(r), byHand(r)
		l.write("manifests/all.toml", m1)
		first := l.doing(r, kills, "apply", "--all")
		s1 := l.listing("gauge-01")
		l.write("manifests/all.toml", m2)
		second := l.doing(r, kills, "apply", "--all")
		s2 := l.listing("gauge-01")
		l.ssh("gauge-01", hand).Run()
		mine := apart(s2, l.listing("gauge-01"))
		t.Logf("sequence %d: %d differ after the first apply, and %d after the second", n, len(apart(s0, s1)),
			len(apart(s1, s2)))
		failed, said := t.Failed(), ""
		step := func(what string) string { return fmt.Sprintf("sequence %d, %s", n, what) }
		l.undone(r, step("the second is undone, after `"+hand+"`"), kills, second, s1, mine, &said)
		s4 := l.listing("gauge-01")
		back := l.undone(r, step("the first is undone"), kills, first, s0, mine, &said)
		l.undone(r, step("that undo is undone"), kills, back, s4, mine, &said)
		if t.Failed() && !failed {
			t.Logf("sequence %d was\n%s\n--- and then\n%s\n--- and by hand: %s", n, m1, m2, hand)
		}
	}
}

// TestRandomKills goes from one state to another and back, and kills the controller, the worker or both on the way:
// once an apply has ended the host is as declared, nothing is undeclared, and nothing changes any more.
// KILLS says how often.
func TestRandomKills(t *testing.T) {
	l := up(t, "gauge-01")
	r := dice(t)
	states := []string{priorThen, comesNow}
	for i := range states { // a password has another salt each time, and what a host is called has to be found
		states[i] = strings.NewReplacer("password = \"salt & water\"\n", "", "password = \"ebb and flow\"\n", "",
			"[hostname.gauge-renamed]\n", "").Replace(states[i])
	}
	var want [2]map[string]string
	for n := range 2 * 2 {
		l.write("manifests/all.toml", states[n%2])
		l.apply(0)
		want[n%2] = l.listing("gauge-01")
	}
	for n := range count("KILLS", 6) {
		l.write("manifests/all.toml", states[n%2])
		for range 1 + r.IntN(2) {
			l.killedAt(r, time.Duration(r.IntN(4000))*time.Millisecond, "apply", "--all", "--yes")
		}
		l.doing(r, false, "apply", "--all")
		if code, out := l.jk("preview", "--fail-if-changes"); code != 0 {
			t.Errorf("round %d: then a preview ends with %d\n%s", n, code, out)
		}
		for name := range apart(want[n%2], l.listing("gauge-01")) {
			t.Errorf("round %d: %q is %q, and otherwise %q", n, name, l.listing("gauge-01")[name], want[n%2][name])
		}
		if left := l.on("gauge-01", "find / -xdev -name '.jadekettle-*' 2>/dev/null; ls /var/lib/jadekettle | grep "+
			"-E 'guard.json|guard-restored' || true"); left != "" {
			t.Errorf("round %d: it leaves %s", n, left)
		}
	}
}
