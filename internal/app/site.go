package app

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/app/review"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/ownkind"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/history/store"
	"jadekettle/internal/host/kinds"
)

// Where says which project a call is about, and what it says of it.
type Where struct {
	// the project's folder; empty for this one or the nearest above; with From inside the repository
	Dir        string
	Env        string   // the environment; empty for the usual one
	Params     []string // MANIFEST.NAME=VALUE
	Identities []string // files that open encrypted data
	From       string   // URL[@REV] of a git repository that the project is taken from; empty for a folder
	Revision   string   // the revision, where From is a URL alone
	Here       bool     // this machine is the host
	Newer      bool     // the project may require a newer program
	Input      map[string]any
}

// Site is the folder of a project that was found, and not read: enough for what needs no manifest to be right, such as
// its history, its secrets and its sources.
type Site struct {
	*Caller
	Where
	Root  string // its folder
	Files fs.FS  // what is in it; links that lead out of it lead nowhere
	Taken *sources.Taken
}

// Find finds the project of a call. It must not require a newer program.
func Find(ctx context.Context, c *Caller, w Where) (*Site, error) {
	s := &Site{Caller: c, Where: w}
	if w.From != "" {
		if err := s.fetchProject(ctx); err != nil {
			return nil, err
		}
	}
	var err error
	if s.Root, err = folder(s.Where.Dir); err != nil {
		return nil, err
	}
	if s.Files, err = openFiles(s.Root); err != nil {
		return nil, err
	}
	if w.Newer {
		return s, nil
	}
	return s, s.Required(s.Files)
}

// folder finds a project's folder: the one given, or the nearest from here
// upwards that holds a jadekettle.toml.
func folder(given string) (string, error) {
	if given != "" {
		if _, err := os.Stat(filepath.Join(given, settings.File)); err != nil {
			return "", problem.Errorf("not a Jade Kettle project: %s (no %s)", given, settings.File).
				Remedy("create one with `jadekettle init %s`", given)
		}
		return filepath.Abs(given)
	}
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for dir := here; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, settings.File)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", problem.Errorf("no %[2]s found in %[1]s or any parent directory", here, settings.File).
				Remedy("create a project with `jadekettle init DIR`, or select one with --project")
		}
	}
}

// fetchProject takes the project from a git repository.
func (s *Site) fetchProject(ctx context.Context) error {
	cache, err := s.CacheDir()
	if err != nil {
		return err
	}
	url, rev := sources.SplitURL(s.From)
	if s.Revision != "" {
		url, rev = s.From, s.Revision
	}
	m := &sources.Mirror{Cache: filepath.Join(cache, "from"), URL: url, Prompts: s.Ask != nil, Follow: s.Here}
	if s.Taken, err = m.Checkout(ctx, rev); err != nil {
		return err
	}
	if inside := s.Where.Dir; !filepath.IsLocal(inside) && inside != "" {
		return problem.Errorf("--project is %s, which is not a directory in the repository", inside).
			Remedy("use a path in the repository, or remove it")
	}
	s.Where.Dir = filepath.Join(s.Taken.Dir, s.Where.Dir)
	return nil
}

// openFiles opens a project's files; links that lead out of the folder lead nowhere.
func openFiles(dir string) (fs.FS, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return plainFiles{root.FS()}, nil
}

// plainFiles opens files and folders alone: to open a named pipe waits for who writes into it, and
// a device may have no end.
type plainFiles struct{ fs.FS }

// Open opens a file or a folder.
func (p plainFiles) Open(name string) (fs.File, error) {
	info, err := fs.Stat(p.FS, name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is not a file or a directory")}
	}
	return p.FS.Open(name)
}

// Stat describes a file without opening it.
func (p plainFiles) Stat(name string) (fs.FileInfo, error) { return fs.Stat(p.FS, name) }

// ReadDir lists a folder.
func (p plainFiles) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(p.FS, name) }

// Required holds what the settings of a project say of `requires` against this program. It comes before
// the rest is read, which an older program may not understand.
func (c *Caller) Required(files fs.FS) error {
	s := settings.Glance(files)
	if s.Requires == "" || !older(c.Version, strings.TrimLeft(s.Requires, ">= ")) {
		return nil
	}
	var ps problem.Problems
	ps.At(s.RequiresPlace, fmt.Sprintf("this project requires jadekettle %s, but this is %s", s.Requires, c.Version),
		"use a newer version")
	return ps.Err()
}

func older(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range bs {
		x, y := 0, 0
		if i < len(as) {
			x, _ = strconv.Atoi(as[i])
		}
		y, _ = strconv.Atoi(bs[i])
		if x != y {
			return x < y
		}
	}
	return false
}

// Glance gives the settings as far as they can be read, for no environment.
func (s *Site) Glance() settings.Settings { return settings.Glance(s.Files) }

// In is the same site in an environment.
func (s *Site) In(env string) *Site {
	out := *s
	out.Env = env
	return &out
}

// Runs gives the runs of the project, which need not be one that loads.
func (s *Site) Runs() (store.Project, error) {
	glance := s.Glance()
	if glance.Project == "" {
		return store.Project{}, problem.Errorf("%s does not identify this project", settings.File).
			Remedy("`jadekettle lint` shows what is wrong with it")
	}
	return s.RunsOf(glance)
}

// RunsOf gives the runs of a project with these settings, once it may keep them where they say.
func (s *Site) RunsOf(of settings.Settings) (store.Project, error) {
	if err := s.permit(of, nil); err != nil {
		return store.Project{}, err
	}
	return s.history(of), nil
}

// history gives the runs of a project as they are kept.
func (s *Site) history(of settings.Settings) store.Project {
	at := &store.Store{URL: of.HistoryURL, Report: func(text string) { s.Note(visible.Line(text)) }}
	if at.URL != "" {
		key, err := s.factsKey()
		s.Unkept("the key for facts", err)
		at.Key = key
	} else {
		at.File = cmp.Or(s.Expand(of.History, s.Home()), s.HistoryFile())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stores == nil {
		s.stores = map[string]*store.Store{}
	}
	if s.stores[at.File+at.URL] == nil {
		s.stores[at.File+at.URL] = at
	}
	return store.Project{Store: s.stores[at.File+at.URL], ID: of.Project, Keep: of.KeepRuns}
}

// HistoryFile is where runs are kept when the settings do not say. Empty where no folder is known.
func (c *Caller) HistoryFile() string { return c.stateFile("history.db") }

func (c *Caller) stateFile(name string) string {
	if dir := c.StateDir(); dir != "" {
		return filepath.Join(dir, name)
	}
	return ""
}

// factsKey reads the key with which facts are encrypted that go into a database, or makes one. Without
// one none of them are this machine's own.
func (c *Caller) factsKey() ([]byte, error) {
	key := make([]byte, sha256.Size)
	rand.Read(key) // a key that nothing was encrypted with, if none can be kept
	name := c.stateFile("facts-key")
	if name == "" {
		return key, nil
	}
	kept, err := secrets.ReadFile(name)
	switch {
	case err == nil && len(kept) == sha256.Size:
		return kept, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return key, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return key, err
	}
	return key, atomicfile.Write(name, key, 0o600)
}

// Home is the folder to which paths belong that are written to: the project's, or where it was
// taken from a repository, one that stays.
func (s *Site) Home() string {
	if s.Taken != nil {
		return s.Taken.Home
	}
	return s.Root
}

// Keyring is what opens the encrypted data of the project.
func (s *Site) Keyring() *secrets.Keyring {
	k := &secrets.Keyring{
		Files: s.Identities, Variable: s.Getenv(IdentityVariable), Called: IdentityVariable,
		Expand: func(name string) string { return s.Expand(name, "") },
		Usual: func() []string {
			list := []string{secrets.IdentityFile}
			if own := s.Glance().Identities; len(own) > 0 {
				list = own
			}
			for i, f := range list {
				list[i] = s.Expand(f, s.Root)
			}
			return list
		},
		Remark: s.Note,
	}
	if s.Ask != nil {
		k.Ask = s.Ask.Secret
	}
	return k
}

// Vault is the encrypted data of the project.
func (s *Site) Vault() *secrets.Vault {
	return &secrets.Vault{Dir: s.Root, Files: s.Files, Keys: s.Keyring(), Settings: s.Glance()}
}

// Shelf is the sources of the project.
func (s *Site) Shelf() (*sources.Shelf, error) {
	shelf, err := sources.Open(s.Root, s.Files)
	if shelf != nil {
		shelf.Prompts = s.Ask != nil
	}
	return shelf, err
}

// Kinds gives the kinds that the project may use: the built-in ones and its own. What is wrong with
// those, lint reports.
func (s *Site) Kinds() schema.Kinds {
	folders := []string{""}
	entries, _ := fs.ReadDir(s.Files, "sources")
	for _, e := range entries {
		folders = append(folders, path.Join("sources", e.Name()))
	}
	var ps problem.Problems
	return kinds.Schemas().With(ownkind.Load(s.Files, folders, kinds.Schemas(), &ps))
}

// Options are what the call says of the project.
func (s *Site) Options() (compile.Options, error) {
	o := compile.Options{Env: s.Env, Params: map[string]string{}, Input: s.Input, Open: s.Keyring().Open}
	for _, p := range s.Params {
		name, v, ok := strings.Cut(p, "=")
		if !ok || !strings.Contains(name, ".") {
			return o, problem.Errorf("invalid --param %q", p).Remedy("use --param MANIFEST.NAME=VALUE")
		}
		o.Params[name] = v
	}
	return o, nil
}

// revised gives the commit that the project is at, and whether its files were changed since.
func (s *Site) revised(ctx context.Context) (commit string, edited bool) {
	if s.Taken != nil {
		return s.Taken.Commit, false
	}
	for at := s.Root; ; at = filepath.Dir(at) { // git is asked only where there is a repository
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return sources.Head(ctx, s.Root, s.counts)
		}
		if at == filepath.Dir(at) {
			return "", false
		}
	}
}

// counts says whether a file that git does not know is of the project. A preview that was saved beside the project's
// files is not: what can be read as one is neither an inventory nor settings, and nothing else is read there.
func (s *Site) counts(name string) bool {
	if strings.Contains(name, "/") {
		return true
	}
	data, err := fs.ReadFile(s.Files, name)
	if err == nil {
		_, err = review.Read(name, data)
	}
	return err != nil
}

// repository is the folder in which git is asked about commits.
func (s *Site) repository() string {
	if s.Taken != nil {
		return s.Taken.Repo
	}
	return s.Root
}

// CallAgain gives the flags by which a later call of this program finds the project of this one. They are all that is
// ever written into a unit or given to a process for that.
func (s *Site) CallAgain() []string {
	var out []string
	switch {
	case s.Taken == nil:
		out = []string{"--project", s.Root}
	default:
		out = []string{"--from", s.From}
		if inside, err := filepath.Rel(s.Taken.Dir, s.Root); err == nil && inside != "." {
			out = append(out, "--project", inside)
		}
	}
	return out
}

// InProject gives the path of a file inside the project, with slashes. what is what such a file is called.
func (s *Site) InProject(name, what string) (string, error) {
	full, err := filepath.Abs(name)
	if err != nil {
		return "", err
	}
	rel, err := filepath.Rel(s.Root, full)
	if err != nil || !filepath.IsLocal(rel) {
		return "", problem.Errorf("%s is not in the project %s", name, s.Root).Remedy("use one of its %s", what)
	}
	return filepath.ToSlash(rel), nil
}

// Commit gives the commit that the project is at; empty outside of git.
func (s *Site) Commit(ctx context.Context) string {
	commit, _ := s.revised(ctx)
	return commit
}
