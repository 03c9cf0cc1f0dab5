package sources

import (
	"context"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/source"
)

// Add fetches a repository at a revision and pins it, by a name, or by that of the repository without one.
func (s *Shelf) Add(ctx context.Context, name, url, at string) (source.Pin, error) {
	if name == "" {
		name = NameOf(url)
	}
	p := source.Pin{Name: name, URL: url, At: at}
	if !source.ValidName(name) {
		return p, problem.Errorf("invalid source name %q", name).
			Remedy("set one with --name, using letters, digits, dots, dashes and underscores")
	}
	if _, err := s.Pin(name); err == nil {
		return p, problem.Errorf("the source %q already exists", name).
			Remedy("update it with `jadekettle source update %s --at REV`, or choose another --name", name)
	}
	if err := s.Fetch(ctx, &p, ""); err != nil {
		return p, err
	}
	s.Pins = append(s.Pins, p)
	return p, s.Save()
}

// Update fetches a source again: its revision as it is now, a different one, or exactly the pinned commit.
func (s *Shelf) Update(ctx context.Context, p *source.Pin, at string, pinned bool) error {
	commit := ""
	if at != "" {
		p.At = at
	}
	if pinned {
		commit = p.Commit
	}
	if err := s.Fetch(ctx, p, commit); err != nil {
		return err
	}
	return s.Save()
}

// Manifests lists the manifests of a source, as groups name them.
func (s *Shelf) Manifests(p source.Pin) []string {
	names := []string{}
	entries, _ := os.ReadDir(filepath.Join(s.Dir, source.Dir, p.Name, manifest.Dir))
	for _, e := range entries {
		n := strings.TrimSuffix(e.Name(), ".toml")
		if n != e.Name() || e.IsDir() {
			names = append(names, p.Name+"/"+n)
		}
	}
	return names
}

// Documents lists the texts that came along with a source.
func (s *Shelf) Documents(name string) []string {
	out := []string{}
	fs.WalkDir(os.DirFS(s.Dir), path.Join(source.Dir, name), func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		ext := strings.ToLower(path.Ext(p))
		if ext == ".md" || ext == ".txt" || strings.HasPrefix(e.Name(), "README") {
			out = append(out, p)
		}
		return nil
	})
	return out
}

// Verify holds the copies to their pins.
func (s *Shelf) Verify() error {
	var ps problem.Problems
	source.Load(os.DirFS(s.Dir), s.Pins, &ps)
	return ps.Err()
}

// Remove takes a source out again.
func (s *Shelf) Remove(name string) error {
	if _, err := s.Pin(name); err != nil {
		return err
	}
	s.Pins = slices.DeleteFunc(s.Pins, func(p source.Pin) bool { return p.Name == name })
	if err := s.Save(); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(s.Dir, source.Dir, name))
}
