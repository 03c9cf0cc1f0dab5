package kinds_test

import (
	"strings"
	"testing"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestWhatIsRefusedBeforeAnyHost goes through declarations that cannot be meant:
// each is blamed on the attribute that a person has to fix, in words.
func TestWhatIsRefusedBeforeAnyHost(t *testing.T) {
	sum := strings.Repeat("0a", 32)
	const at = "https://charts.example.org/a"
	for _, c := range []struct {
		ref   string
		attrs value.Attrs
		blame string
		says  string
	}{
		{"download /srv/a", value.Attrs{"url": at}, "", "the expected checksum is missing"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": "0A"}, "sha256", "invalid SHA-256"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": sum, "insecure_without_checksum": true},
			"insecure_without_checksum", "cannot be combined"},
		{"download /srv/a", value.Attrs{"url": "ftp://x", "sha256": sum}, "url", "invalid address"},
		{"download /srv/a", value.Attrs{"url": "https://me:pw@charts.example.org/", "sha256": sum}, "url",
			"contains a user name"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": sum, "headers": map[string]any{"A: b": "c"}}, "headers",
			"invalid header name"},
		{"download /srv/a", value.Attrs{"absent": true, "sha256": sum}, "sha256", "nothing is downloaded"},
		{"unpack /opt/v", value.Attrs{"from": "v.tar", "sha256": sum}, "sha256", "nothing is downloaded"},
		{"unpack /opt/v", value.Attrs{"from": "/srv/v.tar", "strip_components": int64(99)},
			"strip_components", "invalid value 99"},
		{"unpack /opt/v", value.Attrs{"from": at}, "", "the expected checksum is missing"},
		{"unpack /", value.Attrs{"from": "v.tar"}, "", "cannot be unpacked over the whole system"},
		{"checkout /srv", value.Attrs{"url": at, "revision": "main"}, "", "is a system directory"},
		{"checkout /srv/p", value.Attrs{"url": "ext::sh -c x", "revision": "main"}, "url",
			"invalid repository address"},
		{"checkout /srv/p", value.Attrs{"url": "--upload-pack=x", "revision": "main"}, "url",
			"invalid repository address"},
		{"checkout /srv/p", value.Attrs{"url": "https://me:pw@git.example.org/p", "revision": "main"}, "url",
			"contains a password"},
		{"checkout /srv/p", value.Attrs{"url": at, "revision": "-x"}, "revision", "invalid branch, tag or commit"},
		{"dir /srv/a", value.Attrs{"only_declared": true}, "only_declared", "requires copy"},
		{"dir /srv/a", value.Attrs{"file_mode": "0644"}, "file_mode", "requires copy"},
		{"dir /srv/a", value.Attrs{"absent": true, "copy": "x"}, "copy",
			"cannot be combined with absent"},
		{"dir /etc", value.Attrs{"copy": "etc", "only_declared": true}, "only_declared",
			"system files in /etc"},
		{"package a1", value.Attrs{"from": "a.deb"}, "from", "the version of the file is missing"},
		{"package a1", value.Attrs{"from": "a.deb", "version": "1.*"}, "from", "the version of the file is missing"},
		{"package a1", value.Attrs{"from": at, "version": "1"}, "", "the expected checksum is missing"},
		{"package a1", value.Attrs{"version": "1", "sha256": sum}, "sha256", "nothing is downloaded"},
		{"swap /swap", nil, "", "size is required"},
		{"swap /swap", value.Attrs{"size": "2 GB"}, "size", "invalid swap file size"},
		{"swap /swap", value.Attrs{"size": "0 MiB"}, "size", "from \"1 MiB\" to"},
		{"swap /swap", value.Attrs{"size": "9999999 GiB"}, "size", "invalid swap file size"},
		{"swap /dev/vdb2", value.Attrs{"size": "2 GiB"}, "size", "is a device"},
		{"swap /a b", value.Attrs{"size": "2 GiB"}, "", "contains white space"},
		{"swap /swap", value.Attrs{"size": "2 GiB", "priority": int64(40000)}, "priority", "invalid priority 40000"},
		{"probe x", value.Attrs{"port": "a:1", "url": at}, "", "exactly one of"},
		{"probe x", value.Attrs{"run": []any{"-x"}}, "run", "run is empty"},
		{"probe x", value.Attrs{"run": []any{"a"}, "address": "192.0.2.1"}, "address", "does not apply to run"},
		{"probe x", value.Attrs{"resolves": "a b"}, "resolves", "invalid host name"},
		{"probe x", value.Attrs{"resolves": "a", "address": "here"}, "address", "invalid address"},
		{"probe x", value.Attrs{"process": "a", "asked_from": "controller"}, "asked_from",
			"only from the host"},
		{"settings /etc/a", value.Attrs{"format": "yaml", "set": map[string]any{"a": "1"},
			"unset": []any{"a"}}, "unset",
			"in both set and unset"},
	} {
		ref, err := kinds.Schemas().ParseRef(c.ref)
		if err != nil {
			t.Errorf("%s: %v", c.ref, err)
			continue
		}
		k, _ := kinds.Schemas().Kind(ref.Kind)
		if c.attrs == nil {
			c.attrs = value.Attrs{}
		}
		blame, err := k.Check(ref.Name, c.attrs)
		if err == nil || blame != c.blame || !strings.Contains(problem.From(err).What+problem.From(err).Do, c.says) {
			t.Errorf("%s with %v is blamed on %q: %v; want %q: %s", c.ref, c.attrs, blame, err, c.blame, c.says)
		}
		if err != nil && problem.From(err).Do == "" {
			t.Errorf("%s with %v does not say what to do", c.ref, c.attrs)
		}
	}
}
