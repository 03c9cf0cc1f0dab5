package projectcmd

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"charm.land/huh/v2"
	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/edit"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

func add(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "add KIND NAME", Short: "Add a declaration to a manifest",
		Long: "Adds a declaration to a manifest. Each attribute of the kind is a flag. Without flags, on a " +
			"terminal, a form asks for the attributes.",
		Example: "  jadekettle add package tide-logger --version newest --manifest gauge\n" +
			"  jadekettle add service tide-logger",
		RunE: func(c *cobra.Command, args []string) error {
			all := kindsOf(c.Context(), e)
			if len(args) == 0 {
				return problem.Errorf("expected KIND NAME").
					Remedy("available kinds: %s", strings.Join(all.Names(), ", "))
			}
			return noKind(args[0], all)
		},
		Args: cobra.ArbitraryArgs,
	}
	if slices.Contains(e.Args, "add") { // the kinds have hundreds of flags, which would take time at every start
		for _, k := range app.EachKind(kindsToAdd(e)) {
			c.AddCommand(addKind(e, k))
		}
	}
	return c
}

// kindsToAdd gives the kinds that add has commands for, those of the project among them. That happens before flags are
// read.
func kindsToAdd(e *cli.Env) app.Kinds {
	where := app.Where{}
	for i, word := range e.Args {
		if dir, ok := strings.CutPrefix(word, "--project="); ok {
			where.Dir = dir
		} else if word == "--project" && i+1 < len(e.Args) {
			where.Dir = e.Args[i+1]
		}
	}
	s, err := app.Find(context.Background(), &app.Caller{Version: cli.Version}, where)
	if err != nil {
		return app.BuiltIn()
	}
	return s.Kinds()
}

func addKind(e *cli.Env, k *app.Kind) *cobra.Command {
	to := ""
	c := &cobra.Command{
		Use: k.Name + " NAME", Short: k.About, Args: cli.Args(0, 1),
		Example: fmt.Sprintf("  jadekettle add %s %s", k.Name, edit.ExampleName(k)),
		RunE: func(c *cobra.Command, args []string) error {
			d := &edit.Entry{Kind: k, To: to}
			if len(args) > 0 {
				d.Name = args[0]
			}
			given, err := attributes(d, c)
			if err != nil {
				return err
			}
			p, err := e.Open(c.Context())
			if err != nil {
				return err
			}
			if e.Terminal && (d.Name == "" || !given) {
				if err := ask(d, p); errors.Is(err, huh.ErrUserAborted) {
					return e.NothingDone()
				} else if err != nil {
					return err
				}
			}
			file, err := d.Add(p)
			if err != nil {
				return err
			}
			fmt.Fprintf(e.Out, "%s\n\n%s", text.Paint(text.Quiet, "added to "+file), d.Text())
			return nil
		},
	}
	c.Flags().StringVar(&to, "manifest", "", "add to `MANIFEST`")
	c.RegisterFlagCompletionFunc("manifest", e.CompleteManifests())
	for _, at := range edit.Attrs(k) {
		doc := strings.TrimSuffix(at.Doc, ".")
		switch {
		case at.Several():
			c.Flags().StringArray(at.Name, nil, edit.Placeholder(at)+doc+" (repeatable)")
		case at.IsBool():
			c.Flags().Bool(at.Name, false, doc)
		default:
			c.Flags().String(at.Name, "", edit.Placeholder(at)+doc)
		}
		if len(at.Choices) > 0 {
			c.RegisterFlagCompletionFunc(at.Name, func(*cobra.Command, []string, string) ([]string,
				cobra.ShellCompDirective) {
				return at.Choices, cli.NoFiles
			})
		}
	}
	return c
}

// attributes takes up the attributes that are given as flags.
func attributes(d *edit.Entry, c *cobra.Command) (given bool, err error) {
	for _, at := range edit.Attrs(d.Kind) {
		f := c.Flags().Lookup(at.Name)
		if !f.Changed {
			continue
		}
		given = true
		var v any = f.Value.String()
		switch {
		case at.Several():
			texts, _ := c.Flags().GetStringArray(at.Name)
			var list []any
			for _, t := range texts {
				list = append(list, t)
			}
			if v = list; at.Either && len(list) == 1 {
				v = list[0]
			}
		case at.IsBool():
			v = f.Value.String() == "true"
		}
		if err := d.Set(at, v); err != nil {
			return true, err
		}
	}
	return given, nil
}

// ask puts the questions of a form.
func ask(d *edit.Entry, p *app.Project) error {
	fields := []huh.Field{}
	if d.Name == "" {
		about := func() string { return "required: the name of the " + d.Kind.Name }
		fields = append(fields, cli.Field("name", about, &d.Name, func(s string) error {
			if s == "" {
				return errors.New("a name is required")
			}
			return cli.Bare(d.CheckName(s))
		}))
	}
	if names := edit.OwnManifests(p); d.To == "" && len(names) > 1 {
		fields = append(fields, huh.NewSelect[string]().Title("manifest").
			Description("required: the manifest to add it to").
			Options(huh.NewOptions(names...)...).Value(&d.To))
	}
	answers := map[string]*string{}
	for _, at := range d.Kind.RequiredFirst() {
		answers[at.Name] = new(string)
		fields = append(fields, question(at, answers[at.Name]))
	}
	form := cli.Form(huh.NewGroup(fields...).Title("Add a " + d.Kind.Name).Description(d.Kind.About))
	if err := form.Run(); err != nil {
		return err
	}
	for _, at := range d.Kind.RequiredFirst() {
		v, given := answer(at, *answers[at.Name])
		if !given {
			continue
		}
		if err := d.Set(at, v); err != nil {
			return err
		}
	}
	return nil
}

// question asks for one attribute: choices where there are some, and else a
// text that is checked.
func question(at app.Attr, to *string) huh.Field {
	doc := at.Doc
	if at.Required {
		doc = "required: " + doc
	} else if at.Default != "" {
		doc += " Default: " + at.Default + "."
	}
	choices := at.Choices
	if at.IsBool() {
		choices = []string{"true", "false"}
	}
	if len(choices) > 0 && !at.List {
		options := huh.NewOptions(choices...)
		if !at.Required {
			options = append([]huh.Option[string]{huh.NewOption("(not set)", "")}, options...)
		}
		return huh.NewSelect[string]().Title(at.Name).Description(doc).Options(options...).Value(to)
	}
	if at.List {
		doc += " Separate them with commas."
	}
	if len(at.Examples) > 0 {
		doc += " Example: " + strings.Trim(at.Examples[0], `"[]`) + "."
	}
	return cli.Field(at.Name, func() string { return doc }, to, func(s string) error {
		v, given := answer(at, s)
		if !given {
			if at.Required {
				return errors.New("a value is required")
			}
			return nil
		}
		return cli.Bare((&edit.Entry{}).Set(at, v))
	})
}

// answer turns what was typed into a value.
func answer(at app.Attr, typed string) (v any, given bool) {
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
	case at.IsBool():
		return typed == "true", true
	}
	return typed, true
}
