package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"jadekettle/internal/present/document"
)

// quay is a project with something of everything, on a host that is there and
// one that is off.
func quay(t *testing.T) (dir string) {
	t.Helper()
	dir = t.TempDir()
	fleet := simulated(t, dir, loggingGauge)
	write(t, dir, map[string]string{
		"relay/manifests/relay.toml": "about = \"The foghorn's relay\"\n[param.port]\ntype = \"int\"\ndefault = 7\n" +
			"about = \"where it listens\"\n[group.foghorn]\n",
		"relay/docs/relay.md": "How to sound it.\n",
		"jadekettle.toml": "project = \"quay\"\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n[ssh]\n" +
			"known_hosts = \"simulated/known_hosts\"\n",
		"simulated.toml": fleet.Inventory(),
		"hosts.toml": `[connect]
key = "simulated/client-key"
[host.gauge-01]
berth = 4
[host.gauge-02]
berth = 5
disabled = "in repair until May"
[group.gauge]
members = ["gauge-*"]
manifests = ["gauge"]
[group.bookworm]
where = "facts.os.version_id == '12'"
`,
		"jobs.toml": "[job.morning]\nabout = \"What would change\"\naction = \"preview\"\ntargets = " +
			"[\"@${input.group}\"]\ninput.group = { choices = \"groups\", default = \"gauge\" }\ninput.token = { " +
			"secret = true, only_if = \"input.group == 'relay'\" }\nschedule = { every = \"1h\", zone = \"UTC\", " +
			"spread = \"5m\" }\n",
		"data/shared.toml":      "[gauge]\nport = 4190\nkept = [\"tides\"]\n[relay]\nport = 9\n",
		"data/group/gauge.toml": "[gauge]\nport = 4191\n",
		"manifests/gauge.toml": `[param.keeper]
type = "string"
default = "maren"
[use.relay]
manifest = "relay/relay"
params.port = "${data.relay.port}"
[user."${param.keeper}"]
if = "host.berth > 2"
[file."/etc/tide-logger.toml"]
content = "port = ${data.gauge.port}\n"
owner = "root"
mode = "0644"
after = ["package tide-logger"]
[package.tide-logger]
[package.no-such-thing]
[group.divers]
if = "false"
[dir."/srv/${item}"]
for = "item in data.gauge.kept"
`,
		"rehearsal/gauge.toml": "[host.gauge-01]\nos = \"debian\"\n[host.gauge-01.expect.files]\n" +
			"\"/etc/tide-logger.toml\" = \"port = 4191\\n\"\n",
	})
	committed(t, filepath.Join(dir, "relay"), "v1")
	home := []string{"HOME=" + dir}
	steps(t, dir, home, []step{
		{0, "manifests: relay/relay", []string{"source", "add", "file://" + filepath.Join(dir, "relay"), "--at", "v1"}},
		{0, "under [secrets]", []string{"secret", "init"}},
	})
	feed(t, dir, home, "rip-tide", "secret", "set", "shared", "relay.token")
	return dir
}

// committed makes a git repository of a folder, or one commit more, with a tag.
func committed(t *testing.T, dir, tag string) {
	t.Helper()
	for _, args := range [][]string{{"init", "-q"}, {"add", "-A"}, {"commit", "-qm", tag}, {"tag", tag}} {
		c := exec.Command("git", append([]string{"-c", "user.name=Maren", "-c",
			"user.email=maren@example.org"}, args...)...)
		c.Dir = dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
}

// unsteady is what differs from one time to the next in a document.
var unsteady = []struct{ is, as string }{
	{`"seconds": [0-9.e-]+`, `"seconds": 0`},
	{`"(seconds|usual|after)": [0-9.e-]+`, `"$1": 0`},
	{`"(bytes|free)": [0-9]+`, `"$1": 1`},
	{`"(machine|who)": "[^"]*"`, `"$1": "maren"`},
	{`"(since|at|reached|applied)": "[0-9][^"]*"`, `"$1": "2026-01-01T00:00:00Z"`},
	{`"next": "[^"]*"`, `"next": "2026-01-01T00:00:00Z"`},
	{`"started": "[^"]*"`, `"started": "2026-01-01T00:00:00Z"`},
	{`"run": "[^"]*"`, `"run": "0198"`},
	{`"commit": "[^"]*"`, `"commit": "c0ffee"`},
	{`"content": "sha256:[^"]*"`, `"content": "sha256:c0ffee"`},
	{`"go": "[^"]*"`, `"go": "go1"`},
	{`age1[a-z0-9]+`, `age1tide`},
	{`("address": "[^"]*:)[0-9]+"`, `${1}22"`},
	{`"port": [0-9]{5}`, `"port": 22222`},
}

// TestDocumentsAsDocumented prints one document of each sort, holds it to its golden file,
// and holds what is in it to what the reference says of it.
func TestDocumentsAsDocumented(t *testing.T) {
	dir := quay(t)
	calls := documentsAsDocumentedCases
	write(t, dir, map[string]string{
		".local/state/jadekettle/tend/quay.json": `{"format": 1, "pid": 4711, "machine": "desk",
		"since": "2026-01-01T00:00:00Z",
		"source": "/srv/quay", "read": "2026-01-01T00:00:00Z", "looked": "2026-01-01T01:00:00Z",
		"jobs": {"morning": {"seen": "2026-01-01T01:00:00Z",
		"next": "2026-01-01T02:00:00Z", "began": "2026-01-01T01:00:00Z", "ended": "2026-01-01T01:00:05Z",
		"run": 12, "said": "2 unchanged", "starts": 1}}}`})
	order := []string{"moved", "facts", "hosts", "lint"} // first and last; the others between
	for _, s := range document.Sorts {
		if !slices.Contains(order, s.Name) {
			order = slices.Insert(order, len(order)-1, s.Name)
		}
	}
	for _, name := range order {
		if name == "compare" {
			committed(t, dir, "v2")
			write(t, dir, map[string]string{"data/host/gauge-01.toml": "[gauge]\nport = 4192\nkept = [\"tides\", " +
				"\"winds\"]\n"})
		}
		if name == "lint" {
			write(t, dir, map[string]string{"manifests/gauge.toml": "[file.\"/etc/motd\"]\nmood = \"0644\"\n"})
		}
		args := append([]string{"--output", "json"}, strings.Fields(calls[name])...)
		_, out, errs := jkEnv(t, dir, []string{"HOME=" + dir}, args...)
		os.Remove(filepath.Join(dir, "data/host/gauge-01.toml"))
		for _, u := range unsteady {
			out = regexp.MustCompile(u.is).ReplaceAllString(out, u.as)
		}
		if name != "slow" { // in which what is there first differs from one time to the next
			golden(t, "document/"+name, out)
		}
		var doc map[string]any
		d := json.NewDecoder(bytes.NewReader([]byte(out)))
		if err := d.Decode(&doc); err != nil || doc["format"] != 1.0 || d.More() {
			t.Errorf("%v prints no document of format 1: %v\n%s%s", args, err, out, errs)
			continue
		}
		delete(doc, "format")
		i := slices.IndexFunc(document.Sorts, func(s document.Sort) bool { return s.Name == name })
		known := map[string]string{}
		for _, f := range document.Fields(document.Sorts[i].Of) {
			known[f.Path] = f.Type
			if f.Doc == "" {
				t.Errorf("%s: %s is not documented", name, f.Path)
			}
		}
		held(t, name, "", doc, known)
	}
}

// documentsAsDocumentedCases are what TestDocumentsAsDocumented goes through.
var documentsAsDocumentedCases = map[string]string{
	"run":        "preview",
	"exec":       "exec gauge-01 -- getent passwd root",
	"runs":       "runs",
	"run_shown":  "runs show 1",
	"task_shown": "runs show 1 gauge-01 package no-such-thing",
	"run_facts":  "runs show 1 gauge-01 --facts",
	"runs_found": "runs search tide-logger",
	"runs_diff":  "runs diff 1 2",
	"life":       "runs history gauge-01 file /etc/tide-logger.toml",
	"slow":       "runs timing 1",
	"checked":    "runs check",
	"jobs":       "job list",
	"job":        "job show morning",
	"tended":     "tend status",
	"status":     "status",
	"compare":    "compare v2",
	"hosts":      "hosts",
	"members":    "hosts --group gauge",
	"moved":      "hosts --moved",
	"show":       "hosts show gauge-01",
	"facts":      "facts gauge-01 os",
	"why":        "why gauge-01 file /etc/tide-logger.toml",
	"data":       "why gauge-01 data.gauge.port",
	"param":      "why gauge-01 param.gauge.keeper",
	"capture":    "capture gauge-01 package tide-logger",
	"rehearse":   "rehearse",
	"encrypted":  "secret readers",
	"sources":    "source list",
	"source":     "source show relay",
	"kinds":      "kinds group",
	"found":      "kinds search absent",
	"functions":  "kinds functions to_json",
	"version":    "version",
	"lint":       "lint",
}

// held looks for fields that nobody documented, or that are of another type.
func held(t *testing.T, name, path string, v map[string]any, known map[string]string) {
	t.Helper()
	for k, v := range v {
		typ, ok := known[path+k]
		if !ok {
			t.Errorf("%s: %s%s is not in the reference", name, path, k)
		}
		switch v := v.(type) {
		case map[string]any:
			if typ == "object" {
				held(t, name, path+k+".", v, known)
			}
		case []any:
			for _, item := range v {
				if m, ok := item.(map[string]any); ok && typ == "list of object" {
					held(t, name, path+k+"[].", m, known)
				}
			}
		case nil:
			if typ != "any" && typ != "object" {
				t.Errorf("%s: %s%s is null", name, path, k)
			}
		}
	}
}
