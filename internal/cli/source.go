package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/source"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) sourceCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "source", Short: "Bring in manifests from git repositories, pinned", GroupID: "grow",
		Long: "A source is a git repository with a folder manifests/, as a project has. Its files are copied into\n" +
			"sources/NAME, and sources.lock pins the commit and the content; both belong into version control. A group\n" +
			"or a use names its manifests as NAME/MANIFEST.",
	}
	c.AddCommand(a.sourceAdd(), a.sourceUpdate(), a.sourceList(), a.sourceShow(), a.sourceVerify(), a.sourceRemove())
	return c
}

func (a *App) shelf() (*sources.Shelf, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	s, err := sources.Open(dir, root)
	s.Prompts = a.Terminal
	return s, err
}

func (a *App) sourceAdd() *cobra.Command {
	name, at := "", ""
	c := &cobra.Command{
		Use: "add URL --at REV", Short: "Copy a repository's manifests and pin them", Args: cobra.ExactArgs(1),
		Long: "Add fetches a repository with git, over file, ssh or https, copies its files into sources/NAME and " +
			"pins the\ncommit and the content in sources.lock. A revision is a tag, a branch or a commit; a path that is " +
			"not\nabsolute counts from the project.",
		Example: "  jadekettle source add https://git.example.org/tide-manifests.git --at v1.2\n" +
			"  jadekettle source add ssh://git@git.example.org/tide.git --at main --name tide",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if at == "" {
				return problem.Errorf("--at is missing").Remedy("name the tag, branch or commit that is to be used")
			}
			if name == "" {
				name = sources.NameOf(args[0])
			}
			if !source.ValidName(name) {
				return problem.Errorf("%q is no name for a source", name).
					Remedy("give one with --name, in letters, digits, dots, dashes and underscores")
			}
			if _, err := s.Pin(name); err == nil {
				return problem.Errorf("there is a source %q already", name).
					Remedy("update it with `jadekettle source update %s --at REV`, or choose another --name", name)
			}
			p := source.Pin{Name: name, URL: args[0], At: at}
			if err := s.Fetch(c.Context(), &p, ""); err != nil {
				return err
			}
			s.Pins = append(s.Pins, p)
			if err := s.Save(); err != nil {
				return err
			}
			a.tellSource(s, p)
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "the `REV`: a tag, branch or commit")
	c.Flags().StringVar(&name, "name", "", "a `NAME` to call it by (default: the last part of the URL)")
	return c
}

// tell says what a source holds.
func (a *App) tellSource(s *sources.Shelf, p source.Pin) {
	names := []string{}
	entries, _ := os.ReadDir(filepath.Join(s.Dir, source.Dir, p.Name, manifest.Dir))
	for _, e := range entries {
		n := strings.TrimSuffix(e.Name(), ".toml")
		if n != e.Name() || e.IsDir() {
			names = append(names, p.Name+"/"+n)
		}
	}
	fmt.Fprintf(a.Out, "%s  %s at %s\n", screen.Paint(screen.Loud, p.Name), p.Commit[:12], p.At)
	fmt.Fprintf(a.Out, "  manifests: %s\n", strings.Join(names, ", "))
}

func (a *App) sourceUpdate() *cobra.Command {
	at, pinned := "", false
	c := &cobra.Command{
		Use: "update [NAME...]", Short: "Fetch sources anew: what their revision is now, or another",
		ValidArgsFunction: a.completeSources,
		Long: "Update fetches the revision of each source as it is now and pins what it finds. With --at it takes " +
			"another\nrevision, with --pinned exactly the commit that is pinned, as after a checkout without the copies.",
		RunE: func(c *cobra.Command, names []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if at != "" && (pinned || len(names) != 1) {
				return problem.Errorf("--at is for one source, without --pinned").Remedy("name it")
			}
			for _, n := range names {
				if _, err := s.Pin(n); err != nil {
					return err
				}
			}
			for i := range s.Pins {
				p := &s.Pins[i]
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
				if err := s.Fetch(c.Context(), p, commit); err != nil {
					return err
				}
				if err := s.Save(); err != nil {
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
	c.Flags().StringVar(&at, "at", "", "another `REV`: a tag, branch or commit")
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
				docs := []document.Source{}
				for _, p := range s.Pins {
					docs = append(docs, document.Source{Name: p.Name, URL: p.URL, At: p.At, Commit: p.Commit,
						Content: p.Hash})
				}
				return a.document(document.Sources{Head: document.One, Sources: docs})
			}
			if len(s.Pins) == 0 {
				fmt.Fprintln(a.Out, "this project has no sources; add one with `jadekettle source add URL --at REV`")
				return nil
			}
			rows := [][]string{{"source", "at", "commit", "url"}}
			for _, p := range s.Pins {
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
		Long: "Verify computes the content of each copy anew and compares it with what is pinned. With --remote it " +
			"also\nfetches the pinned commits and compares what they hold.",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			var ps problem.Problems
			sound := source.Load(os.DirFS(s.Dir), s.Pins, &ps)
			if err := ps.Err(); err != nil {
				return err
			}
			for _, p := range s.Pins {
				what := "the copy is what was pinned"
				if remote {
					moved, err := s.Compare(c.Context(), p)
					if err != nil {
						return err
					}
					what += ", and so is the commit"
					if moved != "" {
						what += fmt.Sprintf("; the branch %s has moved on to %.12s", p.At, moved)
					}
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

func (a *App) sourceRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take a source out again", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources,
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			if _, err := s.Pin(args[0]); err != nil {
				return err
			}
			s.Pins = slices.DeleteFunc(s.Pins, func(p source.Pin) bool { return p.Name == args[0] })
			if err := s.Save(); err != nil {
				return err
			}
			if err := os.RemoveAll(filepath.Join(s.Dir, source.Dir, args[0])); err != nil {
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
	for _, p := range s.Pins {
		out = append(out, p.Name)
	}
	return out, noFiles
}
