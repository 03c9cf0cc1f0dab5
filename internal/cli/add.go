package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jadekettle/internal/app/atomicfile"
	captured "jadekettle/internal/app/capture"
	"jadekettle/internal/core/advice"
	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds"
	screen "jadekettle/internal/present/text"
)

func (a *App) addCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "add KIND NAME", Short: "Append a declaration to a manifest", GroupID: "grow",
		Long: "Add appends a declaration to a manifest. Attributes are given as flags, which each kind has after its " +
			"own\nattributes; without any, on a terminal, they are asked for in a form that checks each answer.",
		Example: "  jadekettle add package tide-logger --version newest --manifest gauge\n" +
			"  jadekettle add service tide-logger",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return problem.Errorf("add wants a kind and a name").Remedy("the kinds are %s",
					strings.Join(a.kinds().Names(), ", "))
			}
			return problem.Errorf("there is no kind %q", args[0]).Meant(args[0], a.kinds().Names(),
				"the kinds are "+strings.Join(a.kinds().Names(), ", "))
		},
		Args: cobra.ArbitraryArgs,
	}
	schemas := a.kindsToAdd()
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		c.AddCommand(a.addKind(k))
	}
	return c
}

// kindsToAdd gives the kinds that add has commands for. The project is only read
// for its own kinds when the call is about them, since that happens before flags
// are read.
func (a *App) kindsToAdd() schema.Kinds {
	if !slices.Contains(a.args, "add") {
		return kinds.Schemas()
	}
	own := &App{}
	for i, word := range a.args {
		if dir, ok := strings.CutPrefix(word, "--project="); ok {
			own.project = dir
		} else if word == "--project" && i+1 < len(a.args) {
			own.project = a.args[i+1]
		}
	}
	return own.kinds()
}

// entry is a declaration being put together.
type entry struct {
	kind  *schema.Kind
	name  string
	to    string      // the manifest
	attrs value.Attrs // as they are written, expressions included
}

func (a *App) addKind(k *schema.Kind) *cobra.Command {
	to := ""
	c := &cobra.Command{
		Use: k.Name + " NAME", Short: k.About, Args: cobra.MaximumNArgs(1),
		Example: fmt.Sprintf("  jadekettle add %s %s", k.Name, exampleName(k)),
		RunE: func(c *cobra.Command, args []string) error {
			e := &entry{kind: k, to: to}
			if len(args) > 0 {
				e.name = args[0]
			}
			given, err := e.flags(c)
			if err != nil {
				return err
			}
			p, err := a.open()
			if err != nil {
				return err
			}
			if a.Terminal && (e.name == "" || !given) {
				if err := e.ask(p); err != nil {
					return err
				}
			}
			return a.add(p, e)
		},
	}
	c.Flags().StringVar(&to, "manifest", "", "the `MANIFEST` that it is added to")
	c.RegisterFlagCompletionFunc("manifest", a.completeManifests)
	for _, at := range attrsOf(k) {
		doc := strings.TrimSuffix(at.Doc, ".")
		switch {
		case at.List || at.Either:
			c.Flags().StringArray(at.Name, nil, placeholderOf(at)+doc+"; may be repeated")
		case at.Type == schema.Bool:
			c.Flags().Bool(at.Name, false, doc)
		default:
			c.Flags().String(at.Name, "", placeholderOf(at)+doc)
		}
		if len(at.Choices) > 0 {
			c.RegisterFlagCompletionFunc(at.Name, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
				return at.Choices, noFiles
			})
		}
	}
	return c
}

// attrsOf lists what can be given for a kind, required attributes first.
func attrsOf(k *schema.Kind) []schema.Attr {
	return slices.DeleteFunc(append(k.RequiredFirst(), k.Common()...), func(at schema.Attr) bool {
		return at.Type == schema.Table || at.Type == schema.Values || at.Type == schema.Nested // written by hand
	})
}

// flags takes up the attributes that are given as flags.
func (e *entry) flags(c *cobra.Command) (given bool, err error) {
	for _, at := range attrsOf(e.kind) {
		f := c.Flags().Lookup(at.Name)
		if !f.Changed {
			continue
		}
		given = true
		var v any = f.Value.String()
		switch {
		case at.List || at.Either:
			texts, _ := c.Flags().GetStringArray(at.Name)
			var list []any
			for _, t := range texts {
				list = append(list, t)
			}
			if v = list; at.Either && len(list) == 1 {
				v = list[0]
			}
		case at.Type == schema.Bool:
			v = f.Value.String() == "true"
		}
		if err := e.set(at, v); err != nil {
			return true, err
		}
	}
	return given, nil
}

// set checks a value and keeps it. A text with ${...} is only known to
// fit when the project is resolved.
func (e *entry) set(at schema.Attr, v any) error {
	text, isText := v.(string)
	if isText && !manifest.Interpolated(text) && (at.Type == schema.Int || at.Type == schema.ID) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Errorf("%s needs a whole number, not %q", at.Name, text)
		}
		v = n
	}
	if !isText || !manifest.Interpolated(text) {
		if _, err := at.Value(v); err != nil {
			return err
		}
	}
	if isText && at.Type == schema.Hidden && !manifest.Interpolated(text) {
		return problem.Errorf("%s does not belong on a command line or into a manifest", at.Name).
			Remedy("seal it with `jadekettle secret set` and give '${data.NAME}'")
	}
	if e.attrs == nil {
		e.attrs = value.Attrs{}
	}
	e.attrs[at.Name] = v
	return nil
}

// text writes the declaration.
func (e *entry) text() string { return captured.Text(e.kind, e.name, e.attrs, "") }

// add appends the declaration to its manifest, when the project takes it.
func (a *App) add(p *project, e *entry) error {
	if e.name == "" {
		return problem.Errorf("the name is missing").Remedy("write jadekettle add %s NAME", e.kind.Name)
	}
	if err := e.checkName(e.name); err != nil {
		return err
	}
	names := ownManifests(p)
	if e.to == "" && len(names) == 1 {
		e.to = names[0]
	}
	if e.to == "" {
		return problem.Errorf("there are the manifests %s", strings.Join(names, ", ")).Remedy("say which with --manifest")
	}
	file, ok := p.ManifestFile(e.to)
	if !ok || !slices.Contains(names, e.to) {
		return problem.Errorf("there is no manifest %q of this project's own", e.to).Meant(e.to, names, "there are "+strings.Join(names, ", "))
	}
	full := filepath.Join(p.dir, filepath.FromSlash(file))
	old, err := os.ReadFile(full)
	if err != nil {
		return err
	}
	text := strings.TrimRight(string(old), "\n") + "\n\n" + e.text()
	if strings.TrimSpace(string(old)) == "" {
		text = e.text()
	}
	if err := a.tryManifest(p, file, text); err != nil {
		return err
	}
	info, err := os.Stat(full)
	if err != nil {
		return err
	}
	if err := atomicfile.Write(full, []byte(text), info.Mode().Perm()); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s\n\n%s", screen.Paint(screen.Quiet, "added to "+file), e.text())
	return nil
}

func (e *entry) checkName(name string) error {
	if manifest.Interpolated(name) {
		return nil
	}
	_, err := e.kind.Canon(name)
	return err
}

// ownManifests lists the manifests that are not of a source.
func ownManifests(p *project) []string {
	var out []string
	for _, m := range p.Of("") {
		out = append(out, m.Name)
	}
	return out
}

// tryManifest resolves the project as it would be with another text in one
// file, so that nothing wrong is written.
func (a *App) tryManifest(p *project, file, text string) error {
	root, err := files(p.dir)
	if err != nil {
		return err
	}
	o, err := a.options(p.dir)
	if err != nil {
		return err
	}
	_, _, err = advice.Check(overlay{root, file, text}, kinds.Schemas(), o)
	var ps *problem.Problems
	if errors.As(err, &ps) {
		return fmt.Errorf("the project would be wrong then: %s", ps.List()[0].Error())
	}
	return err
}

// ask puts the questions of a form.
func (e *entry) ask(p *project) error {
	fields := []huh.Field{}
	if e.name == "" {
		fields = append(fields, huh.NewInput().Title("name").Description("required: how the "+e.kind.Name+" is called").
			Value(&e.name).Validate(func(s string) error {
			if s == "" {
				return errors.New("it needs a name")
			}
			return trimmed(e.checkName(s))
		}))
	}
	if names := ownManifests(p); e.to == "" && len(names) > 1 {
		fields = append(fields, huh.NewSelect[string]().Title("manifest").Description("required: where it is added").
			Options(huh.NewOptions(names...)...).Value(&e.to))
	}
	answers := map[string]*string{}
	for _, at := range e.kind.RequiredFirst() {
		answers[at.Name] = new(string)
		fields = append(fields, question(at, answers[at.Name]))
	}
	form := huh.NewForm(huh.NewGroup(fields...).Title("Declare a " + e.kind.Name).Description(e.kind.About)).
		WithTheme(huh.ThemeFunc(formTheme)).WithWidth(screen.LineWidth)
	if err := fitted(form).Run(); err != nil {
		if errors.Is(err, huh.ErrUserAborted) {
			return errors.New("nothing was added")
		}
		return err
	}
	for _, at := range e.kind.RequiredFirst() {
		v, given := answer(at, *answers[at.Name])
		if !given {
			continue
		}
		if err := e.set(at, v); err != nil {
			return err
		}
	}
	return nil
}

// fitted keeps a form within the terminal: what does not fit is scrolled to.
func fitted(form *huh.Form) *huh.Form {
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

// question asks for one attribute: choices where there are some, and else a
// text that is checked.
func question(at schema.Attr, to *string) huh.Field {
	doc := at.Doc
	if at.Required {
		doc = "required: " + doc
	} else if at.Default != "" {
		doc += " Left empty: " + at.Default + "."
	}
	choices := at.Choices
	if at.Type == schema.Bool {
		choices = []string{"true", "false"}
	}
	if len(choices) > 0 && !at.List {
		options := huh.NewOptions(choices...)
		if !at.Required {
			options = append([]huh.Option[string]{huh.NewOption("(leave out)", "")}, options...)
		}
		return huh.NewSelect[string]().Title(at.Name).Description(doc).Options(options...).Value(to)
	}
	if at.List {
		doc += " Separate them by commas."
	}
	if len(at.Examples) > 0 {
		doc += " Such as " + strings.Trim(at.Examples[0], `"[]`) + "."
	}
	return huh.NewInput().Title(at.Name).Description(doc).Value(to).Validate(func(s string) error {
		v, given := answer(at, s)
		if !given {
			if at.Required {
				return errors.New("it must be given")
			}
			return nil
		}
		return trimmed((&entry{}).set(at, v))
	})
}

// answer turns what was typed into a value.
func answer(at schema.Attr, typed string) (v any, given bool) {
	if strings.TrimSpace(typed) == "" {
		return nil, false
	}
	switch {
	case at.List:
		list := []any{}
		for part := range strings.SplitSeq(typed, ",") {
			list = append(list, strings.TrimSpace(part))
		}
		return list, true
	case at.Type == schema.Bool:
		return typed == "true", true
	}
	return typed, true
}

// trimmed leaves out how a value would be written in TOML, which is not asked for.
func trimmed(err error) error {
	if err == nil {
		return nil
	}
	return errors.New(problem.From(err).What)
}

// placeholderOf begins a flag's description with a word for what it takes.
func placeholderOf(at schema.Attr) string {
	word := map[schema.Type]string{schema.Int: "N", schema.ID: "N", schema.Mode: "MODE", schema.Path: "PATH",
		schema.Name:     "NAME",
		schema.Version:  "VERSION",
		schema.Template: "FILE", schema.Copy: "FILE", schema.Origin: "FILE|ADDRESS|PATH", schema.Tree: "FOLDER",
		schema.Command: "COMMAND", schema.RefTo: "'KIND NAME'",
		schema.Pattern: "PATTERN"}[at.Type]
	if word == "" {
		word = "TEXT"
	}
	return "`" + word + "`: "
}

// exampleName gives the name that the kind's first example declares.
func exampleName(k *schema.Kind) string {
	var ps problem.Problems
	root, _ := manifest.ParseTOML("example", []byte(k.Examples[0].TOML), &ps)
	if of := root.Get(k.Name); of != nil && len(of.Keys) > 0 {
		return of.Keys[0].Name
	}
	return "NAME"
}
