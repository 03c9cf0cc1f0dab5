//go:build lab

package lab

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"
)

// BenchmarkNothingToChange compares a run over 200 tasks that are all right, by a
// plain build and by a release build, with opening an SSH connection and running
// `sudo true` by the same library, and with a shell script that checks the same
// 200 things over OpenSSH. All take turns in one run on one machine, each timed as
// a whole process from its start to its end; the medians are compared.
//
//	go test -tags lab ./lab -run - -bench . -benchtime 20x
func BenchmarkNothingToChange(b *testing.B) {
	l := up(b)
	sshtrue := filepath.Join(b.TempDir(), "sshtrue")
	run(b, "go", "build", "-o", sshtrue, "./sshtrue")
	plain := filepath.Join(b.TempDir(), "jadekettle")
	run(b, "go", "build", "-o", plain, "../cmd/jadekettle")
	builds := map[string]string{"plain": plain, "release": l.program}
	manifest, script := twoHundred()
	l.write("manifests/all.toml", manifest)
	for _, program := range builds { // which sends each worker once
		if out, err := l.in(program, "--project", l.project, "apply", "gauge-01", "--yes").
			CombinedOutput(); err != nil {
			b.Fatal(string(out))
		}
	}
	own := map[string][]float64{}
	var bare, shell []float64
	for b.Loop() {
		for name, program := range builds {
			begun := time.Now()
			out, err := l.in(program, "--project", l.project, "apply", "gauge-01", "--yes", "--output", "json").Output()
			took := time.Since(begun).Seconds()
			var r struct{ Hosts []struct{ Unchanged int } }
			if err != nil || json.Unmarshal(out, &r) != nil || r.Hosts[0].Unchanged != 200 {
				b.Fatalf("%v: %s", err, out)
			}
			own[name] = append(own[name], took)
		}

		begun := time.Now()
		if _, err := l.in(sshtrue, l.addresses["gauge-01"]+":22", "ops", l.dir+"/key", "1").Output(); err != nil {
			b.Fatal(err)
		}
		bare = append(bare, time.Since(begun).Seconds())

		begun = time.Now()
		cmd := l.ssh("gauge-01", "sh -s")
		cmd.Stdin = strings.NewReader(script)
		if out, err := cmd.CombinedOutput(); err != nil || strings.TrimSpace(string(out)) != "200 right" {
			b.Fatalf("%v: %s", err, out)
		}
		shell = append(shell, time.Since(begun).Seconds())
	}
	t, s := median(bare), median(shell)
	b.ReportMetric(t*1000, "ms/ssh-true")
	b.ReportMetric(s*1000, "ms/script")
	for name, list := range own {
		o := median(list)
		b.ReportMetric(o*1000, "ms/"+name)
		b.ReportMetric(o/t, name+"-x-ssh-true")
		b.ReportMetric(o/s, name+"-x-script")
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
