package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"jadekettle/internal/cli/recipe"
	"jadekettle/internal/host/machine/folder"
)

// given are files that a recipe has people bring.
var given = map[string]map[string]string{
	"web-site": {"charts.key": "made up\n", "manifests/web/charts.pem": "made up\n"},
}

// TestRecipes does what each recipe says on simulated hosts.
func TestRecipes(t *testing.T) {
	pages, err := recipe.Pages("../../docs/how-to")
	if err != nil || len(pages) < 40 {
		t.Errorf("there are %d recipes (%v)", len(pages), err)
	}
	for _, page := range pages {
		t.Run(page.Name, func(t *testing.T) {
			t.Parallel()
			dir := recipeProject(t)
			write(t, dir, given[page.Name])
			sh := func(lines string) (string, error) { return inShell(dir, lines) }
			if err := page.Try(dir, []string{"sh"}, sh); err != nil {
				t.Error(err)
			}
		})
	}
}

// recipeProject is a project with simulated hosts, in a git repository.
func recipeProject(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	var hosts []folder.Spec
	for i, name := range []string{"web-01", "web-02", "db-01", "lb-01", "gauge-01"} {
		hosts = append(hosts, folder.Spec{Name: name, Address: fmt.Sprintf("192.0.2.%d", 11+i), Lenient: true,
			Listening: []int{80, 443, 5432}, Users: []string{"postgres"}, Files: map[string]string{
				"/etc/haproxy/errors/README": "", "/etc/nginx/sites-enabled/default": ""}})
	}
	fleet := simulated(t, dir, hosts...)
	write(t, dir, map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n" +
			"\n[ssh]\nknown_hosts = \"simulated/known_hosts\"\n",
		"simulated.toml": fleet.Inventory(),
		"hosts.toml": "[connect]\nkey = \"simulated/client-key\"\n\n[host.\"web-[01..02]\"]\n" +
			"address = \"192.0.2.${n + 10}\"\n\n[host.\"db-[01..01]\"]\naddress = \"192.0.2.13\"\n",
		".gitignore": "simulated\nbin\n.*\n",
		"bin/jadekettle": "#!/bin/sh\ncase $1 in apply|exec|undo) verb=$1; shift; set -- $verb --yes \"$@\";; esac\n" +
			"exec " + program + " \"$@\"\n",
	})
	if err := os.Chmod(filepath.Join(dir, "bin/jadekettle"), 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := inShell(dir, "git init -q -b main && git add . && git -c user.name=m -c user.email=m@example.org "+
		"commit -qm first"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return dir
}

// inShell runs lines, each of which has to succeed.
func inShell(dir, lines string) (string, error) {
	cmd := exec.Command("sh", "-e", "-c", lines)
	cmd.Dir = dir
	cmd.Env = slices.Concat([]string{"PATH=" + filepath.Join(dir, "bin") + ":" + os.Getenv("PATH"), "HOME=" + dir})
	out, err := cmd.CombinedOutput()
	return string(out), err
}
