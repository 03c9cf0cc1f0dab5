package cli_test

import (
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/host/machine/folder"
)

// TestKeptConnections has OpenSSH keep the connection to a host, and holds what is not used of it to one line.
func TestKeptConnections(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Skip("OpenSSH is not installed")
	}
	dir := t.TempDir()
	fleet := simulated(t, dir, folder.Spec{Name: "gauge-01"})
	host := fleet.Hosts[0]
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n" +
			"[ssh]\nknown_hosts = \"simulated/known_hosts\"\nkeep = \"10m\"\n",
		"simulated.toml": fleet.Inventory(),
		"hosts.toml": "[connect]\nkey = \"simulated/client-key\"\n[host.gauge-01]\n[group.all]\nmembers = [\"*\"]\n" +
			"manifests = [\"all\"]\n",
		"manifests/all.toml": "[file.\"/etc/motd\"]\ncontent = \"High water at nine.\\n\"\n",
	})
	runtime := shortDir(t)
	call := func(args ...string) (int, string, string) {
		return jkEnv(t, dir, []string{"XDG_RUNTIME_DIR=" + runtime}, args...)
	}
	defer call("hosts", "disconnect")
	socket := ""
	kept := func() bool {
		all, _ := filepath.Glob(filepath.Join(runtime, "jadekettle", "*"))
		for _, at := range all {
			if info, err := os.Lstat(at); err == nil && info.Mode().Type() == os.ModeSocket &&
				filepath.Ext(at) == "" { // while it is made it has one
				socket = at
				return true
			}
		}
		return false
	}
	apply := func(how, note string) {
		t.Helper()
		code, out, errs := call("apply", "gauge-01")
		if code != 0 || note == "" && errs != "" || strings.Count(errs, "\n") > 1 || !strings.Contains(errs, note) {
			t.Errorf("%s: %d\n%s%s", how, code, out, errs)
		}
	}
	keeps := func() {
		t.Helper()
		for begun := time.Now(); !kept(); time.Sleep(10 * time.Millisecond) {
			if time.Since(begun) > 30*time.Second {
				t.Fatal("no connection is kept")
			}
		}
	}
	apply("the first", "")
	keeps()
	host.Full.Store(true) // nobody can log in any more
	apply("over the connection that is kept", "")
	host.Full.Store(false)
	os.Chmod(socket, 0o666)
	apply("over one that others may use", "is not used: "+socket+" is ")
	os.Chmod(socket, 0o600)
	host.Cut()
	if code, out, errs := call("apply", "gauge-01"); code != 0 || strings.Count(errs, "\n") > 1 {
		t.Errorf("over one that is cut: %d\n%s%s", code, out, errs)
	}
	for note, answer := range map[string]string{
		"it speaks another protocol":       "\x00\x00\x00\x08\x00\x00\x00\x01\x00\x00\x00\x03",
		"a packet of an impossible length": "high water at nine", "it was killed": ""} {
		keeps()
		call("hosts", "disconnect")
		end := answers(t, socket, answer)
		apply(note, note)
		end()
	}
	keeps()
	if _, out, errs := call("hosts", "disconnect"); out != "1 connection closed\n" || kept() {
		t.Errorf("it ends with %s%s", out, errs)
	}
	if _, out, _ := call("hosts", "disconnect"); out != "0 connections closed\n" {
		t.Errorf("again it ends with %s", out)
	}
}

// shortDir is a directory whose path leaves room for that of a socket.
func shortDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "kept")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// answers takes the place of OpenSSH at a socket, with nothing else to say than this; or is gone, if that is empty.
func answers(t *testing.T, socket, answer string) (end func() error) {
	t.Helper()
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	os.Chmod(socket, 0o600)
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	if answer == "" {
		l.Close()
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			io.WriteString(c, answer)
			io.Copy(io.Discard, c)
			c.Close()
		}
	}()
	return l.Close
}
