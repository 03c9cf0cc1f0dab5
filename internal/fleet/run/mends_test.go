package run_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/host/machine"
)

// TestDropInsAreLoaded: systemd's NeedDaemonReload covers neither a new folder of drop-ins nor
// of a unit file that hides a package's.
func TestDropInsAreLoaded(t *testing.T) {
	b := newBench(t, "gauge-01")
	const logger = "[package.tide-logger]\n[service.tide-logger]\nrunning = true\n"
	const dropIn = "/etc/systemd/system/tide-logger.service.d/env.conf"
	b.manifest(logger)
	b.run(false)
	runs := func() string { return b.host().Runs("tide-logger.service") }
	for _, c := range []struct{ about, more, want, not string }{
		{"a drop-in", "restart_on = [\"file " + dropIn + "\"]\n[dir.\"/etc/systemd/system/tide-logger.service.d\"]\n" +
			"[file.\"" + dropIn + "\"]\ncontent = \"[Service]\\nEnvironment=HARBOR=north\\n\"\n",
			"HARBOR=north", "nothing"},
		{"a unit file over the package's", "restart_on = [\"file /etc/systemd/system/tide-logger.service\"]\n" +
			"[file.\"/etc/systemd/system/tide-logger.service\"]\ncontent = \"[Service]\\nExecStart=/opt/ebb\\n\"\n",
			"/opt/ebb",
			"/usr/sbin/tide-logger"},
	} {
		b.manifest(logger + c.more)
		b.run(false)
		if got := runs(); !strings.Contains(got, c.want) || strings.Contains(got, c.not) {
			t.Errorf("after %s it runs with\n%s", c.about, got)
		}
		b.settled()
	}
	// What somebody put there by hand, or a killed run did, is loaded by the next.
	b.put("etc/systemd/system/tide-logger.service.d/hand.conf", "[Service]\n")
	if h := b.one(false); !strings.Contains(statuses(h), "service tide-logger changed") {
		t.Errorf("a drop-in by hand:\n%s", statuses(h))
	}
	b.settled()
	if err := os.Remove(filepath.Join(b.host().Root,
		"etc/systemd/system/tide-logger.service.d/hand.conf")); err != nil {
		t.Fatal(err)
	}
	// What goes is unloaded in the same run, whatever service it was for.
	b.undeclared.Take = true
	b.manifest(logger)
	b.run(false)
	b.settled()
}

// TestADropInComesFirst: a service needs the drop-ins of its name, wherever they are declared.
func TestADropInComesFirst(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[service.tide-logger]\nrunning = true\n[package.tide-logger]\n" +
		"[dir.\"/etc/systemd/system/tide-logger.service.d\"]\n" +
		"[settings.\"/etc/systemd/system/tide-logger.service.d/a.conf\"]\nformat = \"ini\"\ncreate = true\n" +
		"[settings.\"/etc/systemd/system/tide-logger.service.d/a.conf\".set]\n\"Service.Nice\" = 5\n")
	if h := b.one(false); !strings.HasSuffix(statuses(h), "service tide-logger changed") &&
		!strings.HasSuffix(statuses(h), "service tide-logger unchanged") {
		t.Errorf("the order is\n%s", statuses(h))
	}
	b.settled()
}

// TestProgramsThatAHostLacks are reported in a preview already, unless something may bring them before.
func TestProgramsThatAHostLacks(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.host().Lacks("sysctl", "curl", "wget")
	const sysctl = "[sysctl.\"vm.swappiness\"]\nvalue = \"10\"\n"
	b.manifest(sysctl + "[command.chart]\nrun = [\"chart-press\"]\ndone_if_exists = \"/srv/chart\"\n")
	for _, preview := range []bool{true, false} {
		h := b.one(preview)
		if wants(t, h, "sysctl vm.swappiness failed", "command chart failed"); t.Failed() {
			t.Fatal(h.Wrong)
		}
		if h.Tasks[0].Message != "sysctl is not installed on this host" ||
			!strings.Contains(h.Tasks[0].Do, "[package.procps]") ||
			h.Tasks[1].Message != "chart-press is not installed on this host" {
			t.Errorf("it says %s; %s\n%s", h.Tasks[0].Message, h.Tasks[0].Do, h.Tasks[1].Message)
		}
	}
	b.manifest("[package.chart-press]\n" + sysctl + "[command.chart]\nrun = [\"chart-press\"]\ndone_if_exists = " +
		"\"/srv/chart\"\n")
	if h := b.one(true); h.Count(plan.Failed) > 0 {
		t.Errorf("what may come with packages: %s", statuses(h))
	}
}

// TestWhatGoesAlong: what a package takes with it is shown before, and refused where it is declared
// otherwise or essential.
func TestWhatGoesAlong(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[package.buoy-lights]\n[package.chart-press]\n")
	const comes = "version: absent -> installed\nalso package buoy-tools: absent -> 1.1-1"
	if got := changes(b.one(true), 0); got != comes {
		t.Errorf("a preview of what comes:\n%s", got)
	}
	if got := changes(b.one(false), 0); !strings.HasSuffix(got, "also package buoy-tools: absent -> 1.1-1") {
		t.Errorf("what comes:\n%s", got)
	}
	// the ledger knows that it is managed, the manifest does not say that it goes
	for about, c := range map[string]struct{ manifest, want string }{
		"managed":  {"[package.buoy-tools]\nabsent = true\n", "it would also remove buoy-lights, which the project"},
		"declared": {"[package.buoy-lights]\n[package.buoy-tools]\nabsent = true\n", "which is declared differently"},
	} {
		b.manifest(c.manifest)
		for _, preview := range []bool{true, false} {
			h := b.one(preview)
			if i := len(h.Tasks) - 1; !strings.Contains(h.Tasks[i].Message, c.want) || b.host().
				Installed("buoy-lights") == "" {
				t.Errorf("%s: %s", about, h.Tasks[i].Message)
			}
		}
	}
	b.undeclared.Forget = true
	b.manifest("[dir.\"/srv/tide\"]\n")
	b.run(false)
	b.manifest("[package.buoy-tools]\nabsent = true\n[package.chart-press]\nabsent = true\n")
	const goes = "version: 1.1-1 -> absent\nalso package buoy-lights: 1.2-1 -> absent"
	if h := b.one(true); changes(h, 0) != goes || strings.Contains(changes(h, 1), "also package") {
		t.Errorf("a preview of what goes:\n%s\n%s", changes(h, 0), changes(h, 1))
	}
	b.run(false)
	if b.host().Installed("buoy-lights")+b.host().Installed("buoy-tools")+b.host().Installed("chart-press") != "" {
		t.Error("what was to go is there")
	}
	b.settled()
	b.put("var/lib/dpkg/status", b.on("var/lib/dpkg/status")+
		"Package: old-ticker\nEssential: yes\nStatus: install ok installed\nArchitecture: amd64\nVersion: 0.3-1\n\n")
	b.manifest("[package.old-ticker]\nabsent = true\n")
	if h := b.one(true); !strings.Contains(h.Tasks[0].Message, "essential to this host") {
		t.Errorf("an essential one: %s %s", h.Tasks[0].Status, h.Tasks[0].Message)
	}
	b.put("var/lib/dpkg/status", b.on("var/lib/dpkg/status")+
		"Package: zypper\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.14\n\nPackage: apt\n"+
		"Status: install ok installed\n"+
		"Architecture: amd64\nVersion: 2.6\n\n")
	b.manifest("[package.apt]\nabsent = true\n[package.zypper]\nabsent = true\n")
	if h := b.one(true); !strings.Contains(h.Tasks[0].Message, "it would remove apt, which is essential") ||
		h.Tasks[1].Status != plan.Changed {
		t.Errorf("the manager of the host, and another: %s\n%s", statuses(h), h.Tasks[0].Message)
	}
}

// TestAHoldStays with a new version of which nothing is said of a hold.
func TestAHoldStays(t *testing.T) {
	b := newBench(t, "gauge-01")
	held := func() bool {
		return strings.Contains(b.on("var/lib/dpkg/status"), "Package: chart-press\nStatus: hold ok installed")
	}
	for _, c := range []struct {
		manifest string
		held     bool
	}{
		{"[package.chart-press]\nversion = \"2.0.1-1\"\nhold = true\n", true},
		{"[package.chart-press]\nversion = \"2.1.0-1\"\n", true},
		{"[package.chart-press]\nversion = \"2.0.1-1\"\nhold = false\n", false},
	} {
		b.manifest(c.manifest)
		if h := b.one(false); h.Count(plan.Changed) != 1 || held() != c.held {
			t.Errorf("after\n%s it is held: %v\n%s", c.manifest, held(), statuses(h))
		}
		b.settled()
	}
}

// TestAFileOfAnotherPackage is not installed.
func TestAFileOfAnotherPackage(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.write("manifests/all/manifest.toml", "[package.tide-logger]\nversion = \"1.4.2-1\"\nfrom = \"p.deb\"\n")
	for text, want := range map[string]string{
		"Package: chart-press\nVersion: 2.0.1-1\n":   "the file is the package chart-press in the version 2.0.1-1",
		"Package: tide-logger\nVersion: 1.5.0-1\n":   "the file is the package tide-logger in the version 1.5.0-1",
		"an archive of another sort":                 "read the package file",
		"Package: tide-logger\nVersion: 1.4.2-1\n\n": "",
	} {
		b.write("manifests/all/p.deb", text)
		h := b.one(false)
		if !strings.Contains(h.Tasks[0].Message, want) || (b.host().Installed("tide-logger") != "") != (want == "") ||
			b.host().Installed("chart-press") != "" {
			t.Errorf("%q: %s %s", text, h.Tasks[0].Status, h.Tasks[0].Message)
		}
		os.WriteFile(filepath.Join(b.host().Root, "var/lib/dpkg/status"), nil, 0o644)
	}
}

// TestNeighborsThatDisagree end as failed in every run, and never as unchanged: what another one
// took back is read again.
func TestNeighborsThatDisagree(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.put("etc/systemd/system/ebb.service", "[Unit]\nConflicts=cron.service\n[Service]\nExecStart=/usr/sbin/ebb\n")
	b.put("etc/systemd/system/cron.service", "[Unit]\nConflicts=ebb.service\n[Service]\nExecStart=/usr/sbin/cron\n")
	for manifest, want := range map[string]string{
		"[hosts_entry.\"192.0.2.9\"]\nnames = [\"buoy\"]\n[lines.\"/etc/hosts\"]\nremove = " +
			"['buoy']\n": "lines /etc/hosts failed: " +
			"it reverts what hosts_entry 192.0.2.9 declares",
		"[user.maren]\nhome = \"/home/maren\"\nkeys = [\"ssh-ed25519 " +
			"AAAAC3NzaC1lZDI1NTE5AAAAIGWmJ3pu3rGQcJj7fjq8AOhK0bVYrFmkmrsDyM2kMFyM maren\"]\nonly_keys = true\n" +
			"[file.\"/home/maren/.ssh/authorized_keys\"]\ncontent = \"\"\n": "authorized_keys failed: it reverts " +
			"what user maren",
		"[service.cron]\nrunning = true\n[service.ebb]\nrunning = true\n": "failed",
	} {
		b.manifest(manifest)
		for try := range 3 {
			h := b.one(false)
			got := ""
			for _, task := range h.Tasks {
				got += task.Ref().String() + " " + string(task.Status) + ": " + task.Message + "\n"
			}
			if h.Count(plan.Failed) == 0 || !strings.Contains(got, want) {
				t.Errorf("try %d of\n%s\nended with\n%s", try, manifest, got)
			}
		}
	}
}

// TestDeclaredInOtherWords: a file of which parts are declared now does not go as what was declared
// whole.
func TestDeclaredInOtherWords(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.undeclared.Take = true
	b.manifest("[file.\"/etc/tides\"]\ncontent = \"a = 1\\nb = 1\\n\"\n")
	b.run(false)
	b.manifest("[lines.\"/etc/tides\"]\nadd = [{ line = \"a = 2\", replaces = '^a' }]\n")
	wants(t, b.one(false), "lines /etc/tides changed")
	if got := b.on("etc/tides"); got != "a = 2\nb = 1\n" {
		t.Errorf("the file holds %q", got)
	}
	b.settled()
}

// TestOnlyDeclared takes away what nobody declares, and leaves what others do, wherever their kind
// keeps it.
func TestOnlyDeclared(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.write("manifests/all/site/index.html", "tides\n")
	b.put("srv/site/stray", "x")
	b.put("srv/site/deep/er/stray", "x")
	b.put("srv/site/uploads/chart", "x")
	b.put("etc/cron.d/stray", "x")
	b.write("manifests/all/manifest.toml", "[dir.\"/srv/site\"]\ncopy = \"site\"\nonly_declared = true\n"+
		"[dir.\"/srv/site/uploads\"]\n"+
		"mode = \"0755\"\n[file.\"/srv/site/deep/er/note\"]\ncontent = \"x\"\n[dir.\"/srv/site/deep/er\"]\n"+
		"[dir.\"/srv/site/deep\"]\n"+
		"[dir.\"/etc/cron.d\"]\ncopy = \"site\"\nonly_declared = true\n[cron.rotate]\nschedule = \"@daily\"\nrun = "+
		"\"true\"\n")
	for range 2 {
		b.run(false)
	}
	b.settled()
	for p, want := range map[string]bool{"srv/site/stray": false, "srv/site/uploads/chart": true,
		"srv/site/deep/er/note": true,
		"etc/cron.d/stray":      false, "etc/cron.d/rotate": true, "srv/site/index.html": true} {
		if there := b.on(p) != ""; there != want {
			t.Errorf("%s is there: %v", p, there)
		}
	}
}

// changes writes what changed of a task as "what: was -> becomes" lines.
func changes(h *record.Host, i int) string {
	var out []string
	for _, c := range h.Tasks[i].Changes {
		out = append(out, c.What+": "+c.Was+" -> "+c.Becomes)
	}
	return strings.Join(out, "\n")
}

// TestNothingHalfDone: a module that cannot be loaded leaves no file behind, and swap that cannot be
// used leaves what was there as it was.
func TestNothingHalfDone(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[swap.\"/swapfile\"]\nsize = \"1 MiB\"\npriority = 3\n")
	b.run(false)
	b.settled()
	before := b.tree() + b.on("proc/swaps") + b.on("etc/fstab")
	fails := ""
	b.host().Wrap = func(m machine.Machine) machine.Machine {
		return faulty{m, func(op, what string) error {
			if op == "run" && fails != "" && strings.HasPrefix(what, fails) {
				fails = "" // once
				return errors.New("it does not want to")
			}
			return nil
		}}
	}
	for _, c := range []struct{ fails, manifest string }{
		{"mkswap", "[swap.\"/swapfile\"]\nsize = \"2 MiB\"\npriority = 3\n"},
		{"swapoff", "[swap.\"/swapfile\"]\nsize = \"2 MiB\"\npriority = 3\n"},
		{"swapon", "[swap.\"/swapfile\"]\nsize = \"2 MiB\"\npriority = 3\n"},
		{"swapon", "[swap.\"/swapfile\"]\nsize = \"1 MiB\"\npriority = 7\n"},
		{"swapon", "[swap.\"/swapfile\"]\nsize = \"1 MiB\"\npriority = 3\n[swap.\"/other\"]\nsize = \"1 MiB\"\n"},
		{"modprobe", "[kmod.tide]\nloaded = true\nat_boot = true\noptions = \"a=1\"\n"},
	} {
		fails = c.fails
		b.manifest(c.manifest)
		if h := b.one(false); h.Count(plan.Failed) != 1 {
			t.Errorf("with a failing %s:\n%s", c.fails, statuses(h))
		}
		if now := b.tree() + b.on("proc/swaps") + b.on("etc/fstab"); now != before {
			t.Errorf("a failing %s of\n%s leaves\n%s\nof\n%s", c.fails, c.manifest, now, before)
		}
	}
	fails = ""
	b.manifest("[swap.\"/swapfile\"]\nsize = \"2 MiB\"\npriority = 3\n")
	b.run(false)
	b.settled()
}

// TestAPasswordThatIsLocked by `usermod -L` is not what locked = false leaves.
func TestAPasswordThatIsLocked(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[user.maren]\npassword = \"salt & water 01\"\nlocked = false\nexpires = \"2031-05-01\"\n")
	b.run(false)
	b.settled()
	before := b.on("etc/shadow")
	b.put("etc/shadow", strings.Replace(before, "maren:", "maren:!", 1))
	b.manifest("[user.maren]\nlocked = false\nexpires = \"2031-05-01\"\n")
	if h := b.one(false); changes(h, 0) != "locked: its password -> no" || b.on("etc/shadow") != before {
		t.Errorf("%s\n%s", changes(h, 0), b.on("etc/shadow"))
	}
	b.settled()
}

// TestANewAccountIsLocked once it is made: useradd has no word for it.
func TestANewAccountIsLocked(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[user.lena]\nlocked = true\n")
	wants(t, b.one(false), "user lena changed")
	for _, c := range b.host().Calls() {
		if strings.HasPrefix(c, "useradd") && strings.Contains(c, " -L") {
			t.Errorf("it ran %s", c)
		}
	}
	b.settled()
}
