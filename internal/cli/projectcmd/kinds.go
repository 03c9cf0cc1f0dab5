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
	return problem.Errorf("unknown kind %q", name).
		Meant(name, all.Names(), "available: "+strings.Join(all.Names(), ", "))
}

// completeKinds offers kinds.
func completeKinds(e *cli.Env) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return kindsOf(c.Context(), e).Names(), cli.NoFiles
	}
}

func kindsCommand(e *cli.Env) *cobra.Command {
	c := &cobra.Command{
		Use: "kinds [KIND]", Short: "List kinds, or show the documentation of one",
		Args: cli.Args(0, 1),
		Long: "Lists everything that can be declared, by area. With a kind, shows its attributes, required ones " +
			"first, with their type, default and examples.",
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
		Use: "search WORD...", Short: "Search kinds, attributes and functions", Args: cli.Args(1, -1),
		RunE: func(c *cobra.Command, words []string) error {
			list := document.Search(kindsOf(c.Context(), e), words)
			return e.Render(document.Found{Head: document.One, Found: list}, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintf(w, "no matches for %q\n", strings.Join(words, " "))
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
		Use: "functions [NAME]", Short: "List functions for expressions and templates", Args: cli.Args(0, 1),
		Long: "Lists the functions that expressions and templates can call, each with an example and its result. " +
			"In an expression, upper(host.name) and host.name.upper() are the same. In a template, write {{ upper " +
			"host.name }}.",
		RunE: func(_ *cobra.Command, args []string) error {
			list, names := app.Functions(strings.Join(args, ""))
			if len(list) == 0 {
				return problem.Errorf("unknown function %q", args[0]).
					Meant(args[0], names, "`jadekettle kinds search WORD` also searches descriptions")
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
		Use: "new NAME", Short: "Create a custom kind", Args: cli.Args(1, 1),
		Long: "Creates the directory kinds/NAME with kind.toml, which describes the kind, and a program that runs " +
			"on hosts to read, compare and write. The example manages one line of text in a file; change it to " +
			"what you need.",
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
			fmt.Fprintf(e.Err, "test its examples with `jadekettle kinds try %s`\n", args[0])
			return nil
		},
	}
}

func kindsTry(e *cli.Env) *cobra.Command {
	here := false
	c := &cobra.Command{
		Use: "try NAME", Short: "Test a custom kind", Args: cli.Args(1, 1),
		Long: "Applies the examples of a custom kind twice to a simulated host, which does not run the program but " +
			"remembers what was written. With --here, runs the program on this machine with your permissions: it " +
			"reads, compares, writes the differences, then reads and compares again; nothing may differ then.",
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
				line, verdict := text.Line(t.Example)+": ", t.Passed
				if t.Ref != "" {
					line += text.Line(t.Ref) + ": "
				}
				if t.Failed != "" {
					code, verdict = app.CodeFailed, "failed: "+t.Failed
				}
				fmt.Fprintln(e.Out, line+text.Line(verdict))
			}
			return cli.Ended(code)
		},
	}
	c.Flags().BoolVar(&here, "here", false, "run the program on this machine")
	return c
}
