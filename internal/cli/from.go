package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/problem"
)

// fromFlag lets a call take its project straight from a git repository.
func (a *App) fromFlag(c *cobra.Command) {
	c.Flags().StringVar(&a.from, "from", "", "take the project from a git repository, `URL[@REV]`, at a branch, tag or commit; "+
		"--project names a folder inside it")
}

// take takes the project of the call from a git repository.
func (a *App) take(ctx context.Context, from string) error {
	url, rev := sources.SplitURL(from)
	return a.takeAt(ctx, url, rev)
}

func (a *App) takeAt(ctx context.Context, url, rev string) error {
	cache, err := a.cache()
	if err != nil {
		return err
	}
	m := &sources.Mirror{Cache: filepath.Join(cache, "from"), URL: url, Prompts: a.Terminal, Follow: a.here}
	t, err := m.Take(ctx, rev)
	if err != nil {
		return err
	}
	inside := a.project
	if !filepath.IsLocal(inside) && inside != "" {
		return problem.Errorf("--project is %s, and no folder inside the repository", inside).Remedy("give its path there, or leave it out")
	}
	a.taken, a.project = t, filepath.Join(t.Dir, inside)
	return nil
}

// cache is the user's folder for what can be had again, see the XDG Base Directory Specification.
func (a *App) cache() (string, error) {
	dir := a.Getenv("XDG_CACHE_HOME")
	if home := a.Getenv("HOME"); !filepath.IsAbs(dir) {
		if home == "" {
			return "", problem.Errorf("there is no folder for what is fetched: neither XDG_CACHE_HOME nor HOME is set").Remedy("set one of them")
		}
		dir = filepath.Join(home, ".cache")
	}
	return filepath.Join(dir, "jadekettle"), nil
}

// home is the folder to which paths belong that are written to: the project's, or where it was
// taken from a repository, one that stays.
func (a *App) home(dir string) string {
	if a.taken != nil {
		return a.taken.Home
	}
	return dir
}
