package folder_test

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"jadekettle/internal/core/shell"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

func made(t *testing.T, spec folder.Spec) *folder.Machine {
	t.Helper()
	spec.Name = "gauge-01"
	h, err := folder.New(t.TempDir(), spec)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

// TestStandInsDoWhatTheProgramsDo holds each stand-in to the exit codes and the
// effects that the kinds rest on; what the real programs do the lab shows.
func TestStandInsDoWhatTheProgramsDo(t *testing.T) {
	h := made(t, folder.Spec{Users: []string{"olga"}, Groups: []string{"keepers"}})
	for _, c := range []struct {
		line string
		code int
		says string // a pattern of what it prints
	}{
		{"apt-get install -y no-such-thing", 100, "Unable to locate package no-such-thing"},
		{"apt-get install -y tide-logger=9.9", 100, "Version '9.9' for 'tide-logger' was not found"},
		{"apt-get install -y tide-logger=1.4.2-1", 0, ""},
		{"apt-cache policy tide-logger", 0, `Installed: 1\.4\.2-1\n  Candidate: 1\.5\.0-1`},
		{"apt-get install -y foghorn-relay", 100, "post-installation script"},
		{"apt-cache policy foghorn-relay no-such-thing", 0, `Installed: \(none\)`},
		{"apt-get frobnicate", 100, "Invalid operation"},
		{"systemctl show tide-logger.service", 0, "ActiveState=active(.|\n)*UnitFileState=enabled"},
		{"systemctl stop tide-logger.service", 0, ""},
		{"systemctl reload tide-logger.service", 1, "not active"},
		{"systemctl disable tide-logger.service", 0, ""},
		{"systemctl show tide-logger.service", 0, "ActiveState=inactive(.|\n)*UnitFileState=disabled"},
		{"systemctl start nowhere.service", 5, "not found"},
		{"systemctl show nowhere.service", 0, "LoadState=not-found"},
		{"systemctl frobnicate tide-logger.service", 1, "Unknown command"},
		{"sh -c 'tide-logger --check /etc/os-release'", 0, ""},
		{"sh -c 'tide-logger --check /etc/nothing'", 1, "empty or not there"},
		{"sh -c 'tide-logger'", 2, "usage"},
		{"sh -c 'chart-press --check /etc/os-release'", 127, "not found"},
		{"true", 0, "^$"},
		{"false", 1, "^$"},
		{"echo low  water", 0, "^low water\n$"},
		{"cat /etc/timezone /etc/none", 1, "^Etc/UTC\ncat: /etc/none: No such file"},
		{"ls /etc/ssh", 0, "^sshd_config"},
		{"ls -la /etc", 0, `(?m)^-rw-r--r-- 1 root root +\d+ [-0-9]{10} [0-9:]{5} timezone$`},
		{"ls -ld /etc/ssh /none", 2, `^drwxr-xr-x .* root root .* /etc/ssh\nls: cannot access '/none'`},
		{"id", 0, `^uid=0\(root\) gid=0\(root\) groups=0\(root\)\n$`},
		{"id -un olga", 0, "^olga\n$"},
		{"id nobody-here", 1, "no such user"},
		{"date -u +%Y-%m-%dT%H", 0, `^20\d\d-\d\d-\d\dT\d\d\n$`},
		{"hostname", 0, "^[a-z0-9-]*\n$"},
		{"uname -sr", 0, `^Linux 6\.1\.0-simulated\n$`},
		{"uptime", 0, "up  1:00,"},
		{"df -h", 0, `(?m)^/dev/vda1 +\d+G +\d+G +\d+G +50% /$`},
		{"free", 0, `(?m)^ Mem: +\d+ +\d+ +\d+$`},
		{"ps aux", 0, "(?m)^ +[0-9]+ ssh$"},
		{"groupadd keepers", 9, "already exists"},
		{"useradd -G nowhere maren", 6, "does not exist"},
		{"useradd -m -G keepers -s /bin/sh maren", 0, ""},
		{"useradd maren", 9, "already exists"},
		{"getent passwd maren", 0, `^maren:x:[0-9]+:[0-9]+:[^:]*:/home/maren:/bin/sh\n$`},
		{"getent group keepers", 0, `:maren\n$`},
		{"getent passwd nobody-here", 2, "^$"},
		{"usermod -s /bin/bash nobody-here", 6, "does not exist"},
		{"userdel maren", 0, ""},
		{"getent group keepers", 0, `^keepers:x:[0-9]+:\n$`},
		{"userdel maren", 6, "does not exist"},
		{"groupdel keepers", 0, ""},
		{"groupdel keepers", 6, "does not exist"},
		{"apt-get remove -y tide-logger", 0, ""},
		{"systemctl show tide-logger.service", 0, "LoadState=not-found"},
		{"apt-get remove -y tide-logger", 0, ""},
	} {
		out, err := h.Run(context.Background(), machine.Command{Args: shell.Split(c.line)})
		if err != nil || out.Code != c.code || !regexp.MustCompile(c.says).MatchString(out.Stdout) {
			t.Errorf("%s: ended with %d, %v and printed\n%swant %d and %s", c.line, out.Code, err, out.Stdout,
				c.code, c.says)
		}
	}
	if _, err := h.Run(context.Background(), machine.Command{Args: []string{"rm", "-r", "/"}}); err == nil {
		t.Error("a program ran that has no stand-in")
	}
	if h.Look("rm") || !h.Look("systemctl") {
		t.Error("it is wrong about which programs it has")
	}
}

// TestNothingLeavesTheFolder makes links that point out of the simulated host,
// and tries the names of paths where a single name is meant.
func TestNothingLeavesTheFolder(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	if err := os.WriteFile(outside, []byte("salt"), 0o600); err != nil {
		t.Fatal(err)
	}
	h := made(t, folder.Spec{})
	for link, to := range map[string]string{"out": filepath.Dir(outside), "up": "../../../../../.."} {
		if err := os.Symlink(to, filepath.Join(h.Root, "srv", link)); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range []string{"/srv/out", "/srv/up", "/srv/up/tmp", "/../../.."} {
		d, err := h.Dir(p)
		if err != nil {
			continue
		}
		if _, err := d.Lstat("outside"); err == nil {
			t.Errorf("%s shows what is outside", p)
		}
		d.Close()
	}
	d, err := h.Dir("/srv")
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	for _, name := range []string{"out/outside", "../srv/out/outside", "out"} {
		f, err := d.Open(name)
		if err != nil {
			continue
		}
		text, _ := io.ReadAll(f)
		f.Close()
		if strings.Contains(string(text), "salt") {
			t.Errorf("%s reads what is outside", name)
		}
	}
	if err := os.Symlink("motd", filepath.Join(h.Root, "srv", "nowhere")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"nowhere", "out"} {
		if _, err := d.Open(name); !errors.Is(err, machine.ErrLink) {
			t.Errorf("the link %s opens: %v", name, err)
		}
	}
}

// TestOwnersAreRemembered gives files to accounts that this machine has not:
// owner and mode stay with the file when it is renamed, and die with it, also
// where a file that is made by hand gets its inode; a mode set by hand counts.
func TestOwnersAreRemembered(t *testing.T) {
	h := made(t, folder.Spec{})
	d, err := h.Dir("/srv")
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	f, err := d.Create("a", 0o640, 1200, 1300)
	if err != nil {
		t.Fatal(err)
	}
	want := func(name string, uid, gid int, mode uint32) {
		t.Helper()
		if got, err := d.Lstat(name); err != nil || got.UID != uid || got.GID != gid || got.Mode != mode {
			t.Errorf("%s: %d:%d %o %v, want %d:%d %o", name, got.UID, got.GID, got.Mode, err, uid, gid, mode)
		}
	}
	want("a", 1200, 1300, 0o640)
	if err := errors.Join(f.Chmod(0o4755), d.Rename("a", "b")); err != nil {
		t.Fatal(err)
	}
	want("b", 1200, 1300, 0o4755)
	if err := f.Chown(-1, 7); err != nil {
		t.Fatal(err)
	}
	if got, err := d.Lstat("b"); err != nil || got.UID != 1200 || got.GID != 7 || got.Mode&0o6000 != 0 {
		t.Errorf("after chown: %d:%d %o; the kernel takes setuid away", got.UID, got.GID, got.Mode)
	}
	f.Close()
	if _, err := d.Create("b", 0o600, 0, 0); err == nil {
		t.Error("a file was made over another")
	}
	if err := d.Remove("b"); err != nil {
		t.Fatal(err)
	}
	if f, err = d.Create("b", 0o600, -1, -1); err != nil {
		t.Fatal(err)
	}
	f.Close()
	want("b", 0, 0, 0o600)
	byHand := filepath.Join(h.Root, "srv")
	if err := os.Chmod(filepath.Join(byHand, "b"), 0o644); err != nil {
		t.Fatal(err)
	}
	want("b", 0, 0, 0o644)
	for _, name := range []string{"c", "d"} {
		if f, err = d.Create(name, 0o640, 1200, 1300); err != nil {
			t.Fatal(err)
		}
		f.Close()
	}
	if err := errors.Join(d.Rename("c", "d"), d.Remove("d")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"e", "f"} {
		if err := os.WriteFile(filepath.Join(byHand, name), nil, 0o640); err != nil {
			t.Fatal(err)
		}
		want(name, 0, 0, 0o640)
	}
}
