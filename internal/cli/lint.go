package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/host/kinds"
)

func (a *App) lintCommand() *cobra.Command {
	return &cobra.Command{
		Use: "lint", Short: "Check the project without contacting a host", GroupID: "work", Args: cobra.NoArgs,
		Long: "Lint reads the whole project, resolves it for every host as far as that goes without facts, and\nprints every problem with its file, line and column. It ends with 2 when there is one.",
		RunE: func(*cobra.Command, []string) error {
			dir, err := a.folder()
			if err != nil {
				return err
			}
			project, err := files(dir)
			if err != nil {
				return err
			}
			o, err := a.options(dir)
			if err != nil {
				return err
			}
			p, err := resolve.Check(project, kinds.Catalog(), o)
			var ps *value.Problems
			if err != nil && !errors.As(err, &ps) {
				return err
			}
			if ps == nil {
				ps = &value.Problems{}
			}
			if a.output == "json" {
				if err != nil {
					a.code = exitWrong
				}
				return history.WriteJSON(a.Out, map[string]any{"format": 1, "problems": history.Problems(ps.List())})
			}
			if err != nil {
				a.problems(ps.List())
				a.code = exitWrong
				return nil
			}
			if err := required(p.Settings.Requires); err != nil {
				return err
			}
			manifests, decls := p.Declarations()
			fmt.Fprintf(a.Out, "no problem in %s, %s and %s\n", count(len(p.Inventory.Hosts), "host"), count(manifests, "manifest"), count(decls, "declaration"))
			return nil
		},
	}
}
