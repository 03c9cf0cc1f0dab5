package inventory

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/problem"
)

const observatory = `
[connect]
user = "keeper"
port = 2200

[host."gauge-[01..03]"]
address = "192.0.2.${n + 20}"
site = "north-pier"
label = "${host.name}!"

[host.gauge-03]
site = "salt-creek"
disabled = "in repair"
connect = { port = 22 }

[host.archive-01]
depth = 3

[group.gauge]
inside = "all"
manifests = ["gauge"]
members = ["gauge-*"]
[group.gauge.connect]
user = "ops"
elevate = "sudo"

[group.all]
manifests = ["base"]
members = ["archive-[01..09]"]

[group.deep]
inside = "gauge"
members = ["gauge-0?"]
`

func load(t *testing.T, text string) (*Inventory, string) {
	t.Helper()
	var ps problem.Problems
	inv, _ := Load(fstest.MapFS{"hosts.toml": {Data: []byte(text)}}, []string{"hosts.toml"}, "", &ps)
	return inv, ps.Error()
}

func TestHostsAndGroups(t *testing.T) {
	inv, problems := load(t, observatory)
	if problems != "" {
		t.Fatal(problems)
	}
	var got []string
	for _, h := range inv.Hosts {
		var groups []string
		for _, g := range h.Groups {
			groups = append(groups, g.Name)
		}
		got = append(got, fmt.Sprintf("%s %s %v %v %s@%d %q %v", h.Name, h.Address(), h.Vars["site"], h.Vars["label"],
			h.Connect.User, h.Connect.Port, h.Disabled, groups))
	}
	want := `gauge-01 192.0.2.21 north-pier gauge-01! ops@2200 "" [all gauge deep]
gauge-02 192.0.2.22 north-pier gauge-02! ops@2200 "" [all gauge deep]
gauge-03 192.0.2.23 salt-creek gauge-03! ops@22 "in repair" [all gauge deep]
archive-01 archive-01 <nil> <nil> keeper@2200 "" [all]`
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
}

func TestSelect(t *testing.T) {
	inv, _ := load(t, observatory)
	for _, c := range []struct{ targets, except, want string }{
		{"", "", "gauge-01 gauge-02 gauge-03 archive-01"},
		{"@all", "", "gauge-01 gauge-02 gauge-03 archive-01"},
		{"gauge-*", "gauge-02", "gauge-01 gauge-03"},
		{"gauge-[02..03]", "", "gauge-02 gauge-03"},
		{"gauge-[2..3]", "", "error: no host matches \"gauge-[2..3]\"; `jadekettle hosts` lists them"},
		{"archive-01 gauge-01", "", "gauge-01 archive-01"},
		{"@all", "@gauge", "archive-01"},
		{"gauge-0?", "gauge-*", "error: these targets match no host; `jadekettle hosts` lists them"},
		{"guage-01", "", `error: unknown host "guage-01"; did you mean "gauge-01"?`},
		{"@gague", "", `error: unknown group "gague"; did you mean "gauge"?`},
		{"gauge", "", `error: "gauge" is a group, not a host; write @gauge`},
		{"pier-*", "", "error: no host matches \"pier-*\"; `jadekettle hosts` lists them"},
		{"@all", "nobody", "error: unknown host \"nobody\"; `jadekettle hosts` lists them"},
	} {
		hosts, err := inv.Select(strings.Fields(c.targets), strings.Fields(c.except))
		var names []string
		for _, h := range hosts {
			names = append(names, h.Name)
		}
		got := strings.Join(names, " ")
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want {
			t.Errorf("%q except %q\n got %s\nwant %s", c.targets, c.except, got, c.want)
		}
	}
}

func TestInventoriesThatAreWrong(t *testing.T) {
	for text, want := range map[string]string{
		"[hosts.a]\n": `hosts.toml:1:2: unknown table "hosts" in an inventory; did ` +
			`you mean "host"?`,
		"[host]\na = 1\n":                          `hosts.toml:2:1: host.a must be a table`,
		"[host.\"a b\"]\n":                         `hosts.toml:1:7: invalid host name: "a b"`,
		"[host.\"a-[5..1]\"]\n":                    `the range [5..1] is reversed or too long`,
		"[host.\"a-*\"]\n":                         `write a range as gauge-[01..04]`,
		"[host.a]\ndisabled = true\n":              `hosts.toml:2:12: disabled takes the reason, as text`,
		"[host.a]\naddress = \"\"\n":               `address takes an address or a name`,
		"[host.a]\nname = \"b\"\n":                 `the host key "name" is reserved`,
		"[host.a]\nsite = \"${n}\"\n":              `unknown name 'n'`,
		"[host.a]\nsite = \"${data.x}\"\n":         `a host's own key reads data, which is not available there`,
		"[host.a]\nconnect = { prot = 1 }\n":       `unknown key "prot" in connect; did you mean "port"?`,
		"[host.a]\nconnect = { port = 70000 }\n":   `connect.port must be an integer from 1 to 65535`,
		"[host.a]\nconnect = { elevate = \"su\" }": `invalid connect.elevate: "su"`,
		"[host.a]\nconnect = { local = \"yes\" }":  `connect.local must be true or false`,
		"[host.a]\nconnect = { user = 7 }":         `connect.user must be a string, not an integer`,
		"[host.\"a-[1..2]\"]\nsite = \"x\"\n[host.\"a-[2..3]\"]\nsite = \"y\"\n": `host a-2 has the key "site" ` +
			`twice; first ` +
			`at hosts.toml:2:1`,
		"[group.g]\ninside = \"h\"\n": `group g is inside "h", which is not a group`,
		"[group.g]\ninside = \"h\"\n[group.h]\ninside = \"g\"\n": "groups contain each other in a cycle: g inside " +
			"h inside g",
		"[group.g]\nmanifests = \"base\"\n": `write manifests = ` +
			`["..."]`,
		"[group.g]\nmember = []\n":        `unknown key "member" in a group; did you mean "members"?`,
		"[group.g]\nwhere = \"data.x\"\n": "where reads data, which is not available there",
		"[group.g]\nwhere = \"facts.arch == 'arm64'\"\nconnect = { user = \"ops\" }\n": "group g selects its " +
			"members by facts, which are known only after connecting, so it cannot set how to connect",
		"[host.a]\n[group.g]\nwhere = \"host.rack == 1\"\n": `unknown key "rack" in host (for a); available: ` +
			`address, groups, name`,
		"[group.g]\nparams = { gauge = 1 }\n": `params.gauge must be a table of values`,
		"[host.a]\n[group.g]\nmembers=[\"a\"]\nconnect={user=\"x\"}\n[group.h]\nmembers=[\"a\"]\n" +
			"connect={user=\"y\"}\n": `connect.user of host a differs between two groups at the same depth; first at ` +
			`hosts.toml:4:10`,
	} {
		if _, got := load(t, text); !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}
