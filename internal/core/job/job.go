// Package job reads jobs.toml: runs that are saved with what they are about, what they ask
// before they start, and when they start by themselves.
//
//	[job.night-tide]
//	about = "Bring the gauges up to date"
//	action = "apply"
//	targets = ["@gauge"]
//
//	[job.night-tide.input.depth]
//	type = "int"
//	default = 3
//
// What is answered is input.KEY in expressions.
package job

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schedule"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
)

// File holds a project's jobs.
const File = "jobs.toml"

// What a job does.
const (
	Apply   = "apply"
	Preview = "preview"
	Verify  = "verify"
	Exec    = "exec"
)

// Deeds are all that a job can do.
var Deeds = []string{Apply, Preview, Verify, Exec}

// Job is one job.
type Job struct {
	Name, About string
	Action      string       // one of Deeds
	Targets     []*expr.Text // over input, data and env; an answer that is a list is many of them
	Except      []*expr.Text
	Manifests   []string     // only tasks of these
	Labels      []string     // only tasks with one of these
	Command     []*expr.Text // of Exec: a line for sh, or a program and its words
	Env         string       // the environment; empty for that of the call
	Source      string       // the git repository that the project is taken from; empty for this one
	Revision    string       // of Source
	Rollout     settings.Rollout
	Schedule    *schedule.Schedule // nil when only people start it
	Notify      []string           // which [notify.NAME] apply, of those that there are; nil for all
	Inputs      []*Input
	Place       value.Place
}

// Keys document the keys of [job.NAME].
var Keys = append([]schema.Key{
	{Name: "about", Takes: schema.TakesText, Doc: "A description of the job."},
	{Name: "action", Takes: schema.TakesText, Default: `"apply"`, Choices: Deeds, Doc: "The action: apply, " +
		"preview, verify or exec."},
	{Name: "targets", Takes: schema.TakesList, Doc: "The targets: host names, patterns and @groups; \"*\" is every " +
		"host. ${input.KEY} inserts an input, which may be a list."},
	{Name: "except", Takes: schema.TakesList, Doc: "Targets to exclude."},
	{Name: "manifests", Takes: schema.TakesList, Doc: "Select only tasks from these manifests."},
	{Name: "labels", Takes: schema.TakesList, Doc: "Select only tasks with one of these labels."},
	{Name: "command", Takes: schema.TakesList, Doc: "The command for exec: a program and its arguments, or a line " +
		"that is split into them like a shell would, with each ${...} staying within one argument. To use a shell, " +
		"write [\"sh\", \"-c\", \"...\"]."},
	{Name: "env", Takes: schema.TakesText, Default: "that of the command line", Doc: "The environment."},
	{Name: "source", Takes: schema.TakesText, Default: "this project", Doc: "A git repository to read the project " +
		"from at each start."},
	{Name: "revision", Takes: schema.TakesText, Default: "its default branch",
		Doc: "The branch, tag or commit of source."},
	{Name: "notify", Takes: schema.TakesList, Default: "all", Doc: "The [notify.NAME] entries of jadekettle.toml " +
		"to notify; all by default, [] for none."},
}, rolloutKeys()...)

func rolloutKeys() []schema.Key {
	var out []schema.Key
	for _, k := range settings.EnvKeys {
		if slices.Contains([]string{"first", "batch", "pause", "stop_after"}, k.Name) {
			out = append(out, k)
		}
	}
	return out
}

var nameForm = lazy.Regexp(`^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$`)

// Load reads the jobs of a project; none where it has no such file.
func Load(project fs.FS, problems *problem.Problems) []*Job {
	data, err := fs.ReadFile(project, File)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		problems.AddErr(value.Place{File: File}, err)
		return nil
	}
	root, _ := manifest.ParseTOML(File, data, problems)
	var out []*Job
	for _, k := range root.Keys {
		if k.Name != "job" || k.Node.Kind != manifest.Table {
			problems.At(k.Place, fmt.Sprintf("%s must contain only [job.NAME] tables, not %q", File, k.Name),
				"write [job.NAME]")
			continue
		}
		for _, one := range k.Node.Keys {
			if j := read(one, problems); j != nil {
				out = append(out, j)
			}
		}
	}
	return out
}

// Find finds a job by its name.
func Find(jobs []*Job, name string) (*Job, error) {
	var names []string
	for _, j := range jobs {
		if j.Name == name {
			return j, nil
		}
		names = append(names, j.Name)
	}
	if len(names) == 0 {
		return nil, problem.Errorf("this project has no jobs").
			Remedy("add [job.%s] to %s; see docs/explain/jobs.md", name, File)
	}
	return nil, problem.Errorf("unknown job %q", name).Meant(name, names, "available: "+strings.Join(names, ", "))
}

// textScope is what targets and commands may read.
var textScope = expr.Scope{Roots: []string{"input", "data", "env"}, What: "a job"}

// read reads one [job.NAME]; nil when it is none.
func read(k manifest.Key, problems *problem.Problems) *Job {
	j := &Job{Name: k.Name, Action: Apply, Place: k.Place}
	if k.Node.Kind != manifest.Table || !nameForm().MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("job.%s is not a valid job", k.Name),
			"write [job.NAME], the name in letters, "+
				"digits, dashes and underscores")
		return nil
	}
	fields := manifest.Fields{"about": &j.About, "action": &j.Action, "env": &j.Env, "source": &j.Source,
		"revision": &j.Revision, "notify": &j.Notify, // of which [] notifies nobody
		"manifests": manifest.Some{To: &j.Manifests}, "labels": manifest.Some{To: &j.Labels},
		"targets": texts("targets", &j.Targets), "except": texts("except", &j.Except), "command": j.command,
		"input":    j.inputs,
		"schedule": func(n *manifest.Node, ps *problem.Problems) { j.Schedule = schedule.Read(n, ps) },
	}
	j.Rollout.Fields(fields)
	if k.Node.Decode("a job", Keys, fields, problems) {
		problems.AddErr(k.Place, j.whole())
	}
	return j
}

// texts reads a list of texts that may hold expressions.
func texts(name string, to *[]*expr.Text) func(*manifest.Node, *problem.Problems) {
	return func(n *manifest.Node, problems *problem.Problems) {
		for _, item := range n.Texts(name, problems) {
			t, err := expr.ParseText(item.Value.(string), item.At, "", textScope)
			if err != nil {
				problems.AddErr(item.Place, err)
				continue
			}
			*to = append(*to, t)
		}
	}
}

// command reads what an exec runs. No shell sees it: an answer must not become another command.
func (j *Job) command(n *manifest.Node, problems *problem.Problems) {
	texts("command", &j.Command)(n, problems)
	if len(j.Command) != 1 {
		return
	}
	words, shell := j.Command[0].Words()
	if shell != 0 {
		problems.At(n.Place, fmt.Sprintf("%q needs a shell, but commands run without one", string(shell)),
			`put it in single quotes, or write ["sh", "-c", "...", "sh", "${input.KEY}"] and use the value as "$1"`)
	}
	j.Command = words
}

// whole says whether it is clear what the job does and where.
func (j *Job) whole() error {
	switch {
	case len(j.Targets) == 0:
		return problem.Errorf("job.%s has no targets", j.Name).
			Remedy(`write targets = ["@group"], or ["*"] for every host`)
	case j.Action == Exec && len(j.Command) == 0:
		return problem.Errorf("job.%s has no command", j.Name).Remedy(`write command = ["uptime"]`)
	case j.Action != Exec && len(j.Command) > 0:
		return problem.Errorf("job.%s has a command, which only exec uses", j.Name).
			Remedy(`write action = "exec", or remove the command`)
	case j.Action == Exec && len(j.Manifests)+len(j.Labels) > 0:
		return problem.Errorf("job.%s runs a command, so manifests and labels do not apply", j.Name).
			Remedy("remove them")
	case j.Action != Apply && j.Rollout != (settings.Rollout{}):
		return problem.Errorf("job.%s has rollout settings, which only apply uses", j.Name).
			Remedy("remove first, batch, pause and stop_after")
	case j.Revision != "" && j.Source == "":
		return problem.Errorf("job.%s has a revision but no source", j.Name).
			Remedy(`write source = "https://...", the git repository`)
	case j.Schedule != nil && j.Rollout.Pause == settings.ByKey:
		return problem.Errorf("job.%s has a schedule, so it cannot wait for a keypress", j.Name).
			Remedy("set pause to a duration")
	}
	for _, a := range j.Inputs {
		if j.Schedule != nil && !a.HasDefault && a.OnlyIf == nil {
			return problem.Errorf("job.%s has a schedule, but its input %s has no default",
				j.Name, a.Name).
				Remedy("give the input a default")
		}
	}
	return nil
}

// Inputs are the names of all that the jobs of a project ask.
func Inputs(jobs []*Job) []string {
	var out []string
	for _, j := range jobs {
		for _, a := range j.Inputs {
			if !slices.Contains(out, a.Name) {
				out = append(out, a.Name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Words evaluates texts of a job. One that is an expression alone may give a list of texts.
func Words(texts []*expr.Text, vars *expr.Vars) ([]string, error) {
	var out []string
	for _, t := range texts {
		v, err := t.Eval(vars)
		if err != nil {
			return nil, err
		}
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, item := range list {
			if value.HoldsSecret(item) {
				return nil, problem.Errorf("a secret would be visible on a command line or as a target").
					Remedy("use input.KEY in a manifest instead")
			}
			word, ok := value.Text(item)
			if !ok || word == "" {
				return nil, problem.Errorf("expected text, but it is %s", value.TypeName(item)).
					Remedy("use an input of text, or a list of text")
			}
			out = append(out, word)
		}
	}
	return out, nil
}
