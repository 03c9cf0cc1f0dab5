package resolve_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
)

// TestAWrongValueOfEveryAttribute is an error at its place, and nothing but a wrong value is.
func TestAWrongValueOfEveryAttribute(t *testing.T) {
	names := map[string]string{"package": "tide-logger", "user": "maren", "group": "divers", "sysctl": "vm.swappiness",
		"locale":      "C.UTF-8",
		"hosts_entry": "192.0.2.9", "service": "cron", "timezone": "Europe/Berlin", "hostname": "pier", "kmod": "dummy",
		"cron": "rotate",
		"repo": "tides", "sudo_rule": "watch", "firewall": "web", "command": "do it", "probe": "it answers",
		"reboot": "after a kernel"}
	for _, k := range kinds.All() {
		s := k.Schema()
		name := names[s.Name]
		if name == "" {
			name = "/srv/x"
		}
		for _, a := range append(s.RequiredFirst(), s.Common()...) {
			n := 0
			for _, v := range []string{"true", "-7", "\"\"", "[[\"x\"]]", "[true]", "{ a = [1] }", "\"\\u0000\""} {
				var doc map[string]any
				if err := toml.Unmarshal([]byte("x = "+v), &doc); err != nil {
					t.Fatal(err)
				}
				if _, err := a.Value(doc["x"]); err == nil {
					continue
				}
				n++
				text := fmt.Sprintf("[%s.%q]\n%s = %s\n", s.Name, name, a.Name, v)
				if _, got := resolved(t, files(text), debian); !strings.Contains(got, "manifests/all.toml:2:") {
					t.Errorf("%s %s\n says %s", s.Name, text, got)
				}
			}
			if n == 0 && a.Type != schema.Body && a.Type != schema.Quiet {
				t.Errorf("%s.%s takes anything", s.Name, a.Name)
			}
		}
	}
}
