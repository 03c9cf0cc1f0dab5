package run_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine"
)

// undo puts back on the first host what the run of an id changed.
func (b *bench) undo(id string, preview bool, changed ...value.Ref) *record.Host {
	b.t.Helper()
	f := b.fleet()
	f.Undo = map[string]*wire.Undo{b.host().Name: {Run: id, Tasks: changed}}
	r := b.id(preview)
	r.Whole = true
	return f.Run(context.Background(), f.Plans.Project.Inventory.Hosts[:1], r)[0]
}

// last is the id of the last run.
func (b *bench) last() string {
	b.runs--
	return b.id(false).ID
}

// tree writes down all of a host but what Jade Kettle, and what runs, keep for themselves.
func (b *bench) tree() string {
	b.t.Helper()
	var out strings.Builder
	root := b.host().Root
	err := filepath.Walk(root, func(p string, info os.FileInfo, err error) error {
		name := strings.TrimPrefix(p, root)
		if err != nil || strings.HasPrefix(name, "/proc") || strings.HasPrefix(name, "/var/lib/jadekettle") ||
			name == "/var/log/messages" ||
			strings.HasPrefix(name, "/home/ottokar") || strings.Contains(name, "apt/lists") {
			return err
		}
		out.WriteString(name + " " + info.Mode().String())
		if to, err := os.Readlink(p); err == nil {
			out.WriteString(" to " + to)
		}
		if data, err := os.ReadFile(p); err == nil && info.Mode().IsRegular() {
			out.WriteString(" " + string(data))
		}
		out.WriteString("\n")
		return nil
	})
	if err != nil {
		b.t.Fatal(err)
	}
	return out.String()
}

// same lists the lines in which two trees differ.
func same(t *testing.T, when, got, want string) {
	t.Helper()
	have, wanted := strings.Split(got, "\n"), strings.Split(want, "\n")
	for _, line := range have {
		if !slices.Contains(wanted, line) {
			t.Errorf("%s, there is the line %q", when, line)
		}
	}
	for _, line := range wanted {
		if !slices.Contains(have, line) {
			t.Errorf("%s, the line %q is missing", when, line)
		}
	}
}

const before = `
[group.keepers]
[user.maren]
groups = ["keepers"]
shell = "/bin/sh"
keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGWmJ3pu3rGQcJj7fjq8AOhK0bVYrFmkmrsDyM2kMFyM maren"]
[package.tide-logger]
version = "1.4.2-1"
[package.old-ticker]
[file."/etc/tide-logger.toml"]
content = "sample = 60\n"
owner = "root"
mode = "0640"
[file."/etc/relay.token"]
content = "${data.token}"
mode = "0600"
[file."/srv/rights"]
content = "mine\n"
mode = "0600"
[dir."/srv/pool"]
[dir."/srv/pool/low"]
[file."/srv/pool/low/water"]
content = "ebb\n"
[link."/srv/now"]
to = "/srv/pool"
[service.tide-logger]
running = true
at_boot = true
restart_on = ["file /etc/tide-logger.toml"]
`

const after = `
[group.keepers]
[group.divers]
[user.maren]
groups = ["divers"]
only_groups = true
shell = "/bin/bash"
locked = true
keys = []
only_keys = true
[user.ottokar]
groups = ["divers"]
[package.tide-logger]
version = "1.5.0-1"
[package.old-ticker]
absent = true
[file."/etc/tide-logger.toml"]
content = "sample = 15\n"
owner = "root"
mode = "0644"
[file."/etc/relay.token"]
content = "${data.token}-again"
mode = "0600"
[file."/srv/rights"]
content = "mine\n"
mode = "0644"
owner = "root"
[dir."/srv/pool"]
absent = true
with_contents = true
[link."/srv/now"]
to = "/srv/later"
[dir."/srv/new"]
[file."/srv/new/tide"]
content = "flood\n"
[lines."/etc/hosts"]
add = [{ line = "192.0.2.9 buoy" }]
[lines."/etc/hosts#more"]
add = [{ line = "192.0.2.10 mole" }]
[cron.rotate]
schedule = "@daily"
run = "true"
[service.tide-logger]
running = true
at_boot = false
restart_on = ["file /etc/tide-logger.toml"]
`

// TestUndo puts back all that a run changed, and puts that back in turn.
func TestUndo(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.write("data/shared.toml", "token = \"first tide\"\n")
	b.manifest(before)
	b.run(false)
	b.settled()
	tree := b.tree()
	b.manifest(after)
	h := b.one(false)
	id := b.last()
	if h.Count(plan.Failed) != 0 || h.Count(plan.Changed) < 14 {
		t.Fatalf("the run came to\n%s", statuses(h))
	}
	left := b.tree()
	_, started := b.host().Unit("tide-logger.service")

	if h = b.undo(id, true); h.Count(plan.Failed) != 0 || b.tree() != left {
		t.Errorf("a preview of it (%s %s):\n%s", h.State, h.Message, statuses(h))
	}
	for _, task := range h.Tasks {
		for _, c := range task.Changes {
			if strings.Contains(c.Diff, "first tide") {
				t.Error("it shows what only its owner may read")
			}
		}
	}
	if h = b.undo(id, false); h.Count(plan.Failed) != 0 {
		t.Errorf("it came to\n%s", statuses(h))
	}
	back := b.last()
	same(t, "undone", b.tree(), tree)
	if running, again := b.host().Unit("tide-logger.service"); !running || again <= started {
		t.Error("the service was not started again")
	}
	b.manifest(before)
	b.settled()
	if h = b.undo(id, false); h.Count(plan.Changed) != 0 || h.Count(plan.Failed) != 0 {
		t.Errorf("once more:\n%s", statuses(h))
	}
	if h = b.undo(back, false); h.Count(plan.Failed) != 0 {
		t.Errorf("put back in turn:\n%s", statuses(h))
	}
	same(t, "put back in turn", b.tree(), left)

	record := filepath.Join(b.host().Root, "var/lib/jadekettle/before", id+".jsonl")
	data, _ := os.ReadFile(record)
	var cut []string // as a worker leaves it that is killed
	for line := range strings.Lines(string(data)) {
		if !strings.Contains(line, `"after"`) {
			cut = append(cut, line)
		}
	}
	os.WriteFile(record, []byte(strings.Join(cut, "")+`{"task":"file /etc/mo`), 0o600)
	if h = b.undo(id, false); h.Count(plan.Failed) != 0 {
		t.Errorf("of a run that was cut off:\n%s", statuses(h))
	}
	same(t, "of a run that was cut off", b.tree(), tree)
}

// TestUndoOfWhatMoved leaves alone what somebody has changed since, and reports who where that
// is known; what cannot be put back says so.
func TestUndoOfWhatMoved(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[group.divers]\n[user.maren]\ngroups = [\"divers\"]\n[user.ottokar]\n[file.\"/etc/motd\"]\ncontent " +
		"= \"High water.\\n\"\nmode = \"0644\"\n[file.\"/etc/issue\"]\ncontent = \"ebb\\n\"\n[dir.\"/srv/pool\"]\n" +
		"[command.count]\nrun = [\"touch\", \"/srv/count\"]\ndone_if_exists = \"/srv/count\"\n")
	if h := b.one(false); h.Count(plan.Changed) < 7 {
		t.Fatalf("%s %s %v\n%s", h.State, h.Message, h.Wrong, statuses(h))
	}
	id := b.last()
	b.put("etc/motd", "Low water.\n")
	b.put("srv/pool/found", "a crab\n")
	b.manifest("[group.divers]\n[user.maren]\ngroups = [\"divers\"]\nshell = \"/bin/sh\"\ncomment = \"Maren\"\n")
	b.run(false)
	h := b.undo(id, false, value.Ref{Kind: "file", Name: "/etc/never"})
	wants(t, h, "command count failed", "file /etc/never failed", "dir /srv/pool failed", "file /etc/issue changed",
		"file /etc/motd failed", "user ottokar changed", "group ottokar unchanged", "user maren failed",
		"group maren blocked by user maren", "group divers blocked by user maren")
	for i, want := range []string{"a command cannot be undone", "was not kept", "found", "",
		"its content, last modified at", "", "", "by the run of maren@desk at"} {
		if got := h.Tasks[i].Message; !strings.Contains(got, want) {
			t.Errorf("%s says %q", h.Tasks[i].Ref(), got)
		}
	}
	b.project = "harbour"
	if h = b.undo(id, false); h.Count(plan.Changed) != 0 {
		t.Errorf("another project:\n%s", statuses(h))
	}
}

// TestWhatIsKept is for root alone, within its bounds, and no reason for a run to fail.
func TestWhatIsKept(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"1\\n\"\n")
	b.run(false)
	first := b.last()
	folder := filepath.Join(b.host().Root, "var/lib/jadekettle/before")
	for n := range 3 {
		b.put("etc/motd", strings.Repeat("tide ", 1000+n))
		b.run(false)
	}
	second := b.last()
	list, _ := os.ReadDir(folder)
	if info, err := os.Stat(folder); err != nil || info.Mode().Perm() != 0o700 || len(list) != 8 {
		t.Errorf("the directory is %v, with %d files", info, len(list))
	}
	for _, e := range list {
		if info, _ := e.Info(); info.Mode().Perm() != 0o600 {
			t.Errorf("%s is %v", e.Name(), info.Mode())
		}
		if strings.HasPrefix(e.Name(), first) {
			long := time.Now().Add(-2000 * time.Hour)
			os.Chtimes(filepath.Join(folder, e.Name()), long, long)
		}
	}
	b.put("etc/motd", "x")
	b.run(false)
	third := b.last()
	if _, err := os.Stat(filepath.Join(folder, first+".jsonl")); err == nil {
		t.Error("what is too old is kept")
	}
	if h := b.undo(first, false, value.Ref{Kind: "file", Name: "/etc/motd"}); h.Count(plan.Failed) != 1 {
		t.Errorf("what was not kept any more:\n%s", statuses(h))
	}
	b.host().Wrap = func(m machine.Machine) machine.Machine { // its own folder is full: it is put back all the same
		return faulty{m, func(op, what string) error {
			if op == "write" && strings.Contains(what, "/before/") {
				return &os.PathError{Op: op, Path: what, Err: syscall.ENOSPC}
			}
			return nil
		}}
	}
	b.put("etc/motd", "1\n")
	if h := b.undo(third, false); h.State != record.Reached || h.Count(plan.Changed) != 1 || b.on("etc/motd") != "x" {
		t.Errorf("with no room to keep more: %s %s\n%s", h.State, h.Message, statuses(h))
	}
	b.host().Wrap = nil
	os.RemoveAll(folder)
	os.WriteFile(folder, nil, 0o600) // nothing can be kept there
	b.put("etc/motd", "y")
	wants(t, b.one(false), "file /etc/motd changed")
	if h := b.undo(second, true); h.State != record.Lost && h.Count(plan.Failed) == 0 {
		t.Errorf("with no folder: %s %s\n%s", h.State, h.Message, statuses(h))
	}
}

// BenchmarkKeeping changes 100 files of a host, in turns with keeping what they held and
// without. x-without says how much longer it takes with.
func BenchmarkKeeping(b *testing.B) {
	h := newBench(b, "gauge-01")
	n := 0
	round := func(size int64) time.Duration {
		n++
		var text strings.Builder
		for i := range 100 {
			fmt.Fprintf(&text, "[file.\"/srv/tide-%d\"]\ncontent = \"%d\\n\"\n", i, n)
		}
		h.manifest(text.String())
		f := h.fleet()
		f.Past.Size = size
		begun := time.Now()
		if out := f.Run(context.Background(), f.Plans.Project.Inventory.Hosts,
			h.id(false))[0]; out.Count(plan.Changed) != 100 {
			b.Fatalf("%s %s", out.State, out.Message)
		}
		return time.Since(begun)
	}
	round(0)
	var with, without time.Duration
	for b.Loop() {
		with += round(64 << 20)
		without += round(0)
	}
	b.ReportMetric(float64(with)/float64(without), "x-without")
	b.ReportMetric(float64(with.Milliseconds())/float64(b.N), "ms/100-changes")
}

// TestAnUndoThatIsCutOff kills an undo at each of its steps in turn: the next one ends it, and blames nobody for
// what is half way back.
func TestAnUndoThatIsCutOff(t *testing.T) {
	first := "[package.tide-logger]\nversion = \"1.4.2-1\"\n[file.\"/etc/tide\"]\ncontent = \"a\\n\"\nmode = " +
		"\"0640\"\n[user.maren]\nshell = \"/bin/sh\"\ncomment = \"a\"\ngroups = [\"adm\"]\n[dir.\"/srv/tide\"]\n" +
		"mode = \"0700\"\n"
	second := "[package.tide-logger]\nversion = \"1.5.0-1\"\n[file.\"/etc/tide\"]\ncontent = \"b\\n\"\nmode = " +
		"\"0600\"\nowner = \"maren\"\n[user.maren]\nshell = \"/bin/bash\"\ncomment = \"b\"\ngroups = [\"cdrom\"]\n" +
		"[dir.\"/srv/tide\"]\nmode = \"0750\"\nowner = \"maren\"\n"
	steps := 0
	for at := 0; at <= steps; at++ { // the first time, at 0, counts the steps
		b := newBench(t, "gauge-01")
		b.manifest(first)
		b.run(false)
		tree := b.tree()
		b.manifest(second)
		b.run(false)
		id := b.last()
		k := &killer{host: b.host(), at: at}
		b.host().Wrap = k.wrap
		b.undo(id, false)
		b.host().Wait()
		b.host().Wrap = nil
		if at == 0 {
			steps = k.steps
			continue
		}
		if h := b.undo(id, false); h.State != record.Reached || h.Count(plan.Failed)+h.Count(plan.Blocked) > 0 {
			t.Errorf("after a kill at step %d of %d the next undo comes to %s %s\n%s", at, steps, h.State,
				h.Message, statuses(h))
		}
		same(t, fmt.Sprintf("after a kill at step %d", at), b.tree(), tree)
	}
	t.Logf("%d steps", steps)
}

// TestNamesThatAreNoText come back as they were, and are reported so that a host is not lost by them.
func TestNamesThatAreNoText(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("srv/tide/g\xe4nge", "x\n")
	b.put("srv/tide/deep/\xff\xfe", "y\n")
	tree := b.tree()
	b.write("manifests/kept/a", "a\n")
	b.manifest("[dir.\"/srv/tide\"]\ncopy = \"kept\"\nonly_declared = true\n")
	for _, preview := range []bool{true, false} {
		h := b.one(preview)
		wants(t, h, "dir /srv/tide changed")
	}
	id := b.last()
	if h := b.undo(id, true); h.State != record.Reached {
		t.Errorf("the preview of an undo: %s %s", h.State, h.Message)
	}
	if h := b.undo(id, false); h.State != record.Reached || h.Count(plan.Failed) > 0 {
		t.Errorf("the undo: %s %s\n%s", h.State, h.Message, statuses(h))
	}
	same(t, "then", b.tree(), tree)
}

// TestAnUndoOfTwoThatDiffer: what holds now and what holds from the next boot on come back each as it was.
func TestAnUndoOfTwoThatDiffer(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[sysctl.\"net.ipv4.ip_forward\"]\nvalue = 1\n[hostname.gauge-north]\n")
	b.run(false)
	b.put("proc/sys/net/ipv4/ip_forward", "0\n")
	b.put("etc/hostname", "gauge-south\n")
	tree := b.tree()
	b.manifest("[sysctl.\"net.ipv4.ip_forward\"]\nvalue = 0\n[hostname.gauge-east]\n")
	wants(t, b.one(false), "sysctl net.ipv4.ip_forward changed", "hostname gauge-east changed")
	if h := b.undo(b.last(), false); h.Count(plan.Failed) > 0 {
		t.Errorf("the undo comes to\n%s", statuses(h))
	}
	same(t, "then", b.tree(), tree)
}

// TestAnIDThatAnotherHas is said in a preview, of an undo as well: whose number was given away meanwhile does not
// come back under another one without a word.
func TestAnIDThatAnotherHas(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[group.divers]\ngid = 2500\n[user.ottokar]\nuid = 2600\n")
	b.run(false)
	b.manifest("[group.divers]\nabsent = true\n[user.ottokar]\nabsent = true\n")
	b.run(false)
	id := b.last()
	b.put("etc/group", b.on("etc/group")+"keepers:x:2500:\n")
	b.put("etc/passwd", b.on("etc/passwd")+"maren:x:2600:100::/home/maren:/bin/sh\n")
	h := b.undo(id, true)
	if got := statuses(h); !strings.Contains(got, "group divers failed") ||
		!strings.Contains(got, "user ottokar failed") {
		t.Errorf("a preview of the undo shows\n%s", got)
	}
	b.manifest("[group.divers]\ngid = 2500\n[group.keepers]\ngid = 2501\n[user.ottokar]\nuid = 2600\n")
	h = b.one(true)
	wants(t, h, "group divers changed", "group keepers changed", "user ottokar failed")
}
