package edit

import (
	"crypto/rand"
	"embed"
	"encoding/base32"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"jadekettle/internal/core/problem"
)

// Unfold writes an embedded project into a folder, giving it an identity of
// its own. Nothing is written when any of its files is there.
func Unfold(from fs.FS, top, dir string) ([]string, error) {
	var names []string
	err := fs.WalkDir(from, top, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, strings.TrimPrefix(p, top+"/"))
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return nil, problem.Errorf("%s already exists", filepath.Join(dir, name)).
				Remedy("choose another directory, or move it away")
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	var id [15]byte
	rand.Read(id[:])
	identity := strings.ToLower(base32.StdEncoding.EncodeToString(id[:]))
	for _, name := range names {
		text, err := fs.ReadFile(from, top+"/"+name)
		if err != nil {
			return nil, err
		}
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(to, []byte(strings.ReplaceAll(string(text), "PROJECT-IDENTITY", identity)),
			0o644); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// starter is the project that Starter makes.
//
//go:embed all:starter
var starter embed.FS

// Starter makes a small project in a folder, and gives its files.
func Starter(dir string) ([]string, error) { return Unfold(starter, "starter", dir) }
