package system_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jadekettle/internal/host/machine/system"
)

// exchanger is the variable by which this test's own program becomes an ordinary account that
// exchanges two names as fast as it can.
const exchanger = "JADEKETTLE_TEST_EXCHANGE"

func init() {
	at := os.Getenv(exchanger)
	if at == "" {
		return
	}
	for {
		unix.Renameat2(unix.AT_FDCWD, filepath.Join(at, "spool"), unix.AT_FDCWD, filepath.Join(at, "link"),
			unix.RENAME_EXCHANGE)
	}
}

// TestFoldersThatAreExchanged while root writes into them: an account exchanges a folder of its own and
// a link to one of root's. Whatever root does by the path of the first, nothing happens in the other.
// EXCHANGES says for how long, such as 20s.
func TestFoldersThatAreExchanged(t *testing.T) {
	setpriv, err := exec.LookPath("setpriv")
	if os.Geteuid() != 0 || err != nil {
		t.Skip("it needs root, and setpriv")
	}
	base, err := os.MkdirTemp("", "saltmarsh-exchange-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(base)
	theirs, roots := filepath.Join(base, "theirs"), filepath.Join(base, "roots")
	keep := filepath.Join(roots, "keep")
	for _, err := range []error{os.Chmod(base, 0o755), os.Mkdir(theirs, 0o755),
		os.Mkdir(filepath.Join(theirs, "spool"), 0o755), os.Mkdir(roots, 0o755),
		os.MkdirAll(filepath.Join(roots, "sub", "deep"), 0o755), os.WriteFile(keep, []byte("tides\n"), 0o600),
		os.Symlink(roots, filepath.Join(theirs, "link")), os.Lchown(filepath.Join(theirs, "link"), 65534, 65534),
		os.Chown(filepath.Join(theirs, "spool"), 65534, 65534), os.Chown(theirs, 65534, 65534)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	program := filepath.Join(base, "exchange")
	self, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(program, self, 0o755); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(setpriv, "--reuid=65534", "--regid=65534", "--clear-groups", program)
	c.Env = []string{exchanger + "=" + theirs}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { c.Process.Kill(); c.Wait() }()
	long, err := time.ParseDuration(os.Getenv("EXCHANGES"))
	if err != nil {
		long = 300 * time.Millisecond
	}
	m := system.New()
	wrote := 0
	for end := time.Now().Add(long); time.Now().Before(end); {
		d, err := m.Dir(filepath.Join(theirs, "spool"))
		if err != nil {
			continue // it was the link just now
		}
		if f, err := d.Create("new", 0o644, 65534, 65534); err == nil {
			f.Write([]byte("ebb\n"))
			f.Close()
			if d.Rename("new", "keep") == nil {
				wrote++
			}
		}
		d.Mkdir("sub", 0o755, 65534, 65534)
		d.RemoveAll("sub")
		d.Remove("keep")
		d.Close()
	}
	text, err := os.ReadFile(keep)
	info, statErr := os.Stat(keep)
	if err != nil || statErr != nil || string(text) != "tides\n" || info.Mode().Perm() != 0o600 {
		t.Errorf("the file of root's is %q, %v %v", text, err, statErr)
	}
	entries, _ := os.ReadDir(roots)
	if _, err := os.Stat(filepath.Join(roots, "sub", "deep")); err != nil || len(entries) != 2 {
		t.Errorf("the directory of root's holds %v, %v", entries, err)
	}
	if wrote == 0 {
		t.Error("nothing was ever written, so nothing was tried")
	}
	t.Logf("%d files were written meanwhile", wrote)
}
