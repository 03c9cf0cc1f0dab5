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

// Input is one input of a job: a param, with when it is asked for.
type Input struct {
	*param.Decl
	// Offers gives the choices, over data, env, hosts, groups and earlier inputs; nil where
	// they are fixed, or none.
	Offers *expr.Program
	OnlyIf *expr.Program // over earlier values, data and env; nil for always
	Secret bool
}

// InputKeys document the keys of [job.NAME.input.KEY], besides those of a param.
var InputKeys = append([]schema.Key{
	{Name: "only_if", Takes: schema.TakesText, Default: "always", Doc: "CEL over earlier inputs, data and env: " +
		"whether this input is requested."},
	{Name: "secret", Takes: schema.TakesBool, Default: "false", Doc: "Whether the value is secret: never stored or " +
		"shown."},
}, askedLikeParams()...)

func askedLikeParams() []schema.Key {
	var out []schema.Key
	for _, k := range param.Keys {
		switch k.Name {
		case "from":
			continue
		case "choices":
			k.Doc = "The only values allowed: a list, or CEL that gives one over data, env, input, hosts and " +
				"groups (their names) and members (the names of a group's hosts, as in members['gauge'])."
		}
		out = append(out, k)
	}
	return out
}

// What expressions of a question may read.
var (
	offerScope = expr.Scope{Roots: []string{"input", "data", "env"}, Locals: []string{"hosts", "groups", "members"},
		What: "the choices of an input"}
	onlyScope = expr.Scope{Roots: []string{"input", "data", "env"}, What: "the only_if of an input"}
)

// inputs reads [job.NAME.input.KEY].
func (j *Job) inputs(n *manifest.Node, problems *problem.Problems) {
	if n.Kind != manifest.Table {
		problems.At(n.Place, "input must be a table of inputs by name", "write [job."+j.Name+".input.KEY]")
		return
	}
	for _, q := range n.Keys {
		if a := j.input(q, problems); a != nil {
			j.Inputs = append(j.Inputs, a)
		}
	}
}

func (j *Job) input(k manifest.Key, problems *problem.Problems) *Input {
	a := &Input{}
	if k.Node.Kind != manifest.Table {
		problems.At(k.Place, fmt.Sprintf("input.%s must be a table", k.Name),
			"write [job."+j.Name+".input."+k.Name+"] and below it type and about")
		return nil
	}
	before := problems.Len()
	program := func(to **expr.Program, s expr.Scope) func(n *manifest.Node) error {
		return func(n *manifest.Node) (err error) {
			text, _ := n.Value.(string)
			if text == "" {
				return problem.Errorf("it takes an expression as a string").Remedy("put it in quotes")
			}
			*to, err = expr.Compile(text, n.At, s)
			return err
		}
	}
	own := manifest.Fields{"only_if": program(&a.OnlyIf, onlyScope), "secret": &a.Secret,
		"from": func(*manifest.Node) error {
			return problem.Errorf("an input cannot have \"from\"").Remedy("give it a default, or choices")
		}}
	if n := k.Node.Get("choices"); n != nil && n.Kind != manifest.List {
		own["choices"] = program(&a.Offers, offerScope)
	}
	k.Node.With(value.Keys(own)...).Decode("an input", InputKeys, own, problems)
	var ok bool
	if a.Decl, ok = param.Read(manifest.Key{Name: k.Name, Place: k.Place, Node: k.Node.Without(value.Keys(own)...)},
		problems); !ok || problems.Len() > before {
		return nil
	}
	if a.Secret = a.Secret || a.Type == "secret"; a.Secret && (a.Type == "list" || a.Type == "map") {
		problems.At(k.Place, fmt.Sprintf("the secret %s is a %s", k.Name, a.Type), "use a string, or a separate "+
			"input for each item")
		return nil
	}
	if a.Secret && a.HasDefault {
		problems.At(k.Place, fmt.Sprintf("the secret %s has a default in plain text", k.Name),
			"remove the default")
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

// Values are the values of a job's inputs so far.
type Values struct {
	Job     *Job
	Setting Setting
	Input   map[string]any // as expressions see them
}

// Vars gives what expressions of the job read.
func (a *Values) Vars() *expr.Vars {
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

// Due says whether an input is asked for, after the values so far.
func (a *Values) Due(q *Input) (bool, error) {
	if q.OnlyIf == nil {
		return true, nil
	}
	yes, _, err := q.OnlyIf.Bool(a.Vars())
	if err != nil {
		return false, fmt.Errorf("only_if of the input %s: %w", q.Name, err)
	}
	return yes, nil
}

// Choices gives the only values of an input; none where any that fits will do.
func (a *Values) Choices(q *Input) ([]any, error) {
	if q.Offers == nil {
		return q.Decl.Choices, nil
	}
	v, err := q.Offers.Eval(a.Vars())
	if err != nil {
		return nil, fmt.Errorf("the choices of the input %s: %w", q.Name, err)
	}
	list, ok := v.([]any)
	if !ok {
		return nil, problem.Errorf("the choices of the input %s are %s, not a list", q.Name, value.TypeName(v)).
			Remedy("use an expression that returns a list")
	}
	if value.HoldsSecret(list) {
		return nil, problem.Errorf("the choices of the input %s contain a secret, but choices are shown", q.Name).
			Remedy("offer names instead")
	}
	if len(list) == 0 {
		return nil, problem.Errorf("the input %s has no choices", q.Name).
			Remedy("its choices expression, at %s, returns an empty list", q.Place)
	}
	return list, nil
}

// Check holds an answer to its question, and gives it as expressions see it.
func (a *Values) Check(q *Input, v any) (any, error) {
	choices, err := a.Choices(q)
	if err != nil {
		return nil, err
	}
	d := *q.Decl
	d.Choices = choices
	out, err := d.Check(v)
	if err != nil {
		if q.Secret { // what is wrong with a secret must not contain it
			return nil, problem.Errorf("the value of %s is not valid", q.Name).Remedy("expected %s", a.Wants(q))
		}
		return nil, fmt.Errorf("the value of %s: %w", q.Name, err)
	}
	if q.Secret {
		out = value.SecretOf(out)
	}
	return out, nil
}

// Set takes an answer.
func (a *Values) Set(q *Input, v any) error {
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

// Accept takes the values that a call gives, and the defaults of all other inputs. The
// error is about every answer that is unknown, missing or wrong, each with what would fit.
func (a *Values) Accept(given map[string]Given) error {
	var ps problem.Problems
	skipped := map[string]bool{}
	for _, q := range a.Job.Inputs {
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
	for _, q := range a.Job.Inputs {
		names = append(names, q.Name)
	}
	for _, name := range value.Keys(given) {
		switch {
		case !slices.Contains(names, name):
			ps.At(value.Place{}, fmt.Sprintf("the job %s has no input named %q", a.Job.Name, name),
				problem.Meant(name, names, "available: "+strings.Join(names, ", ")))
		case skipped[name]:
			ps.At(value.Place{}, fmt.Sprintf("the job %s does not use the input %s with these values",
				a.Job.Name, name),
				"remove it")
		}
	}
	return ps.Err()
}

// accept takes the answer to one question, if it has one.
func (a *Values) accept(q *Input, g Given, has bool) error {
	switch {
	case !has && !q.HasDefault:
		if _, err := a.Choices(q); err != nil {
			return err
		}
		return problem.Errorf("no value for the input %s", q.Name).Remedy("expected %s", a.Wants(q))
	case !has:
		return a.Set(q, q.Default)
	case !g.Text:
		return a.Set(q, g.Value)
	case q.Secret:
		return problem.Errorf("%s is a secret, and a command line is visible to every user of this machine", q.Name).
			Remedy("put it in a file for --inputs, or enter it in the form")
	}
	text, _ := g.Value.(string)
	v, err := q.FromText(text)
	if err != nil {
		return fmt.Errorf("the value of %s: %w", q.Name, err)
	}
	return a.Set(q, v)
}

// Wants describes what an input has to be.
func (a *Values) Wants(q *Input) string {
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
		switch {
		case q.Min != nil && q.Max != nil:
			out = append(out, "from "+limit(q.Min)+" to "+limit(q.Max)+of)
		case q.Min != nil:
			out = append(out, "at least "+limit(q.Min)+of)
		case q.Max != nil:
			out = append(out, "at most "+limit(q.Max)+of)
		}
		if q.Pattern != nil {
			out = append(out, "matching "+strings.TrimSuffix(strings.TrimPrefix(q.Pattern.String(), "^(?:"), ")$"))
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

// Shown gives the values for people and records: a word replaces each secret one.
func (a *Values) Shown() map[string]string {
	out := map[string]string{}
	for name, v := range a.Input {
		if out[name] = value.Shown(v); value.HoldsSecret(v) {
			out[name] = "(secret)"
		}
	}
	return out
}
