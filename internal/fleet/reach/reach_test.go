package reach

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/reach/workers"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/worker"
)

// TestMain lets this test program be the worker that it sends.
func TestMain(m *testing.M) {
	if len(os.Args) == 3 && os.Args[1] == worker.Argument {
		os.Exit(worker.Main(os.Args[2]))
	}
	os.Exit(m.Run())
}

// script runs one of the scripts in sh as an ordinary user would, with a home
// of its own, and gives the words of its answer. As root it goes on as nobody.
func ask(t *testing.T, home string, s script, stdin string, args ...string) (word, rest string) {
	t.Helper()
	line := (&Dialer{}).elevation(nil, Target{}, "nonce").command(s, append([]string{"nonce"}, args...)...)
	cmd := exec.Command("sh", "-c", line)
	if os.Geteuid() == 0 {
		if _, err := exec.LookPath("setpriv"); err != nil {
			t.Skip("as root this needs setpriv")
		}
		os.Chmod(home, 0o755)
		os.Chown(home, 65534, 65534)
		cmd = exec.Command("setpriv", "--reuid=65534", "--clear-groups", "sh", "-c", line)
	}
	cmd.Env = []string{"HOME=" + home, "PATH=" + os.Getenv("PATH")}
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v", line, err)
	}
	lines := bufio.NewReader(strings.NewReader(string(out)))
	for word == "" || word == "go" || word == "begin" {
		if word, rest, err = answer(lines, "nonce"); err != nil {
			t.Fatal(err)
		}
	}
	return word, rest
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

func TestTheScripts(t *testing.T) {
	home, err := os.MkdirTemp("", "saltmarsh-home-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(home)
	m := strings.TrimSpace(run(t, "uname", "-sm"))
	if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "need" || strings.TrimSuffix(rest, " gzip") != m {
		t.Errorf("without the worker it says %s %s", word, rest)
	}
	program := "#!/bin/sh\necho jadekettle $2 ready to $1 $(umask)\n"
	if word, _ := ask(t, home, uploadScript, program[:10], "abc", strconv.Itoa(len(program)),
		"plain"); word != "unstored" {
		t.Errorf("a worker that breaks off is %s", word)
	}
	var packed strings.Builder
	if err := send(nopCloser{&packed}, []byte(program), true); err != nil {
		t.Fatal(err)
	}
	if word, rest := ask(t, home, uploadScript, packed.String(), "abc", strconv.Itoa(len(program)),
		"gzip"); word != "stored" || rest != home+"/.cache/jadekettle" {
		t.Errorf("the worker is %s %s", word, rest)
	}
	if word, rest := ask(t, home, startScript, "", "Other x=def", m+"=abc"); word != "ready" ||
		rest != "to "+worker.Argument+" 0022" {
		t.Errorf("with the worker it says %s %s", word, rest)
	}
	if word, _ := ask(t, home, startScript, "", m+"=def"); word != "need" {
		t.Errorf("for another build it says %s", word)
	}
	stored := filepath.Join(home, ".cache/jadekettle/abc."+strconv.Itoa(len(program)))
	store := func() {
		if word, rest := ask(t, home, uploadScript, program, "abc", strconv.Itoa(len(program)),
			"plain"); word != "stored" {
			t.Errorf("it is %s %s", word, rest)
		}
	}
	for how, damage := range map[string]func() error{
		"emptied":        func() error { return os.Truncate(stored, 0) },
		"cut off":        func() error { return os.Truncate(stored, 10) },
		"not executable": func() error { return os.Chmod(stored, 0o600) },
		"a folder by now": func() error {
			return errors.Join(os.Remove(stored), os.MkdirAll(stored+"/x", 0o755), os.Chmod(stored, 0o777))
		},
	} {
		if err := damage(); err != nil {
			t.Fatal(err)
		}
		if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "need" {
			t.Errorf("with a worker that is %s it says %s %s", how, word, rest)
		}
		store()
		if word, _ := ask(t, home, startScript, "", m+"=abc"); word != "ready" {
			t.Errorf("one that was %s is not sent again: %s", how, word)
		}
	}
	os.Chmod(stored, 0o777)
	if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "refuse" || rest != stored {
		t.Errorf("a worker that others can write: %s %s", word, rest)
	}
	os.Chmod(stored, 0o700)
	os.Rename(filepath.Dir(stored), filepath.Join(home, "elsewhere"))
	os.Symlink(filepath.Join(home, "elsewhere"), filepath.Dir(stored))
	if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "refuse" || rest != filepath.Dir(stored) {
		t.Errorf("a link in the place of the folder: %s %s", word, rest)
	}
	if left, _ := filepath.Glob(filepath.Join(home, "elsewhere", ".new-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func run(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command(args[0], args[1:]...).Output()
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

func TestThisMachineAsAHost(t *testing.T) {
	if os.Geteuid() == 0 {
		t.Skip("as root the worker would be stored in /var/lib")
	}
	t.Setenv("HOME", t.TempDir())
	s, err := new(Dialer).Open(context.Background(), Target{Name: "desk", Local: true}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	c := wire.NewConn(s, s)
	if err := c.Send(wire.Message{Start: &wire.Start{Format: wire.Format, OnlyFacts: true}}); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		m, err := c.Receive()
		if err != nil {
			t.Fatal(err)
		}
		if m.Facts != nil && m.Facts.Kernel.Name == "Linux" {
			return
		}
	}
	t.Error("no facts came")
}

func TestCommandLinesComeApartAgain(t *testing.T) {
	s := script{"start", `echo 'it''s' "$1"`}
	line := (&Dialer{}).elevation(nil, Target{Elevate: "sudo"}, "nonce").command(s, "a b", "", `c'd`)
	got := shell.Split(line)
	want := []string{"sh", "-c", elevated("sudo -n --"), "jadekettle", "start", `echo 'it''s' "$1"`, "a b", "", `c'd`}
	if strings.Join(got, "|") != strings.Join(want, "|") {
		t.Errorf("%s\n comes apart as %q", line, got)
	}
	for _, text := range []string{startScript.text, uploadScript.text, elevated("sudo -n --")} {
		if strings.ContainsAny(text, "\n!") || strings.Contains(text, `\'`) || strings.Contains(text, `\\`) {
			t.Errorf("some login shells do not take newlines, !, or backslashes before quotes: %s", text)
		}
	}
}

func TestOneBuildIsAtHand(t *testing.T) {
	list := workers.Available()
	if len(list) == 0 || len(list[0].Name) != 64 {
		t.Fatalf("there are %v", list)
	}
}

func TestTheUsersOwnSettings(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Skip("no OpenSSH to read its settings")
	}
	home := t.TempDir()
	d := &Dialer{Home: home}
	given := Target{Name: "gauge-01", Address: "gauge-01"}
	if got, err := d.settings(t.Context(), given); err != nil || got != given {
		t.Errorf("without settings it becomes %+v, %v", got, err)
	}
	os.Mkdir(filepath.Join(home, ".ssh"), 0o700)
	os.WriteFile(filepath.Join(home, ".ssh/config"),
		[]byte("Host gauge-*\n  HostName 192.0.2.21\n  Port 2200\n  User ops\n  IdentityFile ~/.ssh/pier\nHost far\n"+
			"  ProxyJump pier.example.org\n"), 0o600)
	want := Target{Name: "gauge-01", Address: "192.0.2.21", Port: 2200, User: "ops",
		Key: filepath.Join(home, ".ssh/pier")}
	if got, err := d.settings(t.Context(), given); err != nil || got != want {
		t.Errorf("it becomes %+v, %v", got, err)
	}
	own := Target{Name: "gauge-01", Address: "gauge-01", Port: 22, User: "root", Key: "/k"}
	if got, err := d.settings(t.Context(), own); err != nil || got.Port != 22 || got.User != "root" || got.Key != "/k" {
		t.Errorf("what the inventory says is overruled: %+v, %v", got, err)
	}
	if got, err := d.settings(t.Context(), Target{Address: "192.0.2.99"}); err != nil || got.Key != "" ||
		got.Address != "192.0.2.99" {
		t.Errorf("a host that nothing matches becomes %+v, %v", got, err)
	}
	if got, err := d.settings(t.Context(), Target{Address: "far"}); err != nil || got.Jump != "pier.example.org" {
		t.Errorf("through another host: %+v, %v", got, err)
	}
	by := Target{Name: "far", Address: "2001:db8::2", Port: 2200, User: "it's me",
		proxy: "ssh -W [%h]:%p -l %r gate%%1 %n"}
	if got := by.expanded(); got != `ssh -W [2001:db8::2]:2200 -l 'it'\''s me' gate%1 far` {
		t.Errorf("the command becomes %s", got)
	}
	for text, want := range map[string]Target{
		"ops@gate.example.org:2222": {Name: "ops@gate.example.org:2222", User: "ops",
			Address: "gate.example.org", Port: 2222},
		"ssh://192.0.2.1":  {Name: "192.0.2.1", Address: "192.0.2.1"},
		"[2001:db8::1]:22": {Name: "[2001:db8::1]:22", Address: "2001:db8::1", Port: 22},
		"-oProxyCommand=x": {}, "": {}, "gate:no": {},
	} {
		if got, err := hop(text); (err == nil) != (want.Address != "") || err == nil && got != want {
			t.Errorf("%q is the jump host %+v, %v", text, got, err)
		}
	}
}

// TestWhatRefusalsMean gives each its own reason and remedy.
func TestWhatRefusalsMean(t *testing.T) {
	for said, want := range map[string]string{
		"sudo: sorry, you must have a tty to run sudo":                    "Defaults:ops !requiretty",
		"sh: 1: exec: sudo: not found":                                    "sudo was not found on the host",
		"bash: line 1: exec: sudo: command not found":                     "sudo was not found on the host",
		"sudo: sh: command not found":                                     "secure_path",
		"sh: 1: exec: /home/ops/.cache/jadekettle/x.1: Permission denied": "mounted with noexec",
		"sudo: a password is required":                                    "ops ALL=(root) NOPASSWD: " + Starter,
		"This account is currently not available.": "the login shell of ops does not run " +
			"commands",
	} {
		p := &process{errs: &machine.Keep{}, wait: func() error { return nil }}
		io.WriteString(p.errs, said+"\n")
		if err := explain(io.EOF, p, Target{User: "ops", Elevate: "sudo"}); !strings.Contains(err.Error(), want) {
			t.Errorf("%s is reported as: %v", said, err)
		}
	}
	p := &process{errs: &machine.Keep{}, wait: func() error { return nil }}
	_, _, err := answer(bufio.NewReader(strings.NewReader("This service allows sftp connections only.\n")), "nonce")
	if err = explain(err, p, Target{User: "ops"}); !strings.Contains(err.Error(), "ForceCommand for ops") {
		t.Errorf("another command is reported as: %v", err)
	}
	for said, want := range map[string]string{"ssh: handshake failed: EOF": "MaxStartups",
		"read tcp 192.0.2.1:1->192.0.2.2:22: read: connection reset by peer": "MaxStartups"} {
		if err := (&Dialer{}).handshakeError(errors.Join(errors.New(said), io.EOF), Target{Address: "192.0.2.2"},
			"ops"); !strings.
			Contains(err.Error(), want) {
			t.Errorf("%s is reported as: %v", said, err)
		}
	}
}

// TestAFolderOfAnothers in /var/tmp, where anybody may make one, shuts nobody out.
func TestAFolderOfAnothers(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root makes folders of others")
	}
	home, err := os.MkdirTemp("", "saltmarsh-home-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(home)
	const trap = "/var/tmp/jadekettle-65534"
	if err := os.Mkdir(trap, 0o777); err != nil {
		t.Skip("it already exists: ", err)
	}
	defer os.RemoveAll(trap)
	program := "#!/bin/sh\necho jadekettle $2 ready to $1 $(umask)\n"
	size := strconv.Itoa(len(program))
	if err := os.WriteFile(filepath.Join(trap, "abc."+size), []byte(program), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, p := range []string{trap, filepath.Join(trap, "abc."+size)} {
		if err := os.Chown(p, 1234, 1234); err != nil {
			t.Fatal(err)
		}
	}
	m := strings.TrimSpace(run(t, "uname", "-sm"))
	if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "need" {
		t.Errorf("it says %s %s", word, rest)
	}
	if word, rest := ask(t, home, uploadScript, program, "abc", size, "plain"); word != "stored" ||
		rest != home+"/.cache/jadekettle" {
		t.Errorf("the worker is %s %s", word, rest)
	}
	if word, rest := ask(t, home, startScript, "", m+"=abc"); word != "ready" {
		t.Errorf("with the worker it says %s %s", word, rest)
	}
}
