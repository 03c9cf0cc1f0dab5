package resolve_test

import (
	"fmt"
	"strings"
	"testing"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/host/kinds"
)

// TestSecretsThatAHostTalksItselfInto are refused, where the group does not say that they are meant.
func TestSecretsThatAHostTalksItselfInto(t *testing.T) {
	const secret = "[file.\"/v\"]\ncontent = \"${data.pw}\"\nowner = \"root\"\nmode = \"0600\"\n"
	const group = "[group.self]\nwhere = 'facts.hostname == \"gate\"'\n"
	for _, c := range []struct {
		about string
		files []string
		want  string
	}{
		{"a manifest", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "manifests = [\"locker\"]\n", "manifests/locker.toml", secret},
			"manifests/locker.toml:1:7: these secrets would be given to gauge-01 because it is in the group self"},
		{"a layer", []string{"data/group/self.toml.age", "pw = \"x\"\n", "+hosts.toml", group},
			"data/group/self.toml.age:1:1: "},
		{"a param", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "params.gauge.a = { pw = \"${data.pw}\" }\n"}, "hosts.toml:"},
		{"an outer group", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "inside = \"outer\"\n[group.outer]\nmanifests = [\"locker\"]\n",
			"manifests/locker.toml", secret}, "group outer"},
		{"it is meant", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "trust_facts = true\nmanifests = [\"locker\"]\n",
			"manifests/locker.toml", secret}, ""},
		{"a named member", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "members = [\"gauge-01\"]\nmanifests = [\"locker\"]\n",
			"manifests/locker.toml", secret}, ""},
		{"no secret", []string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			group + "manifests = [\"locker\"]\n", "manifests/locker.toml",
			"[file.\"/v\"]\ncontent = \"x\"\n"}, ""},
	} {
		files := append([]string{"manifests/gauge.toml", "[param.a]\ntype = \"map\"\ndefault = {}\n" +
			"[file.\"/out\"]\ncontent = \"${string(size(param.a))}\"\n"},
			c.files...)
		p, err := compile.Load(compiletest.Tree(files...), kinds.Schemas(),
			compile.Options{Open: func(_ string, encrypted []byte) ([]byte, error) { return encrypted, nil }})
		if err != nil {
			t.Fatal(c.about, err)
		}
		h, _ := p.Inventory.Host("gauge-01")
		for name, want := range map[string]string{"gate": c.want, "gauge-01": ""} {
			_, err = resolve.Trace(p, h, resolve.Known{Facts: &facts.Facts{Hostname: name}})
			if got := fmt.Sprint(err); (err != nil) != (want != "") || !strings.Contains(got, want) {
				t.Errorf("%s, called %s: %v, want %q", c.about, name, err, want)
			}
		}
	}
}
