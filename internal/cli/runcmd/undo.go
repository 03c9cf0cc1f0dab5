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
		Use: "undo RUN [TARGET...]", Short: "Put back what a run changed", GroupID: cli.Work,
		Long: "Undo puts back what an apply changed, or what an undo put back: what files held, their owners and " +
			"modes,\npackages and their versions where they can still be had, how services and accounts stood. " +
			"Each apply tells its\nnumber at the end; last is the last one. What stood before is kept on the " +
			"hosts, readable by root alone, as\n[undo] in jadekettle.toml says. Undo previews first and asks. What " +
			"somebody has changed since that run is left\nas it is and told. The next apply makes hosts as they " +
			"are declared again.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return problem.Errorf("undo wants to know which run").
					Remedy("give its number, which every apply tells at its end, or last")
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
					fmt.Fprintf(e.Err, "%s is not in the inventory any more, and stays as it is\n", text.Line(name))
				}
			}
			if _, err := p.Outlook(q); err != nil { // before anybody is asked
				return err
			}
			switch q.Preview = look; {
			case look || yes:
				return finish(c.Context(), e, p, q, r.Look)
			case !e.Terminal:
				return problem.Errorf("undo asks before it puts things back, and there is no terminal to ask on").
					Remedy("say --yes, or --preview to see what it would do")
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
	c.Flags().BoolVar(&r.ShowClosed, "show-closed", false, "show the text also of files that only their owner may read")
	c.Flags().BoolVar(&look, "preview", false, "show what it would put back, and change nothing")
	e.YesFlag(c, &yes)
	e.LenientFlag(c, &r.Lenient)
	e.PasswordFlags(c)
	complete(e, c)
	return c
}
