package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine/folder"
)

// fleetOf is a project with simulated hosts of these names that are up, each of which is
// given the manifest pier.
func fleetOf(t *testing.T, settings, manifest string, names ...string) (dir string, hosts *sim.Fleet) {
	t.Helper()
	dir = t.TempDir()
	var specs []folder.Spec
	inventory := "[connect]\nuser = \"keeper\"\nelevate = \"sudo\"\nkey = \"simulated/client-key\"\n"
	for _, name := range names {
		specs = append(specs, folder.Spec{Name: name})
		inventory += "[host." + name + "]\n"
	}
	hosts = simulated(t, dir, specs...)
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n[ssh]\nknown_hosts = \"simulated/known_hosts\"\n[inventory]\n" +
			"files = [\"hosts.toml\", \"simulated.toml\"]\n" + settings,
		"hosts.toml":          inventory + "[group.pier]\nmembers = [\"*\"]\nmanifests = [\"pier\"]\n",
		"simulated.toml":      hosts.Inventory(),
		"manifests/pier.toml": manifest,
	} {
		put(t, filepath.Join(dir, name), text)
	}
	return dir, hosts
}

func put(t *testing.T, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

const motd = "[file.\"/etc/motd\"]\ncontent = \"High water at nine.\\n\"\n"

// TestRollouts goes over hosts rollout, ends where one fails, and takes up again what
// was left.
func TestRollouts(t *testing.T) {
	var names []string
	for i := range 9 {
		names = append(names, fmt.Sprintf("gauge-%02d", i+1))
	}
	dir, hosts := fleetOf(t, "[run]\nfirst = 1\nbatch = \"25%\"\npause = \"10ms\"\n", motd, names...)
	done := func() string {
		var out []string
		for i, h := range hosts.Hosts {
			if _, err := os.Stat(filepath.Join(h.Root, "etc/motd.done")); err == nil {
				out = append(out, names[i][len(names[i])-1:])
			}
			os.Remove(filepath.Join(h.Root, "etc/motd.done"))
		}
		return strings.Join(out, "")
	}
	trouble := func(on int, is bool) { // a folder in the file's place
		at := filepath.Join(hosts.Hosts[on-1].Root, "etc/motd")
		os.RemoveAll(at)
		if is {
			os.MkdirAll(at, 0o755)
		}
	}
	manifest := motd + "[file.\"/etc/motd.done\"]\ncontent = \"\"\nafter = [\"file /etc/motd\"]\n"
	put(t, filepath.Join(dir, "manifests/pier.toml"), manifest)

	trouble(3, true)
	code, out, errs := jk(t, dir, "apply", "--all")
	if got := done(); code != 1 || got != "124" || !strings.Contains(out, "5 not started") ||
		!strings.Contains(out, "these hosts failed first: gauge-03") ||
		!strings.Contains(errs, "batch 2 of 4: 3 hosts") {
		t.Errorf("a batch with a failure: %d, done on %s\n%s%s", code, got, out, errs)
	}
	trouble(3, false)
	code, out, _ = jk(t, dir, "apply", "--again")
	if got := done(); code != 0 || strings.Contains(out, "gauge-01 ") || got != "356789" {
		t.Errorf("again: %d, done on %s\n%s", code, got, out)
	}
	if !strings.Contains(out, "\nRun 2 took ") {
		t.Errorf("the run has no number:\n%s", out)
	}
	if code, _, errs := jk(t, dir, "apply", "--again", "2"); code != 2 || !strings.Contains(errs, "no host failed") {
		t.Errorf("nothing is left of run 2: %d %s", code, errs)
	}
	if code, out, _ := jk(t, dir, "preview", "--again", "1"); code != 0 || !strings.Contains(out, "hosts: ") {
		t.Errorf("a preview of those of run 1: %d %s", code, out)
	}

	trouble(1, true)
	done()
	if code, out, _ = jk(t, dir, "apply", "--all", "--first", "gauge-01,gauge-02"); code != 1 ||
		!strings.Contains(out, "7 not started") {
		t.Errorf("of those that go first one fails: %d\n%s", code, out)
	}
	trouble(2, true)
	if code, out, _ = jk(t, dir, "apply", "--all", "--batch", "3", "--stop-after", "30%"); code != 1 ||
		strings.Contains(out, "not started") {
		t.Errorf("with two failures of three that are allowed: %d\n%s", code, out)
	}
	if code, out, _ = jk(t, dir, "apply", "--all", "--batch", "9", "--parallel", "1", "--stop-after", "2"); code != 1 ||
		!strings.Contains(out, "after 2 hosts had failed") {
		t.Errorf("in the middle of a batch: %d\n%s", code, out)
	}
	trouble(1, false)
	trouble(2, false)

	rolloutsEnd(t, dir, hosts)
}

// rolloutsEnd has rollouts end for a probe, for hosts that are down, and for flags that are wrong.
func rolloutsEnd(t *testing.T, dir string, hosts *sim.Fleet) {
	t.Helper()
	put(t, filepath.Join(dir, "manifests/pier.toml"), motd+"[probe.answer]\nfile = \"/etc/motd\"\ntext = \"low\"\n")
	if code, out, _ := jk(t, dir, "apply", "--all", "--stop-after", "9"); code != 1 ||
		!strings.Contains(out, "probes failed on gauge-01") {
		t.Errorf("a probe that does not hold: %d\n%s", code, out)
	}
	put(t, filepath.Join(dir, "manifests/pier.toml"), motd)
	hosts.Hosts[4].Down()
	for flag, want := range map[string]int{"": 1, "--accept-unreached": 0} {
		args := append([]string{"preview"}, strings.Fields(flag)...)
		if code, out, _ := jk(t, dir, args...); code != want || !strings.Contains(out, "1 not reached") {
			t.Errorf("preview %s with a host down: %d\n%s", flag, code, out)
		}
	}
	put(t, filepath.Join(dir, "manifests/pier.toml"), strings.ReplaceAll(motd, "nine", "ten"))
	if code, _, _ := jk(t, dir, "apply", "--all", "--accept-unreached", "--fail-if-changes"); code != 3 {
		t.Errorf("drift and a dead host: %d", code)
	}
	for args, want := range map[string]string{"--batch no": "invalid number of hosts", "--pause soon": "invalid pause",
		"--pause key --batch 2": "needs a terminal", "--first gauge-99": "gauge-99"} {
		code, _, errs := jk(t, dir, append([]string{"apply", "--all"}, strings.Fields(args)...)...)
		if code != 2 || !strings.Contains(errs, want) {
			t.Errorf("apply %s: %d %s", args, code, errs)
		}
	}
}

// TestDefaultsOfRollouts: a setting that names no target is passed over and named, and --again repeats
// the selected tasks.
func TestDefaultsOfRollouts(t *testing.T) {
	const manifest = motd + "[file.\"/etc/berth\"]\ncontent = \"\"\nlabels = [\"berth\"]\n"
	dir, hosts := fleetOf(t, "[env.sea]\nfirst = \"gauge-01\"\npause = \"key\"\ndefault = true\n[env.land]\nfirst "+
		"= \"gauge-99\"\n",
		manifest, "gauge-01", "gauge-02", "gauge-03")
	for args, want := range map[string]struct {
		code int
		errs string
	}{
		"apply gauge-02 gauge-03": {0,
			`first = "gauge-01" in [env.sea] of jadekettle.toml matches no target of this run`},
		"apply gauge-02 --first gauge-01":           {2, "gauge-01 matches no target of this run"},
		"apply gauge-02 --first gauge-99":           {2, "--first: "},
		"apply gauge-02 --env land":                 {2, `first = "gauge-99" in [env.land] of jadekettle.toml: `},
		"apply gauge-01 gauge-02":                   {2, "waiting for a keypress needs a terminal"},
		"apply gauge-02 --first gauge-02 --batch 3": {0, ""},
	} {
		code, _, errs := jk(t, dir, append(strings.Fields(args), "--yes")...)
		if code != want.code || !strings.Contains(errs, want.errs) {
			t.Errorf("%s: %d\n%s", args, code, errs)
		}
	}
	berth := filepath.Join(hosts.Hosts[1].Root, "etc/berth")
	os.Remove(berth)
	put(t, filepath.Join(berth, "taken"), "") // a folder in the file's place
	os.Remove(filepath.Join(hosts.Hosts[1].Root, "etc/motd"))
	if code, out, _ := jk(t, dir, "apply", "gauge-02", "--label", "berth", "--yes"); code != 1 {
		t.Fatalf("a part that fails: %d\n%s", code, out)
	}
	os.RemoveAll(berth)
	code, out, errs := jk(t, dir, "apply", "--again", "--yes")
	if code != 0 || strings.Contains(out, "/etc/motd") || !strings.Contains(out, "/etc/berth  created") ||
		!strings.Contains(errs, "--label berth") {
		t.Errorf("again: %d\n%s%s", code, out, errs)
	}
}

// TestOneHostHoldsUpNoOther where a command goes over hosts one after another.
func TestOneHostHoldsUpNoOther(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01", "gauge-02", "gauge-03")
	hosts.Hosts[0].Down()
	os.Remove(filepath.Join(dir, "simulated/known_hosts"))
	code, out, errs := jk(t, dir, "hosts", "trust", "--yes", "gauge-01", "gauge-02", "gauge-03")
	if code != 1 || !strings.Contains(errs, "gauge-01  not reached: ") ||
		!strings.Contains(out, "gauge-03  ssh-ed25519") {
		t.Errorf("trust ended with %d\n%s%s", code, out, errs)
	}
	if code, out, _ := jk(t, dir, "preview", "gauge-02", "gauge-03"); code != 0 {
		t.Errorf("those after the one that failed: %d\n%s", code, out)
	}
	code, _, errs = jk(t, dir, "hosts", "unenroll", "gauge-01", "gauge-02")
	if code != 1 || !strings.Contains(errs, "gauge-01  failed: not reached") ||
		!strings.Contains(errs, "gauge-02  failed: it could not be") {
		t.Errorf("release ended with %d\n%s", code, errs)
	}
}

// TestExec runs a command on hosts and shows once what is alike.
func TestExec(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01", "gauge-02", "gauge-03", "gauge-04", "archive-01")
	put(t, filepath.Join(hosts.Hosts[4].Root, "etc/passwd"), "root:x:0:0:archive:/root:/bin/sh\n")
	code, out, errs := jk(t, dir, "exec", "--all", "--", "getent", "passwd", "root")
	if code != 0 || !strings.Contains(out, "gauge-[01..04]  exit status 0\n    "+
		"root:x:0:0:root:/root:/bin/bash\n") ||
		!strings.Contains(out, "archive-01  exit status 0\n    root:x:0:0:archive") ||
		!strings.Contains(out, "\n5 hosts: 5 with exit status 0\n\nRun 1 took") {
		t.Errorf("it ends with %d\n%s%s", code, out, errs)
	}
	hosts.Hosts[0].Down()
	code, out, _ = jk(t, dir, "exec", "gauge-*", "--", "getent", "passwd", "nobody-here")
	if code != 1 || !strings.Contains(out, "\n4 hosts: 3 with exit status 2, 1 not reached\n\nRun 2 took") {
		t.Errorf("it ends with %d\n%s", code, out)
	}
	code, out, _ = jk(t, dir, "exec", "gauge-02", "--", "no-such-program", "a word")
	if code != 1 || !strings.Contains(out, "gauge-02  the program no-such-program is not installed on this host") {
		t.Errorf("a program that does not exist: %d\n%s", code, out)
	}
	for args, want := range map[string]string{"exec gauge-02 getent": "no command given",
		"exec -- getent": "no targets given"} {
		if code, _, errs := jk(t, dir, strings.Fields(args)...); code != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: %d %s", args, code, errs)
		}
	}
}
