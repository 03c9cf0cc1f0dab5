package cli_test

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestCompare reports what a change under review will do, without contacting a host.
func TestCompare(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "shelf/observatory") // a folder of a repository
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n",
		"hosts.toml": "[host.\"gauge-[01..04]\"]\nberth = \"${n}\"\n[host.archive-01]\n[group.all]\nmembers = " +
			"[\"*\"]\n" +
			"manifests = [\"all\"]\n[group.gauge]\nmembers = [\"gauge-*\"]\nmanifests = [\"gauge\"]\n",
		"manifests/all.toml": "[file.\"/etc/motd\"]\ncontent = \"High water\\nat nine.\\n\"\nmode = \"0644\"\n",
		"manifests/gauge/manifest.toml": "[package.tide-logger]\nversion = \"1.4.2-1\"\n[file.\"/etc/tide.toml\"]\n" +
			"template = \"tide.tmpl\"\n[service.tide-logger]\nrunning = true\nrestart_on = [\"file /etc/tide.toml\"]\n",
		"manifests/gauge/tide.tmpl": "berth = {{ host.berth }}\nevery = 60\n",
	})
	committed(t, filepath.Dir(dir), "v1")
	if code, out, errs := jk(t, dir, "compare", "v1"); code != 0 ||
		!strings.Contains(out, "from v1 to the working copy: 5 hosts, "+
			"0 differ, 5 do not") {
		t.Errorf("without a change: %d\n%s%s", code, out, errs)
	}
	write(t, dir, map[string]string{
		"manifests/gauge/manifest.toml": "[package.tide-logger]\nversion = \"1.5.0-1\"\n[file.\"/etc/tide.toml\"]\n" +
			"template = \"tide.tmpl\"\nmode = \"0640\"\n[user.tide]\nif = \"host.berth == 3\"\n",
		"manifests/gauge/tide.tmpl": "berth = {{ host.berth }}\nevery = 30\n",
		"hosts.toml": "[host.\"gauge-[01..05]\"]\nberth = \"${n}\"\n[group.all]\nmembers = [\"*\"]\nmanifests = " +
			"[\"all\"]\n[group.gauge]\nmembers = [\"gauge-*\"]\nmanifests = [\"gauge\"]\n",
	})
	committed(t, filepath.Dir(dir), "v2")
	write(t, dir, map[string]string{"hosts.toml": "nothing of it is right"})
	code, out, errs := jk(t, dir, "compare", "v1", "v2")
	if code != 0 || errs != "" {
		t.Errorf("between two revisions: %d %s", code, errs)
	}
	golden(t, "compare", out)
	write(t, dir, map[string]string{"hosts.toml": "[host.\"gauge-[01..04]\"]\nberth = \"${n}\"\n[host.archive-01]\n" +
		"[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n[group.gauge]\nmembers = [\"gauge-*\"]\nmanifests " +
		"= [\"gauge\"]\n",
		"manifests/gauge/manifest.toml": "[file.\"/etc/tide.toml\"]\ntemplate = \"tide.tmpl\"\nmode = \"0600\"\n"})
	committed(t, filepath.Dir(dir), "v3")
	write(t, dir, map[string]string{"manifests/gauge/manifest.toml": "[file.\"/etc/tide.toml\"]\ntemplate = " +
		"\"tide.tmpl\"\nmode = \"0640\"\n"})
	if _, out, _ := jk(t, dir, "compare", "v3"); !strings.HasPrefix(out, "gauge-[01..04]  file /etc/tide.toml  "+
		"differs\n    mode: ") {
		t.Errorf("the mode of a file whose content is each host's own:\n%s", out)
	}
	write(t, dir, map[string]string{"hosts.toml": "nothing of it is right"})
	if code, out, _ = jk(t, dir, "compare", "v1", "v2", "--on", "gauge-03", "--fail-if-changes"); code != 3 ||
		!strings.Contains(out, "gauge-03  user tide  new") || !strings.Contains(out, "1 host, 1 differ") {
		t.Errorf("on one host: %d\n%s", code, out)
	}
	for args, want := range map[string]string{"v9": `revision "v9" not found`, "--on gauge-77 v1 v2": "gauge-77",
		"v1": "hosts.toml:1:"} {
		if code, _, errs := jk(t, dir, append([]string{"compare"}, strings.Fields(args)...)...); code != 2 ||
			!strings.Contains(errs, want) {
			t.Errorf("compare %s: %d %s", args, code, errs)
		}
	}
	// A revision that has environments beside one that has none, and one that is wrong.
	write(t, dir, map[string]string{"jadekettle.toml": "project = \"saltmarsh\"\n[env.pier]\ninventory = " +
		"[\"hosts.toml\"]\n",
		"hosts.toml": "[host.archive-01]\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n"})
	committed(t, filepath.Dir(dir), "v4")
	write(t, dir, map[string]string{"manifests/all.toml": "[dri.\"/srv\"]\n"})
	committed(t, filepath.Dir(dir), "v5")
	write(t, dir, map[string]string{"manifests/all.toml": "# nothing\n"})
	steps(t, dir, nil, []step{
		{0, "from v1 to v4: 1 host", []string{"compare", "v1", "v4", "--env", "pier"}},
		{0, "from v4 to v1: 1 host", []string{"compare", "v4", "v1", "--env", "pier"}},
		{2, "the project has problems at v5", []string{"compare", "v5", "--env", "pier"}},
		{2, "1 | [dri.\"/srv\"]", []string{"compare", "v5", "--env", "pier"}},
		{2, "no environment selected; this project has pier", []string{"compare", "v1", "v4"}},
	})
}
