package document

import (
	"time"

	"jadekettle/internal/app/jobs"
	"jadekettle/internal/app/tend"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
)

// Jobs is what `job list` prints.
type Jobs struct {
	Head
	Jobs []Job `json:"jobs" doc:"The jobs, in the order of the file."`
}

// JobShown is what `job show JOB` prints.
type JobShown struct {
	Head
	Job
}

// Job is one job.
type Job struct {
	Name      string          `json:"name" doc:"Its name."`
	About     string          `json:"about" doc:"A description."`
	Action    string          `json:"action" doc:"apply, preview, verify or exec."`
	Targets   []string        `json:"targets" doc:"The targets, as written."`
	Except    []string        `json:"except" doc:"The excluded targets, as written."`
	Manifests []string        `json:"manifests" doc:"The selected manifests; none for all."`
	Labels    []string        `json:"labels" doc:"The selected labels; none for all."`
	Command   []string        `json:"command" doc:"The command of an exec, as written."`
	Env       string          `json:"env" doc:"The environment; empty for that of the command line."`
	Source    string          `json:"source" doc:"The git repository of the project; empty for this directory."`
	Revision  string          `json:"revision" doc:"The branch, tag or commit of source; empty for its default branch."`
	Inputs    []Input         `json:"inputs" doc:"Its inputs."`
	Schedule  string          `json:"schedule" doc:"Its schedule; empty if it has none."`
	Next      *time.Time      `json:"next" doc:"Its next start, in UTC; null if there is none."`
	Last      *record.Summary `json:"last" doc:"Its last run; null if there was none."`
}

// Input is one input of a job.
type Input struct {
	Key     string `json:"key" doc:"Its key; the value is input.KEY in expressions."`
	Type    string `json:"type" doc:"Its type."`
	About   string `json:"about" doc:"A description."`
	Wants   string `json:"expected" doc:"What a value must be, in words."`
	Default any    `json:"default" doc:"The default; null if there is none."`
	Needed  bool   `json:"required" doc:"Whether it has no default."`
	Secret  bool   `json:"secret" doc:"Whether the value is secret: never stored or shown."`
	Choices []any  `json:"choices" doc:"The allowed values if known in advance; none if not restricted."`
	OnlyIf  string `json:"only_if" doc:"The condition for requesting it; empty for always."`
}

// Tended is what `tend status` prints.
type Tended struct {
	Head
	Running bool `json:"running" doc:"Whether a scheduler is running for the project."`
	tend.Status
	Jobs []TendedJob `json:"jobs" doc:"Its jobs with a schedule."`
}

// TendedJob is one of them.
type TendedJob struct {
	Name string `json:"name" doc:"Its name."`
	tend.Done
}

// NewJob makes the document of a job.
func NewJob(b *jobs.Book, j *jobs.Job, last *record.Summary, now time.Time) Job {
	out := Job{Name: j.Name, About: j.About, Action: j.Action, Targets: texts(j.Targets), Except: texts(j.Except),
		Manifests: j.Manifests, Labels: j.Labels,
		Command: texts(j.Command),
		Env:     j.Env, Source: j.Source, Revision: j.Revision, Last: last}
	if at := b.Next(j, now); !at.IsZero() {
		at = at.UTC()
		out.Schedule, out.Next = j.Schedule.String(), &at
	}
	answers := b.Values(j)
	for _, q := range j.Inputs {
		one := Input{Key: q.Name, Type: q.Type, About: q.About, Wants: answers.Wants(q), Default: q.Default,
			Secret: q.Secret, Needed: !q.HasDefault}
		if q.OnlyIf != nil {
			one.OnlyIf = q.OnlyIf.Text()
		}
		if list, err := answers.Choices(q); err == nil {
			one.Choices = append(one.Choices, list...)
		}
		out.Inputs = append(out.Inputs, one)
	}
	return out
}

func texts(list []*expr.Text) []string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

// NewTended makes the document of what tends a project.
func NewTended(s *tend.State, alive bool) Tended {
	out := Tended{Head: One, Running: alive, Status: s.Status}
	for _, name := range value.Keys(s.Jobs) {
		out.Jobs = append(out.Jobs, TendedJob{Name: name, Done: *s.Jobs[name]})
	}
	return out
}
