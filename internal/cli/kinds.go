package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) kindsCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "kinds [KIND]", Short: "List the kinds of declarations, or tell all of one", GroupID: "work",
		Args: cobra.MaximumNArgs(1),
		Long: "Kinds lists what can be declared, by area. With the name of a kind it tells its attributes, required " +
			"ones\nfirst: what each takes, what holds when it is left out, and how it is written, and shows examples.",
		RunE: func(_ *cobra.Command, args []string) error {
			schemas := a.kinds()
			if len(args) == 0 {
				return a.kindsList(schemas)
			}
			k, ok := schemas.Kind(args[0])
			if !ok {
				return problem.Errorf("there is no kind %q", args[0]).Meant(args[0], schemas.Names(),
					"the kinds are "+strings.Join(schemas.Names(), ", "))
			}
			if a.output == "json" {
				return a.document(document.Kinds{Head: document.One, Kinds: []document.Kind{kindDoc(k)}})
			}
			a.kind(k)
			return nil
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return a.kinds().Names(), cobra.ShellCompDirectiveNoFileComp
		},
	}
	c.AddCommand(a.kindsSearch(), a.kindsFunctions(), a.kindsNew(), a.kindsTry())
	return c
}

// kindsList lists the kinds below the headings of their areas.
func (a *App) kindsList(schemas schema.Kinds) error {
	var areas []string
	by := map[string][]*schema.Kind{}
	docs := []document.Kind{}
	width := 0
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		width = max(width, len(name))
		if by[k.Area] == nil {
			areas = append(areas, k.Area)
		}
		by[k.Area] = append(by[k.Area], k)
		docs = append(docs, kindDoc(k))
	}
	if a.output == "json" {
		return a.document(document.Kinds{Head: document.One, Kinds: docs})
	}
	for i, area := range areas {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintln(a.Out, screen.Paint(screen.Quiet, area))
		for _, k := range by[area] {
			fmt.Fprintf(a.Out, "  %s  %s\n", screen.Paint(screen.Loud, fmt.Sprintf("%-*s", width, k.Name)), k.About)
		}
	}
	return nil
}

// toolsOf lists the programs that changes of a kind run.
func toolsOf(k *schema.Kind) string {
	var out []string
	for _, t := range k.Tools {
		out = append(out, fmt.Sprintf("%s (package %s)", strings.Join(t.Any, " or "), t.Package))
	}
	return strings.Join(out, ", ")
}

// kind tells all of one kind.
func (a *App) kind(k *schema.Kind) {
	fmt.Fprintf(a.Out, "%s  %s\n\n", screen.Paint(screen.Loud, k.Name), k.About)
	a.paragraph("", k.Doc)
	if k.NoAbsent != "" {
		a.paragraph("", "It cannot be absent: "+k.NoAbsent+".")
	}
	if tools := toolsOf(k); tools != "" {
		a.paragraph("", "Its changes run "+tools+" on the host.")
	}
	for _, e := range k.Examples {
		fmt.Fprintf(a.Out, "\n%s\n", screen.Paint(screen.Quiet, "example: "+e.About))
		for line := range strings.Lines(e.TOML) {
			fmt.Fprint(a.Out, strings.TrimRight("  "+line, " "))
		}
	}
	a.attributes("its attributes", k.RequiredFirst())
	a.attributes("attributes of every kind", k.Common())
}

// takes says what an attribute takes.
func takes(at schema.Attr) string {
	out := at.Type.String()
	if len(at.Choices) > 0 {
		out = "one of " + strings.Join(at.Choices, ", ")
	}
	switch {
	case at.List:
		out = "a list, each " + out
	case at.Either:
		out += ", or a list of them"
	}
	if at.Required {
		out += ", required"
	}
	return out
}

func (a *App) attributes(title string, list []schema.Attr) {
	fmt.Fprintf(a.Out, "\n%s\n", screen.Paint(screen.Quiet, title))
	for _, at := range schema.Spread(list) {
		fmt.Fprintf(a.Out, "  %s  %s\n", screen.Paint(screen.Loud, at.Name), takes(at))
		text := at.Doc
		if at.Default != "" {
			text += " Default: " + at.Default + "."
		}
		a.paragraph("      ", text)
		for _, e := range at.Examples {
			fmt.Fprintf(a.Out, "      %s\n", screen.Paint(screen.Quiet, at.Name+" = "+e))
		}
	}
}

// paragraph prints text broken into lines.
func (a *App) paragraph(indent, text string) {
	fmt.Fprint(a.Out, screen.Wrap(screen.Line(text), indent, screen.LineWidth))
}

func kindDoc(k *schema.Kind) document.Kind {
	out := document.Kind{Name: k.Name, Area: k.Area, About: k.About, Doc: k.Doc,
		Attributes: []document.KindAttr{}, Examples: []document.Example{}}
	for _, list := range [][]schema.Attr{k.RequiredFirst(), k.Common()} {
		for _, at := range list {
			out.Attributes = append(out.Attributes, document.KindAttr{Name: at.Name, Takes: at.Type.String(), List: at.List,
				Required: at.Required, Choices: append([]string{}, at.Choices...),
				Default: at.Default, Doc: at.Doc, Examples: append([]string{}, at.Examples...)})
		}
	}
	for _, e := range k.Examples {
		out.Examples = append(out.Examples, document.Example{About: e.About, TOML: e.TOML})
	}
	return out
}

func functionDocs(list []expr.Func) document.Functions {
	out := document.Functions{Head: document.One, Functions: []document.Function{}}
	for _, f := range list {
		doc := document.Function{Name: f.Name, Area: f.Area, Call: f.Signature(), Gives: f.Gives, Doc: f.Doc,
			Examples: []document.Use{}}
		for _, u := range f.Uses {
			doc.Examples = append(doc.Examples, document.Use{Expression: u.Expr, Gives: u.Gives})
		}
		out.Functions = append(out.Functions, doc)
	}
	return out
}

// found is one thing that a word was found in.
type found struct{ name, where, about string }

func (a *App) kindsSearch() *cobra.Command {
	return &cobra.Command{
		Use: "search WORD...", Short: "Find kinds, attributes and functions by a word", Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			list := a.search(words)
			if a.output == "json" {
				docs := []document.Finding{}
				for _, f := range list {
					docs = append(docs, document.Finding{Name: f.name, Is: f.where, About: f.about})
				}
				return a.document(document.Found{Head: document.One, Found: docs})
			}
			if len(list) == 0 {
				fmt.Fprintf(a.Out, "nothing is about %q\n", strings.Join(words, " "))
				return nil
			}
			var rows [][]string
			for _, f := range list {
				rows = append(rows, []string{"  " + f.name, f.where, f.about})
			}
			screen.Columns(a.Out, rows)
			return nil
		},
	}
}

// search looks for words, all of them, in names and documentation; what has
// them in its name comes first.
func (a *App) search(words []string) []found {
	var inName, inText []found
	look := func(name, where, about, more string) {
		name1, all := strings.ToLower(name), strings.ToLower(name+" "+about+" "+more)
		hit, named := true, true
		for _, w := range words {
			w = strings.ToLower(w)
			hit, named = hit && strings.Contains(all, w), named && strings.Contains(name1, w)
		}
		if named {
			inName = append(inName, found{name, where, about})
		} else if hit {
			inText = append(inText, found{name, where, about})
		}
	}
	schemas := a.kinds()
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		look(k.Name, "kind", k.About, k.Doc)
		for _, at := range k.Attrs {
			look(k.Name+"."+at.Name, "attribute", at.Doc, "")
		}
	}
	for _, at := range schema.Common {
		look(at.Name, "attribute of every kind", at.Doc, "")
	}
	for _, f := range expr.Functions() {
		look(f.Signature(), "function", f.Doc, f.Area)
	}
	return append(inName, inText...)
}

func (a *App) kindsFunctions() *cobra.Command {
	return &cobra.Command{
		Use: "functions [NAME]", Short: "List the functions of expressions and templates", Args: cobra.MaximumNArgs(1),
		Long: "Functions lists what expressions and templates can call, each with an example and what it gives. In an\n" +
			"expression a function may stand before its arguments or after the first: upper(host.name) and\n" +
			"host.name.upper() are the same. In a template it stands before: {{ upper host.name }}.",
		RunE: func(_ *cobra.Command, args []string) error {
			list := expr.Functions()
			if len(args) == 1 {
				list = slices.DeleteFunc(list, func(f expr.Func) bool { return !strings.Contains(f.Name, args[0]) })
				if len(list) == 0 {
					return problem.Errorf("there is no function %q", args[0]).Meant(args[0],
						expr.FunctionNames(), "`jadekettle kinds search WORD` looks in their descriptions too")
				}
			}
			if a.output == "json" {
				return a.document(functionDocs(list))
			}
			a.functions(list)
			return nil
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return expr.FunctionNames(), noFiles
		},
	}
}

func (a *App) functions(list []expr.Func) {
	area := ""
	for _, f := range list {
		if f.Area != area {
			if area != "" {
				fmt.Fprintln(a.Out)
			}
			area = f.Area
			fmt.Fprintln(a.Out, screen.Paint(screen.Quiet, area))
		}
		fmt.Fprintf(a.Out, "  %s\n", screen.Paint(screen.Loud, f.Signature()))
		a.paragraph("      ", f.Doc)
		for _, u := range f.Uses {
			fmt.Fprintf(a.Out, "      %s\n", screen.Paint(screen.Quiet, u.Expr+" gives "+u.Gives))
		}
	}
}
