// Package source reads which manifests a project brings in from elsewhere: the
// pins in sources.lock, and whether the copies below sources/ are still what
// was pinned. It fetches nothing.
package source

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
)

// Dir is the folder of copies, and LockFile what pins them.
const (
	Dir      = "sources"
	LockFile = "sources.lock"
)

// Pin is one source: where it comes from and exactly what of it is used.
type Pin struct {
	// Name is the folder below sources/, and the first part of its manifests' names.
	Name   string `json:"name" doc:"Its name in this project."`
	URL    string `json:"url" doc:"Where it comes from."`
	At     string `json:"at" doc:"The revision that was asked for."`
	Commit string `json:"commit" doc:"The commit that it is pinned to."`
	// Hash is of the copy's content, see the func of that name.
	Hash  string      `json:"content" doc:"The hash of its files."`
	Place value.Place `json:"-"`
}

var (
	nameForm   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)
	commitForm = regexp.MustCompile(`^[0-9a-f]{40}([0-9a-f]{24})?$`)
	hashForm   = regexp.MustCompile(`^sha256:[0-9a-f]{64}$`)
)

// ValidName says whether a source may be called so.
func ValidName(name string) bool { return nameForm.MatchString(name) }

// Read reads the lock file alone. No file means no sources.
func Read(project fs.FS, problems *problem.Problems) []Pin {
	data, err := fs.ReadFile(project, LockFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		problems.At(value.Place{File: LockFile}, err.Error(), "")
		return nil
	}
	root, _ := manifest.ParseTOML(LockFile, data, problems)
	const do = "this file is written by the program; take its text from git again, or add the source anew"
	var out []Pin
	for _, k := range root.Keys {
		if k.Name == "format" {
			if k.Node.Value != int64(1) {
				problems.At(k.Node.Place, "the format of this file is not 1", "use a newer program")
			}
			continue
		}
		if k.Name != "source" || k.Node.Kind != manifest.Table {
			problems.At(k.Place, fmt.Sprintf("a lock file has no %q", k.Name), do)
			continue
		}
		for _, s := range k.Node.Keys {
			p := Pin{Name: s.Name, Place: s.Place}
			text := func(name string) string {
				if n := s.Node.Get(name); n != nil {
					t, _ := n.Value.(string)
					return t
				}
				return ""
			}
			p.URL, p.At, p.Commit, p.Hash = text("url"), text("at"), text("commit"), text("content")
			if s.Node.Kind != manifest.Table || !ValidName(s.Name) || p.URL == "" ||
				!commitForm.MatchString(p.Commit) ||
				!hashForm.MatchString(p.Hash) {
				problems.At(s.Place, fmt.Sprintf("the pin of %q is not whole: it needs url, at, commit and content",
					s.Name), do)
				continue
			}
			out = append(out, p)
		}
	}
	return out
}

// Write gives the text of a lock file.
func Write(pins []Pin) []byte {
	slices.SortFunc(pins, func(a, b Pin) int { return strings.Compare(a.Name, b.Name) })
	var b strings.Builder
	b.WriteString("# Written by the program. Keep it in version control, and leave it as it is.\nformat = 1\n")
	for _, p := range pins {
		fmt.Fprintf(&b, "\n[source.%s]\nurl = %s\nat = %s\ncommit = %s\ncontent = %s\n", manifest.QuoteKey(p.Name),
			manifest.Literal(p.URL), manifest.Literal(p.At), manifest.Literal(p.Commit), manifest.Literal(p.Hash))
	}
	return []byte(b.String())
}

// Load holds every copy to its pin. It gives the folders of those that are
// sound, by name.
func Load(project fs.FS, pins []Pin, problems *problem.Problems) map[string]string {
	out := map[string]string{}
	for _, p := range pins {
		dir := path.Join(Dir, p.Name)
		got, err := Hash(project, dir)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			problems.AddErr(p.Place, problem.Errorf("the source %q is pinned, and %s is not there", p.Name, dir).
				Remedy("fetch it: `jadekettle source update %s --pinned`", shell.Quote(p.Name)))
		case err != nil:
			problems.At(p.Place, fmt.Sprintf("the source %q cannot be read: %v", p.Name, err), "")
		case got != p.Hash:
			problems.AddErr(p.Place, problem.Errorf("the copy in %s is not what was pinned", dir).
				Remedy("someone changed the copy or the lock file: fetch it anew: `jadekettle source update %s "+
					"--pinned`",
					shell.Quote(p.Name)))
		default:
			out[p.Name] = dir
		}
	}
	entries, err := fs.ReadDir(project, Dir)
	if err != nil {
		return out
	}
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") && !slices.ContainsFunc(pins,
			func(p Pin) bool { return p.Name == e.Name() }) {
			dir := path.Join(Dir, e.Name())
			problems.AddErr(value.Place{File: dir}, problem.Errorf("%s has no pin in %s", dir, LockFile).
				Remedy("add it, or remove the folder: `jadekettle source add URL --at REV`"))
		}
	}
	return out
}

// Hash gives a hash over a folder's files: their paths, whether they can be
// executed, and what is in them, in the order of their paths.
func Hash(project fs.FS, dir string) (string, error) {
	h := sha256.New()
	err := fs.WalkDir(project, dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return fmt.Errorf("%s is no regular file", p)
		}
		f, err := project.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		inner := sha256.New()
		if _, err := io.Copy(inner, f); err != nil {
			return err
		}
		name := p // whose first dot, as of .gitignore, is its own
		if dir != "." {
			name = strings.TrimPrefix(p, dir+"/")
		}
		fmt.Fprintf(h, "%q %v %x\n", name, info.Mode()&0o111 != 0, inner.Sum(nil))
		return nil
	})
	if err != nil {
		return "", err
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), nil
}
