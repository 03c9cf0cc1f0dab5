package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli/screen"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
)

func (a *App) undoCommand() *cobra.Command {
	r := &round{}
	yes, look := false, false
	c := &cobra.Command{
		Use: "undo RUN [TARGET...]", Short: "Put back what a run changed", GroupID: "work", Args: cobra.MinimumNArgs(1),
		Long: "Undo puts back what an apply changed, or what an undo put back: what files held, their owners and modes,\n" +
			"packages and their versions where they can still be had, how services and accounts stood. Each apply tells its\n" +
			"number at the end; last is the last one. What stood before is kept on the hosts, readable by root alone, as\n" +
			"[undo] in jadekettle.toml says. Undo previews first and asks. What somebody has changed since that run is left\n" +
			"as it is and told. The next apply makes hosts as they are declared again.",
		RunE: func(c *cobra.Command, args []string) error {
			kept, err := a.undone(args[0])
			if err != nil {
				return err
			}
			return a.undoRun(c.Context(), r, kept, args[1:], yes, look)
		},
	}
	r.hostFlags(c)
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
func (a *App) undone(which string) (history.Kept, error) {
	dir, _, err := a.projectFiles()
	if err != nil {
		return history.Kept{}, err
	}
	runs := history.OpenRuns(dir)
	var kept history.Kept
	if which == lastRun {
		ok := false
		if kept, ok = runs.Last(a.env, "apply", "undo", "retire"); !ok {
			return kept, problem.Errorf("there is no earlier apply of this project here").Remedy("name a run by its number")
		}
	} else {
		n, err := strconv.Atoi(which)
		if err != nil {
			return kept, problem.Errorf("%q is no run", which).
				Remedy("undo takes the number of a run first, or last; `jadekettle apply` tells it at the end")
		}
		if kept, err = runs.Load(n); err != nil {
			return kept, problem.Errorf("the run %d is not kept here: %w", n, err).
				Remedy("`jadekettle apply` tells its number at the end")
		}
	}
	if a.env != "" && a.env != kept.Env {
		return kept, problem.Errorf("the run %d was one of the environment %s, and the call says %s", kept.Number,
			kept.Env, a.env).Remedy("leave --env out")
	}
	a.env = kept.Env
	return kept, nil
}

// undoRun shows what would be put back, asks, and does just that.
func (a *App) undoRun(ctx context.Context, r *round, kept history.Kept, targets []string, yes, look bool) error {
	names := touched(kept)
	if len(names) == 0 {
		return problem.Errorf("the run %d changed nothing", kept.Number).Remedy("%s", a.lastThatChanged(kept))
	}
	p, err := a.load(targets, r.except)
	if err != nil {
		return err
	}
	r.undo = map[string]*wire.Undo{}
	for _, name := range names {
		if _, ok := p.Inventory.Host(name); !ok {
			fmt.Fprintf(a.Err, "%s is not in the inventory any more, and stays as it is\n", screen.Line(name))
		}
	}
	p.hosts = slices.DeleteFunc(p.hosts, func(h *inventory.Host) bool {
		if !slices.Contains(names, h.Name) {
			return true
		}
		r.undo[h.Name] = &wire.Undo{Run: kept.Run, Tasks: changedIn(kept, h.Name)}
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
	err := a.round(ctx, r, p)
	if r.unseen && a.code == exitDone {
		a.code = exitFailed
	}
	return err
}

// lastThatChanged names the last run before one that changed something.
func (a *App) lastThatChanged(than history.Kept) string {
	if dir, _, err := a.projectFiles(); err == nil {
		runs := history.OpenRuns(dir)
		for n := than.Number - 1; n > 0 && n > than.Number-100; n-- {
			if k, err := runs.Load(n); err == nil && k.Env == than.Env && len(touched(k)) > 0 {
				return fmt.Sprintf("the last one before it that did is run %d", n)
			}
		}
	}
	return "there is nothing to put back"
}

// touched lists the hosts that a run changed, or may have changed: where it was lost, or
// something failed half way.
func touched(kept history.Kept) []string {
	var out []string
	for _, h := range kept.Hosts {
		if len(changedIn(kept, h.Name)) > 0 || h.Failed > 0 || h.State == run.Lost {
			out = append(out, h.Name)
		}
	}
	return out
}

// changedIn lists the tasks that changed a host.
func changedIn(kept history.Kept, host string) []value.Ref {
	var out []value.Ref
	for _, h := range kept.Hosts {
		for _, t := range h.Tasks {
			if h.Name == host && t.Status == plan.Changed {
				out = append(out, value.Ref{Kind: t.Kind, Name: t.Name})
			}
		}
	}
	return out
}
