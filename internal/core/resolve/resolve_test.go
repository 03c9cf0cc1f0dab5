package resolve_test

import (
	"fmt"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/host/kinds"
)

func files(manifest string, more ...string) fstest.MapFS {
	fs := fstest.MapFS{
		"jadekettle.toml": {Data: []byte("project = \"test\"\n")},
		"hosts.toml": {Data: []byte("[host.gauge-01]\nsite = \"pier\"\n[group.all]\nmembers = [\"*\"]\n" +
			"manifests = [\"all\", \"more\"]\n")},
		"manifests/all.toml":      {Data: []byte(manifest)},
		"manifests/more.toml":     {Data: []byte("")},
		"data/shared.toml":        {Data: []byte("port = 4190\nlist = [\"a\", \"b\"]\n[deep]\na = 1\nb = 2\n")},
		"data/host/gauge-01.toml": {Data: []byte("[deep]\nb = 3\n")},
	}
	for i := 0; i+1 < len(more); i += 2 {
		fs[more[i]] = &fstest.MapFile{Data: []byte(more[i+1])}
	}
	return fs
}

var debian = &facts.Facts{OS: facts.OS{ID: "debian", Like: []string{"debian"}}, Memory: facts.Memory{Total: 8 << 30}}

// resolved gives the plan of gauge-01, or the problems as text.
func resolved(t *testing.T, fs fstest.MapFS, f *facts.Facts) (*plan.Plan, string) {
	t.Helper()
	p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
	if err != nil {
		return nil, err.Error()
	}
	out, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: f})
	if err != nil {
		return nil, err.Error()
	}
	return out, ""
}

func order(p *plan.Plan) string {
	var refs []string
	for _, t := range p.Tasks {
		refs = append(refs, t.Ref.String())
	}
	return strings.Join(refs, " ")
}

func TestOrder(t *testing.T) {
	for name, c := range map[string]struct{ manifest, want string }{
		"as written": {"[dir.\"/b\"]\n[dir.\"/a\"]\n", "dir /b dir /a"},
		"what is needed comes just before": {
			"[package.salt-lamp]\n[user.maren]\ngroups = [\"keepers\"]\n[package.buoy-tools]\n[group.keepers]\n",
			"package salt-lamp group keepers user maren package buoy-tools"},
		"a path after its parent, owner and group": {
			"[file.\"/srv/a/b/f\"]\nowner = \"tidelog\"\ngroup = \"tide\"\n[group.tide]\n[user.tidelog]\n" +
				"[dir.\"/srv/a\"]\n[dir.\"/srv\"]\n",
			"group tide user tidelog dir /srv dir /srv/a file /srv/a/b/f"},
		"a group that a user makes": {"[file.\"/f\"]\ngroup = \"tidelog\"\n[user.tidelog]\n", "user tidelog file /f"},
		"a service after its package and unit": {
			"[service.tide-logger]\nrunning = true\n[file.\"/etc/systemd/system/tide-logger.service\"]\n" +
				"[package.tide-logger]\n",
			"file /etc/systemd/system/tide-logger.service package tide-logger service tide-logger"},
		"probes come last": {"[probe.a]\nfile = \"/a\"\n[dir.\"/a\"]\n[probe.b]\nfile = \"/b\"\n[dir.\"/b\"]\n",
			"dir /a dir /b probe a probe b"},
		"but for those that others need": {"[dir.\"/a\"]\nafter = [\"probe b\"]\n[probe.a]\nfile = " +
			"\"/a\"\n[probe.b]\n" +
			"file = \"/b\"\nafter = [\"probe c\"]\n[probe.c]\nfile = \"/c\"\n[dir.\"/b\"]\n",
			"probe c probe b dir /a dir /b probe a"},
		"after and before": {"[dir.\"/a\"]\nafter = [\"dir /b\"]\n[dir.\"/b\"]\n[dir.\"/c\"]\nbefore = [\"dir /b\"]\n",
			"dir /c dir /b dir /a"},
		"turned round when both are absent": {
			"[dir.\"/srv/a\"]\nabsent = true\n[file.\"/srv/a/f\"]\nabsent = true\n[group.keepers]\nabsent = true\n" +
				"[user.maren]\nabsent = true\ngroups = [\"keepers\"]\n",
			"file /srv/a/f dir /srv/a user maren group keepers"},
		"an implied edge that contradicts is dropped": {
			"[user.maren]\nbefore = [\"group maren\"]\n[group.maren]\n", "user maren group maren"},
		"an absent thing is not needed": {"[file.\"/srv/f\"]\nowner = \"maren\"\n[user.maren]\nabsent = true\n",
			"file /srv/f user maren"},
		"what is skipped gives no edge": {"[dir.\"/a\"]\nafter = [\"dir /b\"]\n[dir.\"/b\"]\nif = \"data.port == " +
			"1\"\n", "dir /a"},
	} {
		p, problems := resolved(t, files(c.manifest), debian)
		if p == nil {
			t.Errorf("%s: %s", name, problems)
			continue
		}
		if got := order(p); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

func TestValues(t *testing.T) {
	p, problems := resolved(t, files(`
[file."/etc/${host.site}.conf"]
content = "port ${data.port}, b ${data.deep.b}, a ${data.deep.a}\n"
mode = "640"
[user.maren]
groups = "${data.list}"
system = "${data.port > 1000}"
comment = "$${literal}"
password = "${string(data.port)}"
[dir."/only-here"]
if = '"debian" in facts.os.like'
[dir."/not-here"]
if = "facts.memory.total < 1000"
[file."/t"]
template = "t.tmpl"
`, "manifests/t.tmpl", "{{ host.name }} {{ facts.os.id }}"), debian)
	if p == nil {
		t.Fatal(problems)
	}
	if got := order(p); got != "file /etc/pier.conf user maren dir /only-here file /t" {
		t.Errorf("the order is %s", got)
	}
	if got := p.Contents[p.Tasks[0].Content.SHA256].Text; got != "port 4190, b 3, a 1\n" {
		t.Errorf("the content is %q", got)
	}
	if got := p.Contents[p.Tasks[3].Content.SHA256].Text; got != "gauge-01 debian" {
		t.Errorf("the template gives %q", got)
	}
	if got := fmt.Sprint(p.Tasks[0].Attrs,
		p.Tasks[1].Attrs); got != "map[mode:0640] map[comment:${literal} groups:[a b] password:(secret) system:true]" {
		t.Errorf("the attributes are %s", got)
	}
	if len(p.Skipped) != 1 || p.Skipped[0].Ref.Name != "/not-here" || !strings.Contains(p.Skipped[0].Reason,
		"facts.memory.total < 1000") {
		t.Errorf("skipped is %+v", p.Skipped)
	}
}

func TestTheSameThingTwice(t *testing.T) {
	p, problems := resolved(t, files("[dir.\"/srv\"]\nmode = \"0755\"\n", "manifests/more.toml",
		"[dir.\"/srv/\"]\nmode = \"755\"\nabout = \"in other words\"\n"), debian)
	if p == nil || len(p.Tasks) != 1 || len(p.Tasks[0].Places) != 2 {
		t.Errorf("equal declarations are not one task: %v %s", p, problems)
	}
	for more, want := range map[string]string{
		"[dir.\"/srv\"]\nmode = \"0700\"\n": `manifests/more.toml:1:6: conflicting ` +
			`declarations: mode of dir /srv is both "0755" and "0700"; first at manifests/all.toml:1:6 (for ` +
			`gauge-01); keep one, or make both equal`,
		"[dir.\"/srv\"]\nmode = \"0755\"\nowner = \"root\"\n": `conflicting declarations: owner of dir /srv is ` +
			`both not set and "root"`,
		"[file.\"/srv\"]\n": `conflicting declarations: /srv is both a dir and a file`,
	} {
		_, got := resolved(t, files("[dir.\"/srv\"]\nmode = \"0755\"\n", "manifests/more.toml", more), debian)
		if !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", more, got, want)
		}
	}
	both := "[file.\"/f\"]\nif = 'facts.os.id == \"debian\"'\ncontent = \"1\"\n"
	other := "[file.\"/f\"]\nif = 'facts.os.id != \"debian\"'\ncontent = \"2\"\n"
	for _, f := range []*facts.Facts{debian, nil} {
		if p, problems := resolved(t, files(both, "manifests/more.toml", other), f); p == nil {
			t.Errorf("two ways that exclude one another: %s", problems)
		}
	}
}

// TestManyHostsAtOnce resolves from many goroutines, as a run does, a template
// whose path depends on the host; the race detector looks on.
func TestManyHostsAtOnce(t *testing.T) {
	fs := files("[file.\"/t\"]\ntemplate = \"${host.site}.tmpl\"\n", "manifests/pier.tmpl",
		"{{ host.name }} has {{ len facts.services }} services",
		"hosts.toml", "[host.\"gauge-[01..20]\"]\nsite = \"pier\"\n[group.all]\nmembers = [\"*\"]\nmanifests = "+
			"[\"all\"]\n")
	p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if !p.Reads("facts", "services") {
		t.Error("services that a template may read are not asked for")
	}
	var wg sync.WaitGroup
	for _, h := range p.Inventory.Hosts {
		wg.Go(func() {
			out, err := resolve.Plan(p, h, resolve.Known{Facts: debian})
			if err != nil {
				t.Error(err)
				return
			}
			if got := out.Contents[out.Tasks[0].Content.SHA256].Text; got != h.Name+" has 0 services" {
				t.Errorf("%s gets %q", h.Name, got)
			}
		})
	}
	wg.Wait()
}

func TestSelections(t *testing.T) {
	manifest := "[group.tide]\n[user.maren]\ngroups = [\"tide\"]\nlabels = [\"people\", \"${word}\"]\n" +
		"[dir.\"/srv/a\"]\nowner = \"maren\"\n[file.\"/srv/a/b\"]\n[file.\"/etc/c\"]\nlabels = [\"people\"]\n"
	whole, problems := resolved(t, files(manifest, "manifests/more.toml", "[dir.\"/more\"]\n[group.tide]\n"), debian)
	if whole == nil {
		t.Fatal(problems)
	}
	for name, c := range map[string]struct {
		s            resolve.Selection
		want, needed string
	}{
		"all": {resolve.Selection{},
			"group tide user maren dir /srv/a file /srv/a/b file /etc/c dir /more", "[]"},
		"a kind":    {resolve.Selection{Tasks: []string{"file *"}}, "file /srv/a/b file /etc/c", "[dir /srv/a]"},
		"a pattern": {resolve.Selection{Tasks: []string{"* /srv/*"}}, "dir /srv/a file /srv/a/b", "[user maren]"},
		"with needs": {resolve.Selection{Tasks: []string{"file /srv/a/?"}, WithNeeds: true},
			"group tide user maren dir /srv/a file /srv/a/b", "[]"},
		"but not these": {resolve.Selection{Tasks: []string{"file /srv/*"}, Skip: []string{"user *"},
			WithNeeds: true}, "dir /srv/a file /srv/a/b", "[user maren]"},
		"a label":         {resolve.Selection{Labels: []string{"people"}}, "user maren file /etc/c", "[group tide]"},
		"a literal label": {resolve.Selection{Labels: []string{"${word}"}}, "user maren", "[group tide]"},
		"a manifest":      {resolve.Selection{Manifests: []string{"more"}}, "group tide dir /more", "[]"},
		"a label of a kind": {resolve.Selection{Tasks: []string{"file *"}, Labels: []string{"people"}},
			"file /etc/c", "[]"},
		"leaving out": {resolve.Selection{Skip: []string{"file *", "dir /srv/a"}},
			"group tide user maren dir /more", "[]"},
		"nothing": {resolve.Selection{Tasks: []string{"file /nowhere"}}, "", "[]"},
	} {
		part, needed := c.s.Apply(whole)
		if got := order(part); got != c.want || fmt.Sprint(needed) != c.needed {
			t.Errorf("%s: %s, needs %v; want %s, needs %s", name, got, needed, c.want, c.needed)
		}
		for i, task := range part.Tasks {
			for _, n := range task.Needs {
				if task.ID != i || n >= i {
					t.Errorf("%s: task %d has the number %d and needs %v", name, i, task.ID, task.Needs)
				}
			}
		}
		if len(part.Tasks)+len(part.Skipped) != len(whole.Tasks) {
			t.Errorf("%s: %d tasks and %d skipped of %d", name, len(part.Tasks), len(part.Skipped), len(whole.Tasks))
		}
	}
}

// big is a project of many hosts, each with a hundred declarations.
func big(hosts int) fstest.MapFS {
	var m strings.Builder
	for i := range 20 {
		fmt.Fprintf(&m, "[package.reed-%02d]\n[dir.\"/srv/pool-%d\"]\nowner = \"root\"\nmode = \"0755\"\n", i, i)
		fmt.Fprintf(&m, "[file.\"/srv/pool-%d/conf\"]\ncontent = \"pool ${data.port + %d} of ${host.name}\\n\"\n"+
			"mode = \"0644\"\n", i, i)
		fmt.Fprintf(&m, "[user.keeper-%d]\ngroups = [\"watch-%d\"]\nif = '\"debian\" in facts.os.like'\n"+
			"[group.watch-%d]\n", i, i, i)
	}
	fs := files(m.String(), "hosts.toml",
		fmt.Sprintf("[host.\"gauge-[0001..%04d]\"]\nsite = \"pier\"\n[group.all]\nmembers = [\"*\"]\nmanifests = "+
			"[\"all\"]\n", hosts), "data/host/gauge-0001.toml", "")
	delete(fs, "data/host/gauge-01.toml")
	return fs
}

// BenchmarkResolve resolves 1,000 hosts of 100 declarations, project and all.
// x-one-host gives the time as a multiple of what one host takes, project and
// all: 1,000 would be no gain by reading the project once.
func BenchmarkResolve(b *testing.B) {
	resolveAll := func(fs fstest.MapFS) time.Duration {
		begun, tasks := time.Now(), 0
		p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
		if err != nil {
			b.Fatal(err)
		}
		for _, h := range p.Inventory.Hosts {
			out, err := resolve.Plan(p, h, resolve.Known{Facts: debian})
			if err != nil {
				b.Fatal(err)
			}
			tasks += len(out.Tasks)
		}
		if tasks != 100*len(p.Inventory.Hosts) {
			b.Fatalf("%d tasks", tasks)
		}
		return time.Since(begun)
	}
	many, one := big(1000), big(1)
	var all, alone time.Duration
	for b.Loop() {
		all += resolveAll(many)
		alone += resolveAll(one)
	}
	b.ReportMetric(float64(all.Microseconds())/float64(b.N)/100_000, "us/task")
	b.ReportMetric(float64(all)/float64(alone), "x-one-host")
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB")
}

func TestProblemsOfAProject(t *testing.T) {
	for manifest, want := range problemsOfAProjectCases {
		if _, got := resolved(t, files(manifest), debian); !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", manifest, got, want)
		}
	}
	for text, want := range map[string]string{
		"":              `project is not set`,
		"project = 7\n": `project must be 4 to 64 letters, digits, dashes and underscores`,
		"project = \"test\"\n[run]\nparalel = 3\n": `unknown setting "run.paralel"; did you mean ` +
			`"run.parallel"?`,
		"project = \"test\"\n[run]\nparallel = \"3\"\n": "run.parallel must be an integer from 1 to 10000; write " +
			"parallel = 3, without quotes",
		"project = \"test\"\n[ssh]\nconnect_timeout = 5\n":         `ssh.connect_timeout: invalid duration 5`,
		"project = \"test\"\n[inventory]\nfiles = [\"../x\"]\n":    `files must be a list of paths inside the project`,
		"project = \"test\"\n[inventory]\nfiles = [\"no.toml\"]\n": `the inventory file does not exist`,
	} {
		if _, got := resolved(t, files("", "jadekettle.toml", text), debian); !strings.Contains(got, want) {
			t.Errorf("%s\n got %s\nwant %s", text, got, want)
		}
	}
	if _, got := resolved(t, files("", "data/host/guage-01.toml", "x = 1\n"), debian); !strings.Contains(got,
		`this is data for "guage-01", which is not a host; did you mean "gauge-01"?`) {
		t.Errorf("data for no host gives %s", got)
	}
}

// problemsOfAProjectCases are what TestProblemsOfAProject goes through.
var problemsOfAProjectCases = map[string]string{
	"[dir.\"/a\"]\nafter = [\"dir /b\"]\n[dir.\"/b\"]\nafter = [\"dir /c\"]\n[dir.\"/c\"]\nafter = [\"dir " +
		"/a\"]\n": "dependency cycle: dir /a needs dir /b needs dir /c needs dir /a",
	"[dir.\"/a\"]\nafter = [\"dir /nowhere\"]\n": "dir /a: after refers to dir " +
		"/nowhere, which is not declared on this host",
	"[dir.\"/a\"]\nafter = [\"dri /b\"]\n":        `"dri /b" refers to the unknown kind "dri"`,
	"[file.\"/a\"]\ncontent = \"${data.prot}\"\n": `manifests/all.toml:2:14: unknown key "prot" in data`,
	"[file.\"/${data.list}\"]\n": `${data.list} returns a list, which cannot be ` +
		`written as text`,
	"[file.\"/a\"]\ntemplate = \"no.tmpl\"\n":                 `the template manifests/no.tmpl cannot be read`,
	"[file.\"/a\"]\ncopy = \"no.bin\"\n":                      `the file manifests/no.bin cannot be read`,
	"[file.\"/a\"]\ncontent = \"x\"\ncheck = \"true\"\n":      `check does not use ${candidate}`,
	"[user.maren]\npassword = \"a\"\npassword_hash = \"!\"\n": `password and password_hash cannot be combined`,
	"[package.a1]\nversion = \"1\"\nabsent = true\n": "version cannot be combined " +
		"with absent",
	"[user.maren]\nuid = \"${data.list}\"\n": `uid must be a single value, not a list`,
	"[dir.\"/a\"]\nif = \"data.port\"\n": "condition must be true or " +
		"false, but is an integer",
	"[dir.\"/a\"]\nfor = \"x in data.list\"\n": `the loop produces dir /a twice`,
	"[lines.\"/a#x\"]\nadd = [{ line = \"x\" }]\n[file.\"/a\"]\ncontent = \"\"\n": "lines /a#x declares a part of " +
		"what file /a declares as a whole at manifests/all.toml:3:7",
	"[lines.\"/a#x\"]\nadd = [{ line = \"Port 22\", replaces = '^Port' }]\n[lines.\"/a#y\"]\nadd = [{ line = " +
		"\"Port 2200\", over = '^Port' }]\n": `unknown key "over" in add; available: line, replaces, below, above`,
	"[lines.\"/a#x\"]\nadd = [{ line = \"UseDNS no\" }]\n[lines.\"/a#y\"]\nremove = ['^UseDNS']\n": `undo each other`,
	"[settings.\"/a#x\"]\nformat = \"ini\"\nset = { a = 1 }\n[settings.\"/a#y\"]\nformat = \"ini\"\nset = { a " +
		"= 2 }\n": `undo ` +
		`each other's changes to /a`,
	"[block.\"/a\"]\ncontent = \"a = 1\"\n[lines.\"/a#y\"]\nremove = ['^a']\n": `block /a and lines /a#y undo ` +
		`each other`,
	"[dir.\"/etc/cron.d\"]\nabsent = true\n[cron.x]\nschedule = \"@daily\"\nrun = \"x\"\n": `cron x is below dir ` +
		`/etc/cron.d, which is declared absent`,
	"[user.a]\nuid = 2101\n[user.b]\nuid = 2101\n": "user a and user b have the same " +
		"uid, 2101; first at manifests/all.toml:1:7 (for gauge-01); give each a different number",
	"[dir.\"/var/lib\"]\nabsent = true\nwith_contents = true\n": "/var/lib is a system directory " +
		"and cannot be removed",
	"[dir.\"/home/\"]\nabsent = true\n": `/home is a system directory and cannot be removed`,
	"[user.root]\nabsent = true\n":      `root cannot be absent`,
	"[user.a]\nuid = 99999999999\n": "uid is 99999999999, which is " +
		"above the largest user or group ID, 4294967294",
	"[file.\"/\"]\ncontent = \"x\"\n": `file: / is the root directory ` +
		`and cannot be anything else`,
	"[link.\"/srv/a\"]\nto = \"../srv/a\"\n": `the link points to itself`,
	"[service.\"foo@\"]\nrunning = true\n": `service: "foo@" is a template, ` +
		`which cannot run without an instance name`,
	"[checkout.\"/srv/a\"]\nurl = \"\"\nrevision = \"main\"\n":                  `url is empty`,
	"[block.\"/etc/a\"]\ncontent = \"x\"\ncomment = \"\"\n":                     `which does not start a comment`,
	"[lines.\"/etc/a\"]\nremove = [\"\"]\n":                                     `remove is empty`,
	"[command.a]\nrun = [\"b\"]\nalways = true\nenvironment = { 1A = \"x\" }\n": `invalid variable name "1A"`,
	"[cron.a]\nrun = \"b\"\nschedule = \"1,,2 * * * *\"\n":                      `"1,,2" has a misplaced comma`,
	"[hostname.a]\n[hostname.b]\n": "hostname a and hostname b are " +
		"both declared, but a host can have only one hostname; first at manifests/all.toml:1:11 (for gauge-01); " +
		"keep one of them",
	"[lines.\"/a\"]\nadd = [{ lin = \"x\" }]\n":      `unknown key "lin" in add; did you mean "line"?`,
	"[lines.\"/a\"]\nadd = [{ replaces = \"x\" }]\n": `missing required key "line" in add`,
	"[lines.\"/a\"]\nremove = [\"(\"]\n": "remove: invalid regular expression \"(\": " +
		"missing closing ): `(`",
	"[lines.\"/a\"]\nadd = { line = \"x\" }\n": `add must be a list, not a table`,
	"[command.x]\nrun = [\"tide-import\"]\n": "no condition is set, so every apply would " +
		"run it",
	"[command.x]\nscript = \"x\"\nalways = true\ntimeout = \"soon\"\n": `timeout: invalid duration "soon"`,
	"[cron.x]\nschedule = \"61 * * * *\"\nrun = \"x\"\n": `invalid schedule "61 * * * *": end of ` +
		`range (61) above maximum (59): 61`,
	"[cron.\"x.y\"]\nschedule = \"@daily\"\nrun = \"x\"\n": `cron does not read a file named "x.y"`,
	"[param.x]\ntype = \"int\"\n":                          `the param all.x has no value and no default`,
	"[service.a]\nabsent = true\n":                         `a service cannot be declared absent`,
	"[dir.\"/x${host.site}\"]\n[dir.\"/xpier\"]\nmode = \"0700\"\n": `conflicting declarations: mode of dir ` +
		`/xpier is both not set and "0700"`,
}

// TestPlansThatNoFactChanges checks hosts before a run, and takes the plans that
// were whole with that: they are those that the facts would have given.
func TestPlansThatNoFactChanges(t *testing.T) {
	for name, c := range map[string]struct {
		manifest string
		more     []string
		early    bool
	}{
		"nothing read": {"[dir.\"/a\"]\n[file.\"/a/b\"]\ncontent = \"${host.site} ${data.port}\"\n", nil, true},
		"a condition":  {"[dir.\"/a\"]\nif = \"facts.memory.total > 1\"\n", nil, false},
		"in a template": {"[file.\"/a\"]\ntemplate = \"a.tmpl\"\n",
			[]string{"manifests/a.tmpl", "{{ facts.hostname }}"}, false},
		"a template named by an expression": {"[file.\"/a\"]\ntemplate = \"${host.site}.tmpl\"\n",
			[]string{"manifests/pier.tmpl", "x"}, false},
		"in what it uses": {"[use.more]\n", []string{"manifests/more.toml", "[dir.\"/${facts.os.id}\"]\n"}, false},
		"data by facts that it reads": {"[dir.\"/${data.home}\"]\n",
			[]string{"data/os/debian.toml", "home = \"x\"\n", "data/shared.toml", "home = \"y\"\n"}, false},
		"data by facts that it does not read": {"[dir.\"/${data.port}\"]\n",
			[]string{"data/os/debian.toml", "home = \"x\"\n"}, true},
		"a param's from": {"[param.id]\ntype = \"string\"\nfrom = \"facts.os.id\"\n[dir.\"/a\"]\n", nil, false},
		"a param that the host gives": {"[param.id]\ntype = \"string\"\n[dir.\"/${param.id}\"]\n",
			[]string{"hosts.toml", "[host.gauge-01]\nparams.all.id = \"${facts.os.id}\"\nsite = \"pier\"\n" +
				"[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n"}, false},
		"a group by condition": {"[dir.\"/a\"]\n", []string{"hosts.toml", "[host.gauge-01]\nsite = \"pier\"\n" +
			"[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n" +
			"[group.big]\nwhere = \"facts.memory.total > 1\"\nmanifests = [\"more\"]\n"}, false},
	} {
		p, err := compile.Load(files(c.manifest, c.more...), kinds.Schemas(), compile.Options{})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		plans, h := resolve.Plans{Project: p}, p.Inventory.Hosts[0]
		if err := plans.Check(p.Inventory.Hosts); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		got, early := plans.Early(h)
		want, err := plans.Of(h, debian)
		if early != c.early || err != nil || early && !reflect.DeepEqual(got, want) {
			t.Errorf("%s: early is %v (%v)\n%v\n%v", name, early, err, got, want)
		}
		if _, twice := plans.Early(h); twice {
			t.Errorf("%s: a plan is given twice", name)
		}
	}
}

// TestTrees resolves a folder that is copied: its files by path, with their
// hashes, and what can be wrong with it.
func TestTrees(t *testing.T) {
	declared := "[dir.\"/srv/site\"]\ncopy = \"site\"\n"
	fs := files(declared, "manifests/site/b/x", "one\n", "manifests/site/a", "two\n")
	fs["manifests/site/run"] = &fstest.MapFile{Data: []byte("#!/bin/sh\n"), Mode: 0o755}
	p, wrong := resolved(t, fs, debian)
	if wrong != "" {
		t.Fatal(wrong)
	}
	var got []string
	for _, l := range p.Tasks[0].Tree {
		got = append(got, fmt.Sprintf("%s %d %t", l.Path, l.Size, l.Executable))
		if p.Contents[l.SHA256].Path != "manifests/site/"+l.Path {
			t.Errorf("%s lies at %q", l.Path, p.Contents[l.SHA256].Path)
		}
	}
	if strings.Join(got, "; ") != "a 4 false; b/x 4 false; run 10 true" {
		t.Errorf("the tree is %v", got)
	}
	if len(p.Tasks[0].Wants()) != 3 || p.Tasks[0].Attrs.Has("copy") {
		t.Errorf("the task wants %v and says %v", p.Tasks[0].Wants(), p.Tasks[0].Attrs)
	}
	for want, fs := range map[string]fstest.MapFS{
		"the directory manifests/site cannot be read": files(declared, "manifests/sites/a", "x"),
		`invalid copy: "../site"`:                     files("[dir.\"/srv/site\"]\ncopy = \"../site\"\n"),
		"file /srv/site/b/x declares /srv/site/b/x, which dir /srv/site copies from its directory at " +
			"manifests/all.toml:1:6": files(declared+
			"[file.\"/srv/site/b/x\"]\ncontent = \"two\"\n", "manifests/site/b/x", "one\n"),
		"file /srv/site/b declares /srv/site/b, which dir /srv/site copies": files(declared+
			"[file.\"/srv/site/b\"]\ncontent = \"two\"\n", "manifests/site/b/x", "one\n"),
		"lines /srv/site/a declares /srv/site/a, which dir /srv/site copies": files(declared+
			"[lines.\"/srv/site/a\"]\nadd = [{ line = \"x\" }]\n", "manifests/site/a", "one\n"),
		"copied from different directories": files(declared+"[use.other]\n", "manifests/site/a", "x",
			"manifests/other/manifest.toml", declared, "manifests/other/site/a", "y"),
	} {
		if _, wrong := resolved(t, fs, debian); !strings.Contains(wrong, want) && !strings.Contains(wrong,
			strings.Split(want, ":")[0]) {
			t.Errorf("it says %q, want %q", wrong, want)
		}
	}
}

// TestOrigins takes a file beside the manifest along, and leaves addresses and
// paths to the host.
func TestOrigins(t *testing.T) {
	const form = "[unpack.\"/opt/v\"]\nfrom = %q\n"
	p, wrong := resolved(t, files(fmt.Sprintf(form, "v.tar"), "manifests/v.tar", "x"), debian)
	if wrong != "" || p.Tasks[0].Content == nil || p.Tasks[0].Content.Size != 1 ||
		p.Tasks[0].Attrs.Text("from") != "v.tar" {
		t.Errorf("beside it: %q %+v", wrong, p)
	}
	p, wrong = resolved(t, files(fmt.Sprintf(form, "/srv//v.tar")), debian)
	if wrong != "" || p.Tasks[0].Content != nil || p.Tasks[0].Attrs.Text("from") != "/srv/v.tar" {
		t.Errorf("on the host: %q %+v", wrong, p)
	}
	for from, want := range map[string]string{
		"gone.tar": "the file manifests/gone.tar cannot be read", "../v.tar": `invalid from: "../v.tar"`,
		"ftp://charts.example.org/v.tar": `from is "ftp://charts.example.org/v.tar", which is not an HTTP or ` +
			`HTTPS address`, "https://": `invalid address: "https://"`,
	} {
		if _, wrong := resolved(t, files(fmt.Sprintf(form, from)), debian); !strings.Contains(wrong, want) {
			t.Errorf("from %q says %q, want %q", from, wrong, want)
		}
	}
}

// TestAConditionThatIsNone: a fact that is not a bool is not a condition, which lint knows without a host.
func TestAConditionThatIsNone(t *testing.T) {
	p, err := compile.Load(files("[dir.\"/a\"]\nif = \"facts.os.id\"\n[dir.\"/b\"]\nif = \"facts.own.ready\"\n"),
		kinds.Schemas(),
		compile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	_, err = resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{})
	if err == nil || !strings.Contains(err.Error(),
		"all.toml:2:7: condition must be true or false, but the fact facts.os.id has the type string") {
		t.Errorf("it says %v", err)
	}
}
