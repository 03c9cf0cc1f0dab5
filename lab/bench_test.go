//go:build lab

package lab

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"
)

// BenchmarkNothingToChange compares a run over 200 tasks that are all right, by a plain build, by a release build, and
// by that over a connection that is kept, with opening an SSH connection and running `sudo true` by the same library as
// it is and with acknowledgements at once, and with a shell script that checks the same 200 things over OpenSSH. All
// take turns in one run on one machine, each timed as a whole process from its start to its end; the medians are
// compared.
//
//	go test -tags lab ./lab -run - -bench . -benchtime 20x
func BenchmarkNothingToChange(b *testing.B) {
	dir, err := os.MkdirTemp("", "kept")
	if err != nil {
		b.Fatal(err)
	}
	defer os.RemoveAll(dir)
	b.Setenv("XDG_RUNTIME_DIR", dir)
	l := up(b)
	bin := b.TempDir()
	run(b, "go", "build", "-o", bin+"/sshtrue", "./sshtrue")
	run(b, "go", "build", "-o", bin+"/jadekettle", "../cmd/jadekettle")
	manifest, script := twoHundred()
	l.write("manifests/all.toml", manifest)
	settings := read(b, filepath.Join(l.project, "jadekettle.toml"))
	defer l.jk("hosts", "disconnect")
	apply := func(program, keep string) func() {
		return func() {
			l.write("jadekettle.toml", settings+keep)
			out, err := l.in(program, "--project", l.project, "apply", "gauge-01", "--yes", "--output", "json").Output()
			var r struct{ Hosts []struct{ Unchanged int } }
			if err != nil || json.Unmarshal(out, &r) != nil || r.Hosts[0].Unchanged != 200 {
				b.Fatalf("%v: %s", err, out)
			}
		}
	}
	bare := func(n string) func() {
		return func() {
			if out, err := l.in(bin+"/sshtrue", l.addresses["gauge-01"]+":22", "ops", l.dir+"/key", n).
				CombinedOutput(); err != nil {
				b.Fatal(string(out))
			}
		}
	}
	turns := map[string]func(){
		"plain": apply(bin+"/jadekettle", ""), "release": apply(l.program, ""),
		"kept": apply(l.program, "keep = \"10m\"\n"), "ssh-true": bare("once"), "ssh-true-quick": bare("quick"),
		"script": func() {
			cmd := l.ssh("gauge-01", "sh -s")
			cmd.Stdin = strings.NewReader(script)
			if out, err := cmd.CombinedOutput(); err != nil || strings.TrimSpace(string(out)) != "200 right" {
				b.Fatalf("%v: %s", err, out)
			}
		},
	}
	for _, program := range []string{bin + "/jadekettle", l.program} { // which sends each worker once
		if out, err := l.in(program, "--project", l.project, "apply", "gauge-01", "--yes").
			CombinedOutput(); err != nil {
			b.Fatal(string(out))
		}
	}
	turns["kept"]()
	time.Sleep(time.Second) // for the connection
	took := map[string][]float64{}
	for b.Loop() {
		for name, do := range turns {
			begun := time.Now()
			do()
			took[name] = append(took[name], time.Since(begun).Seconds())
		}
	}
	for name, list := range took {
		m := median(list)
		b.ReportMetric(m*1000, "ms/"+name)
		if name == "plain" || name == "release" || name == "kept" {
			for _, other := range []string{"ssh-true", "ssh-true-quick", "script"} {
				b.ReportMetric(m/median(took[other]), name+"-x-"+other)
			}
		}
	}
}

func median(list []float64) float64 {
	sort.Float64s(list)
	return list[len(list)/2]
}

// twoHundred gives a manifest of 200 things, and a script that checks them one
// by one with the system's own commands.
func twoHundred() (manifest, script string) {
	var m, s strings.Builder
	s.WriteString("n=0; right() { n=$((n+1)); }\n")
	for i := 1; i <= 40; i++ {
		fmt.Fprintf(&m, "[package.reed-%02d]\n", i)
		fmt.Fprintf(&s, "[ \"$(dpkg-query -W -f '${Status}' reed-%02d)\" = 'install ok installed' ] && right\n", i)
	}
	for i := 1; i <= 10; i++ {
		fmt.Fprintf(&m, "[group.watch-%d]\n[user.keeper-%d]\ngroups = [\"watch-%d\"]\nshell = \"/bin/sh\"\n", i, i, i)
		fmt.Fprintf(&s, "getent group watch-%d >/dev/null && right\n", i)
		fmt.Fprintf(&s, "getent passwd keeper-%d | grep -q ':/bin/sh$' && id -nG keeper-%d | grep -qw watch-%d && "+
			"right\n", i, i, i)
	}
	for i := 1; i <= 20; i++ {
		fmt.Fprintf(&m, "[dir.\"/srv/pool-%d\"]\nowner = \"root\"\nmode = \"0750\"\n", i)
		fmt.Fprintf(&s, "[ \"$(stat -c '%%U %%a' /srv/pool-%d)\" = 'root 750' ] && right\n", i)
	}
	for i := 1; i <= 110; i++ {
		text := fmt.Sprintf("pool %d\n", i) + strings.Repeat("depth 1.25 m\n", 50)
		p := fmt.Sprintf("/srv/pool-%d/reading-%d", i%20+1, i)
		fmt.Fprintf(&m, "[file.%q]\ncontent = %q\nowner = \"root\"\nmode = \"0640\"\n", p, text)
		fmt.Fprintf(&s, "[ \"$(stat -c '%%U %%a' %s)\" = 'root 640' ] && [ \"$(sha256sum < %s)\" = \"$(printf 'pool "+
			"%d\\n%s' | sha256sum)\" ] && right\n", p, p, i, strings.Repeat(`depth 1.25 m\n`, 50))
	}
	for i := 1; i <= 5; i++ {
		unit := fmt.Sprintf("/etc/systemd/system/ebb-%d.service", i)
		text := "[Service]\nExecStart=/bin/sleep 1000000\n[Install]\nWantedBy=multi-user.target\n"
		fmt.Fprintf(&m, "[file.%q]\ncontent = %q\nmode = \"0644\"\n[service.ebb-%d]\nrunning = true\nat_boot = "+
			"true\n", unit, text, i)
		fmt.Fprintf(&s, "[ \"$(stat -c %%a %s)\" = 644 ] && right\n", unit)
		fmt.Fprintf(&s, "systemctl is-active -q ebb-%d && systemctl is-enabled -q ebb-%d && right\n", i, i)
	}
	s.WriteString("echo $n right\n")
	return m.String(), s.String()
}
