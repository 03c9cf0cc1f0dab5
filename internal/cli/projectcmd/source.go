package projectcmd

import (
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func sourceCommand(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "source", Short: "Manage manifests vendored from git repositories",
		Long: "A source is a git repository with a directory manifests/, like a project. Its files are copied to " +
			"sources/NAME, and sources.lock pins the commit and the content; keep both in version control. Groups " +
			"and uses refer to its manifests as NAME/MANIFEST.",
	}
	c.AddCommand(sourceAdd(e), sourceUpdate(e), sourceList(e), sourceShow(e), sourceVerify(e), sourceRemove(e))
	return c
}

func shelf(ctx context.Context, e *cli.Env) (*sources.Shelf, error) {
	s, err := e.Site(ctx)
	if err != nil {
		return nil, err
	}
	return s.Shelf()
}

// completeSources offers the sources of the project.
func completeSources(e *cli.Env) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		s, err := shelf(c.Context(), e)
		if err != nil {
			return nil, cli.NoFiles
		}
		var out []string
		for _, p := range s.Pins {
			out = append(out, p.Name)
		}
		return out, cli.NoFiles
	}
}

func sourceAdd(e *cli.Env) *cobra.Command {
	name, at := "", ""
	c := &cobra.Command{
		Use: "add URL --at REV", Short: "Add a source", Args: cli.Args(1, 1),
		Long: "Fetches a repository with git, over file, ssh or https, copies its files to sources/NAME and pins " +
			"the commit and the content in sources.lock. A revision is a tag, a branch or a commit. A relative " +
			"path is relative to the project.",
		Example: "  jadekettle source add https://git.example.org/tide-manifests.git --at v1.2\n" +
			"  jadekettle source add ssh://git@git.example.org/tide.git --at main --name tide",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			if at == "" {
				return problem.Errorf("no revision given").Remedy("use --at with a tag, branch or commit")
			}
			p, err := s.Add(c.Context(), name, args[0], at)
			if err != nil {
				return err
			}
			text.SourceAdded(e.Out, p, s.Manifests(p))
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "use revision `REV`: a tag, branch or commit")
	c.Flags().StringVar(&name, "name", "", "name of the source, `NAME` (default: last part of the URL)")
	return c
}

func sourceUpdate(e *cli.Env) *cobra.Command {
	at, pinned := "", false
	c := &cobra.Command{
		Use: "update [NAME...]", Short: "Update sources",
		ValidArgsFunction: completeSources(e),
		Long: "Fetches the current state of each source's revision and pins it. With --at, switches " +
			"to another revision; with --pinned, fetches exactly the pinned commit, for example after a checkout " +
			"without the copies.",
		RunE: func(c *cobra.Command, names []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			if at != "" && (pinned || len(names) != 1) {
				return problem.Errorf("--at requires a single source, without --pinned").Remedy("name the source")
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
				before := p.Commit
				if err := s.Update(c.Context(), p, at, pinned); err != nil {
					return err
				}
				if p.Commit == before {
					fmt.Fprintf(e.Out, "%s  %s at %s, unchanged\n", text.Paint(text.Loud, p.Name), p.Commit[:12], p.At)
					continue
				}
				fmt.Fprintf(e.Out, "%s  %s -> %s at %s\n", text.Paint(text.Loud, p.Name), before[:12],
					p.Commit[:12], p.At)
			}
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "switch to revision `REV`: a tag, branch or commit")
	c.Flags().BoolVar(&pinned, "pinned", false, "fetch exactly the pinned commits")
	return c
}

func sourceList(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List sources and pinned commits", Args: cli.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			return e.Render(document.Sources{Head: document.One, Sources: s.Pins}, func(w io.Writer) {
				if len(s.Pins) == 0 {
					fmt.Fprintln(w, "this project has no sources; add one with `jadekettle source add URL --at REV`")
					return
				}
				rows := [][]string{{"source", "at", "commit", "url"}}
				for _, p := range s.Pins {
					rows = append(rows, []string{p.Name, p.At, p.Commit[:12], p.URL})
				}
				text.Table(w, rows, nil)
			})
		},
	}
}

func sourceShow(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a source's manifests and parameters",
		Args: cli.Args(1, 1), ValidArgsFunction: completeSources(e),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			pin, err := s.Pin(args[0])
			if err != nil {
				return err
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			list, texts := p.Of(pin.Name), s.Documents(pin.Name)
			return e.Render(document.NewSourceShown(*pin, list, texts),
				func(w io.Writer) { text.Source(w, *pin, list, texts) })
		},
	}
}

func sourceVerify(e *cli.Env) *cobra.Command {
	remote := false
	c := &cobra.Command{
		Use: "verify", Short: "Verify vendored copies against sources.lock", Args: cli.NoArgs,
		Long: "Compares the content of each copy with its pin. With --remote, also fetches the pinned commits and " +
			"compares their content.",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			if err := s.Verify(); err != nil {
				return err
			}
			for _, p := range s.Pins {
				what := "the copy matches its pin"
				if remote {
					moved, err := s.Compare(c.Context(), p)
					if err != nil {
						return err
					}
					what += ", and so does the commit"
					if moved != "" {
						what += fmt.Sprintf("; the branch %s is now at %.12s", p.At, moved)
					}
				}
				fmt.Fprintf(e.Out, "%s  %s\n", text.Paint(text.Loud, p.Name), what)
			}
			if len(s.Pins) == 0 {
				fmt.Fprintln(e.Out, "this project has no sources")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&remote, "remote", false, "also fetch the commits")
	return c
}

func sourceRemove(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a source", Args: cli.Args(1, 1),
		ValidArgsFunction: completeSources(e),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := shelf(c.Context(), e)
			if err != nil {
				return err
			}
			if err := s.Remove(args[0]); err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "removed %s; `jadekettle lint` shows what still refers to its manifests\n", args[0])
			return nil
		},
	}
}
