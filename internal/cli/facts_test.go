package cli_test

import (
	"path/filepath"
	"testing"
)

// TestOwnFactsAndProbes has a host say something of its own, on which a
// declaration depends, and proves what came of it.
func TestOwnFactsAndProbes(t *testing.T) {
	dir := t.TempDir()
	fleet := simulated(t, dir, loggingGauge)
	manifest := `[fact.clock]
script = "false"
[fact.name]
run = ["getent", "ahosts", "charts.example.org"]
[file."/etc/rack"]
content = "rack ${facts.own.place.rack + 1}, ${facts.own.name[0].split(' ')[0]}, ${size(facts.own_wrong)} unread\n"
owner = "root"
mode = "0644"
[probe."the rack is reported"]
file = "/etc/rack"
text = "^rack 4, 192.0.2.80, 0 unread$"
within = "1s"
[probe."nobody listens"]
port = "127.0.0.1:9"
within = "1s"
`
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", " +
			"\"simulated.toml\"]\n[ssh]\n" +
			"known_hosts = \"simulated/known_hosts\"\n",
		"simulated.toml": fleet.Inventory(),
		"hosts.toml": "[connect]\nkey = \"simulated/client-key\"\n[host.gauge-01]\n[group.gauge]\n" +
			"members = [\"*\"]\nmanifests = [\"gauge\"]\n",
		"manifests/gauge.toml": manifest,
		filepath.Join("simulated", "gauge-01", "etc/jadekettle/facts/place.json"): "{\"rack\": 3, \"deep\": [null, " +
			"-1.5]}\n",
		filepath.Join("simulated", "gauge-01", "etc/jadekettle/facts/odd.json"): "{\"a\": 1} {",
	})
	home := []string{"HOME=" + dir}
	steps(t, dir, home, []step{
		{0, "0 errors, 0 warnings", []string{"lint"}},
		{0, "+rack 4, 192.0.2.80, 1 unread", []string{"preview", "-v"}},
		{1, "/etc/rack does not contain", []string{"apply", "--all"}},
	})
	write(t, dir, map[string]string{filepath.Join("simulated", "gauge-01", "etc/jadekettle/facts/odd.json"): "0\n"})
	steps(t, dir, home, ownFactsAndProbesCases)
	// What comes back from the history has the types that it was read with.
	committed(t, dir, "v1")
	steps(t, dir, home, []step{
		{0, "rack 4, 192.0.2.80", []string{"why", "gauge-01", "file", "/etc/rack"}},
		{0, "1 host, 0 differ", []string{"compare", "v1"}},
		{0, "own.place.deep[1] ", []string{"runs", "show", "1", "gauge-01", "--facts"}},
	})
	write(t, dir, map[string]string{"manifests/gauge.toml": manifest + "[fact.berth]\nrun = [\"true\"]\n" +
		"[file.\"/etc/berth\"]\ncontent = \"${facts.own.berth} ${fleet.hosts[0].facts.own.place.rack}\"\nmode = " +
		"\"0644\"\n"})
	committed(t, dir, "v2")
	steps(t, dir, home, []step{
		{0, "gauge-01  a fact that its plan needs was never collected", []string{"compare", "v1", "v2"}},
		{0, "gauge-01  a fact that its plan needs was never collected", []string{"compare", "v2", "v1"}},
	})
	write(t, dir, map[string]string{"manifests/gauge.toml": manifest})
	for text, want := range map[string]string{
		"[fact.clock]\nrun = []\n":                                "gauge.toml:2:7: run must be a list of strings",
		"[fact.Clock]\nrun = [\"a\"]\n":                           `invalid fact name: "Clock"`,
		"[fact.a]\n":                                              "exactly one of run and script is required",
		"[fact.a]\nrun = [\"a\"]\nevery = 3\n":                    `unknown key "every" in a fact`,
		"[fact.a]\nrun = [\"a\"]\ntimeout = \"1 day\"\n":          "invalid duration",
		"[probe.a]\nport = \"x\"\n":                               `invalid host and port: "x"`,
		"[probe.a]\nport = \"a:1\"\nstatus = 200\n":               "status does not apply to port",
		"[probe.a]\nfile = \"/a\"\nasked_from = \"controller\"\n": "file can be checked only from the host",
		"[probe.a]\nwithin = \"3s\"\n":                            "exactly one of",
	} {
		write(t, dir, map[string]string{"manifests/gauge.toml": text})
		steps(t, dir, home, []step{{2, want, []string{"lint"}}})
	}
}

// ownFactsAndProbesCases are what TestOwnFactsAndProbes goes through.
var ownFactsAndProbesCases = []step{
	{1, "127.0.0.1:9 does not respond", []string{"apply", "--all"}},
	{1, "probe the rack is reported  passed", []string{"verify", "--all"}},
	{1, `"mode": "verify"`, []string{"verify", "gauge-01", "--output", "json"}},
	{1, "facts.own.clock could not be read: sh failed (exit status 1)", []string{"facts", "--where",
		"facts.own.clock == 'x'"}},
	{2, "no targets given", []string{"verify"}},
	{0, "3", []string{"facts", "gauge-01", "own.place.rack"}},
	{0, "gauge-01", []string{"facts", "--where", "facts.own.place.rack == 3"}},
	{1, `unknown key "plaec" in facts.own`, []string{"facts", "--where", "facts.own.plaec.rack == 3"}},
	{2, "did you mean", []string{"facts", "--where", "facts.memry.total > 3"}},
	{2, "expected HOST HOST", []string{"facts", "compare", "gauge-01"}},
}
