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
	About     string          `json:"about" doc:"What it is for."`
	Does      string          `json:"does" doc:"apply, preview, verify or exec."`
	Targets   []string        `json:"targets" doc:"Where, as written."`
	Except    []string        `json:"except" doc:"Targets that are taken out again, as written."`
	Manifests []string        `json:"manifests" doc:"The manifests whose tasks alone are meant; none for all."`
	Labels    []string        `json:"labels" doc:"The labels whose tasks alone are meant; none for all."`
	Command   []string        `json:"command" doc:"What an exec runs, as written."`
	Env       string          `json:"env" doc:"The environment; empty for that of the call."`
	Source    string          `json:"source" doc:"The git repository of the project; empty for this folder."`
	Revision  string          `json:"revision" doc:"The branch, tag or commit of source; empty for its usual branch."`
	Questions []Question      `json:"questions" doc:"What it asks."`
	Schedule  string          `json:"schedule" doc:"When it starts by itself; empty when it does not."`
	Next      *time.Time      `json:"next" doc:"Its next start, in UTC; null when there is none."`
	Last      *record.Summary `json:"last" doc:"Its last run; null when there was none."`
}

// Question is one question of a job.
type Question struct {
	Key     string `json:"key" doc:"Its key: the answer is input.KEY in expressions."`
	Type    string `json:"type" doc:"The type of the answer."`
	About   string `json:"about" doc:"What it is about."`
	Wants   string `json:"wants" doc:"What an answer has to be, in words."`
	Default any    `json:"default" doc:"What holds without an answer; null when there is none."`
	Needed  bool   `json:"needed" doc:"Whether there is no default."`
	Secret  bool   `json:"secret" doc:"Whether the answer is kept and shown nowhere."`
	Choices []any  `json:"choices" doc:"The only answers, as far as no other answer decides; none for any that fits."`
	OnlyIf  string `json:"only_if" doc:"The condition on which it is asked; empty for always."`
}

// Tended is what `tend status` prints.
type Tended struct {
	Head
	Running bool `json:"running" doc:"Whether something tends the project now."`
	tend.Standing
	Jobs []TendedJob `json:"jobs" doc:"Its jobs that have a schedule."`
}

// TendedJob is one of them.
type TendedJob struct {
	Name string `json:"name" doc:"Its name."`
	tend.Done
}

// NewJob makes the document of a job.
func NewJob(b *jobs.Book, j *jobs.Job, last *record.Summary, now time.Time) Job {
	out := Job{Name: j.Name, About: j.About, Does: j.Does, Targets: texts(j.Targets), Except: texts(j.Except),
		Manifests: j.Manifests, Labels: j.Labels,
		Command: texts(j.Command),
		Env:     j.Env, Source: j.Source, Revision: j.Revision, Last: last}
	if at := b.Next(j, now); !at.IsZero() {
		at = at.UTC()
		out.Schedule, out.Next = j.Schedule.String(), &at
	}
	answers := b.Answers(j)
	for _, q := range j.Asks {
		one := Question{Key: q.Name, Type: q.Type, About: q.About, Wants: answers.Wants(q), Default: q.Default,
			Secret: q.Secret, Needed: !q.HasDefault}
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
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

// NewTended makes the document of what tends a project.
func NewTended(s *tend.State, alive bool) Tended {
	out := Tended{Head: One, Running: alive, Standing: s.Standing}
	for _, name := range value.Keys(s.Jobs) {
		out.Jobs = append(out.Jobs, TendedJob{Name: name, Done: *s.Jobs[name]})
	}
	return out
}
