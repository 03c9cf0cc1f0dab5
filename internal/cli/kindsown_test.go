package cli_test

import (
	"strings"
	"testing"
)

// TestAKindOfOnesOwn makes one, tries it, declares and adds it, and meets what
// can be wrong with one.
func TestAKindOfOnesOwn(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n",
		"hosts.toml": "[host.gauge-01]\naddress = \"192.0.2.21\"\n[group.gauge]\nmembers = [\"*\"]\nmanifests = " +
			"[\"gauge\"]\n",
		"manifests/gauge.toml": "about = \"gauges\"\n",
		"rehearsal/one.toml":   "[host.gauge-01]\n[host.gauge-01.expect]\nchanged = [\"gauge_offset /tmp/x\"]\n",
	})
	home := []string{"HOME=" + dir}
	steps(t, dir, home, []step{{0, "kinds/gauge_offset/program", []string{"kinds", "new", "gauge_offset"}}})
	about := read(t, dir, "kinds/gauge_offset/kind.toml") // whose examples would write to /tmp
	write(t, dir, map[string]string{"kinds/gauge_offset/kind.toml": strings.ReplaceAll(about, "/tmp/", dir+"/")})
	steps(t, dir, home, []step{
		{2, `invalid kind name "gauge_offset"`, []string{"kinds", "new", "gauge_offset"}},
		{2, `invalid kind name "file"`, []string{"kinds", "new", "file"}},
		{0, "A line that must exist: passed", []string{"kinds", "try", "gauge_offset"}},
		{0, "then nothing differed", []string{"kinds", "try", "gauge_offset", "--here"}},
		{0, "nothing differed, so nothing was written", []string{"kinds", "try", "gauge_offset", "--here"}},
		{0, "one of none, stop", []string{"kinds", "gauge_offset"}},
		{0, "gauge_offset", []string{"schema", "manifest"}},
		{0, "manifests/gauge.toml", []string{"add", "gauge_offset", "/tmp/x", "--text", "ebb", "--manifest", "gauge"}},
		{0, "0 errors, 0 warnings", []string{"lint"}},
		{0, "", []string{"rehearse"}},
		{2, "no complete custom kind", []string{"kinds", "try", "gauge_ofset"}},
	})
	write(t, dir, map[string]string{"manifests/gauge.toml": "[gauge_offset.x]\nending = \"maybe\"\n"})
	steps(t, dir, home, []step{{2, `invalid ending: "maybe"`, []string{"lint"}}, {2, "text", []string{"lint"}}})
	for text, want := range map[string]string{
		"":                                    "about is missing",
		"about = 3\n":                         "about must be a string",
		"about = \"x\"\nprogram = \"../y\"\n": "program is not a file in the directory",
		"about = \"x\"\nprogram = \"gone\"\n": "its program kinds/gauge_offset/gone does not exist",
		"about = \"x\"\n[attribute.if]\n":     `"if" is not a valid attribute name`,
		"about = \"x\"\n[attribute.aa]\ntype = \"float\"\n":                `invalid type: "float"`,
		"about = \"x\"\n[attribute.aa]\ntype = \"int\"\ndefault = \"a\"\n": "aa must be an integer",
		"about = \"x\"\nattributes = 1\n":                                  `unknown key "attributes" in a kind`,
	} {
		write(t, dir, map[string]string{"kinds/gauge_offset/kind.toml": text, "manifests/gauge.toml": ""})
		steps(t, dir, home, []step{{2, want, []string{"lint"}}})
	}
}
