package cli

import (
	"errors"
	"os"

	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"golang.org/x/term"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// Form makes a form of questions in our colors, which is kept within the terminal: what does not fit is scrolled to.
func Form(pages ...*huh.Group) *huh.Form {
	form := huh.NewForm(pages...).WithTheme(huh.ThemeFunc(formTheme)).WithShowErrors(false)
	width, height, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil {
		return form.WithWidth(text.LineWidth)
	}
	if height > 6 {
		form = form.WithHeight(height - 2)
	}
	return form.WithWidth(min(width, text.LineWidth))
}

// red is for what is wrong.
var red = lipgloss.NewStyle().Foreground(lipgloss.Color("1"))

// formTheme is readable on light and on dark terminals: the field in hand is
// bold, explanations are grey, and what is wrong is red.
func formTheme(dark bool) *huh.Styles {
	t := huh.ThemeBase(dark)
	none := lipgloss.NewStyle()
	grey := none.Foreground(lipgloss.Color("8"))
	t.Group.Title, t.Group.Description = none.Bold(true), grey.MarginBottom(1)
	t.Focused.Title, t.Focused.Description = none.Bold(true), grey
	t.Focused.SelectedOption, t.Focused.UnselectedOption, t.Focused.Option = none.Bold(true), none, none
	t.Focused.ErrorIndicator, t.Focused.ErrorMessage = red.SetString(" !"), red
	t.Focused.TextInput.Prompt, t.Focused.TextInput.Placeholder = none, grey
	t.Blurred = t.Focused
	t.Blurred.Base = t.Focused.Base.BorderStyle(lipgloss.HiddenBorder())
	t.Blurred.Title = none
	t.Blurred.SelectedOption = none
	return t
}

// answer is what is typed into a field, with what is wrong with it. The description is made again when either changes,
// which huh sees by their hash: so the fields are exported.
type answer struct {
	Typed *string
	Wrong string
}

// Field makes a field that asks for a text. What is wrong with an answer is shown in its description, beside what
// was typed, and not at the foot of the screen.
func Field(title string, about func() string, to *string, check func(typed string) error) *huh.Input {
	a := &answer{Typed: to}
	return huh.NewInput().Title(title).DescriptionFunc(a.below(about), a).Value(to).Validate(a.checked(check))
}

// Select is Field for an answer that is one of a few. The caller sets the options.
func Select(title string, about func() string, to *string, check func(typed string) error) *huh.Select[string] {
	a := &answer{Typed: to}
	return huh.NewSelect[string]().Title(title).DescriptionFunc(a.below(about), a).Value(to).
		Validate(a.checked(check))
}

// below gives a description with what is wrong below it.
func (a *answer) below(about func() string) func() string {
	return func() string {
		if a.Wrong == "" {
			return about()
		}
		return about() + "\n" + red.Render(text.Line(a.Wrong))
	}
}

// checked notes what a check finds.
func (a *answer) checked(check func(string) error) func(string) error {
	return func(typed string) error {
		err := check(typed)
		if a.Wrong = ""; err != nil {
			a.Wrong = err.Error()
		}
		return err
	}
}

// Bare leaves out of an error how a value would be written in TOML, which is not asked for in a form.
func Bare(err error) error {
	if err == nil {
		return nil
	}
	return errors.New(problem.From(err).What)
}
