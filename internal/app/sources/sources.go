// Package sources fetches manifests from git repositories into a project, with the git program of this machine and its
// credentials.
//
// Fetched manifests are copied into sources/, in version control with the rest, and sources.lock records their commit
// and content. A run therefore fetches nothing, and a modified copy or a moved tag is reported. A [Mirror] serves
// projects that are fetched from a repository for each call; one that is followed never goes back to an older commit.
package sources

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	neturl "net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/source"
)

// Shelf is the sources of a project.
type Shelf struct {
	Dir     string // the project's folder
	Pins    []source.Pin
	Prompts bool // git may ask on the terminal

	now string // the commit that the revision last fetched has now
	tag bool   // that revision is a tag
}

// Open reads the pins of a project.
func Open(dir string, root fs.FS) (*Shelf, error) {
	var ps problem.Problems
	return &Shelf{Dir: dir, Pins: source.Read(root, &ps)}, ps.Err()
}

// Pin finds a source by name.
func (s *Shelf) Pin(name string) (*source.Pin, error) {
	var names []string
	for i := range s.Pins {
		if s.Pins[i].Name == name {
			return &s.Pins[i], nil
		}
		names = append(names, s.Pins[i].Name)
	}
	return nil, problem.Errorf("unknown source %q", name).
		Meant(name, names, "add it with `jadekettle source add URL --at REV`")
}

// Save writes the pins into the lock file.
func (s *Shelf) Save() error {
	return atomicfile.Write(filepath.Join(s.Dir, source.LockFile), source.Write(s.Pins), 0o644)
}

// NameOf gives the last part of a URL without .git.
func NameOf(url string) string {
	url = strings.TrimSuffix(strings.TrimRight(url, "/"), ".git")
	return url[strings.LastIndexAny(url, "/:")+1:]
}

// git runs git with a fixed behaviour: no prompts off a terminal, no hooks, no
// configuration of the repository that is fetched.
func (s *Shelf) git(ctx context.Context, dir string, args ...string) (string, error) {
	c := exec.CommandContext(ctx, "git", append([]string{"-c", "core.hooksPath=/dev/null", "-c",
		"protocol.ext.allow=never", "-c", "core.symlinks=true"}, args...)...)
	c.Dir = dir
	c.Env = append(slices.DeleteFunc(os.Environ(), ofRepository), "LC_ALL=C")
	if !s.Prompts {
		c.Env = append(c.Env, "GIT_TERMINAL_PROMPT=0")
	}
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return "", problem.Errorf("git is not installed on this machine").Remedy("install it; sources need it")
	}
	if err != nil {
		return "", fmt.Errorf("git %s: %s", args[0], lastLines(errs.String(), 3))
	}
	return strings.TrimSpace(out.String()), nil
}

// ofRepository says whether a variable speaks of the repository that this
// program was called in, as from a hook.
func ofRepository(v string) bool {
	name, _, _ := strings.Cut(v, "=")
	return slices.Contains([]string{"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY",
		"GIT_COMMON_DIR", "GIT_PREFIX"}, name)
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], " ")
}

// revision is what may stand behind --at; a dash first would be an option.
var revision = lazy.Regexp(`^[A-Za-z0-9_][A-Za-z0-9_./+@-]*$`)

// CheckURL refuses a URL with a password or a token in it: it would stand in the
// lock file and in every message.
func CheckURL(url string) error {
	u, err := neturl.Parse(url)
	if err != nil {
		return nil
	}
	_, password := u.User.Password()
	if named := u.User != nil && (password || u.Scheme != "ssh"); !named && schema.SecretQuery(u) == "" {
		return nil
	}
	return problem.Errorf("the URL of the repository at %s contains a password or token, which would be stored in "+
		"%s and shown", u.Host, source.LockFile).
		Remedy("remove it, and configure git's credentials instead: see gitcredentials(7)")
}

// Fetch copies a source into its folder and fills in the pin. With a commit it
// takes that one, whatever the revision is now.
func (s *Shelf) Fetch(ctx context.Context, p *source.Pin, commit string) error {
	if strings.HasPrefix(p.URL, "-") || strings.Contains(p.URL, "::") {
		return problem.Errorf("invalid repository URL %q", p.URL).Remedy("use a path, file://, ssh:// or https://")
	}
	if err := CheckURL(p.URL); err != nil {
		return err
	}
	if !revision().MatchString(p.At) {
		return problem.Errorf("invalid revision %q", p.At).Remedy("use a tag, a branch or a commit")
	}
	work, err := os.MkdirTemp("", "jadekettle-source-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if _, err := s.git(ctx, work, "init", "--quiet", "--bare", "."); err != nil {
		return err
	}
	url := p.URL
	if !strings.Contains(url, "://") && !strings.Contains(url, ":") && !filepath.IsAbs(url) {
		url = filepath.Join(s.Dir, url)
	}
	if _, err := s.git(ctx, work, "fetch", "--quiet", "--no-recurse-submodules", url,
		"+refs/heads/*:refs/remotes/from/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return fmt.Errorf("fetch %s: %w", p.URL, err)
	}
	s.now, s.tag = "", false
	now, tag, err := s.commitOf(ctx, work, p.At)
	if err == nil {
		s.now, s.tag = now, tag
	}
	switch {
	case commit != "":
	case errors.Is(err, errNoRevision):
		return problem.Errorf("revision %[2]q not found in %[1]s", p.URL, p.At).
			Remedy("use a tag, a branch or a full commit")
	case err != nil:
		return err
	default:
		commit = now
	}
	return s.unpack(ctx, work, p, commit)
}

// errNoRevision says that a repository has nothing of a name.
var errNoRevision = errors.New("the revision does not exist")

var (
	// whole is a commit in full: an object, whatever else has that name.
	whole = lazy.Regexp(`^([0-9a-f]{40}|[0-9a-f]{64})$`)
	// short is the beginning of one, and seems is what nobody takes for a name.
	short = lazy.Regexp(`^[0-9a-f]{4,63}$`)
	seems = lazy.Regexp(`^[0-9a-f]{7,63}$`)
)

// commitOf resolves a revision as people name it, in a repository that was fetched to
// refs/remotes/from and refs/tags. Whoever may push chooses the names of tags and branches, so none
// takes the place of another: a whole commit is that object and nothing else, a name that is a
// branch and a tag is refused unless it is written out as refs/heads/NAME or refs/tags/NAME, and so
// is the beginning of a commit that is such a name. tag says that it is a tag.
func (s *Shelf) commitOf(ctx context.Context, work, at string) (commit string, tag bool, err error) {
	find := func(name string) (string, bool) {
		commit, err := s.git(ctx, work, "rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
		return commit, err == nil
	}
	if name, ok := strings.CutPrefix(at, "refs/heads/"); ok {
		at = "refs/remotes/from/" + name
	}
	if whole().MatchString(at) || strings.HasPrefix(at, "refs/") {
		if commit, ok := find(at); ok && (commit == at || !whole().MatchString(at)) {
			return commit, strings.HasPrefix(at, "refs/tags/"), nil
		}
		return "", false, errNoRevision
	}
	tagged, isTag := find("refs/tags/" + at)
	branch, isBranch := find("refs/remotes/from/" + at)
	var begins string
	if short().MatchString(at) {
		objects, _ := s.git(ctx, work, "rev-parse", "--disambiguate="+at)
		for id := range strings.Lines(objects) {
			if id = strings.TrimSpace(id); len(id) > len(at) {
				if commit, ok := find(id); ok && commit == id {
					if begins != "" {
						return "", false, problem.Errorf("%q is ambiguous: several commits start with it", at).
							Remedy("use the full commit")
					}
					begins = commit
				}
			}
		}
	}
	switch {
	case isTag && isBranch:
		return "", false, problem.Errorf("%q is both a branch and a tag", at).
			Remedy("write refs/heads/%s or refs/tags/%s", at, at)
	case (isTag || isBranch) && (begins != "" || seems().MatchString(at)):
		return "", false, problem.Errorf("%q is a branch or a tag, but looks like the start of a commit", at).
			Remedy("write refs/heads/%s, refs/tags/%s or the full commit", at, at)
	case isTag:
		return tagged, true, nil
	case isBranch:
		return branch, false, nil
	case begins != "":
		return begins, false, nil
	}
	return "", false, errNoRevision
}

// unpack puts the files of a commit beside the old copy, and then in its place.
func (s *Shelf) unpack(ctx context.Context, work string, p *source.Pin, commit string) error {
	top := filepath.Join(s.Dir, source.Dir)
	if err := os.MkdirAll(top, 0o755); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(top, ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(fresh)
	if _, err := s.git(ctx, work, "--work-tree="+fresh, "checkout", "--quiet", "--force", commit+"^{commit}", "--",
		"."); err != nil {
		return fmt.Errorf("the commit %s cannot be unpacked: %w", commit, err)
	}
	if err := os.Chmod(fresh, 0o755); err != nil {
		return err
	}
	if info, err := os.Stat(filepath.Join(fresh, manifest.Dir)); err != nil || !info.IsDir() {
		return problem.Errorf("%s at %s has no directory %s", p.URL, p.At, manifest.Dir).
			Remedy("a source must have the layout of a project")
	}
	hash, err := source.Hash(os.DirFS(fresh), ".")
	if err != nil {
		return problem.Errorf("%s at %s cannot be used: %w", p.URL, p.At, err).
			Remedy("a source may contain only regular files")
	}
	if p.Hash != "" && p.Commit == commit && p.Hash != hash {
		return problem.Errorf("the commit %s of %s does not match its pin", commit[:12], p.URL).
			Remedy("the lock file was edited by hand; restore it from version control")
	}
	to := filepath.Join(top, p.Name)
	old := fresh + "-old"
	if err := os.Rename(to, old); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	defer os.RemoveAll(old)
	if err := os.Rename(fresh, to); err != nil {
		return errors.Join(err, os.Rename(old, to))
	}
	p.Commit, p.Hash = commit, hash
	return nil
}

// Compare fetches a pinned commit into another place and holds it to the pin.
// Where the revision is a branch that has moved on, it gives the commit that it
// is now; a tag that was moved is an error.
func (s *Shelf) Compare(ctx context.Context, p source.Pin) (moved string, err error) {
	dir, err := os.MkdirTemp("", "jadekettle-verify-*")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	url := p.URL
	if !strings.Contains(url, ":") && !filepath.IsAbs(url) {
		p.URL = filepath.Join(s.Dir, url)
	}
	if p.Commit == "" {
		return "", errors.New("it has no pin")
	}
	elsewhere := &Shelf{Dir: dir, Prompts: s.Prompts}
	pinned := p.Commit
	if err := elsewhere.Fetch(ctx, &p, pinned); err != nil {
		return "", err
	}
	switch {
	case elsewhere.now == pinned:
		return "", nil
	case elsewhere.now == "":
		return "", problem.Errorf("the revision %s of %s no longer exists", p.At, p.Name).
			Remedy("ask its maintainers, or pin another revision")
	case elsewhere.tag:
		return "", problem.Errorf("the tag %s of %s was moved: it is now commit %.12s, but %.12s is pinned", p.At,
			p.Name, elsewhere.now, pinned).
			Remedy("ask its maintainers why; an update uses the new commit")
	}
	return elsewhere.now, nil
}
