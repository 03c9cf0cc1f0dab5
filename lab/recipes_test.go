//go:build lab

package lab

import (
	"crypto/sha256"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"jadekettle/internal/cli/recipe"
)

//go:embed recipes.toml
var recipesFile string

// early are the recipes to try first, the last one first of all: it removes what is undeclared. The site of the other
// one is used by more.
var early = []string{"web-site", "remove-things"}

// TestRecipesOnRealHosts does what the recipes say with real packages on real hosts, one after the other on the same
// ones.
func TestRecipesOnRealHosts(t *testing.T) {
	t.Parallel() // as every test that waits a lot, or is long
	var settings map[string]struct {
		Before, Bring, Host, Look, Says string
		Replace                         map[string]string
	}
	if err := toml.Unmarshal([]byte(recipesFile), &settings); err != nil {
		t.Fatal(err)
	}
	pages, err := recipe.Pages("../docs/how-to")
	if err != nil {
		t.Fatal(err)
	}
	first := func(p recipe.Page) int { return -slices.Index(early, p.Name) }
	slices.SortStableFunc(pages, func(a, b recipe.Page) int { return first(a) - first(b) })
	hosts := []string{"web-01", "web-02", "db-01", "lb-01", "gauge-01"}
	l := up(t, hosts...)
	fill := l.recipeSources(hosts)
	for _, page := range pages {
		if !strings.Contains(page.Text, "jadekettle apply") && !strings.Contains(page.Text, "```sh lab") {
			continue
		}
		t.Run(page.Name, func(t *testing.T) {
			with := settings[page.Name]
			page.Text = fill(page.Text)
			for old, text := range with.Replace {
				page.Text = strings.ReplaceAll(page.Text, old, text)
			}
			if with.Before != "" {
				for _, host := range hosts {
					l.on(host, with.Before)
				}
			}
			dir := l.recipeProject(t, with.Bring)
			if err := page.Try(dir, []string{"sh", "sh lab"}, l.recipeShell(dir)); err != nil {
				t.Fatal(err)
			}
			if with.Look != "" {
				if got := l.on(with.Host, with.Look); !strings.Contains(got, with.Says) {
					t.Errorf("%s: %s\n%s\nwithout %q", with.Host, with.Look, got, with.Says)
				}
			}
		})
	}
}

// recipeSources gives the hosts what recipes take from elsewhere, and fills a recipe's text with the key and the
// checksum of that.
func (l *lab) recipeSources(hosts []string) (fill func(string) string) {
	l.t.Helper()
	work := l.t.TempDir()
	run(l.t, "./sources", work)
	for _, host := range hosts {
		root := filepath.Join(l.dir, host, "root")
		run(l.t, "cp", "-r", filepath.Join(work, "debian"), filepath.Join(work, "signed"), filepath.Join(root, "srv"))
		run(l.t, "cp", filepath.Join(work, "viewer-2.1.tar.gz"), filepath.Join(root, "root"))
		l.on(host, "echo 'deb [trusted=yes] file:/srv/debian ./' >>/etc/apt/sources.list; apt-get update -q")
	}
	key := read(l.t, filepath.Join(work, "key.asc"))
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(read(l.t, filepath.Join(work, "viewer-2.1.tar.gz")))))
	return func(text string) string {
		text = armored.ReplaceAllLiteralString(text, key)
		return hexSum.ReplaceAllLiteralString(text, sum)
	}
}

var (
	armored = regexp.MustCompile(`(?s)-----BEGIN PGP.*END PGP PUBLIC KEY BLOCK-----\n`)
	hexSum  = regexp.MustCompile(`[0-9a-f]{64}`)
)

// recipeShell runs lines in a recipe's project and in the hosts' network.
func (l *lab) recipeShell(dir string) func(lines string) (string, error) {
	return func(lines string) (string, error) {
		cmd := l.in("sh", "-e", "-c", lines)
		cmd.Dir = dir
		cmd.Env = []string{"PROGRAM=" + l.program, "HOME=" + dir,
			"PATH=" + filepath.Join(dir, "bin") + ":" + os.Getenv("PATH")}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
}

// recipeProject makes a project of the lab's hosts with the names of files that the recipes have.
func (l *lab) recipeProject(t *testing.T, bring string) string {
	t.Helper()
	dir := t.TempDir()
	cmd := exec.Command("sh", "-e", "-c", `mkdir simulated bin
cp "$LAB/key" simulated/client-key
cp "$LAB/known_hosts" simulated
cat >jadekettle.toml <<END
project = "saltmarsh"

[inventory]
files = ["hosts.toml", "simulated.toml"]

[ssh]
known_hosts = "simulated/known_hosts"
END
printf '[connect]\nkey = "simulated/client-key"\n' >hosts.toml
for host in $HOSTS; do
	printf '\n[host.%s]\naddress = "%s"\nconnect = { user = "ops", elevate = "sudo" }\n' "${host%=*}" "${host#*=}"
done | sed 1d >simulated.toml
printf 'simulated\nbin\n.*\n' >.gitignore
cat >bin/jadekettle <<'END'
#!/bin/sh
case $1 in apply|exec|undo) verb=$1; shift; set -- $verb --yes "$@";; esac
exec "$PROGRAM" "$@"
END
chmod 755 bin/jadekettle
`+bring+`
git init -q -b main && git add . && git -c user.name=m -c user.email=m@example.org commit -qm first`)
	cmd.Dir = dir
	var hosts []string
	for host, address := range l.addresses {
		hosts = append(hosts, host+"="+address)
	}
	slices.Sort(hosts)
	cmd.Env = append(os.Environ(), "LAB="+l.dir, "HOSTS="+strings.Join(hosts, " "))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return dir
}
