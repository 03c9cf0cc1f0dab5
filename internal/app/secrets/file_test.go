package secrets

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestKeysOfOthers are not read from where anybody could.
func TestKeysOfOthers(t *testing.T) {
	name := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(name, []byte("tide"), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := ReadFile(name); err != nil || string(text) != "tide" {
		t.Errorf("it reads %q, %v", text, err)
	}
	os.Chmod(name, 0o640)
	if _, err := ReadFile(name); err == nil || !strings.Contains(err.Error(), "is readable by other users") {
		t.Errorf("one that others may read: %v", err)
	}
}
