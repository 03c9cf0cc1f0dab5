package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli/screen"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/source"
	"jadekettle/internal/history"
)

func (a *App) sourceCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "source", Short: "Bring in manifests from git repositories, pinned", GroupID: "grow",
		Long: "A source is a git repository with a folder manifests/, as a project has. Its files are copied into\nsources/NAME, and sources.lock pins the commit and the content; both belong into version control. A group\nor a use names its manifests as NAME/MANIFEST.",
	}
	c.AddCommand(a.sourceAdd(), a.sourceUpdate(), a.sourceList(), a.sourceShow(), a.sourceVerify(), a.sourceRemove())
	return c
}

// shelf is the sources of a project.
type shelf struct {
	app  *App
	dir  string
	root fs.FS
	pins []source.Pin
}

func (a *App) shelf() (*shelf, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	var ps problem.Problems
	return &shelf{app: a, dir: dir, root: root, pins: source.Read(root, &ps)}, ps.Err()
}

func (s *shelf) pin(name string) (*source.Pin, error) {
	var names []string
	for i := range s.pins {
		if s.pins[i].Name == name {
			return &s.pins[i], nil
		}
		names = append(names, s.pins[i].Name)
	}
	return nil, problem.Errorf("there is no source %q", name).Remedy("%s", problem.Meant(name, names, "add one with `jadekettle source add URL --at REV`"))
}

func (s *shelf) save() error {
	return history.Replace(filepath.Join(s.dir, source.LockFile), source.Write(s.pins), 0o644)
}

func (a *App) sourceAdd() *cobra.Command {
	name, at := "", ""
	c := &cobra.Command{
		Use: "add URL --at REV", Short: "Copy a repository's manifests and pin them", Args: cobra.ExactArgs(1),
		Long:    "Add fetches a repository with git, over file, ssh or https, copies its files into sources/NAME and pins the\ncommit and the content in sources.lock. A revision is a tag, a branch or a commit; a path that is not\nabsolute counts from the project.",
		Example: "  jadekettle source add https://git.example.org/tide-manifests.git --at v1.2\n  jadekettle source add ssh://git@git.example.org/tide.git --at main --name tide",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if at == "" {
				return problem.Errorf("--at is missing").Remedy("name the tag, branch or commit that is to be used")
			}
			if name == "" {
				name = nameOf(args[0])
			}
			if !source.ValidName(name) {
				return problem.Errorf("%q is no name for a source", name).Remedy("give one with --name, in letters, digits, dots, dashes and underscores")
			}
			if _, err := s.pin(name); err == nil {
				return problem.Errorf("there is a source %q already", name).Remedy("update it with `jadekettle source update %s --at REV`, or choose another --name", name)
			}
			p := source.Pin{Name: name, URL: args[0], At: at}
			if err := s.fetch(c.Context(), &p, ""); err != nil {
				return err
			}
			s.pins = append(s.pins, p)
			if err := s.save(); err != nil {
				return err
			}
			s.tell(p)
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "the tag, branch or commit")
	c.Flags().StringVar(&name, "name", "", "what to call it (default: the last part of the URL)")
	return c
}

// nameOf gives the last part of a URL without .git.
func nameOf(url string) string {
	url = strings.TrimSuffix(strings.TrimRight(url, "/"), ".git")
	return url[strings.LastIndexAny(url, "/:")+1:]
}

// tell says what a source holds.
func (s *shelf) tell(p source.Pin) {
	names := []string{}
	entries, _ := fs.ReadDir(s.root, path.Join(source.Dir, p.Name, manifest.Dir))
	for _, e := range entries {
		n := strings.TrimSuffix(e.Name(), ".toml")
		if n != e.Name() || e.IsDir() {
			names = append(names, p.Name+"/"+n)
		}
	}
	fmt.Fprintf(s.app.Out, "%s  %s at %s\n", screen.Paint(screen.Loud, p.Name), p.Commit[:12], p.At)
	fmt.Fprintf(s.app.Out, "  manifests: %s\n", strings.Join(names, ", "))
}

// git runs git with a fixed behaviour: no prompts off a terminal, no hooks, no
// configuration of the repository that is fetched.
func (s *shelf) git(ctx context.Context, dir string, args ...string) (string, error) {
	c := exec.CommandContext(ctx, "git", append([]string{"-c", "core.hooksPath=/dev/null", "-c", "protocol.ext.allow=never", "-c", "core.symlinks=true"}, args...)...)
	c.Dir = dir
	c.Env = append(slices.DeleteFunc(os.Environ(), ofRepository), "LC_ALL=C")
	if !s.app.Terminal {
		c.Env = append(c.Env, "GIT_TERMINAL_PROMPT=0")
	}
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return "", problem.Errorf("git is not installed on this machine").Remedy("sources need it")
	}
	if err != nil {
		return "", fmt.Errorf("git %s: %s", args[0], screen.Line(lastLines(errs.String(), 3)))
	}
	return strings.TrimSpace(out.String()), nil
}

// ofRepository says whether a variable speaks of the repository that this
// program was called in, as from a hook.
func ofRepository(v string) bool {
	name, _, _ := strings.Cut(v, "=")
	return slices.Contains([]string{"GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR", "GIT_PREFIX"}, name)
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], " ")
}

// revision is what may stand behind --at; a dash first would be an option.
var revision = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_./+@-]*$`)

// fetch copies a source into its folder and fills in the pin. With a commit it
// takes that one, whatever the revision is now.
func (s *shelf) fetch(ctx context.Context, p *source.Pin, commit string) error {
	if strings.HasPrefix(p.URL, "-") || strings.Contains(p.URL, "::") {
		return problem.Errorf("%q is no URL of a repository", p.URL).Remedy("write a path, file://, ssh:// or https://")
	}
	if !revision.MatchString(p.At) {
		return problem.Errorf("%q is no revision", p.At).Remedy("name a tag, a branch or a commit")
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
		url = filepath.Join(s.dir, url)
	}
	if _, err := s.git(ctx, work, "fetch", "--quiet", "--no-recurse-submodules", url, "+refs/heads/*:refs/remotes/from/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return fmt.Errorf("fetch %s: %w", p.URL, err)
	}
	if commit == "" {
		if commit, err = s.commitOf(ctx, work, p.At); err != nil {
			return problem.Errorf("%s has no revision %q", p.URL, p.At).Remedy("name a tag, a branch or a whole commit of it")
		}
	}
	return s.unpack(ctx, work, p, commit)
}

// commitOf resolves a tag, a branch or a commit, in this order.
func (s *shelf) commitOf(ctx context.Context, work, at string) (string, error) {
	var err error
	for _, ref := range []string{"refs/tags/" + at, "refs/remotes/from/" + at, at} {
		var commit string
		if commit, err = s.git(ctx, work, "rev-parse", "--verify", "--quiet", "--end-of-options", ref+"^{commit}"); err == nil {
			return commit, nil
		}
	}
	return "", err
}

// unpack puts the files of a commit beside the old copy, and then in its place.
func (s *shelf) unpack(ctx context.Context, work string, p *source.Pin, commit string) error {
	top := filepath.Join(s.dir, source.Dir)
	if err := os.MkdirAll(top, 0o755); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(top, ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(fresh)
	if _, err := s.git(ctx, work, "--work-tree="+fresh, "checkout", "--quiet", "--force", commit, "--", "."); err != nil {
		return fmt.Errorf("the commit %s cannot be unpacked: %w", commit, err)
	}
	if err := os.Chmod(fresh, 0o755); err != nil {
		return err
	}
	if info, err := os.Stat(filepath.Join(fresh, manifest.Dir)); err != nil || !info.IsDir() {
		return problem.Errorf("%s at %s has no folder %s", p.URL, p.At, manifest.Dir).Remedy("a source is laid out like a project")
	}
	hash, err := source.Hash(os.DirFS(fresh), ".")
	if err != nil {
		return problem.Errorf("%s at %s cannot be used: %w", p.URL, p.At, err).Remedy("a source holds plain files only")
	}
	if p.Hash != "" && p.Commit == commit && p.Hash != hash {
		return problem.Errorf("the commit %s of %s is not what was pinned", commit[:12], p.URL).Remedy("the lock file was changed by hand: take it from version control")
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

func (a *App) sourceUpdate() *cobra.Command {
	at, pinned := "", false
	c := &cobra.Command{
		Use: "update [NAME...]", Short: "Fetch sources anew: what their revision is now, or another", ValidArgsFunction: a.completeSources,
		Long: "Update fetches the revision of each source as it is now and pins what it finds. With --at it takes another\nrevision, with --pinned exactly the commit that is pinned, as after a checkout without the copies.",
		RunE: func(c *cobra.Command, names []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if at != "" && (pinned || len(names) != 1) {
				return problem.Errorf("--at is for one source, without --pinned").Remedy("name it")
			}
			for _, n := range names {
				if _, err := s.pin(n); err != nil {
					return err
				}
			}
			for i := range s.pins {
				p := &s.pins[i]
				if len(names) > 0 && !slices.Contains(names, p.Name) {
					continue
				}
				before, commit := p.Commit, ""
				if at != "" {
					p.At = at
				}
				if pinned {
					commit = p.Commit
				}
				if err := s.fetch(c.Context(), p, commit); err != nil {
					return err
				}
				if err := s.save(); err != nil {
					return err
				}
				if p.Commit == before {
					fmt.Fprintf(a.Out, "%s  %s at %s, as before\n", screen.Paint(screen.Loud, p.Name), p.Commit[:12], p.At)
					continue
				}
				fmt.Fprintf(a.Out, "%s  was %s, is %s at %s\n", screen.Paint(screen.Loud, p.Name), before[:12], p.Commit[:12], p.At)
			}
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "another tag, branch or commit")
	c.Flags().BoolVar(&pinned, "pinned", false, "exactly the commits that are pinned")
	return c
}

func (a *App) sourceList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sources with their pins", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if a.output == "json" {
				docs := []any{}
				for _, p := range s.pins {
					docs = append(docs, map[string]any{"name": p.Name, "url": p.URL, "at": p.At, "commit": p.Commit, "content": p.Hash})
				}
				return a.document(map[string]any{"format": 1, "sources": docs})
			}
			if len(s.pins) == 0 {
				fmt.Fprintln(a.Out, "this project has no sources; add one with `jadekettle source add URL --at REV`")
				return nil
			}
			rows := [][]string{{"source", "at", "commit", "url"}}
			for _, p := range s.pins {
				rows = append(rows, []string{p.Name, p.At, p.Commit[:12], p.URL})
			}
			screen.Table(a.Out, rows, nil)
			return nil
		},
	}
}

func (a *App) sourceVerify() *cobra.Command {
	remote := false
	c := &cobra.Command{
		Use: "verify", Short: "Hold the copies to their pins", Args: cobra.NoArgs,
		Long: "Verify computes the content of each copy anew and compares it with what is pinned. With --remote it also\nfetches the pinned commits and compares what they hold.",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			var ps problem.Problems
			sound := source.Load(s.root, s.pins, &ps)
			if err := ps.Err(); err != nil {
				return err
			}
			for _, p := range s.pins {
				what := "the copy is what was pinned"
				if remote {
					if err := s.compare(c.Context(), p); err != nil {
						return err
					}
					what += ", and so is the commit"
				}
				fmt.Fprintf(a.Out, "%s  %s\n", screen.Paint(screen.Loud, p.Name), what)
			}
			if len(sound) == 0 {
				fmt.Fprintln(a.Out, "this project has no sources")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&remote, "remote", false, "fetch the commits too")
	return c
}

// compare fetches a pinned commit into another place and holds it to the pin.
func (s *shelf) compare(ctx context.Context, p source.Pin) error {
	dir, err := os.MkdirTemp("", "jadekettle-verify-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	url := p.URL
	if !strings.Contains(url, ":") && !filepath.IsAbs(url) {
		p.URL = filepath.Join(s.dir, url)
	}
	elsewhere := &shelf{app: s.app, dir: dir}
	return elsewhere.fetch(ctx, &p, p.Commit)
}

func (a *App) sourceRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take a source out again", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources,
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if _, err := s.pin(args[0]); err != nil {
				return err
			}
			s.pins = slices.DeleteFunc(s.pins, func(p source.Pin) bool { return p.Name == args[0] })
			if err := s.save(); err != nil {
				return err
			}
			if err := os.RemoveAll(filepath.Join(s.dir, source.Dir, args[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is taken out; lint tells what still names its manifests\n", args[0])
			return nil
		},
	}
}

func (a *App) completeSources(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	s, err := a.shelf()
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for _, p := range s.pins {
		out = append(out, p.Name)
	}
	return out, noFiles
}
