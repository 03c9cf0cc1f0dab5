package run_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/fleet/run"
)

// TestDropInsAreLoaded: systemd's NeedDaemonReload tells neither of a new folder of drop-ins nor
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
			"[file.\"" + dropIn + "\"]\ncontent = \"[Service]\\nEnvironment=HARBOR=north\\n\"\n", "HARBOR=north", "nothing"},
		{"a unit file over the package's", "restart_on = [\"file /etc/systemd/system/tide-logger.service\"]\n" +
			"[file.\"/etc/systemd/system/tide-logger.service\"]\ncontent = \"[Service]\\nExecStart=/opt/ebb\\n\"\n", "/opt/ebb",
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
	if err := os.Remove(filepath.Join(b.host().Root, "etc/systemd/system/tide-logger.service.d/hand.conf")); err != nil {
		t.Fatal(err)
	}
	// What goes is unloaded in the same run, whatever service it was for.
	b.leftovers.Take = true
	b.manifest(logger)
	b.run(false)
	b.settled()
}

// TestADropInComesFirst: a service needs the drop-ins of its name, wherever they are declared.
func TestADropInComesFirst(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[service.tide-logger]\nrunning = true\n[package.tide-logger]\n" +
		"[dir.\"/etc/systemd/system/tide-logger.service.d\"]\n[settings.\"/etc/systemd/system/tide-logger.service.d/a.conf\"]\n" +
		"format = \"ini\"\nmake = true\n[settings.\"/etc/systemd/system/tide-logger.service.d/a.conf\".set]\n\"Service.Nice\" = 5\n")
	if h := b.one(false); !strings.HasSuffix(statuses(h), "service tide-logger changed") &&
		!strings.HasSuffix(statuses(h), "service tide-logger unchanged") {
		t.Errorf("the order is\n%s", statuses(h))
	}
	b.settled()
}

// TestWhatGoesAlong: what a package takes with it is shown before, and refused where it is declared
// otherwise or essential.
func TestWhatGoesAlong(t *testing.T) {
	b := newBench(t, "gauge-01")
	b.manifest("[package.buoy-lights]\n[package.chart-press]\n")
	const comes = "version: absent -> installed\nwith it package buoy-tools: absent -> 1.1-1"
	if got := changes(b.one(true), 0); got != comes {
		t.Errorf("a preview of what comes:\n%s", got)
	}
	if got := changes(b.one(false), 0); !strings.HasSuffix(got, "with it package buoy-tools: absent -> 1.1-1") {
		t.Errorf("what comes:\n%s", got)
	}
	// the ledger knows that it is managed, the manifest does not say that it goes
	for about, c := range map[string]struct{ manifest, want string }{
		"managed":  {"[package.buoy-tools]\nabsent = true\n", "buoy-lights would go along with it, which the project"},
		"declared": {"[package.buoy-lights]\n[package.buoy-tools]\nabsent = true\n", "which is declared otherwise"},
	} {
		b.manifest(c.manifest)
		for _, preview := range []bool{true, false} {
			h := b.one(preview)
			if i := len(h.Tasks) - 1; !strings.Contains(h.Tasks[i].Message, c.want) || b.host().Installed("buoy-lights") == "" {
				t.Errorf("%s: %s", about, h.Tasks[i].Message)
			}
		}
	}
	b.leftovers.Forget = true
	b.manifest("[dir.\"/srv/tide\"]\n")
	b.run(false)
	b.manifest("[package.buoy-tools]\nabsent = true\n[package.chart-press]\nabsent = true\n")
	const goes = "version: 1.1-1 -> absent\nwith it package buoy-lights: 1.2-1 -> absent"
	if h := b.one(true); changes(h, 0) != goes || strings.Contains(changes(h, 1), "with it") {
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
}

// changes writes what changed of a task as "what: was -> becomes" lines.
func changes(h *run.Visit, i int) string {
	var out []string
	for _, c := range h.Tasks[i].Changes {
		out = append(out, c.What+": "+c.Was+" -> "+c.Becomes)
	}
	return strings.Join(out, "\n")
}
