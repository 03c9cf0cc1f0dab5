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
	all, yes bool
	reviewed string
}

func apply(e *cli.Env) *cobra.Command {
	r := &applying{}
	r.Mode = record.ModeApply
	c := &cobra.Command{
		Use: "apply TARGET... | --all", Short: "Make hosts as they are declared", GroupID: cli.Work,
		Long: "Apply makes just the changes that preview shows, reads each one back, and reports per host which " +
			"tasks\n" +
			"changed, failed, were blocked or were already right. Targets are host names, patterns such as\n" +
			"\"gauge-*\", and @groups; --all takes every host. It previews first, asks on the terminal, and then " +
			"does exactly\nthat: a host that reads otherwise by then is not begun. --yes goes straight on, as it " +
			"must where there is no\nterminal. With --first and --batch it goes over the hosts bit by bit,\n" +
			"and ends where a host fails; [run] in jadekettle.toml, or an environment, can say so for every call.",
		RunE: func(c *cobra.Command, targets []string) error { return r.run(c.Context(), e, targets) },
	}
	r.flags(e, c)
	e.FromFlag(c)
	e.HereFlag(c)
	f := c.Flags()
	f.BoolVar(&r.all, "all", false, "every host of the inventory")
	e.YesFlag(c, &r.yes)
	f.StringVar(&r.reviewed, "reviewed", "",
		"do exactly what the preview in this `FILE` shows, and begin no host that reads otherwise by now")
	f.BoolVar(&r.Take, "take-leftovers", false, "take away what an earlier run managed and nothing declares any more")
	f.BoolVar(&r.Forget, "forget-leftovers", false, "let that go: it stays as it is, and is not told any more")
	r.adoptFlag(c)
	f.StringVar(&r.Rollout.First, "first", "", "the `HOSTS` that go alone before all others: targets with commas "+
		"between, "+
		"or a number; when one fails, the rest is not begun")
	f.StringVar(&r.Rollout.Batch, "batch", "", "`N` hosts at a time, or P% of them; when one of a batch fails, the "+
		"next is "+
		"not begun, unless --stop-after says otherwise")
	f.StringVar(&r.Rollout.Pause, "pause", "", "a `TIME` before each further batch, such as 5m, or key: until one "+
		"is pressed")
	f.StringVar(&r.Rollout.StopAfter, "stop-after", "", "begin no host any more once `N` hosts, or P% of them, "+
		"have failed")
	return c
}

// check says what is wrong with the call.
func (r *applying) check(e *cli.Env, targets []string) error {
	switch {
	case r.reviewed != "" && (len(targets) > 0 || r.again != "" || r.all || !r.Part.All()):
		return problem.Errorf("--reviewed is given with hosts or a part of the tasks").
			Remedy("leave those out: the saved preview says which")
	case len(targets) == 0 && r.again == "" && r.reviewed == "" && !r.all && !e.Here:
		return problem.Errorf("apply wants to know where").Remedy("name hosts, patterns or @groups, or say --all")
	case r.all && e.Here:
		return problem.Errorf("--all is given with --here, which is about one host").Remedy("keep one of the two")
	case (len(targets) > 0 || r.again != "") && r.all:
		return problem.Errorf("--all is given with targets").Remedy("keep one of the two")
	}
	if !r.yes {
		return e.CanAsk("apply asks before it starts")
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
	saved, where, q, err := app.ReadReview(r.reviewed, e.Where(), q)
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
		if !e.AgreeOn("Do what was reviewed on", p.Settings.Env, of.Meant) {
			return e.NothingDone()
		}
	}
	return finish(ctx, e, p, q, r.Look)
}
