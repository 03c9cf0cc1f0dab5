package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// TestWhatAProjectOfOthersDoesHere is asked for once, and refused where nobody can be asked.
func TestWhatAProjectOfOthersDoesHere(t *testing.T) {
	home, dir := t.TempDir(), t.TempDir()
	ran := filepath.Join(home, "ran")
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"tide-of-others\"\n[log]\nfile = \"~/tide.log\"\n[notify.hook]\nwebhook = " +
			"\"http://127.0.0.1:1/t?key=brine\"\nif = \"run.code == 9\"\n",
		"hosts.toml": "[host.gauge-01]\nconnect = { command = \"touch " + ran +
			"; false ${host.name}\" }\n[host.gauge-02]\nconnect = { command = \"touch " + ran +
			"; false ${host.name}\" }\n",
	})
	committed(t, dir, "v1")
	call := func(answer string, want int, args ...string) string {
		t.Helper()
		var out strings.Builder
		a := &cli.Streams{In: strings.NewReader(answer), Out: &out, Err: &out, Terminal: answer != "", Width: 100,
			Getenv: func(name string) string {
				return map[string]string{"HOME": home,
					"PATH": os.Getenv("PATH")}[name]
			}}
		if code := a.Run(t.Context(), append(args, "--from", "file://"+dir), commands.All...); code != want {
			t.Errorf("%v ends with %d, want %d:\n%s", args, code, want, out.String())
		}
		if _, err := os.Stat(ran); (err == nil) != (want == 1) {
			t.Errorf("%v ran the command: %v", args, err == nil)
		}
		os.Remove(ran)
		return out.String()
	}
	call("", 0, "lint")
	asked := call("", 2, "preview")
	for _, want := range []string{"was read from file://", "runs `touch " + ran + "; false ADDRESS` to reach hosts",
		"writes to ~/tide.log",
		"posts to http://127.0.0.1:1/t when a run ends", "--trust"} {
		if strings.Count(asked, want) != 1 {
			t.Errorf("it does not say %q once:\n%s", want, asked)
		}
	}
	if strings.Contains(asked, "brine") {
		t.Errorf("it shows a token:\n%s", asked)
	}
	call("n\n", 2, "preview")
	call("", 1, "preview", "--trust") // which is of this call alone
	call("", 2, "preview")
	call("y\n", 1, "preview")
	call("", 1, "preview")
	put(t, filepath.Join(dir, "hosts.toml"),
		"[host.gauge-03]\nconnect = { command = \"touch "+ran+"; false ${host.name}\" }\n")
	committed(t, dir, "v2")
	call("", 1, "preview") // a host more is not a deed more
	put(t, filepath.Join(dir, "hosts.toml"),
		"[host.gauge-03]\nconnect = { command = \"touch "+ran+"; true ${host.name}\" }\n")
	committed(t, dir, "v3")
	if asked = call("", 2, "preview"); strings.Contains(asked, "tide.log") ||
		!strings.Contains(asked, "; true ADDRESS") {
		t.Errorf("available: what is new:\n%s", asked)
	}
	script := "[notify.page]\nif = \"run.code == 9\"\ncommand = [\"sh\", \"page.sh\"]\n"
	put(t, filepath.Join(dir, "hosts.toml"), "[host.gauge-03]\nconnect = { command = \"touch "+ran+"; false\" }\n")
	put(t, filepath.Join(dir, "jadekettle.toml"), "project = \"tide-of-others\"\n"+script)
	for _, line := range []string{"true\n", "rm -r /\n"} {
		put(t, filepath.Join(dir, "page.sh"), line)
		committed(t, dir, "of-"+strings.Fields(line)[0])
		call("", 2, "preview")
		if asked = call("y\n", 1, "preview"); !strings.Contains(asked, "sh page.sh") {
			t.Errorf("a script that is another is asked for:\n%s", asked)
		}
	}
	if os.Geteuid() == 0 {
		os.Chown(filepath.Join(dir, "jadekettle.toml"), 4711, 4711)
		if code, out, errs := jkEnv(t, dir, nil, "runs"); code != 2 ||
			!strings.Contains(errs, "belongs to the user 4711") {
			t.Errorf("a project of another account: %d %s%s", code, out, errs)
		}
	}
}
