package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/host/kinds"
)

func (a *App) kindsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "kinds [KIND]", Short: "List the kinds of declarations, or tell all of one", GroupID: "work", Args: cobra.MaximumNArgs(1),
		Long: "Kinds lists what can be declared. With the name of a kind it tells its attributes: what each takes, what\nholds when it is left out, and how it is written.",
		RunE: func(_ *cobra.Command, args []string) error {
			catalog := kinds.Catalog()
			if len(args) == 0 {
				return a.kindsList(catalog)
			}
			k, ok := catalog.Kind(args[0])
			if !ok {
				return fmt.Errorf("there is no kind %q; %s", args[0], value.Meant(args[0], catalog.Names(), "the kinds are "+strings.Join(catalog.Names(), ", ")))
			}
			if a.output == "json" {
				return history.WriteJSON(a.Out, map[string]any{"format": 1, "kinds": []any{kindDoc(k)}})
			}
			a.kind(k)
			return nil
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return kinds.Catalog().Names(), cobra.ShellCompDirectiveNoFileComp
		},
	}
}

// kindsList lists the kinds below the headings of their areas.
func (a *App) kindsList(catalog schema.Catalog) error {
	var areas []string
	by := map[string][]*schema.Kind{}
	docs := []any{}
	for _, name := range catalog.Names() {
		k, _ := catalog.Kind(name)
		if by[k.Area] == nil {
			areas = append(areas, k.Area)
		}
		by[k.Area] = append(by[k.Area], k)
		docs = append(docs, kindDoc(k))
	}
	if a.output == "json" {
		return history.WriteJSON(a.Out, map[string]any{"format": 1, "kinds": docs})
	}
	for i, area := range areas {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintln(a.Out, a.style(quiet).Render(area))
		for _, k := range by[area] {
			fmt.Fprintf(a.Out, "  %s  %s\n", a.style(loud).Render(fmt.Sprintf("%-8s", k.Name)), k.About)
		}
	}
	return nil
}

// kind tells all of one kind.
func (a *App) kind(k *schema.Kind) {
	fmt.Fprintf(a.Out, "%s  %s\n\n", a.style(loud).Render(k.Name), k.About)
	a.paragraph("", k.Doc)
	if k.NoAbsent != "" {
		a.paragraph("", "It cannot be absent: "+k.NoAbsent+".")
	}
	a.attributes("its attributes", k.Attrs)
	a.attributes("attributes of every kind", common(k))
}

// common gives the attributes of every kind that this one takes.
func common(k *schema.Kind) []schema.Attr {
	return slices.DeleteFunc(slices.Clone(schema.Common), func(at schema.Attr) bool { return at.Name == "absent" && k.NoAbsent != "" })
}

func (a *App) attributes(title string, list []schema.Attr) {
	fmt.Fprintf(a.Out, "\n%s\n", a.style(quiet).Render(title))
	for _, at := range list {
		takes := at.Type.String()
		if at.List {
			takes = "a list, each " + takes
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", a.style(loud).Render(at.Name), takes)
		text := at.Doc
		if at.Default != "" {
			text += " Default: " + at.Default + "."
		}
		a.paragraph("      ", text)
		for _, e := range at.Examples {
			fmt.Fprintf(a.Out, "      %s\n", a.style(quiet).Render(at.Name+" = "+e))
		}
	}
}

// lineWidth is how wide paragraphs are set.
const lineWidth = 96

// paragraph prints text broken into lines.
func (a *App) paragraph(indent, text string) {
	line := indent
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > lineWidth && line != indent {
			fmt.Fprintln(a.Out, line)
			line = indent
		}
		if line != indent {
			line += " "
		}
		line += word
	}
	fmt.Fprintln(a.Out, line)
}

func kindDoc(k *schema.Kind) map[string]any {
	attrs := []any{}
	for _, list := range [][]schema.Attr{k.Attrs, common(k)} {
		for _, at := range list {
			examples := append([]string{}, at.Examples...)
			attrs = append(attrs, map[string]any{"name": at.Name, "takes": at.Type.String(), "list": at.List, "default": at.Default, "doc": at.Doc, "examples": examples})
		}
	}
	return map[string]any{"name": k.Name, "area": k.Area, "about": k.About, "doc": k.Doc, "attributes": attrs}
}
