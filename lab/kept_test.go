//go:build lab

package lab

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestKeptConnectionsToRealHosts has runs go over the connection that the first one left, straight and over a jump
// host: nobody logs in again, but where it is to be seen that one can.
func TestKeptConnectionsToRealHosts(t *testing.T) {
	dir, err := os.MkdirTemp("", "kept") // a socket's path is short
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	t.Setenv("XDG_RUNTIME_DIR", dir)
	l := up(t)
	l.write("jadekettle.toml", read(t, filepath.Join(l.project, "jadekettle.toml"))+"keep = \"10m\"\n")
	l.write("groups.toml", "[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n[host.archive-01.connect]\n"+
		"jump = \"gauge-01\"\n")
	manifest := "[file.\"/etc/motd\"]\ncontent = \"High water at nine.\\n\"\n"
	l.write("manifests/all.toml", manifest)
	defer l.jk("hosts", "disconnect")
	logins := func(host string) int {
		t.Helper()
		n, err := strconv.Atoi(l.on(host, "journalctl --sync; journalctl -t sshd -o cat | "+
			"grep -c 'Accepted publickey'"))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	kept := func(want int) {
		t.Helper()
		for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
			n, _ := filepath.Glob(filepath.Join(dir, "jadekettle", "*"))
			n = slices.DeleteFunc(n, func(at string) bool { return filepath.Ext(at) != "" }) // a log, or not bound yet
			if len(n) == want {
				return
			}
			if time.Since(begun) > time.Minute {
				t.Fatalf("%d connections are kept, not %d", len(n), want)
			}
		}
	}
	// without holds how many log in while something is done, but for those who count, to a number.
	without := func(how string, most int, do func()) {
		t.Helper()
		before := [2]int{logins("gauge-01"), logins("archive-01")}
		do()
		if a, b := logins("gauge-01")-before[0]-1, logins("archive-01")-before[1]-1; a > most || b > most {
			t.Errorf("%s: %d and %d times somebody logs in", how, a, b)
		}
	}
	l.apply(0)
	kept(2)
	without("the next run", 0, func() { l.apply(0) })
	without("a host without the worker", 1, func() {
		l.on("gauge-01", "rm -r /var/lib/jadekettle/bin")
		if r := l.apply(0); len(r.changed()) > 0 {
			t.Errorf("it changes %v", r.changed())
		}
	})
	l.write("manifests/all.toml", manifest+"[file.\"/etc/ssh/sshd_config.d/tide.conf\"]\ncontent = "+
		"\"MaxSessions 1\\n\"\n[service.ssh]\nreload_on = [\"file /etc/ssh/sshd_config.d/tide.conf\"]\n")
	before := logins("archive-01")
	l.apply(0)
	if n := logins("archive-01") - before; n < 2 {
		t.Error("nobody has seen whether one can still log in")
	}
	if _, out := l.jk("hosts", "disconnect"); out != "2 connections closed\n" {
		t.Errorf("it ends with %s", out)
	}
	kept(0)
	l.apply(0)
	kept(2)
	without("one session at a time", 1, func() {
		l.on("archive-01", "rm -r /var/lib/jadekettle/bin")
		l.apply(0)
	})
	if n := strings.Count(l.on("gauge-01", "ps -ef"), "jadekettle-worker"); n > 0 {
		t.Errorf("%d workers are left", n)
	}
}
