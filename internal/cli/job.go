package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) jobCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "job", Short: "List and start saved runs, which may ask and have a schedule", GroupID: "work", Args: noArgs,
		Long: "A job is a run that is saved in jobs.toml: what it does, where, what it asks before it starts, and when it starts\n" +
			"by itself. Its runs are runs like any other, and have its name.",
		RunE: func(c *cobra.Command, args []string) error { return c.Help() },
	}
	c.AddCommand(a.jobListCommand(), a.jobShowCommand(), a.jobStartCommand(), a.jobLastCommand(), a.jobInstallCommand(), a.jobRemoveCommand())
	return c
}

// jobs reads the project and its jobs.
func (a *App) jobs() (*project, error) {
	p, err := a.open()
	if err != nil {
		return nil, err
	}
	p.answers.Setting, err = resolve.JobSetting(p.Project)
	return p, err
}

// lastOf gives the last run of a job; nil where there is none.
func lastOf(p *project, name string) (*record.Summary, error) {
	list, err := p.runs.List(store.Filter{Jobs: []string{name}, Most: 1})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// next is when a job starts by itself; the zero time where it does not.
func next(p *project, j *job.Job, now time.Time) time.Time {
	if j.Schedule == nil {
		return time.Time{}
	}
	at, _ := j.Schedule.Next(p.Settings.Project+"/"+j.Name, now)
	return at
}

func (a *App) jobListCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the jobs, when they start next and how they went last", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.jobs()
			if err != nil {
				return err
			}
			doc, now := document.Jobs{Head: document.One, Jobs: []document.Job{}}, time.Now()
			rows := [][]string{{"JOB", "DOES", "WHERE", "NEXT", "LAST", "ABOUT"}}
			for _, j := range p.Jobs {
				last, err := lastOf(p, j.Name)
				if err != nil {
					a.unkept("how the jobs went", err)
				}
				doc.Jobs = append(doc.Jobs, jobDocument(p, j, last, now))
				starts, went := "when asked", "never"
				if at := next(p, j, now); !at.IsZero() {
					starts = screen.When(at)
				}
				if last != nil {
					_, how := screen.Outcome(last)
					went = how + ", " + screen.Ago(last.Started, now)
				}
				rows = append(rows, []string{j.Name, j.Does, written(j.Targets), starts, went, screen.Line(j.About)})
			}
			if a.output == "json" {
				return a.document(doc)
			}
			if len(p.Jobs) == 0 {
				fmt.Fprintf(a.Out, "this project has no jobs; [job.NAME] in %s declares one\n", job.File)
				return nil
			}
			screen.Table(a.Out, rows, nil)
			return nil
		},
	}
	a.fromFlag(c)
	return c
}

// written gives texts of a job as they stand in the file.
func written(texts []*expr.Text) string {
	var out []string
	for _, t := range texts {
		out = append(out, t.String())
	}
	return screen.Line(strings.Join(out, " "))
}

func jobDocument(p *project, j *job.Job, last *record.Summary, now time.Time) document.Job {
	out := document.Job{Name: j.Name, About: j.About, Does: j.Does, Targets: texts(j.Targets), Except: texts(j.Except),
		Manifests: append([]string{}, j.Manifests...), Labels: append([]string{}, j.Labels...), Command: texts(j.Command), Env: j.Env,
		Source: j.Source, Revision: j.Revision, Questions: []document.Question{}, Last: last}
	if at := next(p, j, now); !at.IsZero() {
		at = at.UTC()
		out.Schedule, out.Next = j.Schedule.String(), &at
	}
	answers := &job.Answers{Job: j, Setting: p.answers.Setting}
	for _, q := range j.Asks {
		one := document.Question{Key: q.Name, Type: q.Type, About: q.About, Wants: answers.Wants(q), Default: q.Default, Secret: q.Secret,
			Needed: !q.HasDefault, Choices: []any{}}
		if q.OnlyIf != nil {
			one.OnlyIf = q.OnlyIf.Text()
		}
		if list, err := answers.Choices(q); err == nil {
			one.Choices = append(one.Choices, list...)
		}
		out.Questions = append(out.Questions, one)
	}
	return out
}

func texts(list []*expr.Text) []string {
	out := []string{}
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

func (a *App) jobShowCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "show JOB", Short: "Show what a job does, what it asks, and when it starts", Args: oneJob,
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.jobs()
			if err != nil {
				return err
			}
			j, err := job.Find(p.Jobs, args[0])
			if err != nil {
				return err
			}
			last, err := lastOf(p, j.Name)
			if err != nil {
				a.unkept("how the job went", err)
			}
			doc := jobDocument(p, j, last, time.Now())
			if a.output == "json" {
				return a.document(document.JobShown{Head: document.One, Job: doc})
			}
			a.showJob(a.Out, p, j, doc)
			return nil
		},
		ValidArgsFunction: a.completeJobs,
	}
	a.fromFlag(c)
	return c
}

// oneJob refuses everything but the name of a job, in our words.
func oneJob(c *cobra.Command, args []string) error {
	if len(args) == 1 {
		return nil
	}
	return problem.Errorf("%s takes the name of one job", c.CommandPath()).Remedy("`jadekettle job list` lists them")
}

func (a *App) showJob(w io.Writer, p *project, j *job.Job, doc document.Job) {
	fmt.Fprintf(w, "%s  %s\n\n", screen.Paint(screen.Loud, j.Name), screen.Line(j.About))
	rows := [][]string{}
	add := func(what string, text ...string) {
		if all := strings.TrimSpace(strings.Join(text, " ")); all != "" {
			rows = append(rows, []string{"  " + what, all})
		}
	}
	add("does", j.Does)
	add("where", written(j.Targets))
	add("but not", written(j.Except))
	add("runs", written(j.Command))
	add("manifests", j.Manifests...)
	add("labels", j.Labels...)
	add("environment", j.Env)
	if j.Source != "" {
		add("taken from", j.Source, j.Revision)
	}
	if r := j.Rollout; r.First != "" || r.Batch.N > 0 || r.StopAfter.N > 0 {
		var how []string
		for _, part := range [][2]string{{"batches of ", r.Batch.String()}, {"first ", r.First}, {"stops after ", r.StopAfter.String()}} {
			if part[1] != "" && part[1] != "0" {
				how = append(how, part[0]+part[1])
			}
		}
		add("bit by bit", strings.Join(how, ", "))
	}
	if j.Schedule != nil {
		add("starts", j.Schedule.String())
		at, times := time.Now(), []string{}
		for range 3 {
			if at, _ = j.Schedule.Next(p.Settings.Project+"/"+j.Name, at); at.IsZero() {
				break
			}
			times = append(times, screen.When(at))
		}
		add("next", strings.Join(times, ", "))
		add("when missed", map[string]string{"skip": "the next one counts", "once": "one start makes up for it"}[j.Schedule.Missed])
	}
	if j.Tell != nil {
		add("tells", append([]string{strings.Join(j.Tell, ", ")}, map[bool]string{true: "nobody"}[len(j.Tell) == 0])...)
	}
	if doc.Last != nil {
		_, how := screen.Outcome(doc.Last)
		add("last", fmt.Sprintf("run %d of %s by %s: %s", doc.Last.Number, screen.When(doc.Last.Started), doc.Last.Who, how))
	}
	screen.Columns(w, rows)
	call := "jadekettle job start " + j.Name
	if len(doc.Questions) > 0 {
		fmt.Fprintf(w, "\n%s\n", screen.Paint(screen.Quiet, "it asks"))
		rows = rows[:0]
		for _, q := range doc.Questions {
			text := strings.TrimSuffix(strings.TrimSpace(q.About), ".")
			if text != "" {
				text += ": "
			}
			text += q.Wants
			if !q.Needed {
				text += "; " + value.Shown(q.Default) + " when left out"
			}
			if q.Secret {
				text += "; kept and shown nowhere"
			}
			if q.OnlyIf != "" {
				text += "; only if " + q.OnlyIf
			}
			rows = append(rows, []string{"  " + q.Key, text})
			if q.Needed && q.OnlyIf == "" && !q.Secret {
				call += " --answer " + q.Key + "=" + strings.ToUpper(q.Type)
			}
			if q.Secret && q.OnlyIf == "" {
				call += map[bool]string{true: " --answers FILE"}[!strings.Contains(call, "--answers")]
			}
		}
		screen.Columns(w, rows)
	}
	fmt.Fprintf(w, "\n%s\n  %s\n", screen.Paint(screen.Quiet, "to start it"), call)
}

func (a *App) jobLastCommand() *cobra.Command {
	whole := false
	c := &cobra.Command{
		Use: "last JOB", Short: "Show the last run of a job", Args: oneJob,
		RunE: func(c *cobra.Command, args []string) error {
			p, _, err := a.keptRuns()
			if err != nil {
				return err
			}
			list, err := p.List(store.Filter{Jobs: args, Most: 1})
			if err != nil {
				return err
			}
			if len(list) == 0 {
				open, err := a.open() // which tells of a name that is none
				if err == nil {
					_, err = job.Find(open.Jobs, args[0])
				}
				if err != nil {
					return err
				}
				return problem.Errorf("the job %s has never run", args[0]).Remedy("start it: jadekettle job start %s", args[0])
			}
			k, err := p.Load(list[0].Number)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.document(document.RunShown{Head: document.One, Run: *k})
			}
			a.showRun(a.Out, p, k, whole)
			return nil
		},
		ValidArgsFunction: a.completeJobs,
	}
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show unchanged tasks too, and every line of every diff")
	return c
}

// completeJobs completes the names of jobs.
func (a *App) completeJobs(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.open()
	if err != nil || len(args) > 0 {
		return nil, noFiles
	}
	var out []string
	for _, j := range p.Jobs {
		out = append(out, j.Name)
	}
	return out, noFiles
}
