package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"github.com/spf13/cobra"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	screen "jadekettle/internal/present/text"
)

// startedJob is a job that runs, with the answers that it was given.
type startedJob struct {
	*job.Job
	input map[string]any
	shown map[string]string // without secrets
}

// launch is how a call starts a job.
type launch struct {
	answers []string // --answer
	file    string   // --answers
	preview bool
	yes     bool
	timed   bool // it starts by its schedule
}

func (a *App) jobStartCommand() *cobra.Command {
	l, r := &launch{}, &round{}
	c := &cobra.Command{
		Use: "start JOB", Short: "Start a job, and answer what it asks", Args: oneJob,
		Long: "Start starts a job. What it asks is given with --answer, or in a file with --answers; on a terminal the rest is asked\n" +
			"in a form, and it is shown where the run will go and how much it is before it begins. With --yes, and off a\n" +
			"terminal, what is not given has its default; off a terminal a job that changes hosts wants --yes.",
		RunE:              func(c *cobra.Command, args []string) error { return a.startJob(c.Context(), l, r, args[0]) },
		ValidArgsFunction: a.completeJobs,
	}
	c.Flags().StringArrayVar(&l.answers, "answer", nil, "an answer, as `KEY=VALUE`; may be repeated; never a secret one")
	c.Flags().StringVar(&l.file, "answers", "", "a `FILE` of answers, TOML, YAML or JSON, or - for the input; one with secrets only you may read")
	c.Flags().BoolVar(&l.preview, "preview", false, "show what an apply would change, and change nothing")
	c.Flags().BoolVar(&l.yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&l.timed, "scheduled", false, "it starts by its schedule: not outside of its windows")
	r.given = c.Flags()
	c.Flags().BoolVarP(&r.verbose, "verbose", "v", false, "show unchanged tasks too, a line for each host, and every line of every diff")
	c.Flags().BoolVar(&r.summary, "summary", false, "show no changes, only how each host fared and what failed")
	r.lenientFlag(c)
	a.fromFlag(c)
	a.noteFlag(c)
	a.plainFlag(c)
	a.passwordFlags(c)
	return c
}

func (a *App) startJob(ctx context.Context, l *launch, r *round, name string) error {
	p, err := a.jobs()
	if err != nil {
		return err
	}
	j, err := job.Find(p.Jobs, name)
	if err != nil {
		return err
	}
	if l.timed && a.closedNow(j, time.Now()) {
		return nil
	}
	if l.preview && j.Does != job.Apply {
		return problem.Errorf("the job %s is no apply", name).Remedy("leave --preview out")
	}
	if err := a.asJob(ctx, j); err != nil {
		return err
	}
	if j.Source != "" || j.Env != p.Settings.Env { // what it asks about is what it goes over
		if p, err = a.jobs(); err != nil {
			return err
		}
	}
	answers := &job.Answers{Job: j, Setting: p.answers.Setting}
	given, err := l.given(a, j)
	if err != nil {
		return err
	}
	asks := !l.yes && (a.Terminal || changes(j, l))
	if asks {
		if err := a.canAsk("a job that changes hosts"); err != nil {
			return err
		}
	}
	if asks {
		if given, err = fillIn(answers, given); err != nil {
			return a.orNothing(err)
		}
	}
	if err := answers.Take(given); err != nil {
		return err
	}
	a.started = &startedJob{Job: j, input: answers.Input, shown: answers.Shown()}
	if a.started.input == nil {
		a.started.input = map[string]any{}
	}
	return a.runJob(ctx, l, r, answers, asks)
}

// changes says whether a job may change something on a host.
func changes(j *job.Job, l *launch) bool {
	return !l.preview && (j.Does == job.Apply || j.Does == job.Exec)
}

// asJob makes the call one in the job's environment and of its source.
func (a *App) asJob(ctx context.Context, j *job.Job) error {
	if j.Env != "" && a.env != "" && a.env != j.Env {
		return problem.Errorf("the job %s is for the environment %s, and the call for %s", j.Name, j.Env, a.env).Remedy("leave --env out")
	}
	a.env = cmp.Or(a.env, j.Env)
	if j.Source == "" {
		return nil
	}
	if a.taken != nil {
		return problem.Errorf("the job %s has a source of its own, and --from is given", j.Name).Remedy("leave --from out")
	}
	a.project = ""
	return a.takeAt(ctx, j.Source, j.Revision)
}

// runJob runs a job whose questions are answered.
func (a *App) runJob(ctx context.Context, l *launch, r *round, answers *job.Answers, asks bool) error {
	j, vars := answers.Job, answers.Vars()
	targets, err := job.Words(j.Targets, vars)
	if err != nil {
		return fmt.Errorf("the targets of the job %s: %w", j.Name, err)
	}
	if r.except, err = job.Words(j.Except, vars); err != nil {
		return fmt.Errorf("the except of the job %s: %w", j.Name, err)
	}
	command, err := job.Words(j.Command, vars)
	if err != nil {
		return fmt.Errorf("the command of the job %s: %w", j.Name, err)
	}
	p, err := a.load(targets, r.except)
	if err != nil {
		return err
	}
	p.Settings.Rollout = j.Rollout.Over(p.Settings.Rollout)
	r.part.Manifests, r.part.Labels = j.Manifests, j.Labels
	r.preview = j.Does == job.Preview || l.preview
	if r.verify = j.Does == job.Verify; r.verify {
		r.part.Tasks, r.part.Silent = p.questions(), true
	}
	if asks {
		if err := a.foretell(p, r, answers, command); err != nil {
			return err
		}
		if !yes(bufio.NewReader(a.In)) {
			return a.nothingDone()
		}
	}
	if j.Does == job.Exec {
		return a.exec(ctx, r, p, command, 10*time.Minute)
	}
	return a.round(ctx, r, p)
}

// foretell shows what a job is about to do, and asks.
func (a *App) foretell(p *project, r *round, answers *job.Answers, command []string) error {
	j := answers.Job
	fmt.Fprintf(a.Err, "%s  %s\n", screen.Paint(screen.Loud, j.Name), screen.Line(j.About))
	rows := [][]string{}
	shown := answers.Shown()
	for _, q := range j.Asks {
		if text, answered := shown[q.Name]; answered {
			rows = append(rows, []string{"  " + q.Name, screen.Line(text)})
		}
	}
	hosts := p.reachable()
	where := inventory.Fold(hosts)
	if len(where) > 8 {
		where = append(where[:8], "and more")
	}
	does := j.Does
	if r.preview {
		does = job.Preview
	}
	what := "  " + does
	about := fmt.Sprintf("%s: %s", screen.Count(len(hosts), "host"), strings.Join(where, " "))
	if j.Does == job.Exec {
		about += "; runs " + strings.Join(command, " ")
	} else {
		n, left, err := a.tasksOf(p, r)
		if err != nil {
			return err
		}
		about += fmt.Sprintf("; %s declared", screen.Count(n, "task"))
		if left > 0 {
			about += fmt.Sprintf(", not counting %s whose facts were never read", screen.Count(left, "host"))
		}
	}
	rows = append(rows, []string{what, screen.Line(about)})
	if p.Settings.Env != "" {
		rows = append(rows, []string{"  environment", p.Settings.Env})
	}
	if a.taken != nil {
		rows = append(rows, []string{"  taken from", screen.Line(a.taken.URL) + " at " + short(a.taken.Commit)})
	}
	screen.Columns(a.Err, rows)
	fmt.Fprint(a.Err, "Start it? [y/N] ")
	return nil
}

// tasksOf counts what is declared for the hosts of a run, by what is known of them. left are the
// hosts of which too little is.
func (a *App) tasksOf(p *project, r *round) (n, left int, err error) {
	if err := r.part.Check(p.Project); err != nil {
		return 0, 0, err
	}
	plans := &resolve.Plans{Project: p.Project, Fleet: p.fleet}
	if err := plans.Check(p.hosts); err != nil {
		return 0, 0, err
	}
	for _, h := range p.hosts {
		if h.Off != "" {
			continue
		}
		f, _ := p.facts(h)
		if f == nil {
			if _, early := plans.Early(h); !early {
				left++
				continue
			}
		}
		whole, err := plans.Of(h, f)
		if err != nil {
			return 0, 0, err
		}
		part, _ := r.part.Apply(whole)
		n += len(part.Tasks)
	}
	return n, left, nil
}

// given reads the answers of the call.
func (l *launch) given(a *App, j *job.Job) (map[string]job.Given, error) {
	out := map[string]job.Given{}
	if l.file != "" {
		tree, open, err := l.read(a)
		if err != nil {
			return nil, err
		}
		for _, q := range j.Asks {
			if _, has := tree[q.Name]; has && q.Secret && open {
				return nil, problem.Errorf("others than you may read %s, which holds the secret %s", l.file, q.Name).Remedy("chmod 600 %s", l.file)
			}
		}
		for key, v := range tree {
			out[key] = job.Given{Value: v}
		}
	}
	for _, g := range l.answers {
		key, text, ok := strings.Cut(g, "=")
		if !ok || key == "" {
			return nil, problem.Errorf("an --answer has no \"=\"").Remedy("write --answer KEY=VALUE")
		}
		if _, twice := out[key]; twice {
			return nil, problem.Errorf("%s is answered twice", key).Remedy("keep one of the two")
		}
		out[key] = job.Given{Value: text, Text: true}
	}
	return out, nil
}

// maxAnswers bounds a file of answers, in bytes.
const maxAnswers = 1 << 20

// read reads a file of answers. open says that others than its owner may read it.
func (l *launch) read(a *App) (tree map[string]any, open bool, err error) {
	in, name := a.In, "the input"
	if l.file != "-" {
		f, err := os.Open(l.file)
		if err != nil {
			return nil, false, problem.Errorf("the answers cannot be read: %w", err).Remedy("see that the file is there")
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
			if open = info.Mode().Perm()&0o044 != 0; info.Mode().Perm()&0o022 != 0 {
				return nil, false, problem.Errorf("others than you may write %s", l.file).Remedy("chmod 600 %s", l.file)
			}
		}
		in, name = f, l.file
	}
	data, err := io.ReadAll(io.LimitReader(in, maxAnswers+1))
	if err != nil {
		return nil, false, err
	}
	if len(data) > maxAnswers {
		return nil, false, problem.Errorf("%s is larger than a megabyte", name).Remedy("answers are short")
	}
	form := path.Ext(l.file)
	if l.file == "-" {
		form = ".toml"
		if strings.HasPrefix(strings.TrimSpace(string(data)), "{") {
			form = ".json"
		}
	}
	var ps problem.Problems
	root, _ := manifest.Parse(name+map[bool]string{true: form}[l.file == "-"], data, &ps)
	if err := ps.Err(); err != nil {
		return nil, false, problem.Errorf("%s is no file of answers: %w", name, problem.From(err)).Remedy("write KEY = VALUE in TOML, or the same as YAML or JSON")
	}
	tree, _ = root.Plain().(map[string]any)
	return tree, open, nil
}

// orNothing takes it for no mistake that somebody left a form.
func (a *App) orNothing(err error) error {
	if errors.Is(err, huh.ErrUserAborted) {
		return a.nothingDone()
	}
	return err
}

// typed is a question in a form, with what was typed.
type typed struct {
	*job.Ask
	text  string
	given bool // by the call
}

// fillIn asks in a form what the call did not give.
func fillIn(answers *job.Answers, given map[string]job.Given) (map[string]job.Given, error) {
	var all []*typed
	for _, q := range answers.Job.Asks {
		_, has := given[q.Name]
		t := &typed{Ask: q, given: has}
		if q.HasDefault {
			t.text = plainText(q.Default)
		}
		all = append(all, t)
	}
	// so far gives the answers before a question, as far as they fit
	soFar := func(before *typed) *job.Answers {
		out := &job.Answers{Job: answers.Job, Setting: answers.Setting}
		for _, t := range all {
			if t == before {
				break
			}
			if due, err := out.Due(t.Ask); err != nil || !due {
				continue
			}
			g := given[t.Name]
			if !t.given {
				g = job.Given{Value: t.text, Text: true}
			}
			v := g.Value
			if g.Text {
				var err error
				if v, err = t.FromText(g.Value.(string)); err != nil {
					continue
				}
			}
			out.Set(t.Ask, v) // one that does not fit is told where it was typed
		}
		return out
	}
	var pages []*huh.Group
	for _, t := range all {
		if !t.given {
			pages = append(pages, page(answers.Job, t, soFar))
		}
	}
	if len(pages) == 0 {
		return given, nil
	}
	form := huh.NewForm(pages...).WithTheme(huh.ThemeFunc(formTheme)).WithWidth(screen.LineWidth).
		WithViewHook(func(v tea.View) tea.View { v.AltScreen = true; return v }) // what was answered is told below it
	if err := fitted(form).Run(); err != nil {
		return nil, err
	}
	out := map[string]job.Given{}
	for _, t := range all {
		if due, err := soFar(t).Due(t.Ask); err != nil || !due && !t.given {
			continue
		}
		if t.given {
			out[t.Name] = given[t.Name]
			continue
		}
		v, err := t.FromText(t.text)
		if err != nil {
			return nil, err
		}
		out[t.Name] = job.Given{Value: v}
	}
	for name, g := range given { // those that nothing asks for are told with the rest
		out[name] = g
	}
	return out, nil
}

func plainText(v any) string {
	if text, ok := value.Text(v); ok {
		return text
	}
	return value.Shown(v)
}

// page is one question of a form. What it offers depends on the answers before it.
func page(j *job.Job, t *typed, soFar func(*typed) *job.Answers) *huh.Group {
	check := func(text string) error {
		v, err := t.FromText(text)
		if err == nil {
			_, err = soFar(t).Check(t.Ask, v)
		}
		if err == nil {
			return nil
		}
		return trimmed(err)
	}
	about := func() string {
		text := strings.TrimSuffix(t.About, ".")
		if text != "" {
			text += "; "
		}
		text += "it is " + soFar(t).Wants(t.Ask)
		if t.Secret {
			text += "; kept and shown nowhere"
		}
		return screen.Line(text)
	}
	var field huh.Field
	choices, _ := soFar(t).Choices(t.Ask)
	switch {
	case len(choices) > 0 || t.Offers != nil || t.Type == "bool":
		options := func() []huh.Option[string] {
			list, _ := soFar(t).Choices(t.Ask)
			if t.Type == "bool" {
				list = []any{true, false}
			}
			var out []huh.Option[string]
			for _, c := range list {
				out = append(out, huh.NewOption(screen.Line(plainText(c)), plainText(c)))
			}
			return out
		}
		field = huh.NewSelect[string]().Title(t.Name).Description(screen.Line(t.About)).Options(options()...).Value(&t.text).Validate(check).
			OptionsFunc(options, soFar(t).Input)
	default:
		in := huh.NewInput().Title(t.Name).DescriptionFunc(about, &t.text).Value(&t.text).Validate(check)
		if t.Secret {
			in = in.EchoMode(huh.EchoModePassword)
		}
		field = in
	}
	return huh.NewGroup(field).Title("Start " + j.Name).Description(screen.Line(j.About)).WithHideFunc(func() bool {
		due, err := soFar(t).Due(t.Ask)
		return err != nil || !due
	})
}
