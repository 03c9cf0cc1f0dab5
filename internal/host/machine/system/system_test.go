package system_test

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/system"
)

func TestLinksOnTheWay(t *testing.T) {
	top := t.TempDir()
	os.MkdirAll(filepath.Join(top, "real/deep"), 0o755)
	os.MkdirAll(filepath.Join(top, "open"), 0o777)
	os.Chmod(filepath.Join(top, "open"), 0o777) // as the umask would not have it
	os.Symlink("real", filepath.Join(top, "relative"))
	os.Symlink("/real/deep", filepath.Join(top, "absolute"))
	os.Symlink("../real", filepath.Join(top, "open/planted"))
	os.Symlink("loop", filepath.Join(top, "loop"))
	os.Symlink("../../../real", filepath.Join(top, "climbs"))
	os.WriteFile(filepath.Join(top, "file"), nil, 0o644)
	m := &system.System{Root: top}
	for p, want := range map[string]error{
		"/": nil, "/real/deep": nil, "/relative/deep": nil, "/absolute": nil, "/climbs/deep": nil,
		"/open/planted/deep": machine.ErrLink, "/no/such": fs.ErrNotExist,
	} {
		d, err := m.Dir(p)
		if !errors.Is(err, want) {
			t.Errorf("%s gives %v, want %v", p, err, want)
		}
		if err == nil {
			d.Close()
		}
	}
	for _, p := range []string{"/loop/x", "/file/x"} {
		if _, err := m.Dir(p); err == nil {
			t.Errorf("%s was opened", p)
		}
	}
}

func TestFilesHaveTheirOwnerAndModeFromTheStart(t *testing.T) {
	m := &system.System{Root: t.TempDir()}
	d, err := m.Dir("/")
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	f, err := d.Create("a", 0o751, -1, -1)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(f, "text")
	f.Close()
	info, err := d.Lstat("a")
	if err != nil || info.Mode != 0o751 || info.Size != 4 || info.UID != os.Geteuid() {
		t.Errorf("it is %+v, %v", info, err)
	}
	if _, err := d.Create("a", 0o644, -1, -1); !errors.Is(err, fs.ErrExist) {
		t.Errorf("making it again gives %v", err)
	}
	again, err := d.Open("a")
	if err != nil {
		t.Fatal(err)
	}
	os.Rename(filepath.Join(m.Root, "a"), filepath.Join(m.Root, "b"))
	os.WriteFile(filepath.Join(m.Root, "a"), nil, 0o600)
	if err := again.Chmod(0o4750); err != nil {
		t.Error(err)
	}
	again.Close()
	if info, _ := d.Lstat("a"); info.Mode != 0o600 {
		t.Errorf("the mode of what took its name became %o", info.Mode)
	}
	os.Rename(filepath.Join(m.Root, "b"), filepath.Join(m.Root, "a"))
	if info, _ := d.Lstat("a"); info.Mode != 0o4750 {
		t.Errorf("after chmod its mode is %o", info.Mode)
	}
	os.Symlink("a", filepath.Join(m.Root, "link"))
	if _, err := d.Open("link"); err == nil {
		t.Error("a link was opened")
	}
	if err := d.Mkdir("dir", 0o1777, -1, -1); err != nil {
		t.Fatal(err)
	}
	if info, _ := d.Lstat("dir"); info.Mode != 0o1777 || !info.Type.IsDir() {
		t.Errorf("the directory is %+v", info)
	}
}

func TestTheLockDiesWithItsHolder(t *testing.T) {
	m := &system.System{Root: t.TempDir()}
	first, err := m.Lock("/lock")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Lock("/lock"); !errors.Is(err, machine.ErrLocked) {
		t.Errorf("a second lock gives %v", err)
	}
	first.Close()
	second, err := m.Lock("/lock")
	if err != nil {
		t.Fatal(err)
	}
	second.Close()
}

func TestCommands(t *testing.T) {
	m := system.New()
	run := func(args ...string) machine.Output {
		t.Helper()
		out, err := m.Run(context.Background(), machine.Command{Args: args, Stdin: "in"})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	if out := run("sh", "-c", "cat; echo err >&2; exit 3"); out.Code != 3 || out.Stdout != "in" ||
		!strings.Contains(out.Combined.String(), "err") {
		t.Errorf("it gives %+v", out)
	}
	if out := run("sh", "-c", "echo $LC_ALL $SALT"); out.Stdout != "C.UTF-8\n" {
		t.Errorf("the environment is not the small one: %q", out.Stdout)
	}
	out := run("sh", "-c", "head -c 200000000 /dev/zero | tr '\\0' a; echo the end")
	if len(out.Combined.String()) > machine.MaxOutput+100 || !strings.Contains(out.Combined.String(),
		"bytes omitted") || !strings.HasSuffix(out.Combined.String(), "the end\n") {
		t.Errorf("of much output %d bytes are kept", len(out.Combined.String()))
	}
	if _, err := m.Run(context.Background(), machine.Command{Args: []string{"no-such-program"}}); err == nil ||
		!strings.Contains(err.Error(), "no-such-program is not installed on this host") {
		t.Errorf("a missing program gives %v", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if out, err := m.Run(ctx, machine.Command{Args: []string{"sleep", "60"}}); err == nil && out.Code == 0 {
		t.Error("a command that does not end was waited for")
	}
}

// TestNothingIsLeftOfWhatWasCutOff starts programs that leave the command's process group
// and its session, and cuts it off.
func TestNothingIsLeftOfWhatWasCutOff(t *testing.T) {
	at := filepath.Join(t.TempDir(), "pids")
	ctx, cancel := context.WithTimeoutCause(t.Context(), 300*time.Millisecond, errors.New("too long"))
	defer cancel()
	_, err := system.New().Run(ctx, machine.Command{Args: []string{"sh", "-c", "setsid sh -c 'echo $$ >>" + at +
		"; sleep 60' & setsid -f sleep 60; sleep 60 & echo $! >>" + at + "; wait"}})
	if err == nil || err.Error() != "too long" {
		t.Errorf("it ends with %v", err)
	}
	pids, err := os.ReadFile(at)
	if err != nil || len(strings.Fields(string(pids))) != 2 {
		t.Fatalf("it had started %q (%v)", pids, err)
	}
	for _, pid := range strings.Fields(string(pids)) {
		state, _ := os.ReadFile("/proc/" + pid + "/stat")
		if len(state) > 0 && !strings.Contains(string(state), ") Z ") {
			t.Errorf("the process %s is still there: %s", pid, state)
		}
	}
}

// TestWhoListens hears what a command prints, but for one that is quiet.
func TestWhoListens(t *testing.T) {
	for _, quiet := range []bool{false, true} {
		var heard machine.Keep
		out, err := system.New().Run(machine.Listen(t.Context(), &heard), machine.Command{Args: []string{"sh", "-c",
			"echo ebb; echo flow >&2"}, Quiet: quiet})
		if err != nil || out.Stdout != "ebb\n" || (len(heard.String()) == 9) == quiet {
			t.Errorf("quiet %v: it printed %q, heard was %q, %v", quiet, out.Stdout, heard.String(), err)
		}
	}
}

// TestNoCoreIsDumped of a program that has secrets in its memory.
func TestNoCoreIsDumped(t *testing.T) {
	system.KeepNoDumps()
	defer unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0)
	if got, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0); err != nil || got != 0 {
		t.Errorf("the kernel says %d, %v", got, err)
	}
}
