package run_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/worker"
)

// bench is a project with simulated hosts.
type bench struct {
	t          testing.TB
	dir        string
	sim        *sim.Fleet
	runs       int
	project    string // its identity
	key        string // another client's key, when set
	notify     func(record.Event)
	silence    time.Duration
	limits     run.Limits
	guard      time.Duration
	part       resolve.Selection
	undeclared plan.Run     // what a run does with them, and with what others manage
	dialer     reach.Dialer // what a test adds to it
	target     reach.Target
	near       bool                          // hosts are reached inside this program, see nearby
	session    atomic.Pointer[reach.Session] // that was opened, of those
	workers    sync.WaitGroup                // of those
}

// newBench brings up hosts of these names, each given the manifest "all".
func newBench(t testing.TB, names ...string) *bench {
	t.Helper()
	b := &bench{t: t, dir: t.TempDir(), project: "saltmarsh"}
	var err error
	if b.sim, err = sim.New(filepath.Join(b.dir, "simulated")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.sim.Close)
	hosts := "[connect]\nelevate = \"sudo\"\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n"
	for _, name := range names {
		if _, err := b.sim.Add(folder.Spec{Name: name}); err != nil {
			t.Fatal(err)
		}
		hosts += "[host." + name + "]\n"
	}
	b.write("hosts.toml", hosts)
	b.write("jadekettle.toml", "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n")
	return b
}

func (b *bench) write(name, text string) {
	b.t.Helper()
	p := filepath.Join(b.dir, name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// manifest sets what every host is to be.
func (b *bench) manifest(text string) { b.write("manifests/all.toml", text) }

func (b *bench) fleet() *run.Fleet {
	b.t.Helper()
	b.write("simulated.toml", b.sim.Inventory())
	p, err := compile.Load(os.DirFS(b.dir), kinds.Schemas(), compile.Options{})
	if err != nil {
		b.t.Fatal(err)
	}
	return b.fleetOf(p)
}

// fleetOf is the fleet of a project that is loaded already.
func (b *bench) fleetOf(p *compile.Project) *run.Fleet {
	b.t.Helper()
	key := b.sim.Key()
	if b.key != "" {
		key = strings.TrimPrefix(b.key, "none") // none: whatever is in the home
	}
	d := &reach.Dialer{KnownHosts: b.sim.KnownHosts(), Timeout: 5 * time.Second, User: "keeper", Login: b.dialer.Login,
		Elevation: b.dialer.Elevation, Home: b.dialer.Home, Gate: b.dialer.Gate}
	f := &run.Fleet{Plans: &resolve.Plans{Project: p}, Parallel: 16, Notify: b.notify,
		Silence: b.silence, Limits: b.limits,
		Work: run.Work{Guard: b.guard, Past: wire.Past{Age: 1000 * time.Hour, Size: 64 << 20}, Selection: b.part},
		Open: func(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
			return d.Open(ctx, reach.Target{Name: h.Name, Address: h.Connect.Address, Port: h.Connect.Port, Key: key,
				Elevate: h.Connect.Elevate, Jump: b.target.Jump}, first)
		}}
	if b.near {
		f.Open = b.openNear
	}
	return f
}

// nearby has hosts reached inside this program, without a network, and does something while time is that of a bubble:
// it goes on when nobody has anything left to do. Files have real times all the same, so what compares these with the
// clock is tried over SSH.
func (b *bench) nearby(t *testing.T, do func()) {
	t.Helper()
	b.near = true
	synctest.Test(t, func(*testing.T) {
		do()
		b.workers.Wait()
	})
}

func (b *bench) openNear(ctx context.Context, h *inventory.Host, first []byte) (*reach.Session, error) {
	i := slices.IndexFunc(b.sim.Hosts, func(s *sim.Host) bool { return s.Name == h.Name })
	host := b.sim.Hosts[i]
	answer, wrap := host.Answer, host.Wrap
	b.workers.Add(1)
	s := reach.InProcess(first, func(in io.Reader, out io.Writer) error {
		defer b.workers.Done()
		if answer != nil {
			const nonce = "near"
			answer(in, &without{out, len(worker.Ready(nonce))}, nonce)
			return nil
		}
		m := machine.Machine(host.Machine)
		if wrap != nil {
			m = wrap(m)
		}
		return worker.Serve(context.WithoutCancel(ctx), m, in, out, host.Silence)
	})
	b.session.Store(s)
	return s, nil
}

// without drops the first bytes, by which a host says over SSH that its worker is ready.
type without struct {
	io.Writer
	n int
}

func (w *without) Write(p []byte) (int, error) {
	cut := min(w.n, len(p))
	w.n -= cut
	n, err := w.Writer.Write(p[cut:])
	return cut + n, err
}

// home is a user's home with the client's key among the usual ones.
func (b *bench) home() string {
	b.t.Helper()
	key, err := os.ReadFile(b.sim.Key())
	if err != nil {
		b.t.Fatal(err)
	}
	b.write("home/.ssh/id_ed25519", string(key))
	return filepath.Join(b.dir, "home")
}

func (b *bench) run(preview bool) map[string]*record.Host {
	b.t.Helper()
	return b.runCtx(context.Background(), preview)
}

func (b *bench) runCtx(ctx context.Context, preview bool) map[string]*record.Host {
	b.t.Helper()
	f := b.fleet()
	f.Plans.Check(f.Plans.Project.Inventory.Hosts) // what is wrong shows again when a host is resolved
	out := map[string]*record.Host{}
	for _, h := range f.Run(ctx, f.Plans.Project.Inventory.Hosts, b.id(preview)) {
		out[h.Name] = h
	}
	return out
}

// id names the next run.
func (b *bench) id(preview bool) plan.Run {
	b.runs++
	r := b.undeclared
	r.ID, r.Project, r.Preview = "0198-test-run-"+string(rune('a'+b.runs)), b.project, preview
	r.Who, r.Whole, r.ListAge = "maren@desk", b.part.All(), time.Hour
	return r
}

// one applies or previews and gives the only host's outcome.
func (b *bench) one(preview bool) *record.Host {
	b.t.Helper()
	for _, h := range b.run(preview) {
		return h
	}
	return nil
}

// host gives the first simulated host.
func (b *bench) host() *sim.Host { return b.sim.Hosts[0] }

// on reads a file of the first host.
func (b *bench) on(p string) string {
	data, err := os.ReadFile(filepath.Join(b.host().Root, p))
	if err != nil {
		return ""
	}
	return string(data)
}

// put writes a file of the first host by hand.
func (b *bench) put(p, text string) {
	b.t.Helper()
	full := filepath.Join(b.host().Root, p)
	os.MkdirAll(filepath.Dir(full), 0o755)
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// statuses writes an outcome as "kind name status" lines.
func statuses(h *record.Host) string {
	var out []string
	for _, t := range h.Tasks {
		line := t.Ref().String() + " " + string(t.Status)
		if t.Status == plan.Blocked {
			line += " by " + t.BlockedBy.String()
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

// wants fails when a host's tasks did not end so.
func wants(t testing.TB, h *record.Host, lines ...string) {
	t.Helper()
	if got, want := statuses(h), strings.Join(lines, "\n"); got != want {
		t.Errorf("%s (%s %s)\n got:\n%s\nwant:\n%s", h.Name, h.State, h.Message, got, want)
		for _, task := range h.Tasks {
			if task.Message != "" {
				t.Log(task.Ref(), task.Message)
			}
		}
	}
}

// settled fails when an apply of the same would change anything.
func (b *bench) settled() {
	b.t.Helper()
	for _, h := range b.run(false) {
		if h.State != record.Reached || h.Count(plan.Unchanged) != len(h.Tasks)-h.Count(plan.Skipped) {
			b.t.Errorf("%s is not settled (%s %s):\n%s", h.Name, h.State, h.Message, statuses(h))
		}
	}
}

const whole = `
[package.tide-logger]
version = "newest"
[user.tidelog]
groups = ["gauges"]
system = true
password = "salt & water 01"
[group.gauges]
[dir."/srv/tide"]
owner = "tidelog"
mode = "2750"
[file."/etc/tide-logger.toml"]
content = "a = 1\n"
owner = "tidelog"
group = "gauges"
mode = "0640"
check = "tide-logger --check ${candidate}"
[service.tide-logger]
running = true
at_boot = true
restart_on = ["file /etc/tide-logger.toml"]
`

func TestARoundOnAHost(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest(whole)
	order := []string{"package tide-logger", "group gauges", "user tidelog", "dir /srv/tide",
		"file /etc/tide-logger.toml", "service tide-logger"}
	all := func(status string) []string {
		var out []string
		for _, ref := range order {
			out = append(out, ref+" "+status)
		}
		return out
	}
	before := tree(t, b.host().Root)
	wants(t, b.one(true), all("changed")...)
	if after := tree(t, b.host().Root); !slices.Equal(before, after) {
		t.Errorf("the preview changed the host:\n%v\n%v", before, after)
	}
	for _, c := range b.host().Calls() {
		if !strings.HasPrefix(c, "apt-get -s ") && !strings.HasPrefix(c, "apt-cache policy") && !strings.HasPrefix(c,
			"systemctl show") &&
			!strings.HasPrefix(c, "getent") {
			t.Errorf("the preview ran %q", c)
		}
	}
	wants(t, b.one(false), all("changed")...)
	if got := b.on("etc/tide-logger.toml"); got != "a = 1\n" {
		t.Errorf("the file holds %q", got)
	}
	if _, up := b.host().Unit("tide-logger.service"); up == 0 {
		t.Error("the service was never started")
	}
	b.settled()
	wants(t, b.one(true), all("unchanged")...)
}

// tree lists a host's files but for Jade Kettle's own folder.
func tree(t *testing.T, root string) []string {
	t.Helper()
	var out []string
	filepath.Walk(root, func(p string, info os.FileInfo, err error) error {
		if err != nil || strings.Contains(p, "/var/lib/jadekettle") {
			return nil
		}
		data := ""
		if info.Mode().IsRegular() {
			text, _ := os.ReadFile(p)
			data = string(text)
		}
		out = append(out, p+" "+info.Mode().String()+" "+data)
		return nil
	})
	return slices.DeleteFunc(out, func(l string) bool { return strings.Contains(l, "/var/lib drwx") })
}

func TestWhatIsBrokenByHandIsFixed(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest(whole)
	b.run(false)
	_, started := b.host().Unit("tide-logger.service")
	b.put("etc/tide-logger.toml", "a = 2\n")
	h := b.one(true)
	for _, task := range h.Tasks {
		if task.Kind == "file" && !strings.Contains(task.Changes[0].Diff, "-a = 2\n+a = 1") {
			t.Errorf("the diff is %q", task.Changes[0].Diff)
		}
	}
	wants(t, b.one(false), "package tide-logger unchanged", "group gauges unchanged", "user tidelog unchanged",
		"dir /srv/tide unchanged", "file /etc/tide-logger.toml changed", "service tide-logger changed")
	if _, again := b.host().Unit("tide-logger.service"); again <= started {
		t.Error("the service was not restarted")
	}
	b.settled()
}

func TestOneBadPackageSinksNoOther(t *testing.T) {
	b := newBench(t, "archive-01")
	b.manifest("[package.buoy-tools]\n[package.foghorn-relay]\n[package.salt-lamp]\n[package.no-such-thing]\n" +
		"[service.foghorn-relay]\nrunning = true\n[dir.\"/srv/a\"]\nafter = [\"service foghorn-relay\"]\n" +
		"[dir.\"/srv/b\"]\n")
	h := b.one(false)
	wants(t, h, "package buoy-tools changed", "package foghorn-relay failed", "package salt-lamp changed",
		"package no-such-thing failed",
		"service foghorn-relay blocked by package foghorn-relay", "dir /srv/a blocked by service foghorn-relay",
		"dir /srv/b changed")
	for _, task := range h.Tasks {
		if task.Name == "foghorn-relay" && task.Status == plan.Failed &&
			!strings.Contains(task.Output, "serial line does not respond") {
			t.Errorf("the output is %q", task.Output)
		}
	}
	updates := 0
	for _, c := range b.host().Calls() {
		if strings.HasSuffix(c, " update") {
			updates++
		}
	}
	if updates != 1 {
		t.Errorf("the package list was refreshed %d times", updates)
	}
}

func TestACheckThatFailsLeavesTheFile(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest(whole)
	b.run(false)
	_, started := b.host().Unit("tide-logger.service")
	b.manifest(strings.Replace(whole, "a = 1", "broken = 1", 1))
	h := b.one(false)
	wants(t, h, "package tide-logger unchanged", "group gauges unchanged", "user tidelog unchanged",
		"dir /srv/tide unchanged",
		"file /etc/tide-logger.toml failed", "service tide-logger blocked by file /etc/tide-logger.toml")
	if got := b.on("etc/tide-logger.toml"); got != "a = 1\n" {
		t.Errorf("the file holds %q", got)
	}
	noStrays(t, b)
	b.manifest(whole)
	b.settled() // nothing was touched, so no restart is pending either
	if _, again := b.host().Unit("tide-logger.service"); again != started {
		t.Error("the service was restarted for nothing")
	}
}

func noStrays(t *testing.T, b *bench) {
	t.Helper()
	filepath.Walk(b.host().Root, func(p string, _ os.FileInfo, _ error) error {
		if strings.Contains(filepath.Base(p), ".jadekettle-") {
			t.Errorf("a candidate was left: %s", p)
		}
		return nil
	})
}

// TestAServiceThatDoesNotStart shows why, and what the unit itself logged.
func TestAServiceThatDoesNotStart(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("etc/systemd/system/crash.service", "[Service]\nExecStart=/bin/false\n")
	b.put("etc/systemd/system/ebb.timer", "[Unit]\nConditionPathExists=/srv/pier\n[Timer]\nOnCalendar=hourly\n")
	b.manifest("[service.crash]\nrunning = true\n[service.\"ebb.timer\"]\nrunning = true\n")
	h := b.one(false)
	wants(t, h, "service crash failed", "service ebb.timer failed")
	for i, want := range []struct{ message, do, output string }{
		{"crash.service did not start: its process exited with status 1", "`journalctl -u crash.service` on the host " +
			"shows more",
			"crash.service: cannot read the gauge\n"},
		{"ebb.timer did not stay up: a second after it started it is inactive (dead); a condition prevented it from " +
			"starting: ConditionPathExists=/srv/pier is not met", "journalctl -u ebb.timer", "was skipped"},
	} {
		got := h.Tasks[i]
		if got.Message != want.message || !strings.Contains(got.Do, want.do) ||
			!strings.Contains(got.Output, want.output) {
			t.Errorf("%s: %s\n%s\n%s", got.Ref(), got.Message, got.Do, got.Output)
		}
	}
	b.put("srv/pier/mark", "")
	b.put("etc/systemd/system/crash.service", "[Service]\nExecStart=/usr/sbin/crash\n")
	wants(t, b.one(false), "service crash changed", "service ebb.timer changed")
}

func TestServices(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("etc/systemd/system/ebb.service", "[Service]\nExecStart=/usr/sbin/ebb\n")
	b.put("etc/systemd/system/crash.service", "[Service]\nExecStart=/bin/false\n")
	b.manifest(`
[file."/etc/a"]
content = "1"
mode = "0644"
[file."/etc/b"]
content = "1"
mode = "0644"
[service.ebb]
restart_on = ["file /etc/a"]
reload_on = ["file /etc/b"]
[service.crash]
running = true
[service.no-such]
running = true
[service.no-such-either]
running = true
optional = true
[service.cron]
running = false
at_boot = false
restart_on = ["file /etc/a"]
`)
	// it neither runs nor is declared to
	wants(t, b.one(false), "file /etc/a changed", "file /etc/b changed", "service ebb unchanged",
		"service crash failed", "service no-such failed", "service no-such-either unchanged", "service cron changed")
	if running, _ := b.host().Unit("cron.service"); running {
		t.Error("cron still runs")
	}
	actions := func() []string {
		var out []string
		for _, c := range b.host().Calls() {
			if strings.Contains(c, "ebb") && !strings.Contains(c, " show ") {
				out = append(out, c)
			}
		}
		return out
	}
	if got := actions(); len(got) > 0 {
		t.Errorf("ebb was acted on: %v", got)
	}
	text, err := os.ReadFile(filepath.Join(b.dir, "manifests/all.toml"))
	if err != nil {
		t.Fatal(err)
	}
	b.manifest(strings.ReplaceAll(string(text), "[service.ebb]", "[service.ebb]\nrunning = true"))
	b.run(false)
	if got := actions(); len(got) != 1 || !strings.HasSuffix(got[0], "start -- ebb.service") {
		t.Errorf("to be started, it saw %v", got)
	}
	b.put("etc/b", "by hand")
	b.run(false)
	if got := actions(); len(got) != 2 || !strings.HasSuffix(got[1], "reload -- ebb.service") {
		t.Errorf("after its reload trigger changed, it saw %v", got)
	}
	b.put("etc/a", "by hand")
	b.put("etc/b", "by hand")
	b.run(false)
	if got := actions(); len(got) != 3 || !strings.HasSuffix(got[2], "restart -- ebb.service") {
		t.Errorf("after both triggers changed, it saw %v", got)
	}
}

func TestAccounts(t *testing.T) {
	b := newBench(t)
	if _, err := b.sim.Add(folder.Spec{Name: "desk-01",
		Accounts: []string{"petra:x:70001:70001:Petra:/home/petra:/bin/bash"}}); err != nil {
		t.Fatal(err)
	}
	b.write("hosts.toml", "[host.desk-01]\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n")
	b.manifest("[user.petra]\nshell = \"/bin/bash\"\n[user.maren]\npassword = \"0123\"\ncomment = \"Maren\"\n" +
		"[user.olga]\npassword_hash = \"!\"\n")
	wants(t, b.one(false), "user petra unchanged", "user maren changed", "user olga changed")
	if strings.Contains(b.on("etc/passwd"), "petra") {
		t.Error("an account of the directory was made locally")
	}
	b.settled()
	b.manifest("[user.petra]\nshell = \"/bin/sh\"\n[user.maren]\npassword = \"4567\"\ncomment = \"Maren\"\n" +
		"shell = \"/bin/bash\"\n[user.olga]\nabsent = true\n")
	h := b.one(false)
	wants(t, h, "user petra failed", "user maren changed", "user olga changed")
	for _, c := range h.Tasks[1].Changes {
		if strings.Contains(c.Was+c.Becomes, "4567") {
			t.Errorf("the change shows the password: %+v", c)
		}
	}
	for _, c := range b.host().Calls() {
		if strings.Contains(c, "0123") || strings.Contains(c, "4567") {
			t.Errorf("a password was on a command line: %s", c)
		}
	}
	for _, name := range []string{"ledger.json", "holder.json"} {
		if strings.Contains(b.on("var/lib/jadekettle/"+name), "4567") {
			t.Errorf("%s holds a password", name)
		}
	}
}

func TestFilesThatAreOdd(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/etc/salt\"]\ncontent = \"x\"\nmode = \"0600\"\n[file.\"/etc/empty\"]\n[file.\"/etc/gone\"]\n" +
		"absent = true\n[dir.\"/srv/x/y\"]\n[file.\"/etc/motd.d\"]\ncontent = \"z\"\n")
	root := b.host().Root
	os.Symlink("/etc/shadow", filepath.Join(root, "etc/salt"))
	os.Mkdir(filepath.Join(root, "etc/motd.d"), 0o755)
	h := b.one(false)
	wants(t, h, "file /etc/salt failed", "file /etc/empty changed", "file /etc/gone unchanged", "dir /srv/x/y failed",
		"file /etc/motd.d failed")
	if !strings.Contains(h.Tasks[0].Message, "symlink to /etc/shadow") ||
		strings.Contains(b.on("etc/shadow"), "x\n") {
		t.Errorf("the planted link: %s", h.Tasks[0].Message)
	}
	if !strings.Contains(h.Tasks[3].Message+"; "+h.Tasks[3].Do, `/srv/x does not exist; declare it: [dir."/srv/x"]`) {
		t.Errorf("the missing folder: %s", h.Tasks[3].Message)
	}
	b.manifest("[file.\"/etc/salt\"]\ncontent = \"x\"\nfollow = true\n")
	os.Remove(filepath.Join(root, "etc/salt"))
	os.Symlink("pepper", filepath.Join(root, "etc/salt"))
	wants(t, b.one(false), "file /etc/salt changed")
	if got := b.on("etc/pepper"); got != "x" {
		t.Errorf("the link's target holds %q", got)
	}
	if target, _ := os.Readlink(filepath.Join(root, "etc/salt")); target != "pepper" {
		t.Error("the link itself was replaced")
	}
}

func TestALargeFileTravelsInChunks(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/srv/harmonics\"]\ncopy = \"harmonics.bin\"\nmode = \"0644\"\n[file.\"/srv/second\"]\n" +
		"copy = \"harmonics.bin\"\nmode = \"0644\"\n[file.\"/srv/small\"]\ncontent = \"s\"\n")
	text := strings.Repeat("\x00\x01tide", 900_000)
	b.write("manifests/harmonics.bin", text)
	wants(t, b.one(false), "file /srv/harmonics changed", "file /srv/second changed", "file /srv/small changed")
	if b.on("srv/harmonics") != text || b.on("srv/second") != text {
		t.Error("what arrived is not what was sent")
	}
	b.settled()
}

func TestUndeclaredAndOtherProjects(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv/a\"]\n[dir.\"/srv/b\"]\n")
	b.run(false)
	b.project = "harbour"
	h := b.one(false)
	wants(t, h, "dir /srv/a failed", "dir /srv/b failed")
	if !strings.Contains(h.Tasks[0].Message, `the project "saltmarsh" already manages it`) {
		t.Errorf("the message is %q", h.Tasks[0].Message)
	}
	b.project = "saltmarsh"
	b.manifest("[dir.\"/srv/a\"]\n")
	if h = b.one(false); len(h.Undeclared) != 1 || h.Undeclared[0].Ref().String() != "dir /srv/b" {
		t.Errorf("the undeclared are %v", h.Undeclared)
	}
	b.project = "harbour"
	b.manifest("[dir.\"/srv/b\"]\n")
	if h = b.one(false); len(h.Undeclared) != 0 {
		t.Errorf("another project's things are undeclared: %v", h.Undeclared)
	}
	wants(t, h, "dir /srv/b unchanged") // what the first project has let go may be taken over
}

// TestAPartOfThePlan changes a file without its service being selected: the
// restart is pending all the same, and the next whole run makes it.
func TestAPartOfThePlan(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.nearby(t, func() {
		b.manifest(whole)
		b.run(false)
		_, started := b.host().Unit("tide-logger.service")
		time.Sleep(20 * time.Millisecond)
		b.manifest(strings.Replace(whole, "a = 1", "a = 2", 1))
		b.part = resolve.Selection{Tasks: []string{"file /etc/*"}}
		h := b.one(false)
		if h.Count(plan.Changed) != 1 || h.Count(plan.Skipped) != 5 || len(h.Undeclared) > 0 {
			t.Errorf("of a part:\n%s", statuses(h))
		}
		if _, now := b.host().Unit("tide-logger.service"); now != started {
			t.Error("the service was restarted though it was not selected")
		}
		b.part = resolve.Selection{}
		h = b.one(false)
		if h.Count(plan.Changed) != 1 {
			t.Errorf("after that:\n%s", statuses(h))
		}
		if _, now := b.host().Unit("tide-logger.service"); now <= started {
			t.Error("the restart that was owed did not happen")
		}
	})

}

func TestAHundredHosts(t *testing.T) {
	var names []string
	for i := range 100 {
		names = append(names, "gauge-"+string(rune('a'+i/10))+string(rune('0'+i%10)))
	}
	b := newBench(t, names...)
	b.manifest(whole)
	var ended atomic.Int32
	b.notify = func(e record.Event) {
		if e.Task == nil && e.Begun == nil {
			ended.Add(1)
		}
	}
	for name, h := range b.run(false) {
		if h.Count(plan.Changed) != 6 {
			t.Errorf("%s: %s\n%s", name, h.Message, statuses(h))
		}
	}
	if ended.Load() != 100 {
		t.Errorf("%d hosts were reported", ended.Load())
	}
	b.settled()
}

// BenchmarkNothingToChange runs 100 tasks that are all right on 100 simulated
// hosts in this process, SSH and all. x-one-host gives the time as a multiple
// of what one such host takes alone: 100 would be no gain by doing many at once.
func BenchmarkNothingToChange(b *testing.B) {
	var first time.Duration
	settle := func(hosts int) (*run.Fleet, func()) {
		var names []string
		for i := range hosts {
			names = append(names, "gauge-"+strconv.Itoa(i))
		}
		h := newBench(b, names...)
		h.manifest(hundred())
		begun := time.Now()
		made := h.run(false)
		first = time.Since(begun)
		for _, out := range made {
			if out.Count(plan.Changed) != 100 {
				b.Fatalf("%s: %s\n%s", out.Name, out.Message, statuses(out))
			}
		}
		f := h.fleet()
		return f, func() {
			if err := f.Plans.Check(f.Plans.Project.Inventory.Hosts); err != nil {
				b.Fatal(err)
			}
			for _, out := range f.Run(context.Background(), f.Plans.Project.Inventory.Hosts,
				plan.Run{ID: "bench", Project: "saltmarsh"}) {
				if out.Count(plan.Unchanged) != 100 {
					b.Fatalf("%s: %s\n%s", out.Name, out.Message, statuses(out))
				}
			}
		}
	}
	_, one := settle(1)
	_, hundred := settle(100)
	var alone, all time.Duration
	for b.Loop() {
		begun := time.Now()
		one()
		alone += time.Since(begun)
		begun = time.Now()
		hundred()
		all += time.Since(begun)
	}
	b.ReportMetric(float64(all.Milliseconds())/float64(b.N), "ms/100-hosts")
	b.ReportMetric(float64(all)/float64(alone), "x-one-host")
	b.ReportMetric(float64(first.Milliseconds()), "ms/first-apply")
	var mem runtime.MemStats
	runtime.ReadMemStats(&mem)
	b.ReportMetric(float64(mem.Sys)/(1<<20), "MiB")
}
