//go:build !release

package workers

import (
	"bytes"
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// TestWhatAPlainBuildSends holds what is built for hosts, and what is made of this
// program where nothing can be built, to being programs and small.
func TestWhatAPlainBuildSends(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(self)
	if err != nil {
		t.Fatal(err)
	}
	alone, err := small(self)
	if err != nil {
		t.Fatal(err)
	}
	for most, program := range map[int][]byte{12 << 20: alone, len(whole) - 1: stripped(whole)} {
		if _, err := elf.NewFile(bytes.NewReader(program)); err != nil || len(program) > most {
			t.Errorf("a program of %d bytes, where %d are most: %v", len(program), most, err)
		}
	}
	at := filepath.Join(t.TempDir(), "itself")
	if err := os.WriteFile(at, stripped(whole), 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(at, "-test.list", "PlainBuild").
		Output(); err != nil || !bytes.Contains(out, []byte(t.Name())) {
		t.Errorf("this program, without what debuggers read, says %q (%v)", out, err)
	}
	old := filepath.Join(t.TempDir(), "old")
	if err := os.WriteFile(old, nil, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(old, time.Unix(1, 0), time.Unix(1, 0)); err != nil {
		t.Fatal(err)
	}
	if _, err := small(old); err == nil {
		t.Error("a worker is built of source that is newer than the program")
	}
}
