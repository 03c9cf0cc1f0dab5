package jobscmd

import (
	"errors"
	"strings"

	tea "charm.land/bubbletea/v2"

	"charm.land/huh/v2"

	"jadekettle/internal/app/jobs"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/text"
)

// typed is a question in a form, with what was typed.
type typed struct {
	*jobs.Input
	said  string
	given bool // by the call
}

// fillIn asks in a form what the call did not give.
func fillIn(values *jobs.Values, given map[string]jobs.Given) (map[string]jobs.Given, error) {
	var all []*typed
	for _, q := range values.Job.Inputs {
		_, has := given[q.Name]
		t := &typed{Input: q, given: has}
		if q.HasDefault {
			t.said = plainText(q.Default)
		}
		all = append(all, t)
	}
	// so far gives the values before an input, as far as they fit
	soFar := func(before *typed) *jobs.Values {
		out := &jobs.Values{Job: values.Job, Setting: values.Setting}
		for _, t := range all {
			if t == before {
				break
			}
			if due, err := out.Due(t.Input); err != nil || !due {
				continue
			}
			g := given[t.Name]
			if !t.given {
				g = jobs.Given{Value: t.said, Text: true}
			}
			v := g.Value
			if g.Text {
				var err error
				if v, err = t.FromText(g.Value.(string)); err != nil {
					continue
				}
			}
			out.Set(t.Input, v) // one that does not fit is reported where it was typed
		}
		return out
	}
	var pages []*huh.Group
	for _, t := range all {
		if !t.given {
			pages = append(pages, page(values.Job, t, soFar))
		}
	}
	if len(pages) == 0 {
		return given, nil
	}
	form := cli.Form(pages...).
		// what was answered is reported below it
		WithViewHook(func(v tea.View) tea.View { v.AltScreen = true; return v })
	if err := form.Run(); err != nil {
		return nil, err
	}
	out := map[string]jobs.Given{}
	for _, t := range all {
		if due, err := soFar(t).Due(t.Input); err != nil || !due && !t.given {
			continue
		}
		if t.given {
			out[t.Name] = given[t.Name]
			continue
		}
		v, err := t.FromText(t.said)
		if err != nil {
			return nil, err
		}
		out[t.Name] = jobs.Given{Value: v}
	}
	for name, g := range given { // those that nothing asks for are refused with the rest
		out[name] = g
	}
	return out, nil
}

func plainText(v any) string {
	if said, ok := value.Text(v); ok {
		return said
	}
	return value.Shown(v)
}

// page is one input of a form. What it offers depends on the values before it.
func page(j *jobs.Job, t *typed, soFar func(*typed) *jobs.Values) *huh.Group {
	check := func(said string) error {
		v, err := t.FromText(said)
		if err == nil {
			_, err = soFar(t).Check(t.Input, v)
		}
		if err == nil {
			return nil
		}
		// the title above says whose value it is
		return errors.New(strings.TrimPrefix(cli.Bare(err).Error(), "the value of "+t.Name+": "))
	}
	about := func() string {
		words := strings.TrimSuffix(t.About, ".")
		if words != "" {
			words += "; "
		}
		words += soFar(t).Wants(t.Input)
		if t.Secret {
			words += "; never stored or shown"
		}
		return text.Line(words)
	}
	var field huh.Field
	choices, _ := soFar(t).Choices(t.Input)
	switch {
	case len(choices) > 0 || t.Offers != nil || t.Type == "bool":
		options := func() []huh.Option[string] {
			list, _ := soFar(t).Choices(t.Input)
			if t.Type == "bool" {
				list = []any{true, false}
			}
			var out []huh.Option[string]
			for _, c := range list {
				out = append(out, huh.NewOption(text.Line(plainText(c)), plainText(c)))
			}
			return out
		}
		field = cli.Select(t.Name, func() string { return text.Line(t.About) }, &t.said, check).
			Options(options()...).OptionsFunc(options, soFar(t).Input)
	default:
		in := cli.Field(t.Name, about, &t.said, check)
		if t.Secret {
			in = in.EchoMode(huh.EchoModePassword)
		}
		field = in
	}
	return huh.NewGroup(field).Title("Start " + j.Name).Description(text.Line(j.About)).WithHideFunc(func() bool {
		due, err := soFar(t).Due(t.Input)
		return err != nil || !due
	})
}
