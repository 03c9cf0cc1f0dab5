package resolve_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
)

// out gives what the file /out holds on the first host, or the problems.
func out(t *testing.T, fs fstest.MapFS, f *facts.Facts, o compile.Options) string {
	t.Helper()
	p, err := compile.Load(fs, kinds.Schemas(), o)
	if err != nil {
		return err.Error()
	}
	pl, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: f})
	if err != nil {
		return err.Error()
	}
	for _, task := range pl.Tasks {
		if task.Ref.Name == "/out" && task.Content != nil {
			return pl.Contents[task.Content.SHA256].Text
		}
	}
	return order(pl)
}

func TestParams(t *testing.T) {
	data := []string{"+data/shared.toml", "[gauge]\nseconds = 2\n"}
	group := []string{"+hosts.toml", "[group.all.params.gauge]\nseconds = 3\n"}
	inner := []string{"+hosts.toml", "[group.north.params.gauge]\nseconds = 4\n"}
	host := []string{"+hosts.toml", "[host.gauge-01.params.gauge]\nseconds = \"${size(host.name)}\"\n"}
	for want, given := range map[string][][]string{
		"60": {}, "2": {data}, "3": {data, group}, "4": {data, group, inner}, "8": {data, group, inner, host},
	} {
		var files []string
		for _, g := range given {
			files = append(files, g...)
		}
		if got := out(t, compiletest.Tree(files...), debian, compile.Options{}); got != want {
			t.Errorf("with %d sources the param is %s, not %s", len(given), got, want)
		}
	}
	call := compile.Options{Params: map[string]string{"gauge.seconds": "9"}}
	if got := out(t, compiletest.Tree(host...), debian, call); got != "9" {
		t.Errorf("the call's own value gives %s", got)
	}
	for _, c := range []struct{ file, text, want string }{
		{"+data/shared.toml", "[gauge]\nseconds = \"30\"\n",
			`data/shared.toml:3:11: the param gauge.seconds from its from, data.gauge.seconds: expected an ` +
				`integer, not "30" (for gauge-01); write it without quotes`},
		{"+hosts.toml", "[group.all.params.gauge]\nseconds = 0\n",
			`hosts.toml:10:11: the param gauge.seconds: 0 is below the minimum of 1`},
		{"+hosts.toml", "[group.all.params.gauge]\nsecnods = 0\n",
			`unknown param "secnods" in the manifest gauge; did you mean "seconds"?`},
		{"+hosts.toml", "[group.west]\nmembers=[\"*\"]\ninside=\"all\"\nparams.gauge.seconds = 5\n" +
			"[group.north.params.gauge]\nseconds = 4\n",
			`the param gauge.seconds has different values in group west and group north, which are at the same depth`},
		{"manifests/gauge.toml", "[param.depth]\n",
			`manifests/gauge.toml:1:8: the param gauge.depth has no value and no default`},
		{"manifests/gauge.toml", "[param.depth]\ntype = \"integer\"\n",
			`invalid type: "integer"; use "string", "int", "number", "bool", "duration", "bytes", "path", ` +
				`"address", "list", "map" or "secret"`},
		{"manifests/gauge.toml", "[param.depth]\ntype = \"int\"\ndefault = 5\nmax = 3\n",
			`the default is not valid: 5 is above the maximum of 3`},
		{"manifests/gauge.toml", "[param.depth]\ndefault = \"x\"\nchoices = [\"a\", \"b\"]\n",
			`"x" is not one of the choices; use "a", "b"`},
		{"manifests/gauge.toml", "[param.depth]\ndefault = \"x1\"\npattern = \"[a-z]+\"\n",
			`"x1" does not match the pattern`},
		{"manifests/gauge.toml",
			"[param.t]\ntype = \"duration\"\ndefault = \"1h30m\"\n[param.b]\ntype = \"bytes\"\ndefault = \"2kB\"\n" +
				"[file.\"/out\"]\ncontent = \"${param.t} ${param.b}\"\n", `5400 2000`},
		{"manifests/gauge.toml", "[file.\"/out\"]\ncontent = \"${param.t}\"\n",
			`unknown param "t" in this manifest (for gauge-01); declare it: [param.t]`},
	} {
		if got := out(t, compiletest.Tree(c.file, c.text), debian, compile.Options{}); !strings.Contains(got, c.want) {
			t.Errorf("%s\n got %s\nwant %s", c.text, got, c.want)
		}
	}
}

// shows makes the manifest that writes an expression to /out.
func shows(text string) []string {
	return []string{"manifests/gauge.toml", "[file.\"/out\"]\ncontent = '''" + text + "'''\n"}
}

func TestLayers(t *testing.T) {
	settings := func(s string) []string {
		return []string{"jadekettle.toml", "project = \"test\"\n" + s}
	}
	rules := settings("[data.lists]\nlist = \"append\"\ndeep.unique = \"add_missing\"\n")
	for name, c := range map[string]struct {
		files []string
		want  string
	}{
		"later layers win": {append(shows("${data.a} ${data.t.x} ${data.t.y}"), "data/shared.toml",
			"a = 1\nt = {x = 1, y = 1}\n", "data/os/debian.toml", "a = 2\n", "data/group/all.toml", "t.x = 3\n",
			"data/group/north.toml", "t.x = 4\n", "data/site/pier.toml", "a = 5\n", "data/host/gauge-01.toml",
			"t.y = 6\n"), "5 4 6"},
		"yaml and json": {append(shows("${data.a} ${data.b} ${data.c}"), "data/site/pier.yaml", "a: no\nb: 0123\n",
			"data/host/gauge-01.json", `{"c": 1.5}`), "no 0123 1.5"},
		"two files of a layer": {append(shows("${data.a} ${data.t.x} ${data.t.y}"), "data/shared.toml",
			"a = 1\nt.x = 2\n",
			"data/shared.yaml", "t: {y: 3}\n"), "1 2 3"},
		"a key in two files": {append(shows("x"), "data/shared.toml", "t.x = 2\n", "data/shared.yaml", "t: {x: 3}\n"),
			"data/shared.yaml:1:5: t.x is set in two files of the same layer; first at data/shared.toml:1:7"},
		"a list is replaced": {append(shows("${join(data.list, ' ')}"), "data/host/gauge-01.toml",
			"list = [\"c\"]\n"), "c"},
		"a list is appended": {append(append(shows("${join(data.list, ' ')}"), rules...), "data/host/gauge-01.toml",
			"list = [\"b\", \"c\"]\n"), "a b b c"},
		"only what is missing": {append(append(shows("${join(data.deep.unique, ' ')}"), rules...), "data/shared.toml",
			"deep.unique = [\"a\", \"b\"]\n", "data/host/gauge-01.toml", "deep.unique = [\"b\", \"c\"]\n"), "a b c"},
		"an element taken out": {append(append(shows("${join(data.list, ' ')}"), rules...), "data/host/gauge-01.toml",
			"list = { remove = [\"a\"], add = [\"c\"] }\n"), "b c"},
		"taken out in vain": {append(append(shows("x"), rules...), "data/host/gauge-01.toml",
			"list = { remove = [\"z\"] }\n"), `list: remove names "z", which no lower layer has added`},
		"a table over none": {append(shows("x"), "data/host/gauge-01.toml", "list.x = 1\n"),
			"data.list is a table in one layer but not in another, at data/shared.toml:1:8"},
		"an own list of layers": {append(append(shows("${data.a}"),
			settings("[data]\nlayers = [\"shared\", \"rack/${host.rack}\", \"site/${host.site}\"]\n")...),
			"data/site/pier.toml", "a = 7\n"), "7"},
		"out of the project": {append(shows("x"), settings("[data]\nlayers = [\"../etc/${host.name}\"]\n")...),
			`the layer "../etc/${host.name}" is not a path inside data`},
		"out by a value": {append(shows("x"), "hosts.toml",
			"[host.gauge-01]\nsite = \"../../etc\"\n[group.all]\nmembers=[\"*\"]\nmanifests=[\"gauge\"]\n"),
			`the layer "site/${host.site}" cannot use host.site, which is "../../etc"`},
		"a large file": {append(shows("x"), "data/host/gauge-01.yaml", strings.Repeat("#", 50<<20)),
			"a data file of 50 MiB is too large"},
		"a bomb of aliases": {append(shows("x"), "data/host/gauge-01.yaml",
			"a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\n"+
				"d: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f "+
				"[*e,*e,*e,*e,*e,*e,*e,*e,*e]\n"+
				"g: [*f,*f,*f,*f,*f,*f,*f,*f,*f]\n"),
			"the document is nested too deeply, or its aliases make it too large"},
		"broken data": {append(shows("${data.nowhere}"), "data/host/gauge-01.json", "{"),
			"data/host/gauge-01.json:1:2: not valid JSON"},
		"encrypted without a key": {append(shows("x"), "data/shared.toml.age", "age-encryption.org/v1"),
			"this file is encrypted, and no identity was given to decrypt it"},
	} {
		got := out(t, compiletest.Tree(c.files...), debian, compile.Options{})
		if !strings.Contains(got, c.want) || strings.Contains(got, "nowhere") {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
	// Without facts nothing is said of what a layer of facts may set.
	fs := compiletest.Tree(append(shows("${data.from_os}"), "data/os/debian.toml", "from_os = 1\n")...)
	if _, _, err := advice.Check(fs, kinds.Schemas(), compile.Options{}); err != nil {
		t.Errorf("without facts: %v", err)
	}
}

func TestEnvironments(t *testing.T) {
	fs := compiletest.Tree(append(shows("${env} ${data.where} ${host.address}"),
		"jadekettle.toml", "project = \"test\"\n[data]\nlayers = [\"shared\", \"env/${env}\"]\n[env.test]\n"+
			"default = true\n[env.production]\ninventory = [\"production.toml\"]\n",
		"production.toml", "[host.gauge-01]\naddress = \"192.0.2.21\"\n[group.g]\nmembers = [\"*\"]\n"+
			"manifests = [\"gauge\"]\n",
		"data/env/test.toml", "where = \"bench\"\n", "data/env/production.toml", "where = \"sea\"\n",
		"data/host/gauge-02.toml", "")...)
	for env, want := range map[string]string{"": "test bench gauge-01", "test": "test bench gauge-01",
		"production": "production sea 192.0.2.21",
		"prodution":  `unknown environment "prodution"; did you mean "production"?`} {
		if got := out(t, fs, debian, compile.Options{Env: env}); got != want {
			t.Errorf("in %q: %s", env, got)
		}
	}
}

func TestLoops(t *testing.T) {
	data := []string{"data/shared.toml", `ports = { log = 1, web = 2 }
sites = [ { name = "pier", gauges = ["a", "b"] }, { name = "creek", gauges = ["c"] } ]
keepers = [ { login = "maren" }, { login = "odd", left = "2025" } ]
`}
	for text, want := range map[string]string{
		"[dir.\"/srv/${x}\"]\nfor = \"x in ['b', 'a']\"\n":                     "dir /srv/b dir /srv/a",
		"[dir.\"/srv/${name}-${port}\"]\nfor = \"name, port in data.ports\"\n": "dir /srv/log-1 dir /srv/web-2",
		"[dir.\"/srv/${s.name}/${g}\"]\nfor = [\"s in data.sites\", \"g in s.gauges\"]\n": "dir /srv/pier/a dir " +
			"/srv/pier/b dir /srv/creek/c",
		"[dir.\"/srv/${i}${x}\"]\nfor = \"i, x in ['b', 'a']\"\n":                            "dir /srv/0b dir /srv/1a",
		"[user.\"${p.login}\"]\nfor = \"p in data.keepers\"\nif = \"!has(p.left)\"\n":        "user maren",
		"[user.\"${p.login}\"]\nfor = \"p in data.nobody\"\nif = \"host.site == 'creek'\"\n": "",
		"[dir.\"/srv/${x}\"]\nfor = \"x in data.ports\"\n": "a loop over a table " +
			"needs two variables",
		"[dir.\"/srv/${x}\"]\nfor = \"x of data.ports\"\n": `"x of data.ports" ` +
			`is not a valid loop`,
		"[dir.\"/srv/${host}\"]\nfor = \"host in data.ports\"\n": "the variable host hides " +
			"another",
		"[dir.\"/srv\"]\nfor = \"x in ['b', 'a']\"\n":                  "the loop produces dir /srv twice",
		"[dir.\"/srv/${f.name}\"]\nfor = \"f in facts.disks\"\n":       "",
		"[dir.\"/a\"]\nonly_if_changed = [\"dir /b\"]\n[dir.\"/b\"]\n": "dir /b dir /a",
	} {
		if got := out(t, compiletest.Tree(append(data, "manifests/gauge.toml", text)...), debian,
			compile.Options{}); !strings.Contains(got, want) || want == "" && got != "" {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestUse(t *testing.T) {
	relay := []string{"manifests/relay.toml",
		"[param.port]\ntype = \"int\"\n[param.name]\ndefault = \"relay\"\n[dir.\"/srv/${param.name}-${param.port}\"]\n"}
	for text, want := range map[string]string{
		"[dir.\"/a\"]\n[use.north]\nmanifest = \"relay\"\nparams = { port = 1 }\n[dir.\"/b\"]\n[use.south]\n" +
			"manifest = \"relay\"\nparams = { port = 2, name = \"south\" }\n": "dir /a dir /srv/relay-1 dir /b dir " +
			"/srv/south-2",
		"[use.relay]\nfor = \"p in [1, 2]\"\nparams = { port = \"${p}\" }\n": "dir /srv/relay-1 dir /srv/relay-2",
		"[use.relay]\nif = \"host.site == 'creek'\"\n":                       "",
		"[use.relay]\n":                        "the param relay.port has no value and no default",
		"[use.relay]\nparams = { prot = 1 }\n": `unknown param "prot" in the manifest relay; did you mean "port"?`,
		"[use.relay]\nif = \"false\"\n[dir.\"/a\"]\nafter = [\"dir /srv/relay-1\"]\n":                         "dir /a",
		"[user.\"${k}\"]\nfor = \"k in ['maren']\"\nif = \"false\"\n[dir.\"/a\"]\nafter = [\"user maren\"]\n": "dir /a",
		"[use.raley]\n": `use.raley refers to the manifest "raley", which does not exist; did you mean "relay"?`,
		"[use.gauge]\n": "manifests include each other in a cycle: gauge uses gauge",
		"[use.relay]\nparams = { port = \"x\" }\n": `the param relay.port from the use: expected an integer, ` +
			`not "x"`,
	} {
		if got := out(t, compiletest.Tree(append(relay, "manifests/gauge.toml", text)...), debian,
			compile.Options{}); !strings.Contains(got, want) || want == "" && got != "" {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

func TestGroupsByCondition(t *testing.T) {
	fs := compiletest.Tree("hosts.toml", `[host.gauge-01]
site = "pier"
[host.gauge-02]
site = "creek"
[group.big]
where = 'facts.memory.total > bytes("4GB")'
manifests = ["gauge"]
inside = "all"
[group.at-pier]
where = 'host.site == "pier"'
[group.all]
params.gauge.seconds = 7
`, "data/group/big.toml", "only_big = 1\n", "+manifests/gauge.toml", "[dir.\"/x${data.only_big}\"]\n")
	p, _, err := advice.Check(fs, kinds.Schemas(), compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	small := &facts.Facts{Memory: facts.Memory{Total: 1 << 30}}
	var got []string
	for _, f := range []*facts.Facts{debian, small} {
		for _, h := range p.Inventory.Hosts {
			pl, err := resolve.Plan(p, h, resolve.Known{Facts: f})
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, fmt.Sprint(len(pl.Tasks)))
			groups, _ := p.Inventory.GroupsOf(h, f.Tree())
			got = append(got, fmt.Sprint(len(groups)))
		}
	}
	if s := strings.Join(got, " "); s != "2 3 2 2 0 1 0 0" {
		t.Errorf("tasks and groups are %s", s)
	}
	hosts, err := p.Inventory.Select([]string{"@all"}, nil)
	if err != nil || len(hosts) != 2 {
		t.Errorf("the group may hold %d hosts (%v)", len(hosts), err)
	}
	if groups, _ := p.Inventory.GroupsOf(hosts[1], small.Tree()); p.Inventory.Chosen([]string{"@all"}, nil,
		hosts[1], groups) {
		t.Error("a small host is a member")
	}
	if got := p.Inventory.Why(hosts[0], p.Inventory.Groups[2], debian.Tree()); got != "through the group big" {
		t.Errorf("it is a member %s", got)
	}
}

func TestFleetInTemplates(t *testing.T) {
	fs := compiletest.Tree("manifests/gauge.toml", "[file.\"/out\"]\ntemplate = \"peers\"\n", "manifests/peers",
		"{{ range fleet.members \"all\" }}{{ .name }}={{ .address }} {{ end }}",
		"hosts.toml", "[host.\"gauge-[1..3]\"]\naddress = \"192.0.2.${n + 20}\"\n[group.all]\n"+
			"members = [\"gauge-[1..2]\"]\nmanifests = [\"gauge\"]\n")
	p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	fleet := resolve.Snapshot(p, nil)
	pl, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian, Fleet: fleet})
	if err != nil {
		t.Fatal(err)
	}
	if got := pl.Contents[pl.Tasks[0].Content.SHA256].Text; got != "gauge-1=192.0.2.21 gauge-2=192.0.2.22 " {
		t.Errorf("the template gives %q", got)
	}
	fleet = resolve.Snapshot(p, func(name string) (*facts.Facts, int64, bool) { return debian, 60, name == "gauge-2" })
	prog, _ := expr.Compile("fleet.hosts.filter(h, has(h.facts)).map(h, h.name + string(h.facts_age))",
		func(int) value.Place { return value.Place{} }, expr.Scope{})
	if v, err := prog.Eval(&expr.Vars{Facts: debian.Tree(), Fleet: fleet}); fmt.Sprint(v) != "[gauge-260]" {
		t.Errorf("the facts of others are %v (%v)", v, err)
	}
	for trust, want := range map[string]string{"": "gauge-2 ", "trust_facts = true\n": "gauge-2 gauge-3 "} {
		fs["manifests/gauge.toml"] = &fstest.MapFile{Data: []byte(trust + "[file.\"/out\"]\ncontent = \"" +
			"${join(fleet.hosts.filter(h, has(h.facts)).map(h, h.name), ' ')} \"\n")}
		if p, err = compile.Load(fs, kinds.Schemas(), compile.Options{}); err != nil {
			t.Fatal(err)
		}
		fleet.All = resolve.Snapshot(p, func(name string) (*facts.Facts, int64, bool) {
			return debian, 60,
				name != "gauge-1"
		})
		pl, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian, Fleet: fleet})
		if err != nil {
			t.Fatal(err)
		}
		if got := pl.Contents[pl.Tasks[0].Content.SHA256].Text; got != want {
			t.Errorf("%q: it knows the facts of %q, want %q", trust, got, want)
		}
	}
}

func TestSecretsOfLayers(t *testing.T) {
	open := func(name string, encrypted []byte) ([]byte, error) { return encrypted, nil }
	for text, want := range map[string]string{
		"[user.maren]\npassword = \"${data.pw}\"\n[file.\"/f\"]\ncontent = \"pw=${data.pw}\"\n": "user maren file /f",
		"[file.\"/f-${data.pw}\"]\n": "the name contains a secret, " +
			"but names are shown",
		"[dir.\"/f\"]\nowner = \"${data.pw}\"\n": "owner contains a secret, but " +
			"it is shown",
		"[file.\"/f\"]\ncontent = \"x\"\ncheck = \"x ${candidate} ${data.pw}\"\n": "check contains a secret, but " +
			"it is shown",
		"[dir.\"/${x}\"]\nfor = \"x in data.pws\"\n":         "the loop uses secrets, which would appear in names",
		"[dir.\"/a\"]\nif = \"data.pw == 'ebb-and-flow'\"\n": "dir /a",
	} {
		fs := compiletest.Tree("manifests/gauge.toml", text, "data/shared.toml.age", "pw = \"ebb-and-flow\"\npws = "+
			"[\"rip-tide\"]\n")
		p, err := compile.Load(fs, kinds.Schemas(), compile.Options{Open: open})
		if err != nil {
			t.Fatal(err)
		}
		pl, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian})
		got := fmt.Sprint(err)
		if err == nil {
			got = order(pl)
			for _, task := range pl.Tasks {
				if shown := fmt.Sprintf("%v %+v", task, task.Attrs); strings.Contains(shown, "ebb-and") {
					t.Errorf("a task shows the secret: %s", shown)
				}
				if task.Ref.Kind == "file" && (!task.Content.Secret || len(task.Masks) == 0) {
					t.Errorf("the content is not secret: %+v", task)
				}
			}
		}
		if !strings.Contains(got, want) || strings.Contains(got, "ebb-and") {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
}

// TestRequired refuses a declaration without what its kind wants, when it is
// not to be absent.
func TestRequired(t *testing.T) {
	mount := &schema.Kind{Name: "mount", Canon: schema.CleanPath,
		Attrs: []schema.Attr{{Name: "device", Required: true}}}
	for text, want := range map[string]string{
		"[mount.\"/srv\"]\n":                        `missing required attribute "device" in mount /srv`,
		"[mount.\"/srv\"]\ndevice = \"sda\"\n":      "",
		"[mount.\"/srv\"]\nabsent = true\n":         "",
		"[mount.\"/srv\"]\nabsent = \"${true}\"\n":  "",
		"[mount.\"/srv\"]\nabsent = \"${false}\"\n": `missing required attribute "device" in mount /srv`,
	} {
		p, err := compile.Load(compiletest.Tree("manifests/gauge.toml", text), schema.NewKinds(mount),
			compile.Options{})
		if err != nil {
			t.Fatal(err)
		}
		_, err = resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s gives %v, want %s", text, err, want)
		}
	}
}

// TestOnLeaveAndTries says by what a thing is removed when nothing declares it any more:
// its declaration, else the innermost use, else the group; and how often it is tried.
func TestOnLeaveAndTries(t *testing.T) {
	tree := func(group, gauge string) fstest.MapFS {
		return compiletest.Tree("hosts.toml", "[host.gauge-01]\n[group.all]\nmembers = [\"*\"]\nmanifests = "+
			"[\"gauge\"]\n"+group+
			"[group.also]\nmembers = [\"*\"]\nmanifests = [\"also\"]\n", "manifests/gauge.toml", gauge,
			"manifests/relay.toml", "[dir.\"/relay\"]\n", "manifests/also.toml", "[dir.\"/twice\"]\n",
			"+jadekettle.toml", "[run]\nretries = 2\nretry_every = \"5s\"\ntimeout = \"1m\"\n")
	}
	const gauge = "[dir.\"/a\"]\n[dir.\"/b\"]\non_removal = \"keep\"\n[dir.\"/c\"]\non_removal = " +
		"\"remove\"\nretries = " +
		"0\ntimeout = \"9s\"\n[use.relay]\n[dir.\"/twice\"]\n[command.slow]\nrun = [\"sleep\", \"1\"]\nalways = " +
		"true\ntimeout = \"3s\"\n"
	for group, want := range map[string]string{
		"":                          "/c",
		"on_removal = \"remove\"\n": "/a /c /relay slow",
		"on_removal = \"keep\"\n":   "/c",
	} {
		p, err := compile.Load(tree(group, gauge), kinds.Schemas(), compile.Options{})
		if err != nil {
			t.Fatal(err)
		}
		pl, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian})
		if err != nil {
			t.Fatal(err)
		}
		var removed []string
		tries := map[string]string{}
		for _, task := range pl.Tasks {
			if task.OnRemoval == schema.Remove {
				removed = append(removed, task.Ref.Name)
			}
			tries[task.Ref.Name] = fmt.Sprint(task.Tries)
		}
		slices.Sort(removed)
		if got := strings.Join(removed, " "); got != want {
			t.Errorf("with %q in the group go %s, want %s", group, got, want)
		}
		if tries["/a"] != "{1m0s 2 5s}" || tries["/c"] != "{9s 0 0s}" || tries["slow"] != "{0s 2 5s}" {
			t.Errorf("they are tried %v", tries)
		}
	}
	if got := out(t, tree("", "[use.relay]\non_removal = \"remove\"\n[dir.\"/x\"]\nretries = 2000\n"), debian,
		compile.Options{}); !strings.
		Contains(got, "manifests/gauge.toml:4:11: invalid retries: 2000") {
		t.Errorf("too many retries: %s", got)
	}
	if got := out(t, tree("", "[use.relay]\non_removal = \"away\"\n"), debian,
		compile.Options{}); !strings.Contains(got, `use "keep" or "remove"`) {
		t.Errorf("another word: %s", got)
	}
}
