package units

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"
)

// TestUnits writes units and takes them away, with a systemctl that notes what it is asked.
func TestUnits(t *testing.T) {
	dir := t.TempDir()
	calls := filepath.Join(dir, "calls")
	bin := filepath.Join(dir, "bin")
	os.Mkdir(bin, 0o755)
	script := "#!/bin/sh\necho \"$*\" >> " + calls + "\ncase \"$*\" in *salty*) echo no such unit >&2; exit 1;; esac\n"
	if err := os.WriteFile(filepath.Join(bin, "systemctl"), []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	m := Manager{Dir: filepath.Join(dir, "units"), User: true}
	line, err := Line("/usr/bin/tide", "a b", "100%", `say "x"`, "$HOME", "")
	if err != nil {
		t.Fatal(err)
	}
	files := []File{{"tide.service", "[Service]\nExecStart=" + line + "\n"}, {"tide.timer", "[Timer]\n"}}
	if err := m.Install(context.Background(), files, "tide.timer"); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(filepath.Join(m.Dir, "tide.service"))
	if want := `ExecStart=/usr/bin/tide "a b" 100%% "say \"x\"" $$HOME ""`; !strings.Contains(string(text), want+"\n") {
		t.Errorf("the service is\n%s", text)
	}
	if err := m.Install(context.Background(), []File{{"salty.timer", ""}}, "salty.timer"); err == nil ||
		!strings.Contains(err.Error(), "no such unit") {
		t.Errorf("a unit that is refused gives %v", err)
	}
	if _, err := os.Stat(filepath.Join(m.Dir, "salty.timer")); err == nil {
		t.Error("a unit that is refused stays")
	}
	if found, err := m.Remove(context.Background(), "tide.timer", "tide.service",
		"other.service"); !found || err != nil {
		t.Errorf("removing gives %v, %v", found, err)
	}
	if found, err := m.Remove(context.Background(), "tide.timer"); found || err != nil {
		t.Errorf("removing again gives %v, %v", found, err)
	}
	said, _ := os.ReadFile(calls)
	if want := "--user daemon-reload\n--user enable --now tide.timer\n"; !strings.HasPrefix(string(said), want) ||
		!strings.Contains(string(said), "disable --now tide.service") {
		t.Errorf("systemctl was asked\n%s", said)
	}
	t.Setenv("PATH", dir)
	if err := m.Install(context.Background(), files, "tide.timer"); err == nil ||
		!strings.Contains(err.Error(), "does not run systemd") {
		t.Errorf("without systemd: %v", err)
	}
}

// FuzzUnitTexts: whatever a text is, it becomes one line of a unit, or none.
func FuzzUnitTexts(f *testing.F) {
	for _, s := range []string{"tide", "a\rExecStart=/bin/sh", "a\nb", "a\\", "\u0085", "100% $x \"q\" 'q'",
		"\x00", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, write := range []func(string) (string, error){Text, Word,
			func(s string) (string, error) { return Line("/bin/tide", s) }} {
			out, err := write(s)
			if err == nil && strings.ContainsFunc(out, unicode.IsControl) {
				t.Errorf("%q is written as %q", s, out)
			}
			if err == nil && strings.HasSuffix(out, `\`) && !strings.HasSuffix(out, `\\`) {
				t.Errorf("%q goes on in the next line: %q", s, out)
			}
		}
	})
}
