// Package jobs reads the saved runs of a project and makes requests of them: a job's inputs get values, and then
// it is a request like any other, which carries the job's name.
package jobs

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/app"
	"jadekettle/internal/app/units"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/history/store"
)

// A job and its questions, as the core has them.
type (
	Job    = job.Job
	Input  = job.Input
	Given  = job.Given
	Values = job.Values
)

// File is where jobs are declared.
const File = job.File

// Book is a project with its jobs.
type Book struct {
	*app.Project
	setting job.Setting
}

// Open reads a project and its jobs.
func Open(s *app.Site) (*Book, error) {
	p, err := s.Open()
	if err != nil {
		return nil, err
	}
	setting, err := resolve.JobSetting(p.Project)
	return &Book{p, setting}, err
}

// Find gives a job by its name.
func (b *Book) Find(name string) (*Job, error) { return job.Find(b.Jobs, name) }

// Values are the values of a job's inputs, none yet.
func (b *Book) Values(j *Job) *Values { return &Values{Job: j, Setting: b.setting} }

// Last gives the last run of a job; nil where there is none.
func Last(runs store.Project, name string) (*record.Summary, error) {
	list, err := runs.List(store.Filter{Jobs: []string{name}, Most: 1})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Next is when a job starts by itself after a time; the zero time where it does not.
func (b *Book) Next(j *Job, now time.Time) time.Time {
	if j.Schedule == nil {
		return time.Time{}
	}
	at, _ := j.Schedule.Next(b.Settings.Project+"/"+j.Name, now)
	return at
}

// Closed says in which windows alone a job starts by its schedule, where none of them is open now.
func Closed(j *Job, now time.Time) string {
	if j.Schedule == nil || j.Schedule.Open(now) {
		return ""
	}
	var windows []string
	for _, w := range j.Schedule.Windows {
		windows = append(windows, w.String())
	}
	slices.Sort(windows)
	return strings.Join(windows, " and ")
}

// Changes says whether a job may change something on a host.
func Changes(j *Job) bool { return j.Action == job.Apply || j.Action == job.Exec }

// Applies says whether a job is an apply.
func Applies(j *Job) bool { return j.Action == job.Apply }

// For gives the project as a job is about it: in the job's environment, and of its source.
func (b *Book) For(ctx context.Context, j *Job) (*Book, error) {
	if j.Env != "" && b.Env != "" && b.Env != j.Env {
		return nil, problem.Errorf("the job %s is for the environment %s, not %s", j.Name, j.Env, b.Env).
			Remedy("remove --env")
	}
	env := cmp.Or(b.Env, j.Env)
	if j.Source == "" && env == b.Settings.Env {
		return b, nil
	}
	site := b.Site.In(env)
	if j.Source != "" {
		if b.Taken != nil {
			return nil, problem.Errorf("the job %s has its own source, so --from cannot be used", j.Name).
				Remedy("remove --from")
		}
		where := site.Where
		where.Dir, where.From, where.Revision = "", j.Source, j.Revision
		var err error
		if site, err = app.Find(ctx, b.Caller, where); err != nil {
			return nil, err
		}
	}
	other, err := Open(site)
	if err != nil {
		return nil, app.InFolder{Root: site.Root, Err: err}
	}
	return other, nil
}

// Started gives the project and the request of a job whose questions are answered.
func (b *Book) Started(values *Values, preview bool) (*app.Project, app.Request, error) {
	j, vars := values.Job, values.Vars()
	q := app.Request{Preview: preview || j.Action == job.Preview,
		Job: &app.Job{Job: j, Input: values.Input, Shown: values.Shown()}}
	if q.Job.Input == nil {
		q.Job.Input = map[string]any{}
	}
	var err error
	if q.Targets, err = job.Words(j.Targets, vars); err != nil {
		return nil, q, fmt.Errorf("the targets of the job %s: %w", j.Name, err)
	}
	if q.Except, err = job.Words(j.Except, vars); err != nil {
		return nil, q, fmt.Errorf("the except of the job %s: %w", j.Name, err)
	}
	command, err := job.Words(j.Command, vars)
	if err != nil {
		return nil, q, fmt.Errorf("the command of the job %s: %w", j.Name, err)
	}
	site := *b.Site
	site.Input = q.Job.Input
	p, err := site.Open()
	if err != nil {
		return nil, q, app.InFolder{Root: site.Root, Err: err}
	}
	q.Part.Manifests, q.Part.Labels = j.Manifests, j.Labels
	switch q.Mode = record.ModeApply; j.Action {
	case job.Verify:
		q.Mode = record.ModeVerify
		probes := p.Probes()
		q.Part.Tasks, q.Part.Silent = probes.Tasks, probes.Silent
	case job.Exec:
		q.Mode, q.Exec = record.ModeExec, &app.Exec{Words: command, Limit: 10 * time.Minute}
	}
	return p, q, nil
}

// Hosts gives the hosts that a job goes over without any input; none where that is
// elsewhere.
func (b *Book) Hosts(j *Job) ([]string, error) {
	if j.Source != "" {
		return nil, nil
	}
	in := b
	if j.Env != "" && j.Env != b.Settings.Env {
		var err error
		if in, err = Open(b.Site.In(j.Env)); err != nil {
			return nil, err
		}
	}
	values := in.Values(j)
	if err := values.Accept(nil); err != nil {
		return nil, err
	}
	targets, err := job.Words(j.Targets, values.Vars())
	if err != nil {
		return nil, err
	}
	except, err := job.Words(j.Except, values.Vars())
	if err != nil {
		return nil, err
	}
	hosts, err := in.Select(targets, except)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, h := range hosts {
		out = append(out, h.Name)
	}
	return out, nil
}

// UnitName names the units of a job.
func UnitName(project, name string) string {
	return "jadekettle-" + project[:min(8, len(project))] + "-" + name
}

// keptVariables are those that a service has of the call that installs it.
var keptVariables = []string{"HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "PGPASSFILE",
	"SSH_AUTH_SOCK"}

// Units writes the service and the timer by which systemd starts a job.
func (b *Book) Units(j *Job) ([]units.File, error) {
	if j.Schedule == nil {
		return nil, problem.Errorf("the job %s has no schedule", j.Name).
			Remedy("add [job.%s.schedule] to %s", j.Name, job.File)
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := units.Service{About: "jadekettle: the job " + j.Name}
	if j.About != "" {
		s.About += ", " + j.About
	}
	s.Command = append([]string{self}, b.CallAgain()...)
	s.Command = append(s.Command, "job", "start", j.Name, "--yes", "--scheduled")
	if b.Trust {
		s.Command = append(s.Command, "--trust")
	}
	for _, name := range keptVariables {
		if v := b.Getenv(name); v != "" {
			s.Environment = append(s.Environment, name+"="+v)
		}
	}
	return units.Job(UnitName(b.Settings.Project, j.Name), s, j.Schedule)
}

// Systemd is the manager of the account that calls.
func Systemd(c *app.Caller) units.Manager { return units.Of(os.Geteuid(), c.ConfigDir()) }

// maxInputs bounds a file of values, in bytes.
const maxInputs = 1 << 20

// Give reads the values of a command line: those of a file, - being in, and those that are KEY=VALUE.
func Give(j *Job, file string, in io.Reader, values []string) (map[string]Given, error) {
	out := map[string]Given{}
	if file != "" {
		tree, open, err := readInputs(file, in)
		if err != nil {
			return nil, err
		}
		for _, q := range j.Inputs {
			if _, has := tree[q.Name]; has && q.Secret && open {
				return nil, problem.Errorf("%s is readable by other users, but contains the secret %s", file, q.Name).
					Remedy("run: chmod 600 %s", file)
			}
		}
		for key, v := range tree {
			out[key] = Given{Value: v}
		}
	}
	for _, g := range values {
		key, text, ok := strings.Cut(g, "=")
		if !ok || key == "" {
			return nil, problem.Errorf("an --input has no \"=\"").Remedy("use --input KEY=VALUE")
		}
		if _, twice := out[key]; twice {
			return nil, problem.Errorf("the input %s is given twice", key).Remedy("use only one of them")
		}
		out[key] = Given{Value: text, Text: true}
	}
	return out, nil
}

// readInputs reads a file of values. open says that others than its owner may read it.
func readInputs(file string, in io.Reader) (tree map[string]any, open bool, err error) {
	name := "the input"
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, false, problem.Errorf("the inputs cannot be read: %w", err).
				Remedy("check that the file exists")
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
			if open = info.Mode().Perm()&0o044 != 0; info.Mode().Perm()&0o022 != 0 {
				return nil, false, problem.Errorf("%s is writable by other users", file).
					Remedy("run: chmod 600 %s", file)
			}
		}
		in, name = f, file
	}
	data, err := io.ReadAll(io.LimitReader(in, maxInputs+1))
	if err != nil {
		return nil, false, err
	}
	if len(data) > maxInputs {
		return nil, false, problem.Errorf("%s is larger than a megabyte", name).Remedy("use a smaller file")
	}
	full := name
	if file == "-" { // the form shows in its first sign
		full += ".toml"
		if strings.HasPrefix(strings.TrimSpace(string(data)), "{") {
			full = name + ".json"
		}
	}
	var ps problem.Problems
	root, _ := manifest.Parse(full, data, &ps)
	if err := ps.Err(); err != nil {
		return nil, false, problem.Errorf("%s is not a valid file of inputs: %w", name, problem.From(err)).
			Remedy("write KEY = VALUE in TOML, or use YAML or JSON")
	}
	tree, _ = root.Plain().(map[string]any)
	return tree, open, nil
}
