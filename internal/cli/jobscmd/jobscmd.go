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
		Use: "job", Short: "List and start saved runs, which may ask and have a schedule", GroupID: cli.Work,
		Args: cli.NoArgs,
		Long: "A job is a run that is saved in jobs.toml: what it does, where, what it asks before it starts, and " +
			"when it starts\nby itself. Its runs are runs like any other, and have its name.",
		RunE: func(c *cobra.Command, args []string) error { return c.Help() },
	}
	c.AddCommand(list(e), show(e), start(e), last(e), install(e), remove(e))
	return []*cobra.Command{c, tend(e)}
}

// oneJob refuses everything but the name of a job, in our words.
func oneJob(c *cobra.Command, args []string) error {
	if len(args) == 1 {
		return nil
	}
	return problem.Errorf("%s takes the name of one job", c.CommandPath()).Remedy("`jadekettle job list` lists them")
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
	e.Caller().Unkept("how the job went", err)
	return document.NewJob(b, j, last, now)
}

func list(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the jobs, when they start next and how they went last", Args: cli.NoArgs,
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
		Use: "show JOB", Short: "Show what a job does, what it asks, and when it starts", Args: oneJob,
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
		Use: "last JOB", Short: "Show the last run of a job", Args: oneJob,
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
				b, err := jobs.Open(s) // which tells of a name that is none
				if err == nil {
					_, err = b.Find(args[0])
				}
				if err != nil {
					return err
				}
				return problem.Errorf("the job %s has never run", args[0]).
					Remedy("start it: jadekettle job start %s", args[0])
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
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show unchanged tasks too, and every line of every diff")
	return c
}

func install(e *cli.Env) *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "install JOB", Short: "Let systemd start a job on this machine, by its schedule", Args: oneJob,
		Long: "Install writes a service and a timer of systemd for a job that has a schedule, and shows them " +
			"first: for the\nmachine when root calls it, else for the account. Where a job is taken --from a " +
			"repository, it is taken anew at\neach start. Called again it brings them up to date.",
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
				if err := e.CanAsk("install asks before it writes these"); err != nil {
					return err
				}
				if !e.Agree("Write them, and begin?") {
					return e.NothingDone()
				}
			}
			if err := m.Install(c.Context(), files, files[1].Name); err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "%s starts %s\n", files[1].Name, j.Schedule)
			if m.User {
				fmt.Fprintln(e.Err, "it starts while you are logged in; `loginctl enable-linger` lets it start without")
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
		Use: "remove JOB", Short: "Take away what install has written for a job", Args: oneJob,
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
				return problem.Errorf("the job %s is not installed on this machine, for this account", args[0]).
					Remedy("`jadekettle job install %s` does that", args[0])
			}
			fmt.Fprintf(e.Out, "%s.timer and %s.service are gone\n", name, name)
			return nil
		},
		ValidArgsFunction: complete(e),
	}
	e.FromFlag(c)
	return c
}
