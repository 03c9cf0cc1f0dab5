package probe_test

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestCheckPage(t *testing.T) {
	const address = "https://charts.example.org/"
	for _, c := range []struct {
		attrs value.Attrs
		page  probe.Page
		want  string // of the error; empty when it is right
	}{
		{nil, probe.Page{Status: 200}, ""},
		{nil, probe.Page{Status: 204}, ""},
		{nil, probe.Page{Status: 301}, "https://charts.example.org/ responds with status 301"},
		{value.Attrs{"status": int64(301)}, probe.Page{Status: 301}, ""},
		{value.Attrs{"status": int64(301)}, probe.Page{Status: 200}, "https://charts.example.org/ responds with " +
			"status 200, not 301"},
		{value.Attrs{"text": "^ebb$"}, probe.Page{Status: 200, Body: "flood\nebb\n"}, ""},
		{value.Attrs{"text": "^ebb$"}, probe.Page{Status: 200, Body: "no ebb"},
			`https://charts.example.org/ does not contain "^ebb$"`},
		{value.Attrs{"certificate_days": int64(14)}, probe.Page{Status: 200}, "the expiry date of the certificate " +
			"of https://charts.example.org/ is unknown"},
		{value.Attrs{"certificate_days": int64(14)}, probe.Page{Status: 200,
			Expires: noon.Add(15 * 24 * time.Hour)}, ""},
		{value.Attrs{"certificate_days": int64(14)}, probe.Page{Status: 200,
			Expires: noon.Add(13*24*time.Hour + time.Hour)},
			"the certificate of https://charts.example.org/ is valid for 13 more days, not 14: until 2026-12-06"},
		{value.Attrs{"certificate_days": int64(0)}, probe.Page{Status: 200, Expires: noon.Add(-49 * time.Hour)},
			"the certificate of https://charts.example.org/ is valid for -2 more days, not 0: until 2026-11-21"},
	} {
		attrs := value.Attrs{probe.URL: address}
		for k, v := range c.attrs {
			attrs[k] = v
		}
		err := probe.CheckPage(attrs, c.page, noon)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(problem.From(err).What, c.want) {
			t.Errorf("%v of %+v gives %v, want %q", c.attrs, c.page, err, c.want)
		}
	}
}

func TestEndpoint(t *testing.T) {
	for text, want := range map[string]string{
		"127.0.0.1:80": "127.0.0.1 80", "[2001:db8::1]:25": "2001:db8::1 25",
		"charts.example.org:65535": "charts.example.org 65535",
		"":                         "", ":80": "", "host": "", "host:": "", "host:0": "", "host:65536": "",
		"host:+80": "", "host:080": "",
		"-x:80":  "",
		"a b:80": "", "a/b:80": "",
	} {
		host, port, err := probe.Endpoint(text)
		if got := strings.TrimSpace(host + " " + port); got != want || (err == nil) != (want != "") {
			t.Errorf("%q gives %q, %v, want %q", text, got, err, want)
		}
	}
}

func TestCheckAddresses(t *testing.T) {
	one := netip.MustParseAddr("192.0.2.80")
	for _, c := range []struct {
		want string
		got  []netip.Addr
		ok   bool
	}{
		{"", nil, false}, {"", []netip.Addr{one}, true}, {"192.0.2.80", []netip.Addr{one}, true},
		{"2001:db8::1", []netip.Addr{one}, false},
	} {
		attrs := value.Attrs{probe.Resolves: "charts.example.org"}
		if c.want != "" {
			attrs["address"] = c.want
		}
		if err := probe.CheckAddresses(attrs, c.got); (err == nil) != c.ok {
			t.Errorf("%q of %v gives %v", c.want, c.got, err)
		}
	}
}

// TestPatiently asks until it is right, or until the time is over, whether or
// not the clock goes on while it waits.
func TestPatiently(t *testing.T) {
	for _, c := range []struct {
		rightAt int // the try that is right; 0 when none is
		moves   bool
		tries   int
		says    string
	}{{1, true, 1, ""}, {3, true, 3, ""}, {0, true, 5, "tried 5 times in 10s"}, {0, false, 6, "tried 6 times in 10s"}} {
		now, tries := noon, 0
		wait := func(d time.Duration) {
			if c.moves {
				now = now.Add(d + 50*time.Millisecond)
			}
		}
		err := probe.Patiently(value.Attrs{"every": "2s"}, func() time.Time { return now }, wait, func() error {
			if tries++; tries == c.rightAt {
				return nil
			}
			return errors.New("low tide")
		})
		if tries != c.tries || (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %d tries, %v", c, tries, err)
		}
	}
}
