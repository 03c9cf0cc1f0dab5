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
	form := huh.NewForm(pages...).WithTheme(huh.ThemeFunc(formTheme)).WithWidth(text.LineWidth)
	if _, height, err := term.GetSize(int(os.Stdout.Fd())); err == nil && height > 6 {
		return form.WithHeight(height - 2)
	}
	return form
}

// formTheme is readable on light and on dark terminals: the field in hand is
// bold, explanations are grey, and what is wrong is red.
func formTheme(dark bool) *huh.Styles {
	t := huh.ThemeBase(dark)
	none := lipgloss.NewStyle()
	grey, red := none.Foreground(lipgloss.Color("8")), none.Foreground(lipgloss.Color("1"))
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

// Bare leaves out of an error how a value would be written in TOML, which is not asked for in a form.
func Bare(err error) error {
	if err == nil {
		return nil
	}
	return errors.New(problem.From(err).What)
}
