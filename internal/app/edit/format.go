// Package edit writes the files of a project that people write: it formats them, appends declarations and makes new
// projects. Nothing is written that the project would not take.
package edit

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"jadekettle/internal/app"
	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
)

// Formatted is one file that was not in the canonical form.
type Formatted struct {
	Name     string // inside the project
	Old, New string
}

// Format writes TOML files canonically, all of the project without any, and reports each that it changed, or would in a
// preview. It gives how many were right already. A file that is not valid TOML is left as it is, and an error.
func Format(s *app.Site, args []string, preview bool, changed func(Formatted)) (right int, err error) {
	names, err := tomlFiles(s, args)
	if err != nil {
		return 0, err
	}
	var ps problem.Problems
	for _, name := range names {
		full := filepath.Join(s.Root, filepath.FromSlash(name))
		old, err := os.ReadFile(full)
		if err != nil {
			return right, err
		}
		text, err := manifest.Format(name, old)
		if err != nil {
			ps.AddErr(value.Place{File: name}, err)
			continue
		}
		if bytes.Equal(text, old) {
			right++
			continue
		}
		if !preview {
			info, err := os.Stat(full)
			if err != nil {
				return right, err
			}
			if err := atomicfile.Write(full, text, info.Mode().Perm()); err != nil {
				return right, fmt.Errorf("write %s: %w", name, err)
			}
		}
		changed(Formatted{name, string(old), string(text)})
	}
	return right, ps.Err()
}

// tomlFiles gives the files to format, as paths inside the project.
func tomlFiles(s *app.Site, args []string) ([]string, error) {
	var out []string
	for _, arg := range args {
		name, err := s.InProject(arg, "files")
		if err != nil {
			return nil, err
		}
		if path.Ext(name) != ".toml" {
			return nil, problem.Errorf("%s is not a TOML file", arg).Remedy("use files that end in .toml")
		}
		out = append(out, name)
	}
	if len(args) > 0 {
		return out, nil
	}
	err := fs.WalkDir(s.Files, ".", func(p string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && p != "." && (strings.HasPrefix(e.Name(), ".") || p == source.Dir || p == "simulated"):
			return fs.SkipDir
		case !e.IsDir() && path.Ext(p) == ".toml":
			out = append(out, p)
		}
		return nil
	})
	return out, err
}
