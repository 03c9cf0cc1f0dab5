package resolve_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/compile/compiletest"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/host/kinds"
)

// grown is a project of many hosts with a hundred declarations each, in
// manifests with thirty expressions, five layers of data, three levels of
// groups and a loop.
func grown(hosts int) fstest.MapFS {
	var m strings.Builder
	m.WriteString("[param.rate]\ntype = \"int\"\n[param.room]\ntype = \"bytes\"\ndefault = \"2 GiB\"\n")
	for i := range 10 {
		fmt.Fprintf(&m, "[package.reed-%02d]\n[dir.\"/srv/pool-%d\"]\nowner = \"root\"\nmode = \"0755\"\n", i, i)
		fmt.Fprintf(&m, "[file.\"/srv/pool-%d/conf\"]\n"+
			"content = \"pool ${data.port + %d} of ${host.name}, ${param.rate}\\n\"\nmode = \"0644\"\nowner = "+
			"\"root\"\n", i, i)
		fmt.Fprintf(&m, "[group.watch-%d]\nif = '\"debian\" in facts.os.like && data.gauge.seconds > %d'\n", i, i)
	}
	m.WriteString("[user.\"${keeper.login}\"]\nfor = \"keeper in data.keepers\"\nif = \"!has(keeper.left)\"\n" +
		"comment = \"${keeper.name}\"\ngroups = [\"watch-1\"]\n")
	var keepers strings.Builder
	for i := range 61 {
		fmt.Fprintf(&keepers, "[[keepers]]\nlogin = \"keeper-%d\"\nname = \"Keeper %d\"\n", i, i)
		if i == 60 {
			keepers.WriteString("left = \"2025\"\n")
		}
	}
	fs := fstest.MapFS{
		"jadekettle.toml": {Data: []byte("project = \"test\"\n[data.lists]\nsensors = \"append\"\n")},
		"hosts.toml": {Data: []byte(fmt.Sprintf("[host.\"gauge-[00001..%05d]\"]\nsite = \"pier-${n %% 50}\"\n"+
			"[group.all]\nmembers = [\"*\"]\nmanifests = [\"gauge\"]\nparams.gauge.rate = \"${data.gauge.seconds * "+
			"2}\"\n"+
			"[group.shore]\ninside = \"all\"\nwhere = 'host.site != \"pier-7\"'\n[group.large]\ninside = \"shore\"\n"+
			"where = 'facts.memory.total > bytes(\"4GB\")'\n", hosts))},
		"manifests/gauge.toml": {Data: []byte(m.String())},
		"data/shared.toml": {Data: []byte("port = 4190\nsensors = [\"level\"]\n[gauge]\nseconds = 60\n" +
			keepers.String())},
		"data/os/debian.toml":   {Data: []byte("[gauge]\nshell = \"/bin/sh\"\n")},
		"data/group/large.toml": {Data: []byte("sensors = [\"wind\"]\n")},
	}
	for i := range 50 {
		fs[fmt.Sprintf("data/site/pier-%d.toml",
			i)] = &fstest.MapFile{Data: []byte(fmt.Sprintf("[gauge]\nseconds = %d\n", 20+i))}
	}
	for i := 1; i <= hosts; i += 10 {
		fs[fmt.Sprintf("data/host/gauge-%05d.toml", i)] = &fstest.MapFile{Data: []byte("[gauge]\nseconds = 15\n")}
	}
	return fs
}

// BenchmarkGrown resolves 1,000 and 10,000 such hosts, project and all. It
// reports seconds for a million tasks and the memory that the process held at
// most, which the larger one should not hold ten times as much of.
func BenchmarkGrown(b *testing.B) {
	for _, hosts := range []int{1000, 10_000} {
		fs := grown(hosts)
		b.Run(fmt.Sprint(hosts), func(b *testing.B) {
			var took time.Duration
			var peak uint64
			for b.Loop() {
				runtime.GC()
				begun, tasks := time.Now(), 0
				p, err := compile.Load(fs, kinds.Schemas(), compile.Options{})
				if err != nil {
					b.Fatal(err)
				}
				for i, h := range p.Inventory.Hosts {
					out, err := resolve.Plan(p, h, resolve.Known{Facts: debian})
					if err != nil {
						b.Fatal(err)
					}
					tasks += len(out.Tasks)
					if i%200 == 0 {
						var m runtime.MemStats
						runtime.ReadMemStats(&m)
						peak = max(peak, m.HeapAlloc)
					}
				}
				took += time.Since(begun)
				if tasks != 100*hosts {
					b.Fatalf("%d tasks", tasks)
				}
			}
			b.ReportMetric(took.Seconds()/float64(b.N)/float64(100*hosts)*1e6, "s/million-tasks")
			b.ReportMetric(float64(peak)/(1<<20), "MiB-peak")
		})
	}
}

// BenchmarkEncryptedLoop declares 200 files out of encrypted words, and out of the same
// words in the open. x-open is what the encryption costs: what touches a secret is
// evaluated again to see whether the secret shows in it.
func BenchmarkEncryptedLoop(b *testing.B) {
	var keepers, words strings.Builder
	words.WriteString("[words]\n")
	for i := range 200 {
		fmt.Fprintf(&keepers, "\"keeper-%d\", ", i)
		fmt.Fprintf(&words, "keeper-%d = \"tide-%d\"\n", i, i)
	}
	open := func(_ string, encrypted []byte) ([]byte, error) { return encrypted, nil }
	load := func(file string) *compile.Project {
		p, err := compile.Load(compiletest.Tree(file, words.String(), "data/shared.toml",
			"keepers = ["+keepers.String()+"]\n",
			"manifests/gauge.toml", "[file.\"/etc/${k}\"]\nfor = \"k in data.keepers\"\n"+
				"content = \"word ${data.words[k]}\"\nmode = \"0600\"\n"+
				"owner = \"root\"\n"), kinds.Schemas(), compile.Options{Open: open})
		if err != nil {
			b.Fatal(err)
		}
		return p
	}
	plan := func(p *compile.Project) time.Duration {
		begun := time.Now()
		out, err := resolve.Plan(p, p.Inventory.Hosts[0], resolve.Known{Facts: debian})
		if err != nil || len(out.Tasks) != 200 {
			b.Fatal(err)
		}
		return time.Since(begun)
	}
	inOpen, encrypted := load("data/group/all.toml"), load("data/group/all.toml.age")
	var a, c time.Duration
	for b.Loop() {
		a += plan(inOpen)
		c += plan(encrypted)
	}
	b.ReportMetric(float64(c)/float64(a), "x-open")
}
