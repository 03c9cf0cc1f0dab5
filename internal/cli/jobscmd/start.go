package jobscmd

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"charm.land/huh/v2"
	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/jobs"
	"jadekettle/internal/cli"
	"jadekettle/internal/cli/runcmd"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// launch is how a call starts a job.
type launch struct {
	runcmd.Look
	answers []string // --answer
	file    string   // --answers
	preview bool
	yes     bool
	timed   bool // it starts by its schedule
	lenient bool
}

func start(e *cli.Env) *cobra.Command {
	l := &launch{}
	c := &cobra.Command{
		Use: "start JOB", Short: "Start a job, and answer what it asks", Args: oneJob,
		Long: "Start starts a job. What it asks is given with --answer, or in a file with --answers; on a terminal " +
			"the rest is asked\nin a form, and it is shown where the run will go and how much it is before it " +
			"begins. With --yes, and off a\nterminal, what is not given has its default; off a terminal a job that " +
			"changes hosts wants --yes.",
		RunE:              func(c *cobra.Command, args []string) error { return l.start(c.Context(), e, args[0]) },
		ValidArgsFunction: complete(e),
	}
	f := c.Flags()
	f.StringArrayVar(&l.answers, "answer", nil, "an answer, as `KEY=VALUE`; may be repeated; never a secret one")
	f.StringVar(&l.file, "answers", "", "a `FILE` of answers, TOML, YAML or JSON, or - for the input; one with "+
		"secrets only you may read")
	f.BoolVar(&l.preview, "preview", false, "show what an apply would change, and change nothing")
	e.YesFlag(c, &l.yes)
	f.BoolVar(&l.timed, "scheduled", false, "it starts by its schedule: not outside of its windows")
	l.Look.Flags(c)
	e.LenientFlag(c, &l.lenient)
	e.FromFlag(c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	e.PasswordFlags(c)
	return c
}

func (l *launch) start(ctx context.Context, e *cli.Env, name string) error {
	if err := l.Look.Check(); err != nil {
		return err
	}
	s, err := e.Site(ctx)
	if err != nil {
		return err
	}
	b, err := jobs.Open(s)
	if err != nil {
		return err
	}
	j, err := b.Find(name)
	if err != nil {
		return err
	}
	if windows := jobs.Closed(j, time.Now()); l.timed && windows != "" {
		fmt.Fprintf(e.Err, "the job %s is not started: it starts only %s\n", j.Name, windows)
		return nil
	}
	if l.preview && !jobs.Applies(j) {
		return problem.Errorf("the job %s is no apply", name).Remedy("leave --preview out")
	}
	if b, err = b.For(ctx, j); err != nil { // what it asks about is what it goes over
		return err
	}
	given, err := jobs.Give(j, l.file, e.In, l.answers)
	if err != nil {
		return err
	}
	answers := b.Answers(j)
	asks := !l.yes && (e.Terminal || jobs.Changes(j) && !l.preview)
	if asks {
		if err := e.CanAsk("a job that changes hosts asks before it starts"); err != nil {
			return err
		}
		if given, err = fillIn(answers, given); errors.Is(err, huh.ErrUserAborted) {
			return e.NothingDone()
		} else if err != nil {
			return err
		}
	}
	if err := answers.Accept(given); err != nil {
		return err
	}
	p, q, err := b.Started(answers, l.preview)
	if err != nil {
		return err
	}
	q.Lenient, q.Notes, q.Passwords = l.lenient, e.Notes, e.Passwords
	if err := q.Check(); err != nil {
		return err
	}
	if asks {
		if err := foretell(e, p, q, j); err != nil {
			return err
		}
		if !e.Agree("Start it?") {
			return e.NothingDone()
		}
	}
	run, err := runcmd.Show(ctx, e, p, q, l.Look)
	if err != nil {
		return err
	}
	return cli.Ended(run.Code)
}

// foretell shows what a job is about to do.
func foretell(e *cli.Env, p *app.Project, q app.Request, j *jobs.Job) error {
	fmt.Fprintf(e.Err, "%s  %s\n", text.Paint(text.Loud, j.Name), text.Line(j.About))
	rows := [][]string{}
	for _, a := range j.Asks {
		if said, answered := q.Job.Shown[a.Name]; answered {
			rows = append(rows, []string{"  " + a.Name, text.Line(said)})
		}
	}
	of, err := p.Outlook(q)
	if err != nil {
		return err
	}
	where := app.Folded(of.Meant)
	if len(where) > 8 {
		where = append(where[:8], "and more")
	}
	does := j.Does
	if q.Preview {
		does = "preview"
	}
	about := fmt.Sprintf("%s: %s", text.Count(len(of.Meant), "host"), strings.Join(where, " "))
	if q.Exec != nil {
		about += "; runs " + strings.Join(q.Exec.Words, " ")
	} else {
		n, left, err := p.CountTasks(q)
		if err != nil {
			return err
		}
		about += fmt.Sprintf("; %s declared", text.Count(n, "task"))
		if left > 0 {
			about += fmt.Sprintf(", not counting %s whose facts were never read", text.Count(left, "host"))
		}
	}
	rows = append(rows, []string{"  " + does, text.Line(about)})
	if p.Settings.Env != "" {
		rows = append(rows, []string{"  environment", p.Settings.Env})
	}
	if p.Taken != nil {
		rows = append(rows, []string{"  taken from", text.Line(p.Taken.URL) + " at " + p.Taken.Commit[:12]})
	}
	text.Columns(e.Err, rows)
	return nil
}
