// Package job reads jobs.toml: runs that are saved with what they are about, what they ask
// before they start, and when they start by themselves.
//
//	[job.night-tide]
//	about = "Bring the gauges up to date"
//	does = "apply"
//	targets = ["@gauge"]
//
//	[job.night-tide.ask.depth]
//	type = "int"
//	default = 3
//
// What is answered is input.KEY in expressions.
package job

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
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
	Does        string       // one of Deeds
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
	Tell        []string           // the [tell.NAME] that are told, of those that there are; nil for all
	Asks        []*Ask
	Place       value.Place
}

// Keys document the keys of [job.NAME].
var Keys = append([]schema.Key{
	{Name: "about", Takes: schema.TakesText, Doc: "What the job is for."},
	{Name: "does", Takes: schema.TakesText, Default: `"apply"`, Choices: Deeds, Doc: "What it does: apply, " +
		"preview, verify or exec."},
	{Name: "targets", Takes: schema.TakesList, Doc: "Where: host names, patterns and @groups; \"*\" is every host. " +
		"${input.KEY} stands for an answer, also for one that is a list."},
	{Name: "except", Takes: schema.TakesList, Doc: "Targets to take out again."},
	{Name: "manifests", Takes: schema.TakesList, Doc: "Only tasks of these manifests."},
	{Name: "labels", Takes: schema.TakesList, Doc: "Only tasks with one of these labels."},
	{Name: "command", Takes: schema.TakesList, Doc: "What an exec runs: a program and its words, or a line that is " +
		"split into them as a shell would, each ${...} as a part of one word. Who wants a shell writes [\"sh\", " +
		"\"-c\", \"...\"]."},
	{Name: "env", Takes: schema.TakesText, Default: "that of the call", Doc: "The environment."},
	{Name: "source", Takes: schema.TakesText, Default: "this project", Doc: "A git repository that the project is " +
		"taken from at each start."},
	{Name: "revision", Takes: schema.TakesText, Default: "its usual branch",
		Doc: "The branch, tag or commit of source."},
	{Name: "tell", Takes: schema.TakesList, Default: "all", Doc: "Whom a run of it tells, of those that " +
		"[tell.NAME] in jadekettle.toml names."},
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

var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$`)

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
			problems.At(k.Place, fmt.Sprintf("%s holds jobs, and no %q", File, k.Name), "write [job.NAME]")
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
			Remedy("write [job.%s] in %s; docs/guide.md shows how", name, File)
	}
	return nil, problem.Errorf("there is no job %q", name).Meant(name, names, "there are "+strings.Join(names, ", "))
}

// textScope is what targets and commands may read.
var textScope = expr.Scope{Roots: []string{"input", "data", "env"}, What: "a job"}

// read reads one [job.NAME]; nil when it is none.
func read(k manifest.Key, problems *problem.Problems) *Job {
	j := &Job{Name: k.Name, Does: Apply, Place: k.Place}
	if k.Node.Kind != manifest.Table || !nameForm.MatchString(k.Name) {
		problems.At(k.Place, fmt.Sprintf("job.%s is no job", k.Name), "write [job.NAME], the name in letters, "+
			"digits, dashes and underscores")
		return nil
	}
	fields := manifest.Fields{"about": &j.About, "does": &j.Does, "env": &j.Env, "source": &j.Source,
		"revision": &j.Revision, "tell": &j.Tell, // of which [] tells nobody
		"manifests": manifest.Some{To: &j.Manifests}, "labels": manifest.Some{To: &j.Labels},
		"targets": texts("targets", &j.Targets), "except": texts("except", &j.Except), "command": j.command,
		"ask":      j.asks,
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
		problems.At(n.Place, fmt.Sprintf("%q is for a shell, and a command runs without one", string(shell)),
			`put it in single quotes, or write ["sh", "-c", "...", "sh", "${input.KEY}"], where the answer is "$1"`)
	}
	j.Command = words
}

// whole says whether it is clear what the job does and where.
func (j *Job) whole() error {
	switch {
	case len(j.Targets) == 0:
		return problem.Errorf("job.%s does not say where", j.Name).
			Remedy(`write targets = ["@group"], or ["*"] for every host`)
	case j.Does == Exec && len(j.Command) == 0:
		return problem.Errorf("job.%s does not say what it runs", j.Name).Remedy(`write command = ["uptime"]`)
	case j.Does != Exec && len(j.Command) > 0:
		return problem.Errorf("job.%s has a command, which only an exec runs", j.Name).
			Remedy(`write does = "exec", or leave the command out`)
	case j.Does == Exec && len(j.Manifests)+len(j.Labels) > 0:
		return problem.Errorf("job.%s runs a command, which has no manifests and no labels", j.Name).
			Remedy("leave these out")
	case j.Does != Apply && j.Rollout != (settings.Rollout{}):
		return problem.Errorf("job.%s says how an apply goes over hosts, and is none", j.Name).
			Remedy("leave out first, batch, pause and stop_after")
	case j.Revision != "" && j.Source == "":
		return problem.Errorf("job.%s has a revision and no source", j.Name).
			Remedy(`write source = "https://...", the git repository`)
	case j.Schedule != nil && j.Rollout.Pause == settings.ByKey:
		return problem.Errorf("job.%s starts by itself, and waits for a key that nobody presses", j.Name).
			Remedy("give the pause a length of time")
	}
	for _, a := range j.Asks {
		if j.Schedule != nil && !a.HasDefault && a.OnlyIf == nil {
			return problem.Errorf("job.%s starts by itself, and nobody answers then what it asks for %s",
				j.Name, a.Name).
				Remedy("give the question a default")
		}
	}
	return nil
}

// Inputs are the names of all that the jobs of a project ask.
func Inputs(jobs []*Job) []string {
	var out []string
	for _, j := range jobs {
		for _, a := range j.Asks {
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
				return nil, problem.Errorf("a secret would be seen on a command line, or as a target").
					Remedy("let a manifest use input.KEY instead")
			}
			word, ok := value.Text(item)
			if !ok || word == "" {
				return nil, problem.Errorf("what should be text is %s", value.TypeName(item)).
					Remedy("let the answer be text, or a list of texts")
			}
			out = append(out, word)
		}
	}
	return out, nil
}
