package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/source"
	"jadekettle/internal/core/value"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

func (a *App) sourceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Tell what a source brings: its manifests, their params, its documents",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSources,
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.shelf()
			if err != nil {
				return err
			}
			pin, err := s.Pin(args[0])
			if err != nil {
				return err
			}
			p, err := a.open()
			if err != nil {
				return err
			}
			docs := documents(s.Dir, pin.Name)
			if a.output == "json" {
				return a.document(document.SourceShown{Head: document.One, Source: pin.Name, Commit: pin.Commit,
					Manifests: manifestDocs(p.Of(pin.Name)), Documents: docs})
			}
			a.showSource(*pin, p.Of(pin.Name), docs)
			return nil
		},
	}
}

// documents lists the texts that came along with a source.
func documents(dir string, name string) []string {
	out := []string{}
	fs.WalkDir(os.DirFS(dir), path.Join(source.Dir, name), func(p string, e fs.DirEntry, err error) error {
		ext := strings.ToLower(path.Ext(p))
		if err == nil && !e.IsDir() && (ext == ".md" || ext == ".txt" || strings.HasPrefix(e.Name(), "README")) {
			out = append(out, p)
		}
		return nil
	})
	return out
}

func (a *App) showSource(pin source.Pin, list []compile.ManifestDoc, docs []string) {
	fmt.Fprintf(a.Out, "%s  %s at %s, from %s\n", screen.Paint(screen.Loud, pin.Name), pin.Commit[:12],
		screen.Line(pin.At), screen.Line(pin.URL))
	for _, m := range list {
		fmt.Fprintf(a.Out, "\n%s  %s\n", screen.Paint(screen.Loud, m.Name), screen.Line(m.About))
		var rows [][]string
		for _, d := range m.Params {
			text := "required"
			if d.HasDefault {
				text = "default " + value.Shown(d.Default)
			}
			rows = append(rows, []string{"  " + d.Name, d.Type, text, d.About})
		}
		if len(rows) > 0 {
			screen.Columns(a.Out, rows)
		}
	}
	if len(docs) > 0 {
		fmt.Fprintf(a.Out, "\n%s\n", screen.Paint(screen.Quiet, "documents"))
		for _, d := range docs {
			fmt.Fprintln(a.Out, "  "+screen.Line(d))
		}
	}
}

func manifestDocs(list []compile.ManifestDoc) []document.Manifest {
	out := []document.Manifest{}
	for _, m := range list {
		params := []document.ManifestParam{}
		for _, d := range m.Params {
			params = append(params, document.ManifestParam{Name: d.Name, Type: d.Type, Default: d.Default,
				Required: !d.HasDefault, About: d.About})
		}
		out = append(out, document.Manifest{Name: m.Name, About: m.About, Params: params})
	}
	return out
}
