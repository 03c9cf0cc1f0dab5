package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/history/store"
	screen "jadekettle/internal/present/text"
)

func (a *App) undoCommand() *cobra.Command {
	r := &round{}
	yes, look := false, false
	c := &cobra.Command{
		Use: "undo RUN [TARGET...]", Short: "Put back what a run changed", GroupID: "work",
		Long: "Undo puts back what an apply changed, or what an undo put back: what files held, their owners and modes,\n" +
			"packages and their versions where they can still be had, how services and accounts stood. Each apply tells its\n" +
			"number at the end; last is the last one. What stood before is kept on the hosts, readable by root alone, as\n" +
			"[undo] in jadekettle.toml says. Undo previews first and asks. What somebody has changed since that run is left\n" +
			"as it is and told. The next apply makes hosts as they are declared again.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return problem.Errorf("undo wants to know which run").Remedy("give its number, which every apply tells at its end, or last")
			}
			kept, err := a.undone(args[0])
			if err != nil {
				return err
			}
			return a.undoRun(c.Context(), r, kept, args[1:], yes, look)
		},
	}
	r.hostFlags(c)
	a.noteFlag(c)
	a.plainFlag(c)
	c.Flags().BoolVar(&r.closed, "show-closed", false, "show the text also of files that only their owner may read")
	c.Flags().BoolVar(&look, "preview", false, "show what it would put back, and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	r.lenientFlag(c)
	a.passwordFlags(c)
	c.ValidArgsFunction = a.completeTargets
	c.RegisterFlagCompletionFunc("except", a.completeTargets)
	return c
}

// undone gives the run that a call names, and takes its environment where the call names
// none.
func (a *App) undone(which string) (*record.Run, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	s := settings.Glance(root)
	if err := a.permit(dir, s, nil); err != nil {
		return nil, err
	}
	runs := a.history(dir, s)
	n, err := runs.Number(which, a.env, record.ModeApply, record.ModeUndo, record.ModeRetire)
	if err != nil {
		return nil, err
	}
	kept, err := runs.Load(n)
	if err != nil {
		return nil, err
	}
	if a.env != "" && a.env != kept.Env {
		return kept, problem.Errorf("the run %d was one of the environment %s, and the call says %s", kept.Number,
			kept.Env, a.env).Remedy("leave --env out")
	}
	a.env = kept.Env
	return kept, nil
}

// undoRun shows what would be put back, asks, and does just that.
func (a *App) undoRun(ctx context.Context, r *round, kept *record.Run, targets []string, yes, look bool) error {
	names, changed := kept.Changed()
	if len(names) == 0 {
		return problem.Errorf("the run %d changed nothing", kept.Number).Remedy("%s", a.lastThatChanged(kept))
	}
	p, err := a.load(targets, r.except)
	if err != nil {
		return err
	}
	r.undo = map[string]*wire.Undo{}
	of := make(map[string]bool, len(names))
	for _, name := range names {
		of[name] = true
		if _, ok := p.Inventory.Host(name); !ok {
			fmt.Fprintf(a.Err, "%s is not in the inventory any more, and stays as it is\n", screen.Line(name))
		}
	}
	p.hosts = slices.DeleteFunc(p.hosts, func(h *inventory.Host) bool {
		if !of[h.Name] {
			return true
		}
		r.undo[h.Name] = &wire.Undo{Run: kept.Run, Tasks: changed[h.Name]}
		return false
	})
	if len(p.hosts) == 0 {
		return problem.Errorf("the run %d changed nothing on these hosts", kept.Number).
			Remedy("it did on %s", strings.Join(inventory.Fold(names), ", "))
	}
	r.undoes = kept.Number
	r.what = fmt.Sprintf("Put back what run %d changed on", kept.Number)
	return a.undoOn(ctx, r, p, yes, look)
}

func (a *App) undoOn(ctx context.Context, r *round, p *project, yes, look bool) error {
	switch {
	case look:
		r.preview = true
	case yes:
	case !a.Terminal:
		return problem.Errorf("undo asks before it puts things back, and there is no terminal to ask on").
			Remedy("say --yes, or --preview to see what it would do")
	default:
		goOn, err := a.firstLook(ctx, r, p)
		if err != nil || a.code != exitDone {
			return err
		}
		if !goOn {
			return a.nothingDone()
		}
	}
	return a.round(ctx, r, p)
}

// lastThatChanged names the last run before one that changed something.
func (a *App) lastThatChanged(than *record.Run) string {
	if dir, root, err := a.projectFiles(); err == nil {
		list, _ := a.history(dir, settings.Glance(root)).List(store.Filter{Env: than.Env, Changed: true,
			Modes: []string{record.ModeApply, record.ModeUndo, record.ModeRetire}})
		for _, b := range list {
			if b.Number < than.Number {
				return fmt.Sprintf("the last one before it that did is run %d", b.Number)
			}
		}
	}
	return "there is nothing to put back"
}
