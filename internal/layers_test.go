// Package internal_test enforces the design's rules about who imports whom.
package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// imports lists what each folder's program files (tests aside) import.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		dir := filepath.ToSlash(filepath.Dir(p))
		for _, i := range f.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			out[dir] = append(out[dir], path)
		}
		return nil
	})
	if err != nil || len(out) < 20 {
		t.Fatalf("read the sources: %v (%d folders)", err, len(out))
	}
	return out
}

// layers stand in this order: each imports only what is named before it, and itself.
var layers = []string{"core", "host", "fleet", "history", "app", "present", "serve", "cli"}

// leaves are the packages of the core that know neither TOML nor CEL; the host
// imports no other of the core.
var leaves = []string{"value", "problem", "measure", "mask", "shell", "schema", "facts", "plan", "probe",
	"wire", "cronline", "lazy"}

func TestLayers(t *testing.T) {
	for dir, list := range imports(t) {
		layer := strings.SplitN(dir, "/", 2)[0]
		at := slices.Index(layers, layer)
		if at < 0 {
			t.Errorf("%s is in no layer", dir)
		}
		for _, path := range list {
			inside, ours := strings.CutPrefix(path, "jadekettle/internal/")
			if !ours {
				continue
			}
			other := strings.SplitN(inside, "/", 2)[0]
			if slices.Index(layers, other) > at {
				t.Errorf("%s imports %s, which is below it", dir, path)
			}
			leaf, core := strings.CutPrefix(inside, "core/")
			if core && layer == "host" && !slices.Contains(leaves, leaf) {
				t.Errorf("%s imports %s, which is not a leaf of the core", dir, path)
			}
			if own, isCore := strings.CutPrefix(dir, "core/"); core && isCore && slices.Contains(leaves, own) &&
				!slices.Contains(leaves, leaf) {
				t.Errorf("the leaf %s imports %s", dir, path)
			}
		}
	}
}

// spoken are the packages below the application that the command line may import: what is wrong, what is written, and
// what happened. All else it asks of the application.
var spoken = []string{"core/problem", "core/value", "core/record"}

func TestTheCommandLineKnowsOnlyTheApplication(t *testing.T) {
	for dir, list := range imports(t) {
		if dir != "cli" && !strings.HasPrefix(dir, "cli/") {
			continue
		}
		for _, path := range list {
			inside, ours := strings.CutPrefix(path, "jadekettle/internal/")
			layer := strings.SplitN(inside, "/", 2)[0]
			if ours && slices.Contains([]string{"core", "host", "fleet", "history"}, layer) &&
				!slices.Contains(spoken, inside) {
				t.Errorf("%s imports %s", dir, path)
			}
		}
	}
}

func TestTheApplicationKnowsNoTerminal(t *testing.T) {
	for dir, list := range imports(t) {
		for _, path := range list {
			if (dir == "app" || strings.HasPrefix(dir, "app/")) && (strings.HasPrefix(path, "github.com/spf13/") ||
				strings.HasPrefix(path, "charm.land/") || path == "golang.org/x/term") {
				t.Errorf("%s imports %s", dir, path)
			}
		}
	}
}

func TestThePureCoreTouchesNothing(t *testing.T) {
	banned := []string{"os", "os/exec", "syscall", "net", "net/http", "path/filepath", "log", "math/rand", "os/signal"}
	for dir, list := range imports(t) {
		for _, path := range list {
			if strings.HasPrefix(dir, "core/") && slices.Contains(banned, path) {
				t.Errorf("%s imports %s", dir, path)
			}
			if strings.HasPrefix(dir, "host/") && dir != "host/machine/system" &&
				slices.Contains([]string{"os", "os/exec", "syscall", "net"}, path) {
				t.Errorf("%s imports %s, which only host/machine/system may", dir, path)
			}
		}
	}
}

func TestTheWorkerStaysSmall(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "jadekettle/cmd/jadekettle-worker").Output()
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(out), "jadekettle/internal/host/worker") {
		t.Fatal("the list of dependencies is not the worker's")
	}
	for _, banned := range []string{"cel.dev/", "spf13/cobra", "go-toml/v2\n", "jadekettle/internal/fleet",
		"jadekettle/internal/cli", "net/http", "golang.org/x/crypto"} {
		if strings.Contains(string(out), banned) {
			t.Errorf("the worker depends on %s", banned)
		}
	}
}
