package job

import (
	"fmt"
	"slices"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/param"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
)

// Ask is one question of a job: what a param is, and when it is asked.
type Ask struct {
	*param.Decl
	// Offers gives the choices, over data, env, hosts, groups and earlier answers; nil where
	// they are fixed, or none.
	Offers *expr.Program
	OnlyIf *expr.Program // over earlier answers, data and env; nil for always
	Secret bool
}

// AskKeys document the keys of [job.NAME.ask.KEY], besides those of a param.
var AskKeys = append([]schema.Key{
	{Name: "only_if", Takes: schema.TakesText, Default: "always", Doc: "CEL over input, data and env: whether it " +
		"is asked, after the answers before it."},
	{Name: "secret", Takes: schema.TakesBool, Default: "false", Doc: "Whether the answer is kept and shown nowhere."},
}, askedLikeParams()...)

func askedLikeParams() []schema.Key {
	var out []schema.Key
	for _, k := range param.Keys {
		switch k.Name {
		case "from":
			continue
		case "choices":
			k.Doc = "The only answers allowed: a list, or CEL that gives one over data, env, input, hosts and " +
				"groups (their names) and members (the names of a group's hosts, as in members['gauge'])."
		}
		out = append(out, k)
	}
	return out
}

// What expressions of a question may read.
var (
	offerScope = expr.Scope{Roots: []string{"input", "data", "env"}, Locals: []string{"hosts", "groups", "members"},
		What: "the choices of a question"}
	onlyScope = expr.Scope{Roots: []string{"input", "data", "env"}, What: "the only_if of a question"}
)

// asks reads [job.NAME.ask.KEY].
func (j *Job) asks(n *manifest.Node, problems *problem.Problems) {
	if n.Kind != manifest.Table {
		problems.At(n.Place, "ask holds questions by name", "write [job."+j.Name+".ask.KEY]")
		return
	}
	for _, q := range n.Keys {
		if a := j.ask(q, problems); a != nil {
			j.Asks = append(j.Asks, a)
		}
	}
}

func (j *Job) ask(k manifest.Key, problems *problem.Problems) *Ask {
	a := &Ask{}
	if k.Node.Kind != manifest.Table {
		problems.At(k.Place, fmt.Sprintf("ask.%s is no question", k.Name),
			"write [job."+j.Name+".ask."+k.Name+"] and below it type and about")
		return nil
	}
	before := problems.Len()
	program := func(to **expr.Program, s expr.Scope) func(n *manifest.Node) error {
		return func(n *manifest.Node) (err error) {
			text, _ := n.Value.(string)
			if text == "" {
				return problem.Errorf("it takes an expression, as text").Remedy("put it in quotes")
			}
			*to, err = expr.Compile(text, n.At, s)
			return err
		}
	}
	own := manifest.Fields{"only_if": program(&a.OnlyIf, onlyScope), "secret": &a.Secret,
		"from": func(*manifest.Node) error {
			return problem.Errorf("a question has no \"from\"").Remedy("give it a default, or choices")
		}}
	if n := k.Node.Get("choices"); n != nil && n.Kind != manifest.List {
		own["choices"] = program(&a.Offers, offerScope)
	}
	k.Node.With(value.Keys(own)...).Decode("a question", AskKeys, own, problems)
	var ok bool
	if a.Decl, ok = param.Read(manifest.Key{Name: k.Name, Place: k.Place, Node: k.Node.Without(value.Keys(own)...)},
		problems); !ok || problems.Len() > before {
		return nil
	}
	if a.Secret = a.Secret || a.Type == "secret"; a.Secret && (a.Type == "list" || a.Type == "map") {
		problems.At(k.Place, fmt.Sprintf("the secret %s is a %s", k.Name, a.Type), "ask for text, or for each item "+
			"by itself")
		return nil
	}
	if a.Secret && a.HasDefault {
		problems.At(k.Place, fmt.Sprintf("the secret %s has a default, which stands here for all to read", k.Name),
			"leave it out")
		return nil
	}
	return a
}

// Setting is what questions and targets are asked over.
type Setting struct {
	Data    map[string]any
	Missing [][]string // paths into data that only a host has
	Secrets [][]string // paths into data that lead to secrets
	Hosts   []string
	Groups  map[string][]string // their members, as far as they are known without facts
	Env     string
}

// Answers are the answers to a job's questions so far.
type Answers struct {
	Job     *Job
	Setting Setting
	Input   map[string]any // as expressions see them
}

// Vars gives what expressions of the job read.
func (a *Answers) Vars() *expr.Vars {
	input := a.Input
	if input == nil {
		input = map[string]any{}
	}
	members := map[string]any{}
	for name, list := range a.Setting.Groups {
		members[name] = anys(list)
	}
	v := &expr.Vars{Facts: map[string]any{}, Data: a.Setting.Data, Env: a.Setting.Env, Input: input,
		Missing: a.Setting.Missing,
		Secrets: slices.Concat(a.Setting.Secrets, expr.SecretPaths("input", input))}
	return v.With("hosts", anys(a.Setting.Hosts)).With("groups", anys(value.Keys(a.Setting.Groups))).
		With("members", members)
}

func anys(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

// Due says whether a question is asked, after the answers so far.
func (a *Answers) Due(q *Ask) (bool, error) {
	if q.OnlyIf == nil {
		return true, nil
	}
	yes, _, err := q.OnlyIf.Bool(a.Vars())
	if err != nil {
		return false, fmt.Errorf("only_if of the question %s: %w", q.Name, err)
	}
	return yes, nil
}

// Choices gives the only answers to a question; none where any that fits is one.
func (a *Answers) Choices(q *Ask) ([]any, error) {
	if q.Offers == nil {
		return q.Decl.Choices, nil
	}
	v, err := q.Offers.Eval(a.Vars())
	if err != nil {
		return nil, fmt.Errorf("the choices of the question %s: %w", q.Name, err)
	}
	list, ok := v.([]any)
	if !ok {
		return nil, problem.Errorf("the choices of the question %s are %s, and no list", q.Name, value.TypeName(v)).
			Remedy("let the expression give a list")
	}
	if value.HoldsSecret(list) {
		return nil, problem.Errorf("the choices of the question %s hold a secret, and are shown", q.Name).
			Remedy("offer names instead")
	}
	if len(list) == 0 {
		return nil, problem.Errorf("there is nothing to choose from for the question %s", q.Name).
			Remedy("its choices, at %s, come out empty", q.Place)
	}
	return list, nil
}

// Check holds an answer to its question, and gives it as expressions see it.
func (a *Answers) Check(q *Ask, v any) (any, error) {
	choices, err := a.Choices(q)
	if err != nil {
		return nil, err
	}
	d := *q.Decl
	d.Choices = choices
	out, err := d.Check(v)
	if err != nil {
		if q.Secret { // what is wrong with a secret must not tell it
			return nil, problem.Errorf("the answer to %s does not fit", q.Name).Remedy("it is %s", a.Wants(q))
		}
		return nil, fmt.Errorf("the answer to %s: %w", q.Name, err)
	}
	if q.Secret {
		out = value.SecretOf(out)
	}
	return out, nil
}

// Set takes an answer.
func (a *Answers) Set(q *Ask, v any) error {
	out, err := a.Check(q, v)
	if err != nil {
		return err
	}
	if a.Input == nil {
		a.Input = map[string]any{}
	}
	a.Input[q.Name] = out
	return nil
}

// Given is an answer as a call gives it.
type Given struct {
	Value any
	Text  bool // it was given as text on the command line
}

// Accept takes the answers that a call gives, and the defaults of all other questions. The
// error is about every answer that is unknown, missing or wrong, each with what would fit.
func (a *Answers) Accept(given map[string]Given) error {
	var ps problem.Problems
	skipped := map[string]bool{}
	for _, q := range a.Job.Asks {
		due, err := a.Due(q)
		if err != nil {
			if ps.Err() == nil {
				return err
			}
			break // it asks after an answer that does not fit
		}
		if !due {
			skipped[q.Name] = true
			continue
		}
		g, has := given[q.Name]
		ps.AddErr(value.Place{}, a.accept(q, g, has))
	}
	var names []string
	for _, q := range a.Job.Asks {
		names = append(names, q.Name)
	}
	for _, name := range value.Keys(given) {
		switch {
		case !slices.Contains(names, name):
			ps.At(value.Place{}, fmt.Sprintf("the job %s does not ask for %q", a.Job.Name, name),
				problem.Meant(name, names, "it asks for "+strings.Join(names, ", ")))
		case skipped[name]:
			ps.At(value.Place{}, fmt.Sprintf("the job %s does not ask for %s after these answers", a.Job.Name, name),
				"leave it out")
		}
	}
	return ps.Err()
}

// accept takes the answer to one question, if it has one.
func (a *Answers) accept(q *Ask, g Given, has bool) error {
	switch {
	case !has && !q.HasDefault:
		if _, err := a.Choices(q); err != nil {
			return err
		}
		return problem.Errorf("%s is not answered", q.Name).Remedy("it is %s", a.Wants(q))
	case !has:
		return a.Set(q, q.Default)
	case !g.Text:
		return a.Set(q, g.Value)
	case q.Secret:
		return problem.Errorf("%s is a secret, which all on this machine can see on a command line", q.Name).
			Remedy("give it in a file, with --answers, or in the form")
	}
	text, _ := g.Value.(string)
	v, err := q.FromText(text)
	if err != nil {
		return fmt.Errorf("the answer to %s: %w", q.Name, err)
	}
	return a.Set(q, v)
}

// Wants tells what an answer to a question has to be.
func (a *Answers) Wants(q *Ask) string {
	for _, t := range param.Types {
		if t.Name != q.Type {
			continue
		}
		doc, _, _ := strings.Cut(t.Doc, ";")
		out := []string{doc}
		of := ""
		switch q.Type {
		case "string", "path", "secret":
			of = " characters"
		case "list":
			of = " items"
		}
		if q.Min != nil {
			out = append(out, "at least "+limit(q.Min)+of)
		}
		if q.Max != nil {
			out = append(out, "at most "+limit(q.Max)+of)
		}
		if q.Pattern != nil {
			out = append(out, "like "+strings.TrimSuffix(strings.TrimPrefix(q.Pattern.String(), "^(?:"), ")$"))
		}
		if list, err := a.Choices(q); err == nil && len(list) > 0 {
			var shown []string
			for _, c := range list {
				shown = append(shown, value.Shown(c))
			}
			out = append(out, "one of "+strings.Join(shown, ", "))
		}
		return strings.Join(out, ", ")
	}
	return q.Type
}

// limit writes a limit, which may be a text such as 2TB.
func limit(v any) string {
	if text, ok := v.(string); ok {
		return text
	}
	return value.Shown(v)
}

// Shown gives the answers for people and records: secret ones are left out of it by a word.
func (a *Answers) Shown() map[string]string {
	out := map[string]string{}
	for name, v := range a.Input {
		if out[name] = value.Shown(v); value.HoldsSecret(v) {
			out[name] = "(secret)"
		}
	}
	return out
}
