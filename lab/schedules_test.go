//go:build lab

package lab

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// lockedBuffer is written by a process while it is read here.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// TestSchedulesOnRealHosts has a tender be killed in mid-run and another go on, and systemd of a
// real host start a job there.
func TestSchedulesOnRealHosts(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	l := up(t, "chart-01", "chart-02")
	l.write("manifests/all.toml", "[file.\"/etc/tide\"]\ncontent = \"flood\\n\"\n[command.\"wait for the tide\"]\n"+
		"script = \"sleep 10\"\nalways = true\n")
	l.write("jobs.toml", "[job.tides]\ntargets = [\"*\"]\nschedule = { every = \"1m\" }\n[job.look]\naction = "+
		"\"preview\"\ntargets = [\"chart-01\"]\nschedule = { every = \"1m\" }\n")
	state := "XDG_STATE_HOME=" + t.TempDir()
	begin := func() (out *lockedBuffer, end func(syscall.Signal)) {
		c := l.in(l.program, "--project", l.project, "tend", "--look", "5s")
		out = &lockedBuffer{}
		c.Stdout, c.Stderr, c.Env = out, out, append(os.Environ(), state)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		return out, func(s syscall.Signal) { c.Process.Signal(s); c.Wait() }
	}
	until := func(out *lockedBuffer, what string) {
		t.Helper()
		for deadline := time.Now().Add(150 * time.Second); !strings.Contains(out.String(),
			what); time.Sleep(100 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("it never shows %q:\n%s", what, out)
			}
		}
	}
	first, end := begin()
	until(first, "jobs with a schedule: 2")
	l.byTimer(t) // while the minute goes by
	until(first, "tides starts")
	time.Sleep(3 * time.Second)
	end(syscall.SIGKILL)
	again, end := begin()
	defer end(syscall.SIGKILL)
	until(again, "tides is still running, as process")
	until(again, "tides ended with exit status 0")
	_, runs := l.jk("runs", "--job", "tides")
	if strings.Count(runs, " apply ") != 1 || strings.Contains(runs, "interrupted") {
		t.Errorf("one start made these runs:\n%s", runs)
	}
	until(again, "tides starts")
	until(again, "look ended with exit status 0") // it waited for chart-01, or went before
	end(syscall.SIGINT)
	if out := again.String(); strings.Count(out, "stopping: waiting for") > 1 || strings.Contains(out, "busy") {
		t.Errorf("the second one reported\n%s", out)
	}
	if _, out := l.jk("runs", "--mode", "preview"); strings.Contains(out, "failed") ||
		strings.Contains(out, "interrupted") {
		t.Errorf("jobs were at one host at once:\n%s", out)
	}
}

// byTimer has systemd of a host start a job on the host itself.
func (l *lab) byTimer(t *testing.T) {
	root := filepath.Join(l.dir, "chart-01", "root")
	for name, text := range map[string]string{
		"srv/keep/jadekettle.toml": "project = \"gauge-keep\"\n",
		"srv/keep/hosts.toml": "[host.chart-01]\nconnect = { local = true }\n[group.all]\nmembers = " +
			"[\"*\"]\nmanifests = [\"all\"]\n",
		"srv/keep/manifests/all.toml": "[file.\"/etc/dawn\"]\ncontent = \"${input.word}\\n\"\n",
		"srv/keep/jobs.toml": "[job.dawn]\nabout = \"At dawn, 100% sure\"\ntargets = [\"*\"]\ninput.word = { default " +
			"= \"light\" }\nschedule = { cron = \"30 4 * * 1-5\", zone = \"Europe/Berlin\", spread = \"5m\", " +
			"missed = \"once\" }\n",
		"usr/local/bin/jadekettle": read(t, l.program),
	} {
		file := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	const jk = "HOME=/root /usr/local/bin/jadekettle --project /srv/keep "
	if out := l.on("chart-01", jk+"job install dawn --yes 2>&1"); !strings.Contains(out,
		"OnCalendar=Mon,Tue,Wed,Thu,Fri *-*-* 04:30:00 Europe/Berlin") {
		t.Errorf("install shows\n%s", out)
	}
	if out := l.on("chart-01", "systemctl list-timers --all --no-pager; systemd-analyze verify "+
		"/etc/systemd/system/jadekettle-*.timer 2>&1"); !strings.Contains(out, "jadekettle-gauge-ke-dawn.timer") ||
		strings.Contains(out, "jadekettle-gauge-ke-dawn.timer:") ||
		strings.Contains(out, "jadekettle-gauge-ke-dawn.service:") {
		t.Errorf("its timers are\n%s", out)
	}
	l.on("chart-01", "systemctl start jadekettle-gauge-ke-dawn.service || { journalctl --no-pager -u "+
		"jadekettle-gauge-ke-dawn.service >&2; exit 1; }")
	if out := l.on("chart-01", "cat /etc/dawn; "+jk+"runs --job dawn"); !strings.HasPrefix(out, "light\n") ||
		!strings.Contains(out, "1 changed") {
		t.Errorf("it came to\n%s", out)
	}
	if out := l.on("chart-01",
		jk+"job remove dawn; ls /etc/systemd/system; systemctl list-timers --all --no-pager"); strings.Contains(
		strings.ReplaceAll(out, "are gone", ""), "jadekettle-gauge-ke-dawn.timer\n") {
		t.Errorf("it is not gone:\n%s", out)
	}
}
