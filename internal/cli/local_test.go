package cli

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tell "jadekettle/internal/app/notify"
)

// TestOnlyWhoMeansThisMachineIsAnswered: another name for it is one that somebody's browser was led to.
func TestOnlyWhoMeansThisMachineIsAnswered(t *testing.T) {
	own, _ := os.Hostname()
	h := forHere(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	for host, want := range map[string]int{"127.0.0.1:9790": 200, "[::1]:9790": 200, "192.0.2.9": 200, "localhost:9790": 200, own + ":9790": 200,
		"evil.example.org:9790": 421, "127.0.0.1.example.org": 421, "": 421} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, &http.Request{Method: "GET", Host: host})
		if w.Code != want {
			t.Errorf("%q is answered with %d, want %d", host, w.Code, want)
		}
	}
}

// TestKeysOfOthers are not read from where anybody could.
func TestKeysOfOthers(t *testing.T) {
	name := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(name, []byte("tide"), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := tell.ReadSecret(name); err != nil || string(text) != "tide" {
		t.Errorf("it reads %q, %v", text, err)
	}
	os.Chmod(name, 0o640)
	if _, err := tell.ReadSecret(name); err == nil || !strings.Contains(err.Error(), "others than its owner may read") {
		t.Errorf("one that others may read: %v", err)
	}
}
