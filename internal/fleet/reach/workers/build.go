//go:build !release

package workers

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// buildLimit is how long Go may take to build the worker; most of it was built
// with this program and is in Go's cache.
const buildLimit = time.Minute

var errNoSource = errors.New("the source that this program was built from is not available")

// small builds the worker alone, a quarter of this program, from the source that
// this program was built from. It fails where that is gone, was changed since, or
// there is no Go: then this program does as well.
func small(program string) ([]byte, error) {
	_, file, _, ok := runtime.Caller(0)
	root := filepath.Join(filepath.Dir(file), "../../../..")
	if !ok || !filepath.IsAbs(file) {
		return nil, errNoSource // built with -trimpath
	}
	if err := unchanged(root, program); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "jadekettle-worker-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	ctx, cancel := context.WithTimeout(context.Background(), buildLimit)
	defer cancel()
	out := filepath.Join(dir, "worker")
	c := exec.CommandContext(ctx, "go", "build", "-C", root, "-ldflags=-s -w", "-o", out, "./cmd/jadekettle-worker")
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH="+runtime.GOARCH, "GOPROXY=off",
		"GOTOOLCHAIN=local", "GOFLAGS=")
	if said, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("go build: %w: %s", err, said)
	}
	return os.ReadFile(out)
}

// unchanged says whether no source is newer than the program that was built of it.
func unchanged(root, program string) error {
	built, err := os.Stat(program)
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(root, "cmd/jadekettle-worker/main.go")); err != nil {
		return errNoSource
	}
	for _, part := range []string{"cmd", "internal", "go.mod"} {
		err := filepath.WalkDir(filepath.Join(root, part), func(p string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !source(p) {
				return err
			}
			info, err := e.Info()
			if err == nil && info.ModTime().After(built.ModTime()) {
				err = errNoSource
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// source says whether a file goes into the worker.
func source(p string) bool {
	return filepath.Base(p) == "go.mod" || strings.HasSuffix(p, ".go") && !strings.HasSuffix(p, "_test.go")
}
