package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/survey"
)

// TestOwnFacts reads what commands say and what is on the host, and gives a
// reason for each that cannot be read; nothing of it costs the host its facts.
func TestOwnFacts(t *testing.T) {
	h, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
	if err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(h.Root, survey.OwnFolder)
	if err := os.MkdirAll(at, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"rack.json": `{"row": 3, "load": -1.5, "off": null, "names": ["a", "b"], "big": 12345678901234567890}`,
		"place.txt": "north pier\n", "lines.txt": "one\r\ntwo\n", "odd.json": "{", "two.json": "1 2",
		"bell.txt": "a\x07b\n", "open.json": "1", "huge.txt": strings.Repeat("x", 65<<10), "README": "not read",
		"deep.json": strings.Repeat("[", 30) + strings.Repeat("]", 30),
	} {
		if err := os.WriteFile(filepath.Join(at, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := h.Give(survey.OwnFolder+"/open.json", 0, 0, 0o666); err != nil {
		t.Fatal(err)
	}
	ask := &wire.Start{OwnFiles: true, Own: []wire.OwnFact{
		{Name: "address", Args: []string{"getent", "ahosts", "charts.example.org"}, Limit: time.Second},
		{Name: "gone", Args: []string{"no-such-program"}, Limit: time.Second},
		{Name: "failed", Args: []string{"getent", "ahosts", "nowhere"}, Limit: time.Second},
	}}
	f := survey.Read(t.Context(), h, ask)
	if err := f.Validate(); err != nil {
		t.Errorf("the controller would not take them: %v", err)
	}
	for name, want := range map[string]string{
		"rack":  "map[big:1.2345678901234567e+19 load:-1.5 names:[a b] off:<nil> row:3]",
		"place": "north pier", "lines": "[one two]", "address": "[192.0.2.80      STREAM 192.0.2.80      DGRAM]",
	} {
		if got := fmt.Sprint(f.Own[name]); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	for name, want := range map[string]string{
		"odd": "unexpected EOF", "two": "more than one JSON value", "bell": "control characters",
		"huge": "more than 65536 bytes",
		"open": "users other than root can write to /etc/jadekettle/facts/open.json", "deep": "is nested too deeply",
		"gone": "not installed", "failed": "getent failed (exit status 2)",
	} {
		if got := f.OwnWrong[name]; !strings.Contains(got, want) || f.Own[name] != nil {
			t.Errorf("%s is wrong for %q (%v), want %q", name, got, f.Own[name], want)
		}
	}
	if len(f.Own) != 4 || len(f.OwnWrong) != 8 {
		t.Errorf("there are %d facts and %d reasons: %v %v", len(f.Own), len(f.OwnWrong), f.Own, f.OwnWrong)
	}
	if f := survey.Read(t.Context(), h, &wire.Start{}); f.Own != nil {
		t.Error("what nobody asked for was read")
	}
}
