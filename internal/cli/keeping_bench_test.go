package cli_test

import (
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// counted counts what a connection carries to the other side.
type counted struct {
	net.Conn
	sent *atomic.Int64
}

func (c counted) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.sent.Add(int64(n))
	return n, err
}

// gitServer serves the repositories below a folder, and counts the bytes that are fetched.
func gitServer(b *testing.B, dir string) (url string, sent *atomic.Int64) {
	b.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	sent = &atomic.Int64{}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				c := exec.Command("git", "daemon", "--inetd", "--export-all", "--base-path="+dir, dir)
				in, err := c.StdinPipe()
				if err != nil {
					return
				}
				c.Stdout = counted{conn, sent}
				go func() { io.Copy(in, conn); in.Close() }()
				c.Run()
			}()
		}
	}()
	return "git://" + l.Addr().String() + "/", sent
}

// BenchmarkADayOfKeeping goes through the check-ins of a day, every 30 minutes, of a machine that
// keeps itself and has nothing to do: a look at the repository and an apply, each.
func BenchmarkADayOfKeeping(b *testing.B) {
	if os.Geteuid() != 0 {
		b.Skip("an apply to this machine needs root")
	}
	dir, home := b.TempDir(), b.TempDir()
	project := filepath.Join(dir, "tide")
	manifest := ""
	for i := range 100 {
		manifest += "[file.\"" + filepath.Join(home, "tide", strconv.Itoa(i)) + "\"]\ncontent = \"high water\\n\"\n"
	}
	for name, text := range map[string]string{"jadekettle.toml": "project = \"a-day\"\n",
		"hosts.toml":         "[host.desk]\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n",
		"manifests/all.toml": "[dir.\"" + filepath.Join(home, "tide") + "\"]\n" + manifest} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(project, name)), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(project, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"},
		{"-c", "user.name=Maren", "-c", "user.email=maren@example.org", "commit", "-qm", "one"}} {
		c := exec.Command("git", args...)
		c.Dir = project
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("git %v: %s", args, out)
		}
	}
	url, sent := gitServer(b, dir)
	var cpu time.Duration
	var peak int64
	call := func(args ...string) {
		c := exec.Command(program, args...)
		c.Dir, c.Env = home, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_COUNT=1",
			"GIT_CONFIG_KEY_0=url." + url + ".insteadOf", "GIT_CONFIG_VALUE_0=https://git.example.org/"}
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v: %v\n%s", args, err, out)
		}
		used := c.ProcessState.SysUsage().(*syscall.Rusage)
		cpu, peak = cpu+c.ProcessState.UserTime()+c.ProcessState.SystemTime(), max(peak, used.Maxrss)
	}
	call("apply", "--here", "desk", "--yes", "--from", "https://git.example.org/tide/.git@main")
	cpu, peak = 0, 0
	sent.Store(0)
	for b.Loop() {
		for range 48 {
			call("apply", "--here", "desk", "--yes", "--from", "https://git.example.org/tide/.git@main")
		}
	}
	b.ReportMetric(cpu.Seconds()/float64(b.N), "cpu-s/day")
	b.ReportMetric(float64(peak)/1024, "MiB")
	b.ReportMetric(float64(sent.Load())/float64(b.N), "B-fetched/day")
}
