package kinds_test

import (
	"strings"
	"testing"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// TestWhatIsRefusedBeforeAnyHost goes through declarations that cannot be meant:
// each is blamed on the attribute that a person has to mend, in words.
func TestWhatIsRefusedBeforeAnyHost(t *testing.T) {
	sum := strings.Repeat("0a", 32)
	const at = "https://charts.example.org/a"
	for _, c := range []struct {
		ref   string
		attrs value.Attrs
		blame string
		says  string
	}{
		{"download /srv/a", value.Attrs{"url": at}, "", "nothing says what is to arrive"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": "0A"}, "sha256", "is no SHA-256"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": sum, "insecure_without_checksum": true},
			"insecure_without_checksum", "are given together"},
		{"download /srv/a", value.Attrs{"url": "ftp://x", "sha256": sum}, "url", "is no address"},
		{"download /srv/a", value.Attrs{"url": "https://me:pw@charts.example.org/", "sha256": sum}, "url",
			"holds a user"},
		{"download /srv/a", value.Attrs{"url": at, "sha256": sum, "headers": map[string]any{"A: b": "c"}}, "headers",
			"is no name of a header"},
		{"download /srv/a", value.Attrs{"absent": true, "sha256": sum}, "sha256", "nothing is fetched"},
		{"unpack /opt/v", value.Attrs{"from": "v.tar", "sha256": sum}, "sha256", "nothing is fetched"},
		{"unpack /opt/v", value.Attrs{"from": "/srv/v.tar", "leave_out_folders": int64(99)},
			"leave_out_folders", "it is 99"},
		{"unpack /opt/v", value.Attrs{"from": at}, "", "nothing says what is to arrive"},
		{"unpack /", value.Attrs{"from": "v.tar"}, "", "not unpacked over the whole system"},
		{"checkout /srv", value.Attrs{"url": at, "revision": "main"}, "", "a folder of the system's"},
		{"checkout /srv/p", value.Attrs{"url": "ext::sh -c x", "revision": "main"}, "url",
			"is no address of a repository"},
		{"checkout /srv/p", value.Attrs{"url": "--upload-pack=x", "revision": "main"}, "url", "is no address"},
		{"checkout /srv/p", value.Attrs{"url": "https://me:pw@git.example.org/p", "revision": "main"}, "url",
			"holds a password"},
		{"checkout /srv/p", value.Attrs{"url": at, "revision": "-x"}, "revision", "is no branch, tag or commit"},
		{"dir /srv/a", value.Attrs{"only_declared": true}, "only_declared", "only goes with copy"},
		{"dir /srv/a", value.Attrs{"file_mode": "0644"}, "file_mode", "only goes with copy"},
		{"dir /srv/a", value.Attrs{"absent": true, "copy": "x"}, "copy",
			"says nothing of a folder that is to be absent"},
		{"dir /etc", value.Attrs{"copy": "etc", "only_declared": true}, "only_declared",
			"what the system keeps in /etc"},
		{"package a1", value.Attrs{"from": "a.deb"}, "from", "does not say which version"},
		{"package a1", value.Attrs{"from": "a.deb", "version": "1.*"}, "from", "does not say which version"},
		{"package a1", value.Attrs{"from": at, "version": "1"}, "", "nothing says what is to arrive"},
		{"package a1", value.Attrs{"version": "1", "sha256": sum}, "sha256", "nothing is fetched"},
		{"swap /swap", nil, "", "does not say how large"},
		{"swap /swap", value.Attrs{"size": "2 GB"}, "size", "is no size"},
		{"swap /swap", value.Attrs{"size": "0 MiB"}, "size", "from \"1 MiB\" to"},
		{"swap /swap", value.Attrs{"size": "9999999 GiB"}, "size", "is no size"},
		{"swap /dev/vdb2", value.Attrs{"size": "2 GiB"}, "size", "is a device"},
		{"swap /a b", value.Attrs{"size": "2 GiB"}, "", "holds white space"},
		{"swap /swap", value.Attrs{"size": "2 GiB", "priority": int64(40000)}, "priority", "the priority is 40000"},
		{"probe x", value.Attrs{"port": "a:1", "url": at}, "", "asks none or several"},
		{"probe x", value.Attrs{"run": []any{"-x"}}, "run", "names no program"},
		{"probe x", value.Attrs{"run": []any{"a"}, "address": "192.0.2.1"}, "address", "says nothing about a run"},
		{"probe x", value.Attrs{"resolves": "a b"}, "resolves", "is no name of a host"},
		{"probe x", value.Attrs{"resolves": "a", "address": "here"}, "address", "is no address"},
		{"probe x", value.Attrs{"process": "a", "asked_from": "controller"}, "asked_from",
			"only the host can be asked"},
		{"settings /etc/a", value.Attrs{"format": "yaml", "set": map[string]any{"a": "1"},
			"unset": []any{"a"}}, "unset",
			"to be set and not to be set"},
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
