package run_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
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
