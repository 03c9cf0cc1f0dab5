package projectcmd

import (
	"context"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

func why(e *cli.Env) *cobra.Command {
	return &cobra.Command{
		Use:   "why HOST data.NAME | param.MANIFEST.NAME | KIND NAME",
		Short: "Explain where a value or declaration comes from",
		Args:  cli.Args(2, 3),
		Long: "Explains a value or declaration of one host, without connecting. For a data value, shows what " +
			"each layer sets and which one is used; for a param, every possible source and the one used; for a " +
			"declaration, the group it comes from, the values its conditions read, the origin of each attribute, " +
			"and its dependencies; for something that does not exist, the reason. Uses the facts that were last " +
			"collected. Exits with 2 if the value or declaration is unknown.",
		Example: "  jadekettle why gauge-01 data.gauge.sample_seconds\n  jadekettle why gauge-01 service tide-logger",
		RunE: func(c *cobra.Command, args []string) error {
			about := args[1:]
			if kind, name, ok := strings.Cut(about[0], " "); ok && len(about) == 1 {
				about = []string{kind, name} // both words in one pair of quotes
			}
			return explained(c.Context(), e, args[0], about)
		},
		ValidArgsFunction: completeWhy(e),
	}
}

// explained answers about a value or a declaration of a host.
func explained(ctx context.Context, e *cli.Env, name string, about []string) error {
	p, err := e.Open(ctx)
	if err != nil {
		return err
	}
	h, err := p.Host(name)
	if err != nil {
		return err
	}
	found, read, wrong := p.Explain(h)
	if !e.JSON() {
		text.FactsAge(e.Err, h.Name, found.Known, read)
	}
	err = answered(e, p, found, about)
	if wrong == nil {
		return err
	}
	e.Complain(wrong)
	if err != nil {
		return err
	}
	return cli.Exit(app.CodeWrong)
}

func answered(e *cli.Env, p *app.Project, found *app.Explanation, about []string) error {
	path := strings.Split(about[0], ".")
	switch {
	case len(about) == 2:
		ref, err := p.Site.Kinds().ParseRef(about[0] + " " + about[1])
		if err != nil {
			return err
		}
		y := found.Why(ref)
		doc := document.Why{Head: document.One, Host: found.Host.Name, Why: y}
		if err := e.Render(doc, func(w io.Writer) { text.Why(w, found.Host.Name, y) }); err != nil {
			return err
		}
		return known(!y.Unknown)
	case path[0] == "data" && len(path) > 1:
		if !e.JSON() {
			exists, err := text.WhyData(e.Out, found, path[1:])
			if err != nil {
				return err
			}
			return known(exists)
		}
		doc, err := document.NewData(found, path[1:])
		if err != nil {
			return err
		}
		if err := e.Document(doc); err != nil {
			return err
		}
		return known(doc.There)
	case path[0] == "param" && len(path) > 2:
		manifest, name := strings.Join(path[1:len(path)-1], "."), path[len(path)-1]
		if !e.JSON() {
			return text.WhyParam(e.Out, found, manifest, name)
		}
		doc, err := document.NewParam(found, manifest, name)
		if err != nil {
			return err
		}
		return e.Document(doc)
	}
	return problem.Errorf("cannot explain %q", about[0]).Remedy("use data.NAME, param.MANIFEST.NAME or KIND NAME")
}

// known ends a command that was asked about something unknown.
func known(yes bool) error {
	if yes {
		return nil
	}
	return cli.Exit(app.CodeWrong)
}

// completeWhy offers a host and then its declarations and the first names of
// its data.
func completeWhy(e *cli.Env) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return e.CompleteHosts()(c, args, typed)
		}
		p, err := e.Open(c.Context())
		if err != nil || len(args) > 2 {
			return nil, cli.NoFiles
		}
		h, err := p.Host(args[0])
		if err != nil {
			return nil, cli.NoFiles
		}
		found, _, _ := p.Explain(h)
		var out []string
		for _, d := range found.Declared() {
			word := d.Ref.Kind
			if len(args) == 2 && d.Ref.Kind == args[1] {
				word = d.Ref.Name
			} else if len(args) == 2 {
				continue
			}
			if !slices.Contains(out, word) {
				out = append(out, word)
			}
		}
		at := strings.Split(typed, ".")
		if len(args) == 2 || at[0] != "data" && !strings.HasPrefix("data", typed) {
			return out, cli.NoFiles
		}
		path := at[1:max(1, len(at)-1)]
		for _, name := range found.DataNames(path) {
			out = append(out, strings.Join(append(append([]string{"data"}, path...), name), "."))
		}
		return out, cli.NoFiles | cobra.ShellCompDirectiveNoSpace
	}
}
