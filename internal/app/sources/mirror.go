package sources

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/problem"
)

// Mirror is a git repository of which projects are taken without a working copy of its own.
// It is kept in a folder of its own below Cache, with the files of the commits that were taken.
type Mirror struct {
	Cache   string // the folder for all mirrors
	URL     string
	Prompts bool // git may ask for credentials
	// Follow refuses a commit that does not come after the one that was taken before.
	Follow bool
}

// Taken is a project at one commit.
type Taken struct {
	URL    string
	Asked  string // the revision that was asked for; empty for the usual branch
	Commit string
	Dir    string // its files, which nobody changes
	Repo   string // the repository, for questions about commits
	Home   string // a folder that stays the same for all its commits
}

// SplitURL takes URL[@REV] apart. What is before a host, as in git@host:repo or
// ssh://git@host/repo, is not a revision.
func SplitURL(text string) (url, rev string) {
	path := 0
	if i := strings.Index(text, "://"); i >= 0 {
		if path = strings.IndexByte(text[i+3:], '/'); path < 0 {
			return text, ""
		}
		path += i + 3
	} else if i := strings.IndexByte(text, ':'); i >= 0 && !strings.Contains(text[:i], "/") {
		path = i
	}
	if i := strings.LastIndexByte(text[path:], '@'); i >= 0 {
		return text[:path+i], text[path+i+1:]
	}
	return text, ""
}

// unused is how long the files of a commit stay that nobody takes any more.
const unused = 14 * 24 * time.Hour

// head is where the repository's usual branch is fetched to.
const head = "refs/jadekettle/head"

// Checkout fetches the repository and gives the project at a revision: a branch, a tag or a
// commit, and the usual branch when it is empty. Where nothing has moved only that is asked, and
// for a whole commit that is there nothing.
func (m *Mirror) Checkout(ctx context.Context, rev string) (*Taken, error) {
	url, err := m.address()
	if err != nil {
		return nil, err
	}
	if scheme, _, ok := strings.Cut(url, "://"); ok && (scheme == "git" || scheme == "http") {
		return nil, problem.Errorf("%s:// does not verify the server, but its content is applied as root",
			scheme).
			Remedy("use https:// or ssh://")
	}
	if rev != "" && !revision().MatchString(rev) {
		return nil, problem.Errorf("invalid revision %q", rev).Remedy("use a branch, a tag or a commit")
	}
	sum := sha256.Sum256([]byte(url))
	home := filepath.Join(m.Cache, NameOf(url)+"-"+hex.EncodeToString(sum[:6]))
	if err := os.MkdirAll(home, 0o700); err != nil {
		return nil, err
	}
	unlock, err := locked(filepath.Join(home, "lock"))
	if err != nil {
		return nil, err
	}
	defer unlock()
	if whole().MatchString(rev) { // a commit is the same for ever
		t := &Taken{URL: m.URL, Asked: rev, Commit: rev, Repo: filepath.Join(home, "repository.git"), Home: home,
			Dir: filepath.Join(home, "at", rev)}
		if now := time.Now(); os.Chtimes(t.Dir, now, now) == nil {
			if !m.Follow {
				return t, nil
			}
			if err := m.follow(ctx, &Shelf{Dir: home, Prompts: m.Prompts}, t); !errors.Is(err, errOwnCopy) {
				return t, err
			}
		}
	}
	s := &Shelf{Dir: home, Prompts: m.Prompts}
	t, err := m.fetched(ctx, s, home, url, rev)
	if !errors.Is(err, errOwnCopy) {
		return t, err
	}
	if _, e := s.git(ctx, home, "ls-remote", url, "HEAD"); e != nil {
		return nil, err // it is theirs that cannot be had
	}
	if e := os.RemoveAll(filepath.Join(home, "repository.git")); e != nil {
		return nil, e
	}
	return m.fetched(ctx, s, home, url, rev) // again, since ours was broken
}

// errOwnCopy is wrapped by errors that a broken copy of the repository may be the reason of.
var errOwnCopy = errors.New("")

// fetched brings our copy of the repository up to date, and lays the files of a revision.
func (m *Mirror) fetched(ctx context.Context, s *Shelf, home, url, rev string) (*Taken, error) {
	repo := filepath.Join(home, "repository.git")
	if _, err := os.Stat(filepath.Join(repo, "HEAD")); errors.Is(err, fs.ErrNotExist) {
		if _, err := s.git(ctx, home, "init", "--quiet", "--bare", repo); err != nil {
			return nil, fmt.Errorf("%w%w", err, errOwnCopy)
		}
	}
	if _, err := s.git(ctx, repo, "fetch", "--quiet", "--prune", "--force", "--no-recurse-submodules", url,
		"+HEAD:"+head, "+refs/heads/*:refs/remotes/from/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return nil, problem.Errorf("fetch %s: %w%w", m.URL, err, errOwnCopy).
			Remedy("check that `git ls-remote %s` works with your credentials", m.URL)
	}
	t := &Taken{URL: m.URL, Asked: rev, Repo: repo, Home: home}
	var err error
	if rev == "" || rev == "HEAD" {
		t.Commit, err = s.git(ctx, repo, "rev-parse", "--verify", "--quiet", head+"^{commit}")
	} else {
		t.Commit, _, err = s.commitOf(ctx, repo, rev)
	}
	if err != nil && rev != "" && !errors.Is(err, errNoRevision) {
		return nil, err
	}
	if err != nil {
		return nil, problem.Errorf("revision %[2]q not found in %[1]s", m.URL, rev).
			Remedy("use a branch, a tag or a commit; `git ls-remote %s` lists them", m.URL)
	}
	t.Dir = filepath.Join(home, "at", t.Commit)
	if m.Follow {
		if err := m.follow(ctx, s, t); err != nil {
			return nil, err
		}
	}
	return t, m.lay(ctx, s, t)
}

// followed is the commit that was taken last by somebody who follows a repository.
const followed = "refs/jadekettle/followed"

// follow refuses a commit that does not come after the one before: whoever can move a branch, or
// is between, must not bring back what was repaired, or another history. A whole commit was named
// by somebody who knows.
func (m *Mirror) follow(ctx context.Context, s *Shelf, t *Taken) error {
	last, err := s.git(ctx, t.Repo, "rev-parse", "--verify", "--quiet", followed+"^{commit}")
	kept := filepath.Join(t.Home, "followed") // which a copy that is made again does not know
	if err != nil {
		var data []byte
		data, err = os.ReadFile(kept)
		last = strings.TrimSpace(string(data))
	}
	if err == nil && last != t.Commit && !whole().MatchString(t.Asked) && !Before(ctx, t.Repo, last, t.Commit) {
		return problem.Errorf("%s at %s is now %.12s, which does not descend from %.12s, the commit used before", m.URL,
			cmp.Or(t.Asked, "its default branch"), t.Commit, last).
			Remedy("if this is intended, use the full commit: --from %s@%s, or enroll the host again with it",
				m.URL, t.Commit)
	}
	if last != t.Commit || err != nil {
		if err := atomicfile.Write(kept, []byte(t.Commit+"\n"), 0o600); err != nil {
			return err
		}
	}
	if _, err = s.git(ctx, t.Repo, "update-ref", followed, t.Commit); err != nil {
		return fmt.Errorf("%w%w", err, errOwnCopy)
	}
	return nil
}

// address gives the URL as git takes it from any folder.
func (m *Mirror) address() (string, error) {
	if m.URL == "" || strings.HasPrefix(m.URL, "-") || strings.Contains(m.URL, "::") {
		return "", problem.Errorf("invalid repository URL %q", m.URL).
			Remedy("use a path, file://, ssh:// or https://")
	}
	if err := CheckURL(m.URL); err != nil {
		return "", err
	}
	if strings.Contains(m.URL, ":") {
		return m.URL, nil
	}
	return filepath.Abs(m.URL)
}

// lay puts the files of a commit in their place, unless they are there, and takes away those
// that nobody has taken for long.
func (m *Mirror) lay(ctx context.Context, s *Shelf, t *Taken) error {
	top := filepath.Dir(t.Dir)
	if err := os.MkdirAll(top, 0o700); err != nil {
		return err
	}
	now := time.Now()
	if os.Chtimes(t.Dir, now, now) == nil {
		return nil
	}
	fresh, err := os.MkdirTemp(top, ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(fresh)
	if _, err := s.git(ctx, t.Repo, "--work-tree="+fresh, "checkout", "--quiet", "--force", t.Commit+"^{commit}",
		"--", "."); err != nil {
		return fmt.Errorf("the commit %s cannot be unpacked: %w%w", t.Commit, err, errOwnCopy)
	}
	if err := os.Chmod(fresh, 0o700); err != nil {
		return err
	}
	if err := os.Rename(fresh, t.Dir); err != nil {
		return err
	}
	entries, err := os.ReadDir(top)
	if err != nil {
		return nil // which only tidying needs
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && e.Name() != t.Commit && now.Sub(info.ModTime()) > unused {
			os.RemoveAll(filepath.Join(top, e.Name()))
		}
	}
	return nil
}

// locked holds a file's lock until the function that it gives is called. The kernel lets it go
// with the process.
func locked(name string) (unlock func(), err error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, fmt.Errorf("lock %s: %w", name, err)
	}
	return func() { f.Close() }, nil
}
