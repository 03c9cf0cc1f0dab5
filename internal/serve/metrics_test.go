package serve

import (
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
)

// TestOnlyWhoMeansThisMachineIsAnswered: another name for it is one that somebody's browser was led to.
func TestOnlyWhoMeansThisMachineIsAnswered(t *testing.T) {
	own, _ := os.Hostname()
	h := forHere(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	for host, want := range map[string]int{"127.0.0.1:9790": 200, "[::1]:9790": 200, "192.0.2.9": 200,
		"localhost:9790": 200, own + ":9790": 200,
		"evil.example.org:9790": 421, "127.0.0.1.example.org": 421, "": 421} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, &http.Request{Method: "GET", Host: host})
		if w.Code != want {
			t.Errorf("%q is answered with %d, want %d", host, w.Code, want)
		}
	}
}
