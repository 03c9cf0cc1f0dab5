package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// BenchmarkStart starts `version`, and `lint` on the demo project, and measures
// each as a multiple of what a Go program takes that does nothing.
func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	write("main.go", "package main\n\nfunc main() {}\n")
	write("go.mod", "module empty\n")
	build := exec.Command("go", "build", "-o", "empty", ".")
	build.Dir = dir
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%s", out)
	}
	project := filepath.Join(dir, "project")
	if err := os.CopyFS(project, os.DirFS("../../demo/project")); err != nil {
		b.Fatal(err)
	}
	write("project/simulated.toml", "")
	write("project/jadekettle.toml",
		"project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\"]\n[data.lists]\ngauge.sensors = \"append\"\n")
	start := func(args ...string) time.Duration {
		begun := time.Now()
		c := exec.Command(args[0], args[1:]...)
		c.Env = []string{"HOME=" + dir}
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", args, out)
		}
		return time.Since(begun)
	}
	var empty, version, lint time.Duration
	for b.Loop() {
		empty += start(filepath.Join(dir, "empty"))
		version += start(program, "version")
		lint += start(program, "--project", project, "lint")
	}
	b.ReportMetric(float64(version)/float64(empty), "version-x-empty")
	b.ReportMetric(float64(lint)/float64(empty), "lint-x-empty")
	b.ReportMetric(float64(lint.Microseconds())/float64(b.N)/1000, "ms-lint")
}

// BenchmarkTenThousandHosts lints and lists 10,000 hosts with 100 declarations each, 60 of them files with five
// expressions: by the clock, in processor time and in memory at most, as whole processes.
func BenchmarkTenThousandHosts(b *testing.B) {
	dir, home := b.TempDir(), b.TempDir()
	var m strings.Builder
	for i := range 60 {
		fmt.Fprintf(&m, "[file.\"/etc/tide/%d\"]\ncontent = \"berth ${host.berth} of %d in ${data.harbor}, "+
			"${host.name} port ${data.port + %d} ${upper(data.crew)}\\n\"\nmode = \"0644\"\nowner = \"root\"\n",
			i, i, i)
	}
	for i := range 20 {
		fmt.Fprintf(&m, "[package.tide-%d]\n[service.tide-%d]\nrunning = true\nat_boot = true\nrestart_on = "+
			"[\"file /etc/tide/%d\"]\n", i, i, i)
	}
	for name, text := range map[string]string{"jadekettle.toml": "project = \"saltmarsh\"\n",
		"hosts.toml": "[host.\"gauge-[00001..10000]\"]\nberth = \"${n}\"\n[group.all]\nmembers = [\"*\"]\n" +
			"manifests = [\"all\"]\n",
		"manifests/all.toml": m.String(), "data/shared.toml": "harbor = \"pier\"\nport = 4190\ncrew = \"maren\"\n"} {
		at := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	for _, command := range []string{"lint", "hosts"} {
		b.Run(command, func(b *testing.B) {
			var cpu time.Duration
			var peak int64
			for b.Loop() {
				c := exec.Command(program, "--project", dir, command)
				c.Env = []string{"HOME=" + home}
				if out, err := c.CombinedOutput(); err != nil {
					b.Fatalf("%v: %s", err, out)
				}
				cpu += c.ProcessState.UserTime() + c.ProcessState.SystemTime()
				peak = max(peak, c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
			}
			b.ReportMetric(cpu.Seconds()/float64(b.N), "cpu-s/op")
			b.ReportMetric(float64(peak)/1024, "MiB")
		})
	}
}
