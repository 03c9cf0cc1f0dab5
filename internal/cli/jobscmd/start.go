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
	values  []string // --input
	file    string   // --inputs
	preview bool
	yes     bool
	timed   bool // it starts by its schedule
	lenient bool
}

func start(e *cli.Env) *cobra.Command {
	l := &launch{}
	c := &cobra.Command{
		Use: "start JOB", Short: "Start a job", Args: cli.Args(1, 1),
		Long: "Starts a job. Give its inputs with --input or --inputs; on a terminal, a form asks for " +
			"the rest, and the hosts and the number of tasks are shown before it starts. With --yes, or without a " +
			"terminal, defaults are used. Without a terminal, a job that changes hosts requires --yes.",
		RunE:              func(c *cobra.Command, args []string) error { return l.start(c.Context(), e, args[0]) },
		ValidArgsFunction: complete(e),
	}
	f := c.Flags()
	f.StringArrayVar(&l.values, "input", nil, "`KEY=VALUE`: set an input (repeatable; not for secrets)")
	f.StringVar(&l.file, "inputs", "", "read inputs from `FILE` (TOML, YAML or JSON), or - for standard input; "+
		"with secrets, only you may read it")
	f.BoolVar(&l.preview, "preview", false, "show what would change, without changing anything")
	e.YesFlag(c, &l.yes)
	f.BoolVar(&l.timed, "scheduled", false, "refuse to start outside the job's maintenance windows")
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
		fmt.Fprintf(e.Err, "the job %s was not started: it starts only %s\n", j.Name, windows)
		return nil
	}
	if l.preview && !jobs.Applies(j) {
		return problem.Errorf("the action of the job %s is not apply", name).Remedy("remove --preview")
	}
	if b, err = b.For(ctx, j); err != nil { // what it asks about is what it goes over
		return err
	}
	given, err := jobs.Give(j, l.file, e.In, l.values)
	if err != nil {
		return err
	}
	values := b.Values(j)
	asks := !l.yes && (e.Terminal || jobs.Changes(j) && !l.preview)
	if asks {
		if err := e.CanAsk("a job that changes hosts"); err != nil {
			return err
		}
		if given, err = fillIn(values, given); errors.Is(err, huh.ErrUserAborted) {
			return e.NothingDone()
		} else if err != nil {
			return err
		}
	}
	if err := values.Accept(given); err != nil {
		return err
	}
	p, q, err := b.Started(values, l.preview)
	if err != nil {
		return err
	}
	q.Lenient, q.Notes, q.Passwords = l.lenient, e.Notes, e.Passwords
	if err := q.Check(); err != nil {
		return err
	}
	if asks {
		if err := showOutlook(e, p, q, j); err != nil {
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

// showOutlook shows what a job is about to do.
func showOutlook(e *cli.Env, p *app.Project, q app.Request, j *jobs.Job) error {
	fmt.Fprintf(e.Err, "%s  %s\n", text.Paint(text.Loud, j.Name), text.Line(j.About))
	rows := [][]string{}
	for _, a := range j.Inputs {
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
	does := j.Action
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
			about += fmt.Sprintf(", not counting %s with unknown facts", text.Count(left, "host"))
		}
	}
	rows = append(rows, []string{"  " + does, text.Line(about)})
	if p.Settings.Env != "" {
		rows = append(rows, []string{"  environment", p.Settings.Env})
	}
	if p.Taken != nil {
		rows = append(rows, []string{"  source", text.Line(p.Taken.URL) + " at " + p.Taken.Commit[:12]})
	}
	text.Columns(e.Err, rows)
	return nil
}
