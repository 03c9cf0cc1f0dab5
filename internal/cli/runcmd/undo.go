package runcmd

import (
	"fmt"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/text"
)

func undo(e *cli.Env) *cobra.Command {
	r := &round{}
	r.Mode = record.ModeUndo
	yes, look := false, false
	c := &cobra.Command{
		Use: "undo RUN [TARGET...]", Short: "Revert the changes made by a run",
		Long: "Reverts what a run changed: file contents, ownership and modes, packages (to the previous version " +
			"where still available), services and accounts. Anything changed since that run is left alone and " +
			"reported. Shows a preview and asks first. Note: manifests are not changed, so the next apply brings " +
			"the changes back.\n\nRUN is a number, printed at the end of each apply, or last. Hosts keep the " +
			"previous state as set in [undo] in jadekettle.toml, readable only by root.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return problem.Errorf("no run given").
					Remedy("use a run number (printed at the end of each apply) or `last`")
			}
			q, err := r.request(c.Context(), e, args[1:])
			if err != nil {
				return err
			}
			s, err := e.Site(c.Context())
			if err != nil {
				return err
			}
			if q.Undo, err = s.ToUndo(args[0]); err != nil {
				return err
			}
			p, err := s.In(q.Undo.Env).Open()
			if err != nil {
				return err
			}
			names, _ := q.Undo.Changed()
			for _, name := range names {
				if _, err := p.Host(name); err != nil {
					fmt.Fprintf(e.Err, "%s is no longer in the inventory and will not be changed\n", text.Line(name))
				}
			}
			if _, err := p.Outlook(q); err != nil { // before anybody is asked
				return err
			}
			switch q.Preview = look; {
			case look || yes:
				return finish(c.Context(), e, p, q, r.Look)
			case !e.Terminal:
				return problem.Errorf("undo needs confirmation, but this is not a terminal").
					Remedy("use --yes, or --preview to see what it would do")
			}
			run, err := Asked(c.Context(), e, p, q, r.Look)
			if err != nil {
				return err
			}
			return cli.Ended(run.Code)
		},
	}
	r.hostFlags(e, c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	c.Flags().BoolVar(&r.ShowClosed, "show-closed", false, "include the contents of private files in diffs")
	c.Flags().BoolVar(&look, "preview", false, "show what would be reverted, without changing anything")
	e.YesFlag(c, &yes)
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	complete(e, c)
	runs, targets := e.CompleteRuns(), e.CompleteTargets()
	c.ValidArgsFunction = func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return runs(c, args, typed)
		}
		return targets(c, args[1:], typed)
	}
	return c
}
