// Package runscmd has the commands about what is kept of runs, and of hosts by them.
package runscmd

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// Commands gives them.
func Commands(e *cli.Env) []*cobra.Command {
	c := runs(e)
	c.AddCommand(show(e), search(e), differ(e), of(e), slow(e), follow(e), note(e), prune(e), check(e))
	return []*cobra.Command{c, status(e), report(e)}
}

// kept gives the runs of the project of the call, which need not be one that loads.
func kept(ctx context.Context, e *cli.Env) (app.Runs, error) {
	s, err := e.Site(ctx)
	if err != nil {
		return app.Runs{}, err
	}
	return s.Runs()
}

// named finds the run that an argument names.
func named(ctx context.Context, e *cli.Env, which string) (app.Runs, int, error) {
	p, err := kept(ctx, e)
	if err != nil {
		return p, 0, err
	}
	n, err := p.Number(which, e.EnvName)
	return p, n, err
}

// sift are the flags that say which runs are meant.
type sift struct {
	app.Filter
	since string
}

func (s *sift) flags(c *cobra.Command, most int) {
	f := c.Flags()
	f.StringVar(&s.since, "since", "", "show runs since `TIME`: a date, or an age such as 7d or 12h")
	f.StringSliceVar(&s.Hosts, "host", nil, "show runs that include `HOST`, a name or a pattern (repeatable)")
	f.BoolVar(&s.Failed, "failed", false, "show runs with failed or unreached hosts, and interrupted runs")
	f.BoolVar(&s.Changed, "changed", false, "show runs in which anything changed or would have changed")
	f.StringArrayVar(&s.Tasks, "task", nil,
		"show runs in which a task that matches `'KIND PATTERN'` or KIND changed, failed or was blocked (repeatable)")
	f.StringSliceVar(&s.Jobs, "job", nil, "show runs of `JOB` (repeatable)")
	f.StringVar(&s.By, "by", "", "show runs started by `WHO`: part of a user or machine name")
	f.StringArrayVar(&s.Notes, "note", nil, "show runs with the note `KEY` or KEY=VALUE (repeatable)")
	f.StringSliceVar(&s.Modes, "mode", nil, "show runs of `MODE`: apply, preview, verify, drift, exec, undo or retire")
	c.RegisterFlagCompletionFunc("mode", cobra.FixedCompletions([]string{record.ModeApply, record.ModePreview,
		record.ModeVerify, record.ModeDrift, record.ModeExec, record.ModeUndo, record.ModeRetire}, cli.NoFiles))
	f.IntVar(&s.Most, "most", most, "show at most `N` (0: all)")
}

// filter gives them as the history takes them.
func (s *sift) filter(env string) (app.Filter, error) {
	f := s.Filter
	f.Env = env
	var err error
	if f.Since, err = app.Since(s.since, time.Now()); err != nil {
		return f, err
	}
	return app.CheckFilter(f)
}

// sifted gives the runs of the project of the call, and which of them are meant.
func (s *sift) sifted(ctx context.Context, e *cli.Env) (app.Runs, app.Filter, error) {
	p, err := kept(ctx, e)
	if err != nil {
		return p, app.Filter{}, err
	}
	f, err := s.filter(e.EnvName)
	return p, f, err
}

func runs(e *cli.Env) *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "runs", Short: "List and search the run history", Args: cli.NoArgs,
		Long: "Lists the runs of this project, newest first. Every preview, apply, verify, drift, exec and undo is " +
			"recorded, including those without changes. Identify a run by its number, as last or last-failed, or " +
			"as -1, -2 and so on, counted from the newest. The history is a SQLite file; see [history] in " +
			"jadekettle.toml.",
		RunE: func(c *cobra.Command, _ []string) error {
			p, f, err := s.sifted(c.Context(), e)
			if err != nil {
				return err
			}
			list, err := p.List(f)
			if err != nil {
				return err
			}
			return e.Render(document.Runs{Head: document.One, Runs: append([]record.Summary{}, list...)},
				func(w io.Writer) {
					if len(list) == 0 {
						fmt.Fprintln(w, "No matching runs.")
						return
					}
					text.Runs(w, list, e.Width)
					if f.Most > 0 && len(list) == f.Most {
						fmt.Fprintln(e.Err, text.Paint(text.Quiet, "older runs are not shown (show more with --most)"))
					}
				})
		},
	}
	s.flags(c, 30)
	return c
}

func search(e *cli.Env) *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "search WORD...", Short: "Search messages, output, diffs and notes",
		Long: "Finds runs, hosts and tasks with all the given words in their messages, output, diffs, names or " +
			"notes, newest first. A word also matches longer words that start with it. Quote several words to find " +
			"exactly that phrase.",
		RunE: func(c *cobra.Command, words []string) error {
			if len(words) == 0 {
				return problem.Errorf("expected WORD...").Remedy("usage: `jadekettle runs search WORD...`")
			}
			p, f, err := s.sifted(c.Context(), e)
			if err != nil {
				return err
			}
			hits, all, err := p.Search(words, f)
			if err != nil {
				return err
			}
			return e.Render(document.NewRunsFound(hits, all), func(w io.Writer) { text.Hits(w, e.Err, hits, all) })
		},
	}
	s.flags(c, 40)
	return c
}

func differ(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "diff RUN RUN", Short: "Compare two runs",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 2 {
				return problem.Errorf("expected RUN RUN").Remedy("usage: `jadekettle runs diff -2 -1`")
			}
			p, err := kept(c.Context(), e)
			if err != nil {
				return err
			}
			d, err := app.Differ(p, e.EnvName, args[0], args[1])
			if err != nil {
				return err
			}
			return e.Render(document.RunsDiff{Head: document.One, Differences: *d}, func(w io.Writer) {
				text.Differences(w, d, e.Width)
			})
		},
	}
}

func slow(e *cli.Env) *cobra.Command {
	most := 10
	c := &cobra.Command{
		Use: "timing [RUN]", Short: "Show the slowest tasks and hosts of a run",
		Long: "Shows the slowest tasks, kinds and hosts of a run, by default the last one, and how long they " +
			"usually take: the median of up to twenty earlier runs of the same kind.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return problem.Errorf("expected at most one RUN").Remedy("usage: `jadekettle runs timing [RUN]`")
			}
			p, n, err := named(c.Context(), e, append(args, app.Last)[0])
			if err != nil {
				return err
			}
			s, err := p.Slow(n, most)
			if err != nil {
				return err
			}
			return e.Render(document.Slow{Head: document.One, Slow: *s}, func(w io.Writer) { text.Slow(w, s) })
		},
	}
	c.Flags().IntVar(&most, "most", most, "show at most `N` of each")
	return c
}

func note(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		ValidArgsFunction: e.CompleteRuns(),
		Use:               "note RUN KEY=VALUE...", Short: "Add or remove notes on a run",
		Long: "Adds notes to a run, which are shown with it and can be searched. KEY= removes a note.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return problem.Errorf("expected RUN KEY=VALUE...").
					Remedy("usage: `jadekettle runs note RUN KEY=VALUE...`")
			}
			notes, err := app.ReadNotes(args[1:])
			if err != nil {
				return err
			}
			p, n, err := named(c.Context(), e, args[0])
			if err != nil {
				return err
			}
			return p.Note(n, notes)
		},
	}
}

func check(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Check the history for corruption", Args: cli.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := kept(c.Context(), e)
			if err != nil {
				return err
			}
			h, err := app.CheckHistory(p)
			if err != nil {
				return err
			}
			if h == nil {
				fmt.Fprintln(e.Out, "There are no runs yet.")
				return nil
			}
			if err := e.Render(document.Checked{Head: document.One, File: p.Place(), Health: h},
				func(w io.Writer) { text.Health(w, p.Place(), h) }); err != nil {
				return err
			}
			if len(h.Wrong) > 0 {
				return cli.Exit(app.CodeFailed)
			}
			return nil
		},
	}
}
