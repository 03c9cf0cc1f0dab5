package firewall

import (
	"strings"
	"testing"

	"jadekettle/internal/core/value"
)

func TestRules(t *testing.T) {
	for _, c := range []struct {
		attrs value.Attrs
		want  string
	}{
		{value.Attrs{"open": []any{"80", "443/tcp", "6000-6010/udp"}},
			"tcp dport { 80, 443 } accept; udp dport { 6000-6010 } accept"},
		{value.Attrs{"open": []any{"22"}, "from": []any{"192.0.2.7", "2001:db8::/32", "192.0.2.128/25"}},
			"ip saddr { 192.0.2.7/32, 192.0.2.128/25 } tcp dport { 22 } accept; ip6 saddr { 2001:db8::/32 } tcp " +
				"dport { 22 } accept"},
		{value.Attrs{"open": []any{"80", "all"}}, "accept"},
		{value.Attrs{"refuse": []any{"25"}, "open": []any{"26"}, "interface": "eth0"},
			`iifname "eth0" tcp dport { 25 } drop; iifname "eth0" tcp dport { 26 } accept`},
	} {
		if got := strings.Join(rules(c.attrs), "; "); got != c.want {
			t.Errorf("%v\n got %s\nwant %s", c.attrs, got, c.want)
		}
	}
}

func TestWhatNoFirewallTakes(t *testing.T) {
	for _, c := range []struct {
		attrs value.Attrs
		blame string
	}{
		{value.Attrs{}, ""}, {value.Attrs{"open": []any{"0"}}, "open"}, {value.Attrs{"open": []any{"80-70"}}, "open"},
		{value.Attrs{"open": []any{"80 accept"}}, "open"}, {value.Attrs{"open": []any{"80/sctp"}}, "open"},
		{value.Attrs{"refuse": []any{"65536"}}, "refuse"},
		{value.Attrs{"open": []any{"80"}, "from": []any{"192.0.2.1/24"}}, "from"},
		{value.Attrs{"open": []any{"80"}, "from": []any{"anywhere"}}, "from"},
		{value.Attrs{"open": []any{"80"}, "interface": `eth0" accept #`}, "interface"},
	} {
		blame, err := check("web", c.attrs)
		if err == nil || blame != c.blame {
			t.Errorf("%v is blamed on %q: %v", c.attrs, blame, err)
		}
	}
}

// TestSections reads back what table writes, whatever people write between.
func TestSections(t *testing.T) {
	got := sections("x\n\t\t# jadekettle web: start\n\t\ttcp dport { 80 } accept\n\t\t# jadekettle web: end\n" +
		"\t\tstray\n\t\t# jadekettle off: start\n\t\t# jadekettle off: end\n}\n")
	if len(got) != 2 || strings.Join(got["web"], ";") != "tcp dport { 80 } accept" || len(got["off"]) != 0 {
		t.Errorf("it reads %v", got)
	}
}
