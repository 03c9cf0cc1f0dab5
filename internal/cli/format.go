package cli

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
	screen "jadekettle/internal/present/text"
)

func (a *App) formatCommand() *cobra.Command {
	preview, strict := false, false
	c := &cobra.Command{
		Use: "format [FILE...]", Short: "Write the project's TOML files in one style", GroupID: "grow",
		Long: "Format writes TOML files canonically and keeps their comments: one space around =, an empty line before\n" +
			"each table, keys without needless quotes, long lists one item a line. Without files it takes all of the\n" +
			"project but its sources. A file that is no valid TOML is left as it is.",
		RunE: func(_ *cobra.Command, args []string) error { return a.format(args, preview, strict) },
	}
	c.Flags().BoolVar(&preview, "preview", false, "show what would change, and change nothing")
	c.Flags().BoolVar(&strict, "fail-if-changes", false, "end with 3 when something changed or would change")
	return c
}

func (a *App) format(args []string, preview, strict bool) error {
	dir, err := a.folder()
	if err != nil {
		return err
	}
	names, err := tomlFiles(dir, args)
	if err != nil {
		return err
	}
	var ps problem.Problems
	changed := 0
	for _, name := range names {
		full := filepath.Join(dir, filepath.FromSlash(name))
		old, err := os.ReadFile(full)
		if err != nil {
			return err
		}
		text, err := manifest.Format(name, old)
		if err != nil {
			ps.AddErr(value.Place{File: name}, err)
			continue
		}
		if bytes.Equal(text, old) {
			continue
		}
		changed++
		if preview {
			fmt.Fprint(a.Out, udiff.Unified(name+" as it is", name+" formatted", string(old), string(text)))
			continue
		}
		info, err := os.Stat(full)
		if err != nil {
			return err
		}
		if err := atomicfile.Write(full, text, info.Mode().Perm()); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
		fmt.Fprintln(a.Out, name)
	}
	if strict && changed > 0 {
		a.code = exitChanges
	}
	if err := ps.Err(); err != nil {
		return err
	}
	what := "formatted"
	if preview {
		what = "would be formatted"
	}
	fmt.Fprintf(a.Out, "%s %s, %d were right already\n", screen.Count(changed, "file"), what, len(names)-changed)
	return nil
}

// tomlFiles gives the files to format, as paths inside the project.
func tomlFiles(dir string, args []string) ([]string, error) {
	var out []string
	for _, arg := range args {
		full, err := filepath.Abs(arg)
		if err != nil {
			return nil, err
		}
		rel, err := filepath.Rel(dir, full)
		if err != nil || !filepath.IsLocal(rel) {
			return nil, problem.Errorf("%s is not in the project %s", arg, dir).Remedy("name one of its files")
		}
		if filepath.Ext(rel) != ".toml" {
			return nil, problem.Errorf("%s is no TOML file", arg).Remedy("format takes files that end in .toml")
		}
		out = append(out, filepath.ToSlash(rel))
	}
	if len(args) > 0 {
		return out, nil
	}
	root, err := files(dir)
	if err != nil {
		return nil, err
	}
	err = fs.WalkDir(root, ".", func(p string, e fs.DirEntry, err error) error {
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
