package cli_test

import (
	"bytes"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// TestTheDemoInColour holds that what the commands of the demo colour arrives as
// colours: they write where the demo writes, and must not be escaped twice.
func TestTheDemoInColour(t *testing.T) {
	home := t.TempDir()
	var out bytes.Buffer
	dir := filepath.Join(t.TempDir(), "pier")
	s := &cli.Streams{In: strings.NewReader(""), Out: &out, Err: &out, Width: 80,
		Getenv: func(name string) string { return map[string]string{"HOME": home}[name] }}
	if code := s.Run(t.Context(), []string{"demo", dir, "--color", "always"},
		commands.All...); code != 0 {
		t.Fatalf("it ends with %d:\n%s", code, out.String())
	}
	if strings.Contains(out.String(), "u{") {
		t.Error("something is escaped")
	}
	if n := strings.Count(out.String(), "\n"); n > 120 {
		t.Errorf("it prints %d lines", n)
	}
	if code, said, errs := jk(t, dir, "format"); code != 0 || !strings.HasPrefix(said, "0 files formatted") {
		t.Errorf("its own files are formatted differently: %d\n%s%s", code, said, errs)
	}
	for _, want := range []string{"\x1b[1m$ jadekettle apply", "\x1b[31m", "\x1b[32m"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("nothing is written as %q", want)
		}
	}
}
