package rehearse_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
)

func project(files ...string) fstest.MapFS {
	fs := fstest.MapFS{
		"jadekettle.toml": {Data: []byte("project = \"test\"\n")},
		"hosts.toml": {Data: []byte("[host.gauge-01]\naddress = \"192.0.2.21\"\n[host.gauge-02]\n" +
			"disabled = \"in repair\"\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"gauge\"]\n")},
		"manifests/gauge.toml":       {Data: []byte("")},
		"rehearsal/one.toml":         {Data: []byte("[host.gauge-01]\n")},
		"manifests/logger.toml.tmpl": {Data: []byte("host = \"{{ host.name }}\"\n")},
	}
	for i := 0; i+1 < len(files); i += 2 {
		fs[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
	}
	return fs
}

// play gives the cases that are not as expected, and how many there are at all.
func play(t *testing.T, fs fstest.MapFS) (failures []string, all int) {
	t.Helper()
	list, err := rehearse.Load(fs, nil)
	if err != nil {
		return []string{err.Error()}, 0
	}
	cases, err := rehearse.Run(t.Context(), rehearse.Stage{Project: fs, Kinds: kinds.Schemas(),
		Folder: t.TempDir()}, list)
	if err != nil {
		return []string{err.Error()}, 0
	}
	for _, c := range cases {
		if c.Failure != "" {
			failures = append(failures, c.Host+" "+c.Name+": "+c.Failure)
		}
	}
	return failures, len(cases)
}

// TestExamplesOfKinds applies every example of every kind twice.
func TestExamplesOfKinds(t *testing.T) {
	for _, k := range kinds.All() {
		if len(k.Schema().Examples) < 2 {
			t.Errorf("%s has %d examples", k.Schema().Name, len(k.Schema().Examples))
		}
		for _, e := range k.Schema().Examples {
			if !strings.Contains(e.TOML, "["+k.Schema().Name+".") || strings.HasSuffix(e.About, ".") || e.About == "" {
				t.Errorf("%s: an example that shows nothing of it: %s", k.Schema().Name, e.About)
			}
			files := []string{"manifests/gauge.toml", e.TOML}
			for name, text := range e.Files {
				files = append(files, "manifests/"+name, text)
			}
			if failures, _ := play(t, project(files...)); len(failures) > 0 {
				t.Errorf("%s, %s:\n%s", k.Schema().Name, e.About, strings.Join(failures, "\n"))
			}
		}
	}
}

// TestNoRealSecretIsRehearsed puts made-up values in the place of encrypted ones.
func TestNoRealSecretIsRehearsed(t *testing.T) {
	fs := project("data/shared.toml.age", "[relay]\ntoken = \"rip-tide\"\npins = [4190, 7]\n",
		"manifests/gauge.toml", "[file.\"/etc/relay\"]\ncontent = \"${data.relay.token} "+
			"${data.relay.pins.join(',')}\\n\"\n",
		"rehearsal/one.toml", "[host.gauge-01.expect.files]\n"+
			"\"/etc/relay\" = \"made-up token made-up pins 1,made-up pins 2\"\n")
	list, err := rehearse.Load(fs, nil)
	if err != nil {
		t.Fatal(err)
	}
	open := func(_ string, encrypted []byte) ([]byte, error) { return encrypted, nil }
	cases, err := rehearse.Run(t.Context(), rehearse.Stage{Project: fs, Kinds: kinds.Schemas(), Folder: t.TempDir(),
		Options: compile.Options{Open: open}}, list)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range cases {
		if c.Failure != "" {
			t.Errorf("%s: %s", c.Name, c.Failure)
		}
	}
}

func TestRehearsals(t *testing.T) {
	manifest := `[package.nginx-of-old]
[service.nginx-of-old]
running = true
[file."/etc/big"]
if = 'facts.memory.total > bytes("4GB")'
content = "pw ${data.pw}\n"
mode = "0600"
[user.maren]
`
	good := `[encrypted.shared]
pw = "made-up"
[host.gauge-01]
memory = "8 GiB"
available = ["nginx-of-old=2.0"]
[host.gauge-01.expect]
changed = ["file /etc/big"]
packages = ["nginx-of-old=2.0"]
running = ["nginx-of-old"]
users = ["maren"]
files = { "/etc/big" = "made-up" }
missing = ["/etc/small"]
[host.gauge-02]
users = ["maren"]
[host.gauge-02.expect]
skipped = ["file /etc/big"]
unchanged = ["user maren"]
not_declared = ["user ottokar"]
`
	encrypted := []string{"data/shared.toml.age", "encrypted"}
	for name, c := range map[string]struct {
		rehearsal, want string
		files           []string
	}{
		"all as expected": {good, "", nil},
		"a condition never true": {strings.ReplaceAll(good, `memory = "8 GiB"`,
			"")[:strings.Index(good, "[host.gauge-01.expect]")-len(`memory = "8 GiB"`)],
			"it was never true; add a host", nil},
		"another version": {strings.Replace(good, `["nginx-of-old=2.0"]`+"\nrunning",
			`["nginx-of-old=3.0"]`+"\nrunning", 1), "package nginx-of-old=3.0 is installed: the version is 2.0", nil},
		"a task that fails": {good, "the first run: user nobody-there failed",
			[]string{"manifests/gauge.toml", manifest + "[user.nobody-there]\ngroup = \"nowhere\"\n"}},
		"a run that never settles": {good,
			"the second run changes nothing: file /etc/count changed again; content: was 2 bytes, became 2 bytes",
			[]string{"manifests/gauge.toml", manifest +
				"[file.\"/etc/count\"]\ncontent = \"${string(size(facts.services))}\\n\"\n"}},
		"a second run that fails": {good,
			"the second run changes nothing: file /etc/later failed: the owner nobody-there does not exist on this " +
				"host",
			[]string{"manifests/gauge.toml", manifest +
				"[file.\"/etc/later\"]\ncontent = \"x\"\n" +
				"owner = \"${has(facts.services) && 'nginx-of-old' in facts.services ? 'nobody-there' : 'root'}\"\n"}},
		"a host that does not exist": {strings.ReplaceAll(good, "gauge-02", "guage-02"),
			`has the host "guage-02", which is not in the inventory`, nil},
		"a key that does not exist": {strings.Replace(good, "memory", "memroy", 1),
			`unknown key "memroy" in a host of a rehearsal; did you mean "memory"?`, nil},
		"encrypted without values": {strings.Replace(good, "[encrypted.shared]", "[encrypted.other]", 1),
			"set its values in the rehearsal", nil},
	} {
		fs := project(append(append([]string{"manifests/gauge.toml", manifest, "rehearsal/one.toml", c.rehearsal},
			encrypted...), c.files...)...)
		failures, all := play(t, fs)
		got := strings.Join(failures, "\n")
		if c.want == "" && (got != "" || all < 14) || !strings.Contains(got, c.want) {
			t.Errorf("%s: %d cases, of them\n%s\nwant %s", name, all, got, c.want)
		}
	}
}

// TestProbesOfTheController are asked of the simulated host, and nothing is contacted.
func TestProbesOfTheController(t *testing.T) {
	const probes = "[probe.\"the gate responds\"]\nport = \"${host.address}:22\"\nasked_from = \"controller\"\n" +
		"[probe.\"the page is there\"]\nurl = \"http://charts.example.org/index\"\nasked_from = \"controller\"\n"
	if failures, all := play(t, project("manifests/gauge.toml", probes)); len(failures) > 0 || all == 0 {
		t.Errorf("what answers: %q", failures)
	}
	failures, _ := play(t, project("manifests/gauge.toml", strings.Replace(probes, ":22", ":25", 1)))
	if len(failures) != 2 || !strings.Contains(failures[0], "192.0.2.21:25 does not respond") {
		t.Errorf("what does not respond: %q", failures)
	}
}
