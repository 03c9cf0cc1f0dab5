package projectcmd

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/app/trykind"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// kindsOf gives the kinds of the project of the call, or where there is none the built-in ones.
func kindsOf(ctx context.Context, e *cli.Env) app.Kinds {
	s, err := e.Site(ctx)
	if err != nil {
		return app.BuiltIn()
	}
	return s.Kinds()
}

func noKind(name string, all app.Kinds) error {
	return problem.Errorf("there is no kind %q", name).
		Meant(name, all.Names(), "the kinds are "+strings.Join(all.Names(), ", "))
}

// completeKinds offers kinds.
func completeKinds(e *cli.Env) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return kindsOf(c.Context(), e).Names(), cli.NoFiles
	}
}

func kindsCommand(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "kinds [KIND]", Short: "List the kinds of declarations, or tell all of one", GroupID: cli.Work,
		Args: cobra.MaximumNArgs(1),
		Long: "Kinds lists what can be declared, by area. With the name of a kind it tells its attributes, required " +
			"ones\nfirst: what each takes, what holds when it is left out, and how it is written, and shows examples.",
		RunE: func(c *cobra.Command, args []string) error {
			schemas := kindsOf(c.Context(), e)
			if len(args) == 0 {
				return e.Render(document.NewKinds(app.EachKind(schemas)...),
					func(w io.Writer) { text.Kinds(w, schemas) })
			}
			k, ok := schemas.Kind(args[0])
			if !ok {
				return noKind(args[0], schemas)
			}
			return e.Render(document.NewKinds(k), func(w io.Writer) { text.Kind(w, k) })
		},
		ValidArgsFunction: completeKinds(e),
	}
	c.AddCommand(kindsSearch(e), kindsFunctions(e), kindsNew(e), kindsTry(e))
	return c
}

func kindsSearch(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "search WORD...", Short: "Find kinds, attributes and functions by a word", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, words []string) error {
			list := document.Search(kindsOf(c.Context(), e), words)
			return e.Render(document.Found{Head: document.One, Found: list}, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintf(w, "nothing is about %q\n", strings.Join(words, " "))
					return
				}
				var rows [][]string
				for _, f := range list {
					rows = append(rows, []string{"  " + f.Name, f.Is, f.About})
				}
				text.Columns(w, rows)
			})
		},
	}
}

func kindsFunctions(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "functions [NAME]", Short: "List the functions of expressions and templates", Args: cobra.MaximumNArgs(1),
		Long: "Functions lists what expressions and templates can call, each with an example and what it gives. " +
			"In an\n" +
			"expression a function may stand before its arguments or after the first: upper(host.name) and\n" +
			"host.name.upper() are the same. In a template it stands before: {{ upper host.name }}.",
		RunE: func(_ *cobra.Command, args []string) error {
			list, names := app.Functions(strings.Join(args, ""))
			if len(list) == 0 {
				return problem.Errorf("there is no function %q", args[0]).
					Meant(args[0], names, "`jadekettle kinds search WORD` looks in their descriptions too")
			}
			return e.Render(document.NewFunctions(list), func(w io.Writer) { text.Functions(w, list) })
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			_, names := app.Functions("")
			return names, cli.NoFiles
		},
	}
}

func kindsNew(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use: "new NAME", Short: "Make a kind of your own that works", Args: cobra.ExactArgs(1),
		Long: "New makes the folder kinds/NAME with kind.toml, which describes the kind, and a program that is " +
			"run on " +
			"hosts\n" +
			"to read, compare and write. They keep one line of text in a file; make of them what you need.",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			made, err := trykind.New(s, args[0])
			if err != nil {
				return err
			}
			for _, name := range made {
				fmt.Fprintln(e.Out, name)
			}
			fmt.Fprintf(e.Err, "`jadekettle kinds try %s` runs its examples\n", args[0])
			return nil
		},
	}
}

func kindsTry(e *cli.Env) *cobra.Command {
	here := false
	c := &cobra.Command{
		Use: "try NAME", Short: "Try the examples of a kind of your own", Args: cobra.ExactArgs(1),
		Long: "Try applies the examples of a kind of your own twice to a simulated host, which runs no program but " +
			"remembers\n" +
			"what it was asked to write. With --here it runs the program on this machine, with your rights: it " +
			"reads,\n" +
			"compares, writes what differs, and reads and compares again, after which nothing may differ.",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			list, err := trykind.Try(c.Context(), s, args[0], here)
			if err != nil {
				return err
			}
			code := app.CodeDone
			for _, t := range list {
				line, verdict := text.Line(t.Example)+": ", t.Right
				if t.Ref != "" {
					line += text.Line(t.Ref) + ": "
				}
				if t.Wrong != "" {
					code, verdict = app.CodeFailed, "wrong: "+t.Wrong
				}
				fmt.Fprintln(e.Out, line+text.Line(verdict))
			}
			return cli.Ended(code)
		},
	}
	c.Flags().BoolVar(&here, "here", false, "run the program on this machine")
	return c
}
