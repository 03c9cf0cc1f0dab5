package run_test

import (
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
)

// left names what is no longer declared on a host.
func left(h *record.Host) string {
	var out []string
	for _, l := range h.Undeclared {
		out = append(out, l.Ref().String())
	}
	return strings.Join(out, ", ")
}

// TestWhatIsUndeclared is reported with what taking it away would do, taken away in reverse
// order where that is declared or asked for, and let go where that is.
func TestWhatIsUndeclared(t *testing.T) {
	b := newBench(t, "gauge-01")
	pier := "[package.tide-logger]\n[group.divers]\non_removal = \"keep\"\n[dir.\"/srv/pool\"]\n" +
		"[file.\"/srv/pool/tide\"]\ncontent = \"ebb\\n\"\n[lines.\"/etc/hosts\"]\nadd = [{ line = \"192.0.2.9 " +
		"buoy\" }]\n[service.tide-logger]\nrunning = true\nat_boot = true\n"
	hosts := b.on("../../hosts.toml")
	b.write("manifests/pier.toml", pier)
	group := func(more string) {
		b.write("hosts.toml", hosts+"[group.pier]\nmembers = [\"*\"]\n"+more)
	}
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"High water.\\n\"\n")
	group("manifests = [\"pier\"]\non_removal = \"remove\"\n")
	b.run(false)

	group("")
	h := b.one(true)
	const taken = "service tide-logger changed\nfile /srv/pool/tide changed\ndir /srv/pool changed\npackage " +
		"tide-logger changed"
	if got := statuses(h); got != "file /etc/motd unchanged\n"+taken || left(h) != "group divers, lines /etc/hosts" {
		t.Errorf("a preview would do\n%s\nand leaves %s", got, left(h))
	}
	if l := h.Undeclared; len(l) != 2 || len(l[0].Changes) != 1 || !strings.Contains(l[1].Why, "cannot be removed") {
		t.Errorf("it shows them %+v", l)
	}
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"High water.\\n\"\n[package.no-such-thing]\n")
	if h = b.one(false); !strings.Contains(left(h), "service tide-logger") || b.on("srv/pool/tide") == "" {
		t.Errorf("where a task fails, it leaves %s", left(h))
	}
	b.manifest("[file.\"/etc/motd\"]\ncontent = \"High water.\\n\"\n")
	if h = b.one(false); statuses(h) != "file /etc/motd unchanged\n"+taken || b.on("srv/pool/tide") != "" {
		t.Errorf("an apply did\n%s", statuses(h))
	}
	if b.host().Installed("tide-logger") != "" {
		t.Error("the package is there still")
	}
	b.undeclared = plan.Run{Take: true}
	if h = b.one(false); statuses(h) != "file /etc/motd unchanged\ngroup divers changed" ||
		left(h) != "lines /etc/hosts" {
		t.Errorf("with remove-undeclared:\n%s\nleft %s", statuses(h), left(h))
	}
	b.undeclared = plan.Run{Forget: true}
	b.one(false)
	b.undeclared = plan.Run{}
	if h = b.one(false); left(h) != "" || !strings.Contains(b.on("etc/hosts"), "buoy") {
		t.Errorf("what was let go is left: %s", left(h))
	}
}

// TestAPackageLeavesBesideAnother: what was read of packages for the plan knows nothing of one
// that follows it.
func TestAPackageLeavesBesideAnother(t *testing.T) {
	for _, keep := range []string{"[package.chart-press]\n", "[package.chart-press]\nversion = \"newest\"\n"} {
		b := newBench(t, "gauge-01")
		b.manifest(keep + "[package.tide-logger]\non_removal = \"remove\"\n[package.buoy-tools]\n")
		b.run(false)
		b.manifest(keep)
		wants(t, b.one(true), "package chart-press unchanged", "package tide-logger changed")
		wants(t, b.one(false), "package chart-press unchanged", "package tide-logger changed")
		b.undeclared = plan.Run{Take: true}
		wants(t, b.one(false), "package chart-press unchanged", "package buoy-tools changed")
		if b.host().Installed("tide-logger")+b.host().Installed("buoy-tools") != "" {
			t.Error("packages that left are there still")
		}
	}
}

// TestSettingsAreLeft: of what left only its name is known, and no format.
func TestSettingsAreLeft(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[settings.\"/etc/tides\"]\nformat = \"ini\"\nset = { a = 1 }\ncreate = true\n[dir.\"/srv/tide\"]\n")
	b.run(false)
	b.manifest("[dir.\"/srv/tide\"]\n")
	if h := b.one(false); h.State != record.Reached || left(h) != "settings /etc/tides" {
		t.Errorf("%s %s: %s", h.State, h.Message, left(h))
	}
}

// TestAFolderLeaves: what was copied goes, what others put there stays and is reported once, and
// --forget-undeclared lets go of what would be removed.
func TestAFolderLeaves(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.write("manifests/site/index.html", "<h1>Tides</h1>\n")
	b.write("manifests/site/plots/week.svg", "<svg/>\n")
	b.write("manifests/site/old/1987.txt", "ebb\n")
	const keeps = "[dir.\"/srv\"]\n"
	const folders = keeps + "[dir.\"/srv/pool\"]\non_removal = \"remove\"\n[dir.\"/srv/pages\"]\ncopy = \"site\"\n" +
		"on_removal = \"remove\"\n"
	b.manifest(folders)
	b.run(false)
	b.put("srv/pool/readings.csv", "7\n")
	b.put("srv/pages/plots/mine.svg", "<svg/>\n")
	b.manifest(keeps)
	const stays = "dir /srv/pages: it is kept because it still contains plots/mine.svg; dir /srv/pool: it is kept " +
		"because it still contains readings.csv; "
	why := func(h *record.Host) (out string) {
		for _, l := range h.Undeclared {
			out += l.Ref().String() + ": " + l.Why + "; "
		}
		return out
	}
	for _, preview := range []bool{true, false} {
		h := b.one(preview)
		if got := statuses(h); got != "dir /srv unchanged\ndir /srv/pages changed\ndir /srv/pool unchanged" ||
			why(h) != stays {
			t.Errorf("preview %v: %s\n%s", preview, got, why(h))
		}
		if there := b.on("srv/pages/index.html") != ""; there != preview {
			t.Errorf("preview %v: what was copied is there: %v", preview, there)
		}
	}
	if b.on("srv/pages/plots/mine.svg") == "" || b.on("srv/pool/readings.csv") == "" || b.on("srv/pages/old") != "" {
		t.Error("not what others put there is all that is left")
	}
	if h := b.one(false); statuses(h) != "dir /srv unchanged" || len(h.Undeclared) > 0 {
		t.Errorf("it is reported again: %s\n%s", statuses(h), why(h))
	}

	// a copy goes whole, nested folders that leave together go, and one in which something is declared stays
	b.manifest(keeps + "[dir.\"/srv/whole\"]\ncopy = \"site\"\n[dir.\"/srv/a\"]\n[dir.\"/srv/a/b\"]\n" +
		"[file.\"/srv/a/b/c\"]\ncontent = \"x\"\n[dir.\"/srv/only\"]\ncopy = \"site\"\nonly_declared = true\n" +
		"[file.\"/srv/only/more/d\"]\ncontent = \"x\"\n[dir.\"/srv/only/more\"]\n")
	b.run(false)
	b.put("srv/only/strange/1", "1\n")
	b.manifest(keeps + "[file.\"/srv/only/more/d\"]\ncontent = \"x\"\n")
	h := b.one(true)
	if want := "dir /srv/a: ; dir /srv/a/b: ; dir /srv/only: it is kept because it still contains more; dir " +
		"/srv/only/more: it is kept because it still contains d; dir /srv/whole: ; file /srv/a/b/c: ; "; why(
		h) != want {
		t.Errorf("a look at what would leave: %s", why(h))
	}
	b.undeclared = plan.Run{Take: true}
	wants(t, b.one(false), "dir /srv unchanged", "file /srv/only/more/d unchanged", "dir /srv/only/more unchanged",
		"dir /srv/only changed", "file /srv/a/b/c changed", "dir /srv/a/b changed", "dir /srv/a changed",
		"dir /srv/whole changed")
	if b.on("srv/only/more/d") == "" || b.on("srv/only/index.html") != "" || b.on("srv/only/strange/1") != "" {
		t.Error("what is declared in a folder that leaves")
	}
	b.undeclared = plan.Run{}
	b.manifest(folders)
	b.run(false)
	b.manifest(keeps)
	b.undeclared = plan.Run{Forget: true}
	wants(t, b.one(false), "dir /srv unchanged")
	if b.undeclared = (plan.Run{}); len(b.one(false).Undeclared) > 0 || b.on("srv/pages/index.html") == "" {
		t.Error("what was let go of is not")
	}
}

// TestAMountLeavesBeforeItsFolder, whatever came first.
func TestAMountLeavesBeforeItsFolder(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv\"]\n[mount.\"/srv/pad\"]\nwhat = \"tmpfs\"\ntype = \"tmpfs\"\n[dir.\"/srv/pad\"]\nmode " +
		"= \"0755\"\n")
	b.run(false)
	b.undeclared = plan.Run{Take: true}
	b.manifest("[dir.\"/srv\"]\n")
	wants(t, b.one(true), "dir /srv unchanged", "mount /srv/pad changed", "dir /srv/pad changed")
	wants(t, b.one(false), "dir /srv unchanged", "mount /srv/pad changed", "dir /srv/pad changed")
	b.settled()
}

// TestAHostThatIsRetired gives back all that is managed there, and another project's
// things are taken over where that is asked for.
func TestAHostThatIsRetired(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[dir.\"/srv/pool\"]\n[file.\"/srv/pool/tide\"]\ncontent = \"ebb\\n\"\n")
	b.run(false)
	b.project = "harbour"
	if h := b.one(false); h.Count(plan.Failed) != 1 || !strings.Contains(h.Tasks[0].Do, "--adopt") {
		t.Errorf("another project:\n%s %s", statuses(h), h.Tasks[0].Do)
	}
	b.undeclared = plan.Run{Adopt: true}
	wants(t, b.one(true), "dir /srv/pool unchanged", "file /srv/pool/tide unchanged")
	wants(t, b.one(false), "dir /srv/pool unchanged", "file /srv/pool/tide unchanged")
	b.undeclared = plan.Run{Take: true}
	f := b.fleet()
	f.Retire = true
	for _, preview := range []bool{true, false} {
		h := f.Run(t.Context(), f.Plans.Project.Inventory.Hosts, b.id(preview))[0]
		if statuses(h) != "file /srv/pool/tide changed\ndir /srv/pool changed" ||
			(b.on("srv/pool/tide") != "") != preview {
			t.Errorf("preview %v: %s %s\n%s", preview, h.State, h.Message, statuses(h))
		}
	}
	if l := b.on("var/lib/jadekettle/ledger.json"); strings.Contains(l, "/srv/pool") {
		t.Errorf("the ledger holds\n%s", l)
	}
}

// TestDriftIsDistinguished changes things on the host, in the project, and in both.
func TestDriftIsDistinguished(t *testing.T) {
	b := newBench(t, "gauge-01")
	text := func(a, b, c, mode string) string {
		return "[file.\"/etc/a\"]\ncontent = \"" + a + "\\n\"\n[file.\"/etc/b\"]\ncontent = \"" + b +
			"\\n\"\n[file.\"/etc/c\"]\n" +
			"content = \"" + c + "\\n\"\nmode = \"" + mode +
			"\"\n[user.maren]\npassword = \"salt & water 01\"\n[package.salt-lamp]\n"
	}
	b.manifest(text("ebb", "ebb", "ebb", "0644"))
	b.run(false)
	if h := b.one(true); h.Count(plan.Changed) > 0 {
		t.Errorf("right after an apply\n%s", statuses(h))
	}
	b.put("etc/a", "flow\n")
	b.put("etc/c", "slack\n")
	b.manifest(text("ebb", "neap", "spring", "0600"))
	b.undeclared = plan.Run{Drift: true}
	h := b.one(true)
	var got []string
	for _, task := range h.Tasks {
		got = append(got, string(task.Drift))
	}
	if strings.Join(got, ",") != "host,declaration,both,," {
		t.Errorf("the reasons are %q", got)
	}
	a, c := h.Tasks[0], h.Tasks[2]
	if a.By != "maren@desk" || a.Since == "" || !strings.Contains(a.Written[0].Diff, "-flow\n+ebb") {
		t.Errorf("what was modified on the host is reported as %+v", a)
	}
	if len(c.Written) != 1 || len(c.Changes) != 2 || !strings.Contains(c.Changes[0].Diff, "+spring") {
		t.Errorf("what was changed in both is reported as %+v", c)
	}
	if l := b.on("var/lib/jadekettle/ledger.json"); strings.Contains(l, "salt & water") ||
		!strings.Contains(l, `"secret": true`) {
		t.Errorf("the ledger holds\n%s", l)
	}
}

// TestACommandWithoutAStateDoesNotDrift: what is run after a change, or always, was not modified on the host.
func TestACommandWithoutAStateDoesNotDrift(t *testing.T) {
	b := newBench(t, "gauge-01")
	text := func(tide string) string {
		return "[file.\"/etc/a\"]\ncontent = \"" + tide + "\"\n[command.look]\nrun = [\"true\"]\nonly_if_changed = " +
			"[\"file /etc/a\"]\n[command.ask]\nrun = [\"true\"]\nalways = true\n"
	}
	b.manifest(text("ebb"))
	b.run(false)
	b.manifest(text("flow"))
	for _, task := range b.one(true).Tasks {
		if task.Status != plan.Changed || task.Drift == plan.ByHost {
			t.Errorf("%s would be %s, modified by %q", task.Ref(), task.Status, task.Drift)
		}
	}
}

// TestDriftOfWhatIsAbsent: what is declared absent only now, or never was declared, or is no longer,
// was not changed on the host; what came back was.
func TestDriftOfWhatIsAbsent(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("etc/old", "x")
	b.manifest("[file.\"/etc/a\"]\ncontent = \"ebb\"\n[file.\"/etc/b\"]\ncontent = \"ebb\"\non_removal = \"remove\"\n" +
		"[package.salt-lamp]\n[file.\"/etc/gone\"]\nabsent = true\n")
	b.run(false)
	b.put("etc/gone", "here again")
	b.manifest("[file.\"/etc/a\"]\nabsent = true\n[file.\"/etc/old\"]\nabsent = true\n[file.\"/etc/new\"]\ncontent " +
		"= \"ebb\"\n[package.salt-lamp]\nabsent = true\n[file.\"/etc/gone\"]\nabsent = true\n")
	for _, drift := range []bool{false, true} {
		b.undeclared = plan.Run{Drift: drift}
		h := b.one(true)
		var got []string
		for _, task := range h.Tasks {
			got = append(got, task.Name+" "+string(task.Drift))
			never := task.Name == "/etc/old" || task.Name == "/etc/new" || !drift
			if (task.Since == "") != never || (task.By == "") != never {
				t.Errorf("%s was last applied at %q by %q", task.Ref(), task.Since, task.By)
			}
		}
		const want = "/etc/a declaration, /etc/old declaration, /etc/new declaration, salt-lamp declaration, " +
			"/etc/gone host, /etc/b undeclared"
		if strings.Join(got, ", ") != want {
			t.Errorf("the reasons are %q", got)
		}
	}
	b.undeclared = plan.Run{}
	b.run(false)
	b.settled()
}
