//go:build lab

package lab

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestSwapOfThisMachine takes swap through its round on this machine, whose kernel
// a container's swap would be in anyway. What is written is in a mount namespace
// of the test's own; the swap file is taken out of use at its end.
func TestSwapOfThisMachine(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("swap needs root")
	}
	dir, err := os.MkdirTemp("/var/tmp", "jadekettle-lab-*") // a file in memory cannot be swapped to
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "swap")
	t.Cleanup(func() {
		exec.Command("swapoff", file).Run()
		os.RemoveAll(dir)
	})
	program, project := filepath.Join(dir, "jadekettle"), filepath.Join(dir, "project")
	run(t, "../build/program", program, goarch(t))
	write := func(name, text string) {
		t.Helper()
		p := filepath.Join(project, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("jadekettle.toml", "project = \"saltmarsh-lab\"\n[history]\nfile = \"runs.db\"\n")
	write("hosts.toml", "[host.archive-01]\nconnect = { local = true }\n[group.all]\nmembers = [\"*\"]\nmanifests "+
		"= [\"swap\"]\n")
	declare := func(text string) { write("manifests/swap.toml", fmt.Sprintf("[swap.%q]\n%s\n", file, text)) }
	// Each step runs in a namespace of its own, over what the step before has left.
	step := func(line string) string {
		t.Helper()
		script := `set -e
cd "$1"; mkdir -p etc etc.work lib lib.work
mount -t overlay -o lowerdir=/etc,upperdir=etc,workdir=etc.work overlay /etc
mount -t overlay -o lowerdir=/var/lib,upperdir=lib,workdir=lib.work overlay /var/lib
` + line
		out, err := exec.Command("unshare", "-m", "sh", "-c", script, "sh", dir, program, project).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", line, err, out)
		}
		return string(out)
	}
	apply := func(want string) {
		t.Helper()
		if out := step(`"$2" --project "$3" apply --all --yes`); !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	current := func(used, listed int) {
		t.Helper()
		look := fmt.Sprintf("grep -c '^%s ' /proc/swaps || true; grep -c '^%s none swap' /etc/fstab || true", file,
			file)
		if got := strings.Join(strings.Fields(step(look)), " "); got != fmt.Sprint(used, listed) {
			t.Errorf("in use and listed is %s, want %d %d", got, used, listed)
		}
	}
	declare("size = \"4 MiB\"\npriority = 7")
	apply("1 changed")
	current(1, 1)
	apply("1 unchanged")
	step("swapoff " + file + "; : >/etc/fstab")
	apply("in use: no -> yes")
	current(1, 1)
	declare("size = \"6 MiB\"")
	apply("size: 4 MiB -> 6 MiB")
	current(1, 1)
	if out := step(`"$2" --project "$3" capture archive-01 swap`); !strings.Contains(out, "size = \"6 MiB\"") {
		t.Errorf("captured is\n%s", out)
	}
	declare("absent = true")
	apply("1 changed")
	current(0, 0)
	if _, err := os.Stat(file); err == nil {
		t.Error("the file stayed")
	}
	apply("1 unchanged")
}
