package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// TestReviewedPreviews saves a preview, and applies just that: a host that reads otherwise
// by then is not started, and neither is one for which another thing is declared.
func TestReviewedPreviews(t *testing.T) {
	manifest := motd + "[user.maren]\npassword = \"salt & water 01\"\n[package.salt-lamp]\n[dir.\"/srv/pool\"]\n" +
		"[command.slack]\nrun = [\"touch\", \"/srv/pool/slack\"]\ndone_if_exists = \"/srv/pool/slack\"\nafter = " +
		"[\"dir /srv/pool\"]\n"
	dir, hosts := fleetOf(t, "", manifest, "gauge-01", "gauge-02", "gauge-03")
	put(t, filepath.Join(hosts.Hosts[0].Root, "etc/motd"), "old \"tides\"\r\n\ttab\n")
	file := filepath.Join(dir, "tonight.toml")
	code, _, errs := jk(t, dir, "preview", "--save", "tonight.toml")
	if code != 0 || !strings.Contains(errs, "apply --reviewed tonight.toml") {
		t.Fatalf("preview --save ends with %d: %s", code, errs)
	}
	text, _ := os.ReadFile(file)
	for _, want := range []string{"declared = 'file /etc/motd'", "status = 'would change'", "High water",
		"name = 'gauge-03'"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("it does not hold %q:\n%s", want, text)
		}
	}
	if strings.Contains(string(text), "salt & water") {
		t.Error("it holds a secret")
	}
	put(t, filepath.Join(hosts.Hosts[1].Root, "etc/motd"), "somebody was here\n")
	hosts.Hosts[2].Down()
	code, out, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml")
	if code != 1 || !strings.Contains(out, "3 hosts: 1 changed, 1 not reached, 1 refused") ||
		!strings.Contains(out, "file /etc/motd would change differently") ||
		!strings.Contains(errs, "the preview was made") {
		t.Errorf("apply --reviewed ends with %d\n%s%s", code, out, errs)
	}
	if got, _ := os.ReadFile(filepath.Join(hosts.Hosts[1].Root, "etc/motd")); string(got) != "somebody was here\n" {
		t.Errorf("a host that was not started has %q", got)
	}
	jk(t, dir, "preview", "gauge-02", "--save", "tonight.toml", "--task", "file")
	put(t, filepath.Join(dir, "manifests/pier.toml"), strings.Replace(manifest, "nine", "ten", 1))
	if code, out, _ = jk(t, dir, "apply", "--reviewed", "tonight.toml"); code != 1 ||
		!strings.Contains(out, "  refused: ") {
		t.Errorf("with another declaration: %d\n%s", code, out)
	}
	put(t, filepath.Join(dir, "manifests/pier.toml"), manifest)
	if code, out, _ = jk(t, dir, "apply", "--reviewed", "tonight.toml"); code != 0 ||
		!strings.Contains(out, "1 changed, ") {
		t.Errorf("of a part: %d\n%s", code, out)
	}
	for text, want := range map[string]string{"format = 9\n": "has format 9", "a = [": "tonight.toml:1:",
		"": "is not a saved preview",
		strings.Replace(string(text), "saltmarsh", "harbour", 1): `preview of the project "harbour"`} {
		put(t, file, text)
		if code, _, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml"); code != 2 ||
			!strings.Contains(errs, want) {
			t.Errorf("with %.20q: %d %s", text, code, errs)
		}
	}
}

// TestOnlyWhatWasReviewed is done: what a preview does not show whole, or not at all, counts as well,
// and so does the revision.
func TestOnlyWhatWasReviewed(t *testing.T) {
	const manifest = "[command.slack]\nrun = [\"touch\", \"/srv/slack\"]\ndone_if_exists = \"/srv/slack\"\n" +
		"input = \"ebb\"\nenvironment = { TIDE = \"low\" }\ntimeout = \"1m\"\n[user.maren]\npassword = \"salt & " +
		"water 01\"\n[file.\"/etc/chart\"]\ncopy = \"chart.bin\"\n[gauge_offset.\"/srv/pile\"]\ntext = \"ebb\"\n"
	dir, _ := fleetOf(t, "", manifest, "gauge-01")
	put(t, filepath.Join(dir, "manifests/chart.bin"), "\x00\x01one")
	put(t, filepath.Join(dir, "manifests/pier.toml"), "")
	steps(t, dir, nil, []step{{0, "", []string{"kinds", "new", "gauge_offset"}}})
	put(t, filepath.Join(dir, "manifests/pier.toml"), manifest)
	code, out, errs := jk(t, dir, "preview", "--save", "tonight.toml")
	if code != 0 {
		t.Fatalf("preview: %d %s%s", code, out, errs)
	}
	for _, want := range []string{"environment: { TIDE = \"low\" }", "input: ebb"} {
		if !strings.Contains(out, want) {
			t.Errorf("the preview does not show %q:\n%s", want, out)
		}
	}
	for _, c := range []struct{ file, old, new, what string }{
		{"manifests/pier.toml", "input = \"ebb\"", "input = \"flow\"", "command slack"},
		{"manifests/pier.toml", "low", "high", "command slack"},
		{"manifests/pier.toml", "1m", "2m", "command slack"},
		{"manifests/pier.toml", "water 01", "water 02", "user maren"},
		{"manifests/chart.bin", "one", "two", "file /etc/chart"},
		{"kinds/gauge_offset/program", "#!/bin/sh", "#!/bin/sh\n# nobody saw this", "gauge_offset /srv/pile"},
	} {
		name := filepath.Join(dir, c.file)
		was, _ := os.ReadFile(name)
		put(t, name, strings.Replace(string(was), c.old, c.new, 1))
		code, out, _ := jk(t, dir, "apply", "--reviewed", "tonight.toml")
		if code != 1 || !strings.Contains(out, "  refused: ") ||
			!strings.Contains(out, c.what+" is declared differently") {
			t.Errorf("%s, %s for %s: %d\n%s", c.file, c.new, c.old, code, out)
		}
		put(t, name, string(was))
	}
	committed(t, dir, "reviewed")
	if code, _, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml"); code != 2 ||
		!strings.Contains(errs, "the preview was made at no revision") {
		t.Errorf("at another revision: %d %s", code, errs)
	}
}

// TestReviewedParams are those of the preview.
func TestReviewedParams(t *testing.T) {
	dir, hosts := fleetOf(t, "", "[param.tide]\ntype = \"int\"\ndefault = 1\n[file.\"/etc/motd\"]\ncontent = "+
		"\"${param.tide}\\n\"\n",
		"gauge-01")
	if code, _, errs := jk(t, dir, "preview", "--param", "pier.tide=7", "--save", "tonight.toml"); code != 0 {
		t.Fatal(code, errs)
	}
	if code, _, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml", "--param", "pier.tide=8"); code != 2 ||
		!strings.Contains(errs, "--param cannot be combined") {
		t.Errorf("with another: %d %s", code, errs)
	}
	code, out, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml")
	if got, _ := os.ReadFile(filepath.Join(hosts.Hosts[0].Root, "etc/motd")); code != 0 || string(got) != "7\n" {
		t.Errorf("apply --reviewed ends with %d, and the file holds %q\n%s%s", code, got, out, errs)
	}
}

// TestNothingStartsUnasked: without a terminal what changes hosts wants --yes, and with one it asks
// wherever the output goes.
func TestNothingStartsUnasked(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01")
	put(t, filepath.Join(dir, "jobs.toml"), "[job.night]\ntargets = [\"*\"]\n[job.look]\naction = \"preview\"\n"+
		"targets = [\"*\"]\n")
	changed := func() bool {
		_, err := os.Stat(filepath.Join(hosts.Hosts[0].Root, "etc/motd"))
		return err == nil
	}
	run := func(terminal bool, answer string, args ...string) (code int, out, errs string) {
		var o, e bytes.Buffer
		a := &cli.Streams{In: strings.NewReader(answer), Out: &o, Err: &e, Terminal: terminal,
			Getenv: func(name string) string { return map[string]string{"HOME": dir}[name] }}
		code = a.Run(t.Context(), append([]string{"--project", dir}, args...), commands.All...)
		return code, o.String(), e.String()
	}
	for _, args := range [][]string{{"apply", "--all"}, {"exec", "--all", "--", "getent", "passwd"},
		{"job", "start", "night"},
		{"hosts", "retire", "gauge-01"}} {
		if code, out, errs := run(false, "y\n", args...); code != 2 ||
			!strings.Contains(errs, "needs confirmation, but this is not a terminal") || changed() {
			t.Errorf("%v without a terminal: %d %s%s", args, code, out, errs)
		}
	}
	if code, _, errs := run(false, "", "job", "start", "look"); code != 0 {
		t.Errorf("a job that only looks: %d %s", code, errs)
	}
	for _, more := range [][]string{nil, {"--output", "json"}} { // standard output is a file
		code, out, errs := run(true, "n\n", append([]string{"apply", "--all"}, more...)...)
		if code != 1 || out != "" || !strings.Contains(errs, "file /etc/motd  would be created") || changed() {
			t.Errorf("%v: %d\n%s\n%s", more, code, out, errs)
		}
	}
	if code, out, errs := run(true, "y\n", "apply", "--all", "--output", "json"); code != 0 ||
		!json.Valid([]byte(out)) || !changed() {
		t.Errorf("agreed to: %d\n%s\n%s", code, out, errs)
	}
}

// TestApplyOnATerminal previews, asks, and does just that.
func TestApplyOnATerminal(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01")
	at := filepath.Join(hosts.Hosts[0].Root, "etc/motd")
	apply := func(answer string, args ...string) (int, string) {
		var out bytes.Buffer
		a := &cli.Streams{In: strings.NewReader(answer), Out: &out, Err: &out, Terminal: true,
			Getenv: func(name string) string { return map[string]string{"HOME": dir}[name] }}
		code := a.Run(t.Context(), append([]string{"--project", dir, "apply", "gauge-01"}, args...), commands.All...)
		return code, out.String()
	}
	if code, out := apply("n\n"); code != 1 || !strings.Contains(out, "+High water at nine.") ||
		!strings.Contains(out, "to change  gauge-01") || !strings.HasSuffix(out,
		"Canceled; nothing was changed.\n") {
		t.Errorf("with a no: %d\n%s", code, out)
	}
	if _, err := os.Stat(at); err == nil {
		t.Error("it was done all the same")
	}
	if code, out := apply("y\n"); code != 0 || !strings.Contains(out, "changed  gauge-01") {
		t.Errorf("with a yes: %d\n%s", code, out)
	}
	if code, out := apply(""); code != 0 || strings.Contains(out, "[y/N]") ||
		!strings.Contains(out, "unchanged  gauge-01") {
		t.Errorf("with nothing to do it asks, or does not go on: %d\n%s", code, out)
	}
	put(t, at, "by hand\n")
	if code, out := apply("", "--yes"); code != 0 || strings.Contains(out, "to change") {
		t.Errorf("with --yes: %d\n%s", code, out)
	}
	hosts.Hosts[0].Down()
	if code, out := apply("y\n"); code != 1 || strings.Contains(out, "[y/N]") {
		t.Errorf("with the host down: %d\n%s", code, out)
	}
}

// TestRetire takes away what is managed on a host and forgets it; what cannot be removed
// is reported and stays.
func TestRetire(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd+"[lines.\"/etc/hosts\"]\nadd = [{ line = \"192.0.2.9 buoy\" }]\n", "gauge-01")
	if code, out, errs := jk(t, dir, "apply", "--all"); code != 0 {
		t.Fatalf("apply ends with %d\n%s%s", code, out, errs)
	}
	if code, _, errs := jk(t, dir, "hosts", "retire", "gauge-01"); code != 2 || !strings.Contains(errs, "use --yes") {
		t.Errorf("without a terminal: %d %s", code, errs)
	}
	code, out, errs := jk(t, dir, "hosts", "retire", "gauge-01", "--yes")
	_, err := os.Stat(filepath.Join(hosts.Hosts[0].Root, "etc/motd"))
	if code != 0 || err == nil || !strings.Contains(out, "lines /etc/hosts") ||
		!strings.Contains(errs, "gauge-01 is forgotten") {
		t.Errorf("retire ends with %d, the file is there: %v\n%s%s", code, err == nil, out, errs)
	}
	hosts.Hosts[0].Down()
	if code, _, errs = jk(t, dir, "hosts", "retire", "gauge-01", "--yes"); code != 1 ||
		!strings.Contains(errs, "is not forgotten") {
		t.Errorf("with the host down: %d %s", code, errs)
	}
}

// TestAPreviewBesideTheProject is not a change of the project that it was saved in, though git does not know it;
// another new file is one, whatever it begins with.
func TestAPreviewBesideTheProject(t *testing.T) {
	dir, _ := fleetOf(t, "", motd, "gauge-01")
	put(t, filepath.Join(dir, ".gitignore"), "simulated\n.*\n")
	committed(t, dir, "v1")
	if code, _, errs := jk(t, dir, "preview", "--save", "tonight.toml"); code != 0 {
		t.Fatalf("preview --save ends with %d: %s", code, errs)
	}
	saved, _ := os.ReadFile(filepath.Join(dir, "tonight.toml"))
	head, _, _ := strings.Cut(string(saved), "\n\n")
	for name, text := range map[string]string{"manifests/also.toml": string(saved),
		"also.toml": head + "\n[host.gauge-09]\n"} {
		put(t, filepath.Join(dir, name), text)
		if code, _, errs := jk(t, dir, "apply", "--reviewed", "tonight.toml"); code != 2 {
			t.Errorf("with %s, it ends with %d: %s", name, code, errs)
		}
		os.Remove(filepath.Join(dir, name))
	}
	steps(t, dir, nil, []step{{0, "changed  gauge-01", []string{"apply", "--reviewed", "tonight.toml"}}})
}

// TestAPreviewInAPipe is saved on standard output and read from standard input; what people read goes to standard
// error.
func TestAPreviewInAPipe(t *testing.T) {
	dir, _ := fleetOf(t, "", motd, "gauge-01")
	code, saved, errs := jk(t, dir, "preview", "--save", "-")
	if code != 0 || !strings.HasPrefix(saved, "# What an apply would change") ||
		!strings.Contains(errs, "would be created") {
		t.Fatalf("preview --save - ends with %d, and writes\n%s\n%s", code, saved, errs)
	}
	feed(t, dir, nil, saved, "apply", "--reviewed", "-", "--yes")
	steps(t, dir, nil, []step{
		{0, "unchanged  gauge-01", []string{"preview"}},
		{2, "--save - cannot be combined with --output json", []string{"preview", "--save", "-", "--output", "json"}},
	})
}

// TestQuiet prints a run if something changed or failed, whole, and else nothing at all.
func TestQuiet(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01", "gauge-02")
	for _, c := range []struct {
		args string
		want string // empty for no output
	}{
		{"apply --all -q", "2 hosts: 2 changed"},
		{"apply --all -q", ""},
		{"preview -q", ""},
		{"preview -q --output json", ""},
		{"drift -q", ""},
		{"exec gauge-01 -q -- true", ""},
		{"exec gauge-01 -q -- false", "exit status 1"},
	} {
		_, out, errs := jk(t, dir, strings.Fields(c.args)...)
		if out += errs; !strings.Contains(out, c.want) || (out == "") != (c.want == "") {
			t.Errorf("%s prints %q, want %q", c.args, out, c.want)
		}
	}
	hosts.Hosts[1].Down()
	if _, out, _ := jk(t, dir, "preview", "-q", "--output", "json"); !strings.Contains(out, `"state": "not reached"`) {
		t.Errorf("of a host that is down there is %q", out)
	}
}
