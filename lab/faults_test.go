//go:build lab

package lab

import (
	"strings"
	"testing"
	"time"
)

// TestWorseFaultsOnRealHosts fills disks, asks questions where nothing responds, hangs, kills
// controllers and spoils what a host remembers: each time nothing is lost, and the next run
// ends as declared.
func TestWorseFaultsOnRealHosts(t *testing.T) {
	l := up(t, "gauge-01")
	says := func(name string, wantCode int, words ...string) {
		t.Helper()
		code, out := l.jk("apply", "gauge-01", "--yes")
		for _, want := range words {
			if code != wantCode || !strings.Contains(out, want) {
				t.Errorf("%s: ended with %d, without %q\n%s", name, code, want, out)
				return
			}
		}
	}
	on := func(line, want string) {
		t.Helper()
		if got := l.on("gauge-01", line); got != want {
			t.Errorf("%s\n says %q, want %q", line, got, want)
		}
	}

	// File systems without room, without inodes, and read-only.
	l.on("gauge-01", "for d in full inodes read; do mkdir /srv/$d; mount -t tmpfs -o size=64k,nr_inodes=4 none "+
		"/srv/$d; "+
		"echo old >/srv/$d/tide; done; head -c 56k /dev/zero >/srv/full/more; touch /srv/inodes/1 /srv/inodes/2; "+
		"mount -o remount,ro /srv/read")
	long := strings.Repeat("low water, high water\n", 1000)
	l.write("manifests/long.txt", long)
	l.write("manifests/all.toml", "[file.\"/srv/full/tide\"]\ncopy = \"long.txt\"\n[file.\"/srv/inodes/tide\"]\n"+
		"content = \"new\\n\"\n"+
		"[file.\"/srv/read/tide\"]\ncontent = \"new\\n\"\n[file.\"/srv/tide\"]\ncontent = \"new\\n\"\n")
	says("disks", 1, "no space left on device", "read-only file system", "file /srv/tide  created",
		"3 failed, 1 changed")
	on("cat /srv/full/tide /srv/inodes/tide /srv/read/tide; ls -A /srv/full /srv/inodes /srv/read | grep -c "+
		"jadekettle || true", "old\nold\nold\n0")
	l.on("gauge-01", "rm /srv/full/more /srv/inodes/1; mount -o remount,rw /srv/read")
	says("disks with room again", 0, "3 changed, 1 unchanged")

	scriptsAndControllers(t, l, says, on)
}

// scriptsAndControllers goes on with package scripts that ask, commands that hang, and two controllers at once.
func scriptsAndControllers(t *testing.T, l *lab, says func(name string, wantCode int, words ...string),
	on func(line, want string)) {
	t.Helper()
	// Package scripts that ask, and commands that hang.
	l.write("manifests/all.toml", "[package.harbour-quiz]\n[package.salt-lamp]\n[command.hang]\n"+
		"run = [\"sh\", \"-c\", \"sleep 3333 & setsid sleep 3333 & wait\"]\nalways = true\ntimeout = \"2s\"\n")
	begun := time.Now()
	says("a script that asks", 1, "no pier was named", "package salt-lamp  installed", "command hang  failed")
	if took := time.Since(begun); took > time.Minute {
		t.Errorf("a script that asks took %v", took)
	}
	on("pgrep -c -f [s]leep.3333 || true", "0")
	l.write("manifests/all.toml", "[package.harbour-quiz]\nabsent = true\n")
	says("without what asks", 0, "package harbour-quiz  removed")

	// Two controllers at once, of which the first is killed.
	l.write("manifests/all.toml", "[file.\"/srv/slow\"]\ncontent = \"1\\n\"\ncheck = \"sleep 4; test -s "+
		"${candidate}\"\n"+
		"[file.\"/srv/after\"]\ncontent = \"1\\n\"\n")
	first := l.in(l.program, "--project", l.project, "apply", "gauge-01", "--yes")
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	l.on("gauge-01", "for i in $(seq 100); do pgrep -f '[s]leep 4' >/dev/null && exit 0; sleep 0.1; done; exit 1")
	says("two controllers", 1, "busy: an apply by")
	first.Process.Kill()
	first.Wait()
	l.on("gauge-01", "for i in $(seq 100); do pgrep -f '[w]orker-session' >/dev/null || exit 0; sleep 0.1; "+
		"done; exit 1")
	on("cat /srv/slow; ls /srv/after 2>/dev/null || true", "1")
	says("after a controller that was killed", 0, "results collected from the interrupted run",
		"file /srv/slow  changed",
		"file /srv/after  created")

	// What a host remembers is spoilt.
	ledger := "/var/lib/jadekettle/ledger.json"
	l.on("gauge-01", "cp "+ledger+" /root/kept")
	for damage, want := range map[string]string{
		"truncate -s 40": "the previous version is used",
		"sed -i 's/\"format\": 1/\"format\": 9/'":        "has format 9",
		"sed -i 's/\"format\": 1/\"format\": \"tide\"/'": "the previous version is used",
		"chmod 666": "is not trusted",
	} {
		l.on("gauge-01", damage+" "+ledger)
		code := 1
		if want == "the previous version is used" {
			code = 0
		}
		says("a ledger after "+damage, code, want)
		l.on("gauge-01", "rm "+ledger+"; cp /root/kept "+ledger)
	}
	l.on("gauge-01", "f=/var/lib/jadekettle/journal-$(grep -o 'project\": \"[^\"]*' "+ledger+" | head -n1 | cut "+
		"-d'\"' -f3).jsonl; "+
		`printf '{"run":{"run":"r","project":"p","who":"w"},"results":[{"ID":0,"Ref":"fi' >$f`)
	says("half a line of a journal", 0, "2 unchanged")
	l.on("gauge-01", "rm "+ledger)
	says("no ledger", 0, "2 unchanged")
}
