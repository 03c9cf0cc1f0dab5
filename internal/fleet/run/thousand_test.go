package run_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/machine/folder"
)

// hostsEnv makes this test program simulated hosts and nothing else: so many, in
// the directory that it names.
const hostsEnv = "SALTMARSH_HOSTS"

func TestMain(m *testing.M) {
	if dir, count, ok := strings.Cut(os.Getenv(hostsEnv), ":"); ok {
		if err := beHosts(dir, count); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// beHosts serves until the standard input ends.
func beHosts(dir, count string) error {
	n, err := strconv.Atoi(count)
	if err != nil {
		return err
	}
	f, err := sim.New(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	for i := range n {
		if _, err := f.Add(folder.Spec{Name: fmt.Sprintf("gauge-%04d", i)}); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "simulated.toml"), []byte(f.Inventory()), 0o644); err != nil {
		return err
	}
	fmt.Println("ready")
	io.Copy(io.Discard, os.Stdin)
	return nil
}

// hundred is a manifest of a hundred declarations.
func hundred() string {
	var m strings.Builder
	for i := range 25 {
		fmt.Fprintf(&m, "[dir.\"/srv/pool-%d\"]\nmode = \"0755\"\n[file.\"/srv/pool-%d/conf\"]\ncontent = "+
			"\"pool %d of ${host.name}\\n\"\nmode = \"0644\"\n", i, i, i)
		fmt.Fprintf(&m, "[user.keeper-%d]\ngroups = [\"watch-%d\"]\n[group.watch-%d]\n", i, i, i)
	}
	return m.String()
}

// BenchmarkAThousandHosts takes 1,000 simulated hosts, SSH and all, through a
// first apply of a hundred declarations each and through runs that find nothing
// to change. The hosts are another process: cpu-ms is what this program itself
// needs for one host, theirs taken out, and ms the whole by the clock, in which
// they do share the processors. Give it -benchtime 1x.
func BenchmarkAThousandHosts(b *testing.B) {
	const hosts = 1000
	h := newBench(b)
	hosting := exec.Command(os.Args[0])
	hosting.Env = append(os.Environ(), fmt.Sprintf("%s=%s:%d", hostsEnv, filepath.Join(h.dir, "simulated"), hosts))
	hosting.Stderr = os.Stderr
	in, err := hosting.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	out, err := hosting.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := hosting.Start(); err != nil {
		b.Fatal(err)
	}
	defer hosting.Wait()
	defer in.Close()
	if line, _ := bufio.NewReader(out).ReadString('\n'); line != "ready\n" {
		b.Fatalf("the hosts say %q", line)
	}
	h.manifest(hundred())
	h.write("hosts.toml", fmt.Sprintf("[host.\"gauge-[0000..%04d]\"]\n[connect]\nelevate = \"sudo\"\n[group.all]\n"+
		"members = [\"*\"]\nmanifests = [\"all\"]\n", hosts-1))
	h.write("jadekettle.toml", "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", "+
		"\"simulated/simulated.toml\"]\n")
	round := func(want plan.Status) (cpu, wall time.Duration) {
		own, begun := processor(b), time.Now()
		p, err := compile.Load(os.DirFS(h.dir), kinds.Schemas(), compile.Options{})
		if err != nil {
			b.Fatal(err)
		}
		f := h.fleetOf(p)
		f.Plans, f.Parallel = &resolve.Plans{Project: p}, 32
		if err := f.Plans.Check(p.Inventory.Hosts); err != nil {
			b.Fatal(err)
		}
		for _, out := range f.Run(context.Background(), p.Inventory.Hosts, h.id(false)) {
			if out.Count(want) != 100 {
				b.Fatalf("%s: %s %s\n%s", out.Name, out.State, out.Message, statuses(out))
			}
		}
		return processor(b) - own, time.Since(begun)
	}
	madeCPU, made := round(plan.Changed)
	var cpu, wall time.Duration
	for b.Loop() {
		c, w := round(plan.Unchanged)
		cpu, wall = cpu+c, wall+w
	}
	each := func(d time.Duration) float64 { return d.Seconds() * 1000 / hosts }
	b.ReportMetric(each(madeCPU), "cpu-ms/first-apply")
	b.ReportMetric(each(made), "ms/first-apply")
	b.ReportMetric(each(cpu)/float64(b.N), "cpu-ms/host")
	b.ReportMetric(each(wall)/float64(b.N), "ms/host")
	var mem runtime.MemStats
	runtime.ReadMemStats(&mem)
	b.ReportMetric(float64(mem.Sys)/(1<<20), "MiB")
}

// processor is the time that this process has had of the processors.
func processor(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
