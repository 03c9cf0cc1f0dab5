// Package jobscmd has the commands about saved runs, and what starts them.
package jobscmd

import (
	"fmt"
	"io"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/jobs"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// Commands gives them.
func Commands(e *cli.Env) []*cobra.Command {
	c := &cobra.Command{
		Use: "job", Short: "Manage saved runs: list, start, schedule",
		Long: "A job is a run saved in jobs.toml: its action, targets, inputs and schedule. Its runs appear in the " +
			"history under its name.",
	}
	c.AddCommand(list(e), show(e), start(e), last(e), install(e), remove(e))
	return []*cobra.Command{c, tend(e)}
}

// complete completes the names of jobs.
func complete(e *cli.Env) cobra.CompletionFunc {
	return e.Complete(func(p *app.Project, args []string) []string {
		var out []string
		for _, j := range p.Jobs {
			if len(args) == 0 {
				out = append(out, j.Name)
			}
		}
		return out
	})
}

// open reads the project and its jobs.
func open(e *cli.Env, c *cobra.Command) (*jobs.Book, error) {
	s, err := e.Site(c.Context())
	if err != nil {
		return nil, err
	}
	return jobs.Open(s)
}

// described makes the document of a job.
func described(e *cli.Env, b *jobs.Book, j *jobs.Job, now time.Time) document.Job {
	last, err := jobs.Last(b.Kept, j.Name)
	e.Caller().Unkept("the last result of the job", err)
	return document.NewJob(b, j, last, now)
}

func list(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List jobs with their next start and last result", Args: cli.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := open(e, c)
			if err != nil {
				return err
			}
			doc, now := document.Jobs{Head: document.One, Jobs: []document.Job{}}, time.Now()
			for _, j := range b.Jobs {
				doc.Jobs = append(doc.Jobs, described(e, b, j, now))
			}
			return e.Render(doc, func(w io.Writer) { text.Jobs(w, doc.Jobs, now) })
		},
	}
	e.FromFlag(c)
	return c
}

func show(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "show JOB", Short: "Show a job's actions, inputs and schedule", Args: cli.Args(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := open(e, c)
			if err != nil {
				return err
			}
			j, err := b.Find(args[0])
			if err != nil {
				return err
			}
			doc := described(e, b, j, time.Now())
			return e.Render(document.JobShown{Head: document.One, Job: doc},
				func(w io.Writer) { text.Job(w, b, j, doc) })
		},
		ValidArgsFunction: complete(e),
	}
	e.FromFlag(c)
	return c
}

func last(e *cli.Env) *cobra.Command {
	whole := false
	c := &cobra.Command{
		Use: "last JOB", Short: "Show a job's last run", Args: cli.Args(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			p, err := s.Runs()
			if err != nil {
				return err
			}
			of, err := jobs.Last(p, args[0])
			if err != nil {
				return err
			}
			if of == nil {
				b, err := jobs.Open(s) // which refuses an unknown name
				if err == nil {
					_, err = b.Find(args[0])
				}
				if err != nil {
					return err
				}
				return problem.Errorf("the job %s has never run", args[0]).
					Remedy("start it with `jadekettle job start %s`", args[0])
			}
			k, err := p.Load(of.Number)
			if err != nil {
				return err
			}
			return e.Render(document.RunShown{Head: document.One, Run: *k}, func(w io.Writer) {
				text.RunShown(w, e.Width, p, k, whole)
			})
		},
		ValidArgsFunction: complete(e),
	}
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show unchanged tasks and full diffs")
	return c
}

func install(e *cli.Env) *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "install JOB", Short: "Install a systemd timer for a job", Args: cli.Args(1, 1),
		Long: "Installs a systemd service and timer for a job with a schedule, and shows them first. As root, they " +
			"are installed for the machine, otherwise for your user. With --from, the project is fetched again at " +
			"each start. Repeat it to update the timer.",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := open(e, c)
			if err != nil {
				return err
			}
			j, err := b.Find(args[0])
			if err != nil {
				return err
			}
			files, err := b.Units(j)
			if err != nil {
				return err
			}
			m := jobs.Systemd(e.Caller())
			for _, f := range files {
				fmt.Fprintf(e.Out, "%s\n%s\n", text.Paint(text.Loud, filepath.Join(m.Dir, f.Name)), text.Block(f.Text))
			}
			if !yes {
				if err := e.CanAsk("install"); err != nil {
					return err
				}
				if !e.Agree("Install and start the timer?") {
					return e.NothingDone()
				}
			}
			if err := m.Install(c.Context(), files, files[1].Name); err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "installed %s: starts %s\n", files[1].Name, j.Schedule)
			if m.User {
				fmt.Fprintln(e.Err, "it runs only while you are logged in; to run it always, use `loginctl "+
					"enable-linger`")
			}
			return nil
		},
		ValidArgsFunction: complete(e),
	}
	e.YesFlag(c, &yes)
	e.FromFlag(c)
	return c
}

func remove(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "remove JOB", Short: "Remove a job's systemd timer", Args: cli.Args(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			p, err := s.Runs()
			if err != nil {
				return err
			}
			name := jobs.UnitName(p.ID, args[0])
			found, err := jobs.Systemd(e.Caller()).Remove(c.Context(), name+".timer", name+".service")
			if err != nil {
				return err
			}
			if !found {
				return problem.Errorf("the job %s is not installed on this machine for this user", args[0]).
					Remedy("install it with `jadekettle job install %s`", args[0])
			}
			fmt.Fprintf(e.Out, "removed %s.timer and %s.service\n", name, name)
			return nil
		},
		ValidArgsFunction: complete(e),
	}
	e.FromFlag(c)
	return c
}
