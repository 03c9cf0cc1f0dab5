package text

import (
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/schema"
)

// Kinds lists the kinds below the headings of their areas.
func Kinds(w io.Writer, schemas schema.Kinds) {
	var all []*schema.Kind
	width := 0
	for _, name := range schemas.Names() {
		k, _ := schemas.Kind(name)
		all, width = append(all, k), max(width, len(name))
	}
	for i, area := range record.GroupBy(all, func(k *schema.Kind) string { return k.Area }) {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, Paint(Quiet, area.Key))
		for _, k := range area.Items {
			fmt.Fprintf(w, "  %s  %s\n", Paint(Loud, fmt.Sprintf("%-*s", width, k.Name)), k.About)
		}
	}
}

// toolsOf lists the programs that changes of a kind run.
func toolsOf(k *schema.Kind) string {
	var out []string
	for _, t := range k.Tools {
		out = append(out, fmt.Sprintf("%s (package %s)", strings.Join(t.Any, " or "), t.Package))
	}
	return strings.Join(out, ", ")
}

// Kind shows all of one kind.
func Kind(w io.Writer, k *schema.Kind) {
	fmt.Fprintf(w, "%s  %s\n\n", Paint(Loud, k.Name), k.About)
	paragraph(w, "", k.Doc)
	if k.NoAbsent != "" {
		paragraph(w, "", "It cannot be declared absent: "+k.NoAbsent+".")
	}
	if tools := toolsOf(k); tools != "" {
		paragraph(w, "", "Its changes run "+tools+" on the host.")
	}
	for _, e := range k.Examples {
		fmt.Fprintf(w, "\n%s\n", Paint(Quiet, "example: "+e.About))
		for line := range strings.Lines(e.TOML) {
			fmt.Fprint(w, strings.TrimRight("  "+line, " "))
		}
	}
	attributes(w, "Attributes", k.RequiredFirst())
	attributes(w, "Attributes of every kind", k.Common())
}

// takes says what an attribute takes.
func takes(at schema.Attr) string {
	out := at.Type.String()
	if len(at.Choices) > 0 {
		out = "one of " + strings.Join(at.Choices, ", ")
	}
	switch {
	case at.List:
		out = "list of " + out
	case at.Either:
		out += " or a list"
	}
	if at.Required {
		out += ", required"
	}
	return out
}

func attributes(w io.Writer, title string, list []schema.Attr) {
	fmt.Fprintf(w, "\n%s\n", Paint(Quiet, title))
	for _, at := range schema.Spread(list) {
		fmt.Fprintf(w, "  %s  %s\n", Paint(Loud, at.Name), takes(at))
		text := at.Doc
		if at.Default != "" {
			text += " Default: " + at.Default + "."
		}
		paragraph(w, "      ", text)
		for _, e := range at.Examples {
			fmt.Fprintf(w, "      %s\n", Paint(Quiet, at.Name+" = "+e))
		}
	}
}

// paragraph prints text broken into lines.
func paragraph(w io.Writer, indent, text string) {
	fmt.Fprint(w, Wrap(Line(text), indent, LineWidth))
}

// Functions lists functions with their examples.
func Functions(w io.Writer, list []expr.Func) {
	area := ""
	for _, f := range list {
		if f.Area != area {
			if area != "" {
				fmt.Fprintln(w)
			}
			area = f.Area
			fmt.Fprintln(w, Paint(Quiet, area))
		}
		fmt.Fprintf(w, "  %s\n", Paint(Loud, f.Signature()))
		paragraph(w, "      ", f.Doc)
		for _, u := range f.Uses {
			fmt.Fprintf(w, "      %s\n", Paint(Quiet, u.Expr+" gives "+u.Gives))
		}
	}
}
