package atomicfile

import (
	"os"
	"path/filepath"
	"testing"
)

func TestWrite(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	for _, text := range []string{"one", "two"} {
		if err := Write(name, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(name)
	text, _ := os.ReadFile(name)
	entries, _ := os.ReadDir(filepath.Dir(name))
	if err != nil || info.Mode().Perm() != 0o640 || string(text) != "two" || len(entries) != 1 {
		t.Errorf("it is %q, %v, with %d files beside (%v)", text, info.Mode(), len(entries)-1, err)
	}
	if err := Write(filepath.Join(name, "y"), nil, 0o640); err == nil {
		t.Error("a file below a file is written")
	}
}
