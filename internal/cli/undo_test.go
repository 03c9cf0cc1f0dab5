package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// TestUndoOnATerminal previews, asks, and puts back just that, by the number of the run.
func TestUndoOnATerminal(t *testing.T) {
	dir, hosts := fleetOf(t, "", motd, "gauge-01", "gauge-02")
	at := filepath.Join(hosts.Hosts[0].Root, "etc/motd")
	other := filepath.Join(hosts.Hosts[1].Root, "etc/motd")
	if err := os.WriteFile(at, []byte("By hand, long ago.\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if code, out, errs := jk(t, dir, "apply", "--all"); code != 0 || !strings.Contains(out, "Run 1 took") {
		t.Fatalf("apply ends with %d\n%s%s", code, out, errs)
	}
	for call, want := range map[string]string{
		"7": "run 7 does not exist here", "motd": `invalid run "motd"`, "1 gauge-09": "gauge-09",
		"1": "use --yes, or --preview",
	} {
		if code, _, errs := jk(t, dir, append([]string{"undo"}, strings.Fields(call)...)...); code != 2 ||
			!strings.Contains(errs, want) {
			t.Errorf("undo %s: %d %s", call, code, errs)
		}
	}
	code, out, _ := jk(t, dir, "undo", "last", "gauge-01", "--preview")
	if code != 0 || !strings.Contains(out, "+By hand, long ago.") || !strings.Contains(out, "(before)") ||
		!strings.Contains(out, "to change  gauge-01") {
		t.Errorf("undo --preview: %d\n%s", code, out)
	}
	undo := func(answer string) (int, string) {
		var out bytes.Buffer
		a := &cli.Streams{In: strings.NewReader(answer), Out: &out, Err: &out, Terminal: true,
			Getenv: func(name string) string { return map[string]string{"HOME": dir}[name] }}
		code := a.Run(t.Context(), []string{"--project", dir, "undo", "1"}, commands.All...)
		return code, out.String()
	}
	if code, out := undo("n\n"); code != 1 || !strings.Contains(out, "Undo run 1 on 2 hosts: "+
		"gauge-01, gauge-02?") {
		t.Errorf("with a no: %d\n%s", code, out)
	}
	if code, out := undo("y\n"); code != 0 || !strings.Contains(out, "2 hosts: 2 changed") ||
		!strings.Contains(out, "Run 5 took") {
		t.Errorf("with a yes: %d\n%s", code, out)
	}
	text, _ := os.ReadFile(at)
	if _, err := os.Stat(other); string(text) != "By hand, long ago.\n" || err == nil {
		t.Errorf("it left %q, and the other: %v", text, err)
	}
	if code, out, _ := jk(t, dir, "apply", "--all"); code != 0 || !strings.Contains(out, "2 hosts: 2 changed") {
		t.Errorf("apply again: %d\n%s", code, out)
	}
	if code, _, errs := jk(t, dir, "apply", "--all"); code != 0 {
		t.Errorf("apply once more: %d %s", code, errs)
	}
	if code, _, errs := jk(t, dir, "undo", "last", "--yes"); code != 2 ||
		!strings.Contains(errs, "run 7 changed nothing") ||
		!strings.Contains(errs, "is run 6") {
		t.Errorf("undo of nothing: %d %s", code, errs)
	}
	hosts.Hosts[1].Down()
	code, out, _ = jk(t, dir, "undo", "6", "--yes", "--output", "json")
	if code != 1 || !strings.Contains(out, `"mode": "undo"`) || !strings.Contains(out, `"not reached"`) {
		t.Errorf("with a host down: %d\n%s", code, out)
	}
}
