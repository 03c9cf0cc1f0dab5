package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
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
