package secrets

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"filippo.io/age"

	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/problem"
)

// ring is a keyring that reads files of one folder.
func ring(dir string, files ...string) *Keyring {
	return &Keyring{Files: files, Called: "TIDE_IDENTITY", Usual: func() []string { return []string{"usual.txt"} },
		Expand: func(name string) string { return filepath.Join(dir, name) }}
}

func identity(t *testing.T, file string) *age.X25519Identity {
	t.Helper()
	id, err := NewIdentity(file)
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// TestWhoOpensWhat encrypts for two of three keepers, and lets each try with the
// identity in each of the places where one may be.
func TestWhoOpensWhat(t *testing.T) {
	dir := t.TempDir()
	maren, olga, other := identity(t, filepath.Join(dir, "maren.txt")), identity(t, filepath.Join(dir, "sub/olga.txt")),
		identity(t, filepath.Join(dir, "other.txt"))
	key := filepath.Join(dir, "key")
	made := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "x", "-f", key)
	if out, err := made.CombinedOutput(); err != nil {
		t.Fatalf("ssh-keygen: %v %s", err, out)
	}
	public, _ := os.ReadFile(key + ".pub")
	to, err := Recipients([]string{maren.Recipient().String(), olga.Recipient().String(),
		strings.TrimSpace(string(public))})
	if err != nil {
		t.Fatal(err)
	}
	const text = "token = \"rip-tide\"\n"
	data, err := Encrypt([]byte(text), to)
	if err != nil || Stanzas(data) != 3 || strings.Contains(string(data), "rip-tide") {
		t.Fatalf("%v; encrypted for %d:\n%s", err, Stanzas(data), data)
	}
	variable, usual := ring(dir), ring(dir)
	variable.Variable = maren.String()
	usual.Usual = func() []string { return []string{"nowhere.txt", "sub/olga.txt"} }
	os.WriteFile(filepath.Join(dir, "empty.txt"), []byte("nothing\n"), 0o600)
	for name, c := range map[string]struct {
		ring *Keyring
		says string // empty when it opens
		gone bool   // lint may go on without
	}{
		"the call's":     {ring(dir, "maren.txt"), "", false},
		"an OpenSSH key": {ring(dir, "key"), "", false},
		"the variable's": {variable, "", false},
		"the usual":      {usual, "", false},
		"another's": {ring(dir, "other.txt"),
			"none of the identities in other.txt can decrypt this file", true},
		"none":               {ring(dir), "file is encrypted, and no identity was given to decrypt it", true},
		"one not there":      {ring(dir, "lost.txt"), "the identity lost.txt cannot be read: no such file", false},
		"none in it":         {ring(dir, "empty.txt"), "empty.txt does not contain an identity", false},
		"on the call itself": {ring(dir, other.String()), "visible to every user of this machine", false},
	} {
		got, err := c.ring.Open("data/shared.toml.age", data)
		var without layers.NotOpened
		switch {
		case c.says == "" && (err != nil || string(got) != text):
			t.Errorf("%s: %q, %v", name, got, err)
		case c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says) ||
			errors.As(err, &without) != c.gone):
			t.Errorf("%s: %v, want %s", name, err, c.says)
		case err != nil && problem.From(err).Do == "":
			t.Errorf("%s: nothing says what to do", name)
		case err != nil && strings.Contains(err.Error(), other.String()):
			t.Errorf("%s: the message holds an identity", name)
		}
	}
	for name, broken := range map[string]string{"no age file": "token = 1\n", "cut off": string(data[:len(data)/2]),
		"a bit over": strings.Replace(string(data), "\n", "\nAAAA", 3)} {
		if got, err := ring(dir, "maren.txt").Open("x", []byte(broken)); err == nil || problem.From(err).Do == "" {
			t.Errorf("%s opens as %q (%v)", name, got, err)
		}
	}
	for _, text := range []string{"age1tide", "maren", "", "ssh-ed25519 AAAA"} {
		if _, err := Recipients([]string{text}); err == nil {
			t.Errorf("%q is taken for a recipient", text)
		}
	}
}

// TestIdentitiesThatOthersRead wants a remark, and none where it is well.
func TestIdentitiesThatOthersRead(t *testing.T) {
	dir := t.TempDir()
	id := identity(t, filepath.Join(dir, "it's.txt"))
	data, err := Encrypt([]byte("x"), []age.Recipient{id.Recipient()})
	if err != nil {
		t.Fatal(err)
	}
	for mode, want := range map[os.FileMode]int{0o600: 0, 0o400: 0, 0o640: 1, 0o604: 1} {
		os.Chmod(filepath.Join(dir, "it's.txt"), mode)
		var said []string
		k := ring(dir, "it's.txt")
		k.Remark = func(text string) { said = append(said, text) }
		if _, err := k.Open("x", data); err != nil || len(said) != want {
			t.Errorf("mode %o: %v, it says %q", mode, err, said)
		}
		if want > 0 && !strings.Contains(said[0], `chmod 600 '`) {
			t.Errorf("the remedy cannot be pasted: %s", said[0])
		}
	}
	if _, err := NewIdentity(filepath.Join(dir, "it's.txt")); err == nil {
		t.Error("an identity was written over")
	}
}

// TestScratch leaves nothing behind, and takes away what a killed call left and
// nobody else's.
func TestScratch(t *testing.T) {
	top := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", top)
	gone := exec.Command("true")
	if err := gone.Run(); err != nil {
		t.Fatal(err)
	}
	make := func(name string) string {
		p := filepath.Join(top, name)
		if err := os.Mkdir(p, 0o700); err != nil {
			t.Fatal(err)
		}
		return p
	}
	old := make(scratchMark + strconv.Itoa(gone.Process.Pid) + "-x")
	mine := make(scratchMark + strconv.Itoa(os.Getpid()) + "-x")
	odd := make(scratchMark + "tide-x")
	dir, done, err := Scratch()
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(dir)
	if err != nil || info.Mode().Perm() != 0o700 || filepath.Dir(dir) != top {
		t.Errorf("%s: %v %v", dir, info.Mode(), err)
	}
	os.WriteFile(filepath.Join(dir, "plain.toml"), []byte("x"), 0o600)
	done()
	done()
	for p, want := range map[string]bool{dir: false, old: false, mine: true, odd: true} {
		if _, err := os.Stat(p); (err == nil) != want {
			t.Errorf("%s is there: %v", filepath.Base(p), err == nil)
		}
	}
}
