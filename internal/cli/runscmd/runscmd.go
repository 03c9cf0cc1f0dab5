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
	f.StringVar(&s.since, "since", "", "only runs since a `TIME`: a date, or how long ago, such as 7d or 12h")
	f.StringSliceVar(&s.Hosts, "host", nil, "only runs over this `HOST`, a name or a pattern; may be repeated")
	f.BoolVar(&s.Failed, "failed", false, "only runs in which a host failed or was not reached, and interrupted ones")
	f.BoolVar(&s.Changed, "changed", false, "only runs in which something changed, or would have")
	f.StringArrayVar(&s.Tasks, "task", nil,
		"only runs in which a task of this `'KIND PATTERN'`, or of this KIND, changed, failed or was blocked; may "+
			"be repeated")
	f.StringSliceVar(&s.Jobs, "job", nil, "only runs of this `JOB`; may be repeated")
	f.StringVar(&s.By, "by", "", "only runs of this `WHO`: part of an account or of a machine")
	f.StringArrayVar(&s.Notes, "note", nil, "only runs with this note, `KEY` or KEY=VALUE; may be repeated")
	f.StringSliceVar(&s.Modes, "mode", nil, "only runs of this `MODE`: apply, preview, verify, drift, exec, undo "+
		"or retire")
	f.IntVar(&s.Most, "most", most, "at most `N`, the newest; 0 for all")
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
		Use: "runs", Short: "List the runs that were kept, and find in them", GroupID: cli.Work, Args: cli.NoArgs,
		Long: "Runs lists the runs of this project, newest first: every preview, apply, verify, drift, exec and " +
			"undo is kept,\nthose without a change as well. A run is named by its number, as last or last-failed, " +
			"or as -1, -2 and so on,\ncounted from the newest. They lie in one SQLite file, see [history] in " +
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
						fmt.Fprintln(w, "no such run is kept")
						return
					}
					text.Runs(w, list, e.Width)
					if f.Most > 0 && len(list) == f.Most {
						fmt.Fprintln(e.Err, text.Paint(text.Quiet, "older ones are left out; --most shows more"))
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
		Use: "search WORD...", Short: "Find words in messages, outputs, diffs, names and notes",
		Long: "Search finds runs, hosts and tasks in whose messages, outputs, diffs, names or notes all the words " +
			"stand, newest\nfirst. A word may be the beginning of one; several in one pair of quotes stand for " +
			"just these, in this order.",
		RunE: func(c *cobra.Command, words []string) error {
			if len(words) == 0 {
				return problem.Errorf("runs search wants to know what to look for").Remedy("name words")
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
		Use: "differ RUN RUN", Short: "Tell what differs between two runs in outcome, declarations, facts and time",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 2 {
				return problem.Errorf("runs differ takes two runs").Remedy("name both, such as -2 -1")
			}
			p, err := kept(c.Context(), e)
			if err != nil {
				return err
			}
			d, err := app.Differ(p, e.EnvName, args[0], args[1])
			if err != nil {
				return err
			}
			return e.Render(document.RunsDiffer{Head: document.One, Differences: *d}, func(w io.Writer) {
				text.Differences(w, d, e.Width)
			})
		},
	}
}

func slow(e *cli.Env) *cobra.Command {
	most := 10
	c := &cobra.Command{
		Use: "slow [RUN]", Short: "Tell where the time of a run went, against what is usual",
		Long: "Slow tells which tasks, kinds and hosts took longest in a run, the last one unless another is " +
			"named, and how long\nthey usually take: the median of up to twenty earlier runs of the same sort.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return problem.Errorf("runs slow takes one run").Remedy("name one")
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
	c.Flags().IntVar(&most, "most", most, "at most `N` of each sort")
	return c
}

func note(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "note RUN KEY=VALUE...", Short: "Note something on a run",
		Long: "Note notes something on a run that is kept, to be shown with it and found by. KEY= takes a note away.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return problem.Errorf("runs note takes a run and what is to be noted").
					Remedy("write KEY=VALUE behind the run, such as ticket=4711")
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
		Use: "check", Short: "Read the history whole, and tell whether it is sound", Args: cli.NoArgs,
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
				fmt.Fprintln(e.Out, "no run is kept yet")
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
