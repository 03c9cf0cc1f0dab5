package advice_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/host/kinds"
)

func TestAdviceOfSecrets(t *testing.T) {
	open := func(_ string, encrypted []byte) ([]byte, error) { return encrypted, nil }
	for _, c := range []struct {
		files []string
		want  string
	}{
		{[]string{"data/os/debian.toml.age", "pw = \"x\"\n"}, "data/os/debian.toml.age:1:1 secret-by-facts"},
		{[]string{"data/group/self.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\nwhere = 'facts.cpu.count > 1'\n"}, "data/group/self.toml.age:1:1 secret-by-facts"},
		{[]string{"data/group/self.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\nwhere = 'facts.cpu.count > 1'\ntrust_facts = true\n"}, ""},
		{[]string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\nwhere = 'facts.cpu.count > 1'\nmanifests = [\"locker\"]\n", "manifests/locker.toml",
			"[file.\"/v\"]\ncontent = \"${data.pw}\"\nowner = \"root\"\nmode = \"0600\"\n"},
			"manifests/locker.toml:1:7 secret-by-facts"},
		{[]string{"data/shared.toml.age", "pw = \"x\"\n"}, ""},
		{[]string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\ninside = \"outer\"\nwhere = 'facts.cpu.count > 1'\n[group.outer]\nmanifests = " +
				"[\"locker\"]\n",
			"manifests/locker.toml", "[file.\"/v\"]\ncontent = \"${data.pw}\"\nowner = \"root\"\nmode = \"0600\"\n"},
			"hosts.toml:9:8 where-widens manifests/locker.toml:1:7 secret-by-facts"},
		{[]string{"+hosts.toml", "[group.self]\ninside = \"outer\"\nwhere = 'host.name == \"gauge-01\"'\n" +
			"[group.outer]\n"},
			"hosts.toml:9:8 where-widens"},
		{[]string{"+hosts.toml", "[group.self]\ninside = \"outer\"\nwhere = 'facts.cpu.count > 1'\n[group.outer]\n" +
			"members = [\"*\"]\n"}, ""},
		{[]string{"+hosts.toml",
			"[group.self]\ninside = \"outer\"\nwhere = 'host.name == \"nobody\"'\n[group.outer]\n"}, ""},
		{[]string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\nwhere = 'facts.cpu.count > 1'\nparams.gauge.a = { pw = \"${data.pw}\" }\n"},
			"hosts.toml:11:18 secret-by-facts"},
		{[]string{"data/shared.toml.age", "pw = \"x\"\n", "+hosts.toml",
			"[group.self]\nmembers = [\"*\"]\nwhere = 'facts.cpu.count > 1'\nmanifests = [\"locker\"]\n",
			"manifests/locker.toml", "[file.\"/v\"]\ncontent = \"${data.pw}\"\nowner = \"root\"\nmode = \"0600\"\n"},
			""},
		{[]string{"data/sites/pier.toml", "x = 1\n"}, "data/sites/pier.toml:1:1 unused-file"},
		{[]string{"data/host/gauge-01.toml", "api_key = \"abc\"\n"}, "data/host/gauge-01.toml:1:11 plain-secret"},
	} {
		files := append([]string{"manifests/gauge.toml",
			"[param.a]\ntype = \"map\"\ndefault = {}\n[file.\"/out\"]\n" +
				"content = \"${string(size(data))} ${string(size(param.a))}\"\nowner = \"root\"\nmode = \"0644\"\n",
			"data/shared.toml", ""}, c.files...)
		_, found, err := advice.Check(compiletest.Tree(files...), kinds.Schemas(), compile.Options{Open: open})
		if err != nil {
			t.Errorf("%v: %v", c.files, err)
			continue
		}
		var got []string
		for _, a := range found {
			got = append(got, a.Place.String()+" "+a.Code)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%v gives %v, want %s", c.files, got, c.want)
		}
	}
}

// TestBlind checks what can be checked without the encrypted files that nobody
// here can open.
func TestBlind(t *testing.T) {
	closed := func(string, []byte) ([]byte, error) {
		return nil, layers.NotOpened{Err: errors.New("no identity; name one")}
	}
	fs := func(manifest string) fstest.MapFS {
		return compiletest.Tree("manifests/gauge.toml", manifest, "data/shared.toml.age", "pw = 1", "manifests/t.tmpl",
			"{{ data.relay.token }}{{ data.list }}")
	}
	const encrypted = `[param.token]
[user.maren]
password = "${data.pw}"
if = "has(data.pw)"
[user."${k.login}"]
for = "k in data.keepers"
[file."/t"]
template = "t.tmpl"
owner = "root"
mode = "0600"
[file."/${data.unit}/${param.token}"]
owner = "root"
mode = "0600"
after = ["user somebody"]
`
	_, found, err := advice.Check(fs(encrypted), kinds.Schemas(), compile.Options{Open: closed, Blind: true})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range found {
		got = append(got, a.Code)
	}
	if strings.Join(got, " ") != "not-decrypted" {
		t.Errorf("the advice is %v", got)
	}
	for text, want := range map[string]string{
		"[file.\"/f\"]\ncontent = \"${host.nmae}\"\n": `unknown key "nmae" in host; did you mean "name"?`,
		"[file.\"/f\"]\nmode = 644\n":                 "mode must be a mode",
		"[dir.\"/a\"]\nafter = [\"dir /b\"]\n":        "refers to dir /b, which is not declared on this host",
		"[user.\"${keys(facts.services)[0]}\"]\n[package.\"${p}\"]\nfor = \"p in " +
			"keys(facts.services)\"\n[dir.\"/a\"]\n" +
			"after = [\"package x\", \"user y\", \"dir /c\"]\n": "refers to dir /c, which is not declared on this host",
	} {
		if _, _, err := advice.Check(fs(text), kinds.Schemas(),
			compile.Options{Open: closed, Blind: true}); err == nil ||
			!strings.Contains(strings.ReplaceAll(err.Error(), " (for gauge-01)", ""), want) {
			t.Errorf("%s gives %v, want %s", text, err, want)
		}
	}
	if _, _, err := advice.Check(fs(encrypted), kinds.Schemas(), compile.Options{Open: closed}); err == nil ||
		!strings.Contains(err.Error(), "no identity") {
		t.Errorf("with open eyes it gives %v", err)
	}
}

// BenchmarkLint checks a project of 200 manifests and 50 hosts, which all have
// all of them.
func BenchmarkLint(b *testing.B) {
	fs := fstest.MapFS{
		"jadekettle.toml":  {Data: []byte("project = \"test\"\n")},
		"data/shared.toml": {Data: []byte("port = 4190\n")},
	}
	var names []string
	for i := range 200 {
		name := fmt.Sprintf("pool-%d", i)
		names = append(names, fmt.Sprintf("%q", name))
		fs["manifests/"+name+".toml"] = &fstest.MapFile{Data: []byte(fmt.Sprintf("[param.depth]\ntype = \"int\"\n"+
			"default = %d\n[package.reed-%03d]\n[dir.\"/srv/pool-%d\"]\nowner = \"root\"\nmode = \"0755\"\n"+
			"[file.\"/srv/pool-%d/conf\"]\ncontent = \"${data.port} ${param.depth} ${host.name}\"\nowner = \"root\"\n"+
			"mode = \"0644\"\nif = \"facts.memory.total > %d\"\n", i, i, i, i, i))}
	}
	fs["hosts.toml"] = &fstest.MapFile{Data: []byte("[host.\"gauge-[01..50]\"]\n[group.all]\nmembers = [\"*\"]\n" +
		"manifests = [" + strings.Join(names, ", ") + "]\n")}
	for b.Loop() {
		_, found, err := advice.Check(fs, kinds.Schemas(), compile.Options{})
		if err != nil || len(found) > 0 {
			b.Fatal(err, found)
		}
	}
}
