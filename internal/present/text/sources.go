package text

import (
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
)

// Source shows what a source brings.
func Source(w io.Writer, pin source.Pin, list []compile.ManifestDoc, docs []string) {
	fmt.Fprintf(w, "%s  %s at %s, from %s\n", Paint(Loud, pin.Name), pin.Commit[:12],
		Line(pin.At), Line(pin.URL))
	for _, m := range list {
		fmt.Fprintf(w, "\n%s  %s\n", Paint(Loud, m.Name), Line(m.About))
		var rows [][]string
		for _, d := range m.Params {
			text := "required"
			if !d.Required {
				text = "default " + value.Shown(d.Default)
			}
			rows = append(rows, []string{"  " + d.Name, d.Type, text, d.About})
		}
		if len(rows) > 0 {
			Columns(w, rows)
		}
	}
	if len(docs) > 0 {
		fmt.Fprintf(w, "\n%s\n", Paint(Quiet, "documents"))
		for _, d := range docs {
			fmt.Fprintln(w, "  "+Line(d))
		}
	}
}

// SourceAdded shows what a source holds.
func SourceAdded(w io.Writer, p source.Pin, manifests []string) {
	fmt.Fprintf(w, "%s  %s at %s\n", Paint(Loud, p.Name), p.Commit[:12], p.At)
	fmt.Fprintf(w, "  manifests: %s\n", strings.Join(manifests, ", "))
}
