package ask_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"jadekettle/internal/core/probe"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/ask"
)

// TestProbesFromHere asks servers on this machine.
func TestProbesFromHere(t *testing.T) {
	pages := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/moved":
			http.Redirect(w, r, "/", http.StatusMovedPermanently)
		case "/locked":
			if r.Header.Get("Authorization") != "Bearer rip-tide" {
				w.WriteHeader(http.StatusUnauthorized)
			}
		}
		fmt.Fprintf(w, "tides of %s\n", r.Host)
	})
	plain, safe := httptest.NewServer(pages), httptest.NewTLSServer(pages)
	defer plain.Close()
	defer safe.Close()
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := gone.Addr().String()
	gone.Close()
	for name, c := range map[string]struct {
		attrs value.Attrs
		want  string
	}{
		"a port":       {value.Attrs{probe.Port: plain.Listener.Addr().String()}, ""},
		"nobody":       {value.Attrs{probe.Port: nobody}, "does not respond"},
		"a page":       {value.Attrs{probe.URL: plain.URL, "text": "^tides"}, ""},
		"another text": {value.Attrs{probe.URL: plain.URL, "text": "ebb"}, `does not contain "ebb"`},
		"not followed": {value.Attrs{probe.URL: plain.URL + "/moved", "status": int64(301)}, ""},
		"a secret": {value.Attrs{probe.URL: plain.URL + "/locked",
			"headers": map[string]any{"Authorization": value.NewSecret("Bearer rip-tide")}}, ""},
		"without it": {value.Attrs{probe.URL: plain.URL + "/locked"}, "status 401"},
		"another host": {value.Attrs{probe.URL: plain.URL, "headers": map[string]any{"Host": "charts.example.org"},
			"text": "charts"}, ""},
		"a strange issuer": {value.Attrs{probe.URL: safe.URL}, "does not respond"},
		"taken anyway": {value.Attrs{probe.URL: safe.URL, "trust_any_certificate": true, "certificate_days": int64(14)},
			""},
		"no certificate":    {value.Attrs{probe.URL: plain.URL, "certificate_days": int64(1)}, "the expiry date"},
		"a name":            {value.Attrs{probe.Resolves: "localhost"}, ""},
		"what hosts answer": {value.Attrs{probe.File: "/etc/passwd"}, "the controller cannot run this check"},
	} {
		c.attrs["within"] = "10ms"
		err := ask.Probe(t.Context(), nil, c.attrs)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s gives %v, want %q", name, err, c.want)
		}
	}
}
