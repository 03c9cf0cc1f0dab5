package runcmd

import (
	"context"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
)

// applying is one call of apply.
type applying struct {
	round
	all, yes, look bool
	reviewed       string
}

func apply(e *cli.Env) *cobra.Command {
	r := &applying{}
	r.Mode = record.ModeApply
	c := &cobra.Command{
		Use: "apply TARGET... | --all", Short: "Apply the project to hosts",
		Long: "Applies the project to hosts: makes the changes that `jadekettle preview` shows, checks each one, " +
			"and reports what changed, what failed and what was already correct.\n\nTARGET is a host name, a " +
			"pattern such as 'gauge-*' or 'gauge-[01..04]', or an @group. Use --all for every host.\n\nOn a " +
			"terminal, apply shows a preview and asks first, then makes exactly those changes; hosts that have " +
			"changed in the meantime are refused. Use --yes to skip the question.\n\nFor gradual rollouts see " +
			"--first, --batch, --pause and --stop-after. Defaults can be set in [run] or [env.NAME] in " +
			"jadekettle.toml.",
		RunE: func(c *cobra.Command, targets []string) error { return r.run(c.Context(), e, targets) },
	}
	r.flags(e, c)
	e.FromFlag(c)
	e.HereFlag(c)
	f := c.Flags()
	f.BoolVar(&r.all, "all", false, "select every host in the inventory")
	e.YesFlag(c, &r.yes)
	f.BoolVar(&r.look, "preview", false, "show what would change, without changing anything")
	f.StringVar(&r.reviewed, "reviewed", "",
		"apply the saved preview in `FILE`, or - for standard input; refuse hosts that have changed since")
	f.BoolVar(&r.Take, "remove-undeclared", false, "remove resources that are managed but no longer declared")
	f.BoolVar(&r.Forget, "forget-undeclared", false, "stop tracking resources that are no longer declared, without "+
		"removing them")
	r.adoptFlag(c)
	f.StringVar(&r.Rollout.First, "first", "", "apply to `HOSTS` first (comma-separated targets, or a count) and "+
		"stop if one fails")
	f.StringVar(&r.Rollout.Batch, "batch", "", "process hosts in batches of `N` or N%; stop after a batch with a "+
		"failure (see --stop-after)")
	f.StringVar(&r.Rollout.Pause, "pause", "", "`DURATION`: wait between batches, for example 5m, or \"key\" to "+
		"wait for a keypress")
	f.StringVar(&r.Rollout.StopAfter, "stop-after", "", "stop starting new hosts after `N` (or N%) have failed")
	return c
}

// check says what is wrong with the call.
func (r *applying) check(e *cli.Env, targets []string) error {
	switch {
	case r.reviewed != "" && (len(targets) > 0 || r.again != "" || r.all || !r.Part.All()):
		return problem.Errorf("--reviewed cannot be combined with targets or a task selection").
			Remedy("remove them; the saved preview has its own")
	case len(targets) == 0 && r.again == "" && r.reviewed == "" && !r.all && !e.Here:
		return problem.Errorf("no targets given").Remedy("name hosts, patterns or @groups, or use --all")
	case r.look && r.reviewed != "":
		return problem.Errorf("--preview cannot be combined with --reviewed").Remedy("use only one of them")
	case r.reviewed == "-" && !r.yes:
		return problem.Errorf("--reviewed - reads standard input, so apply cannot ask").Remedy("add --yes")
	case r.all && e.Here:
		return problem.Errorf("--all cannot be combined with --here").Remedy("use only one of them")
	case (len(targets) > 0 || r.again != "") && r.all:
		return problem.Errorf("--all cannot be combined with targets").Remedy("use only one of them")
	}
	if !r.yes && !r.look {
		return e.CanAsk("apply")
	}
	return nil
}

func (r *applying) run(ctx context.Context, e *cli.Env, targets []string) error {
	if err := r.check(e, targets); err != nil {
		return err
	}
	if r.reviewed != "" {
		return r.review(ctx, e)
	}
	if r.look {
		r.Preview = true
		_, _, run, err := r.round.look(ctx, e, targets)
		if err != nil {
			return err
		}
		return cli.Ended(run.Code)
	}
	q, err := r.request(ctx, e, targets)
	if err != nil {
		return err
	}
	s, err := e.Site(ctx)
	if err != nil {
		return err
	}
	if !r.yes { // a person may take long, and hosts do not wait for that
		p, err := s.Open()
		if err != nil {
			return err
		}
		run, err := Asked(ctx, e, p, q, r.Look)
		if err != nil {
			return err
		}
		return cli.Ended(run.Code)
	}
	var p *app.Project
	if q.Rollout == (app.Rollout{}) {
		p, err = s.OpenFor(ctx, q)
	} else {
		p, err = s.Open()
	}
	if err != nil {
		return err
	}
	return finish(ctx, e, p, q, r.Look)
}

// review does what was reviewed and nothing else.
func (r *applying) review(ctx context.Context, e *cli.Env) error {
	q, err := r.request(ctx, e, nil)
	if err != nil {
		return err
	}
	saved, where, q, err := app.ReadReview(r.reviewed, e.In, e.Where(), q)
	if err != nil {
		return err
	}
	p, err := app.Open(ctx, e.Caller(), where)
	if err != nil {
		return err
	}
	if q.Agreed, err = p.HoldTo(ctx, saved); err != nil {
		return err
	}
	if !r.yes {
		of, err := p.Outlook(q)
		if err != nil {
			return err
		}
		if !e.AgreeOn("Apply the saved preview to", p.Settings.Env, of.Meant) {
			return e.NothingDone()
		}
	}
	return finish(ctx, e, p, q, r.Look)
}
