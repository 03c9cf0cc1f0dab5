package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	reviewed "jadekettle/internal/app/review"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/resolve"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

// round is what preview and apply have in common.
type round struct {
	preview  bool
	verify   bool
	except   []string
	parallel int
	verbose  bool
	strict   bool // --fail-if-changes
	summary  bool
	closed   bool                  // --show-closed
	lenient  bool                  // --accept-unreached
	drift    bool                  // tell what differs from what was last written
	take     bool                  // --take-leftovers
	forget   bool                  // --forget-leftovers
	adopt    bool                  // --adopt
	retire   bool                  // nothing is declared any more
	undo     map[string]*wire.Undo // what of an earlier run is put back, by host
	save     string                // --save
	reviewed string                // --reviewed
	saved    *reviewed.Preview
	foreseen run.Foreseen // what was agreed to; nil for whatever there is
	first    bool         // it is the preview of an apply
	unseen   bool         // hosts are left out that could not be looked at
	again    string
	undoes   int    // the number of the run that undo is about
	what     string // what is asked, where it is no apply
	rollout  rollout
	part     resolve.Selection
	given    *pflag.FlagSet
}

// flag says whether the call gives a flag.
func (r *round) flag(name string) bool { return r.given != nil && r.given.Changed(name) }

// detail says how much of the changes is shown.
func (r *round) detail() screen.Detail {
	switch {
	case r.verbose, r.verify && !r.summary:
		return screen.Whole
	case r.summary:
		return screen.Summary
	}
	return screen.Usual
}

// hostFlags are those of whatever goes over hosts and tells how they fared.
func (r *round) hostFlags(c *cobra.Command) {
	r.given = c.Flags()
	c.Flags().StringSliceVar(&r.except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
	c.Flags().IntVar(&r.parallel, "parallel", 0, "`N` hosts at once (default: [run] parallel, 32)")
	c.Flags().BoolVarP(&r.verbose, "verbose", "v", false,
		"show unchanged tasks too, a line for each host, and every line of every diff")
	c.Flags().BoolVar(&r.summary, "summary", false, "show no changes, only how each host fared and what failed")
}

// reachable names the hosts of a run that are not off.
func (p *project) reachable() []string {
	var out []string
	for _, h := range p.hosts {
		if h.Off == "" {
			out = append(out, h.Name)
		}
	}
	return out
}

// usual gives how long hosts took in earlier runs of this sort. Where it is not known nothing
// depends on it.
func (p *project) usual(mode string, whole bool) map[string]time.Duration {
	out := map[string]time.Duration{}
	list, _ := p.runs.UsualHosts(p.Settings.Env, mode, whole)
	for host, seconds := range list {
		out[host] = time.Duration(seconds * float64(time.Second))
	}
	return out
}

func (r *round) flags(a *App, c *cobra.Command) {
	r.hostFlags(c)
	a.noteFlag(c)
	a.plainFlag(c)
	c.Flags().BoolVar(&r.closed, "show-closed", false,
		"show the old text also of files that only their owner may read and that are not ours")
	c.Flags().StringArrayVar(&r.part.Tasks, "task", nil,
		"only tasks of this `'KIND PATTERN'`, such as 'file /etc/*', or of this KIND; may be repeated")
	c.Flags().StringArrayVar(&r.part.Labels, "label", nil, "only tasks with this `LABEL`; may be repeated")
	c.Flags().StringArrayVar(&r.part.Manifests, "manifest", nil, "only tasks of this `MANIFEST`; may be repeated")
	c.Flags().StringArrayVar(&r.part.LeaveOut, "leave-out", nil, "not the tasks of this `'KIND PATTERN'`; may be repeated")
	c.Flags().BoolVar(&r.part.WithNeeds, "with-needs", false, "take along what the selected tasks need")
	a.passwordFlags(c)
	c.Flags().BoolVar(&r.strict, "fail-if-changes", false, "end with 3 when something changed or would change")
	c.Flags().StringVar(&r.again, "again", "",
		"take the hosts that failed, were not reached or not begun in the last apply, or in the `RUN` of this number, "+
			"with its part of the tasks unless another is given")
	c.Flags().Lookup("again").NoOptDefVal = lastRun
	r.lenientFlag(c)
}

func (r *round) adoptFlag(c *cobra.Command) {
	c.Flags().BoolVar(&r.adopt, "adopt", false, "take over what another project manages on these hosts, which is no more")
}

func (r *round) lenientFlag(c *cobra.Command) {
	c.Flags().BoolVar(&r.lenient, "accept-unreached", false,
		"tell of hosts that are not reached, and do not end with 1 for them")
}

// targets gives those of the call: the ones that are named, or with --again those of
// an earlier run, whose number may stand behind it as a word of its own.
func (r *round) targets(a *App, named []string) ([]string, error) {
	if r.again == "" {
		return named, nil
	}
	which := r.again
	if _, err := strconv.Atoi(strings.Join(named, " ")); err == nil && which == lastRun {
		which, named = named[0], nil
	}
	if len(named) > 0 {
		return nil, problem.Errorf("--again is given with targets").Remedy("keep one of the two")
	}
	dir, root, err := a.projectFiles()
	if err != nil {
		return nil, err
	}
	s := settings.Glance(root)
	if err := s.Choose(a.env); err != nil {
		return nil, err
	}
	return a.again(r, which, s, dir)
}

func (a *App) previewCommand() *cobra.Command {
	r := &round{preview: true}
	c := &cobra.Command{
		Use: "preview [TARGET...]", Short: "Show what an apply would change, and change nothing", GroupID: "work",
		Long: "Preview compares hosts with what is declared and shows every difference. It changes nothing on a host\n" +
			"but Jade Kettle's own folder. Targets are host names, patterns such as \"gauge-*\", and @groups; without\n" +
			"any it takes all hosts.",
		RunE: func(c *cobra.Command, targets []string) error { return a.look(c.Context(), r, targets) },
	}
	r.flags(a, c)
	r.adoptFlag(c)
	a.fromFlag(c)
	a.hereFlag(c)
	a.completeRound(c)
	c.Flags().StringVar(&r.save, "save", "", "keep what it shows in a `FILE`, to be reviewed and then applied with --reviewed")
	return c
}

// look takes the hosts of a call through a round that changes nothing.
func (a *App) look(ctx context.Context, r *round, targets []string) error {
	targets, err := r.targets(a, targets)
	if err != nil {
		return err
	}
	p, err := a.reach(ctx, targets, r.except, r.parallel)
	if err != nil {
		return err
	}
	return a.round(ctx, r, p)
}

// nothingDone says that somebody did not agree.
func (a *App) nothingDone() error {
	fmt.Fprintln(a.Err, "nothing was done")
	a.code = exitStopped
	return nil
}

// completeRound tells the shell what may stand behind the flags.
func (a *App) completeRound(c *cobra.Command) {
	c.ValidArgsFunction = a.completeTargets
	c.RegisterFlagCompletionFunc("except", a.completeTargets)
	c.RegisterFlagCompletionFunc("task", a.completeRefs)
	c.RegisterFlagCompletionFunc("leave-out", a.completeRefs)
	c.RegisterFlagCompletionFunc("manifest", a.completeManifests)
}

func (a *App) applyCommand() *cobra.Command {
	r := &round{}
	all, yes := false, false
	c := &cobra.Command{
		Use: "apply TARGET... | --all", Short: "Make hosts as they are declared", GroupID: "work",
		Long: "Apply makes just the changes that preview shows, reads each one back, and reports per host which tasks\n" +
			"changed, failed, were blocked or were already right. Targets are host names, patterns such as\n" +
			"\"gauge-*\", and @groups; --all takes every host. It previews first, asks on the terminal, and then does exactly\n" +
			"that: a host that reads otherwise by then is not begun. --yes goes straight on, as it must where there is no\n" +
			"terminal. With --first and --batch it goes over the hosts bit by bit,\n" +
			"and ends where a host fails; [run] in jadekettle.toml, or an environment, can say so for every call.",
		RunE: func(c *cobra.Command, targets []string) error {
			targets, err := r.targets(a, targets)
			if err != nil {
				return err
			}
			if r.reviewed != "" {
				if len(targets) > 0 || all || !r.part.All() {
					return problem.Errorf("--reviewed is given with hosts or a part of the tasks").
						Remedy("leave those out: the saved preview says which")
				}
				if targets, err = a.readReviewed(r, r.reviewed); err != nil {
					return err
				}
			}
			if len(targets) == 0 && !all && !a.here {
				return problem.Errorf("apply wants to know where").Remedy("name hosts, patterns or @groups, or say --all")
			}
			if all && a.here {
				return problem.Errorf("--all is given with --here, which is about one host").Remedy("keep one of the two")
			}
			if len(targets) > 0 && all {
				return problem.Errorf("--all is given with targets").Remedy("keep one of the two")
			}
			asks := !yes
			if asks {
				if err := a.canAsk("apply"); err != nil {
					return err
				}
			}
			get := func() (*project, error) { return a.reach(c.Context(), targets, r.except, r.parallel) }
			if asks || r.rollout != (rollout{}) { // a person may take long, and hosts do not wait for that
				get = func() (*project, error) { return a.load(targets, r.except) }
			}
			p, err := get()
			if err != nil {
				return err
			}
			if err := r.leavings(); err != nil {
				return err
			}
			if r.saved != nil {
				if err := a.holdTo(c.Context(), r, p); err != nil {
					return err
				}
				if asks && !a.agree("Do what was reviewed on", p.Settings.Env, p.hosts) {
					return a.nothingDone()
				}
				return a.round(c.Context(), r, p)
			}
			if asks {
				goOn, err := a.firstLook(c.Context(), r, p)
				if err != nil || a.code != exitDone {
					return err
				}
				if !goOn {
					return a.nothingDone()
				}
			}
			return a.round(c.Context(), r, p)
		},
	}
	r.flags(a, c)
	a.fromFlag(c)
	a.hereFlag(c)
	a.completeRound(c)
	c.Flags().BoolVar(&all, "all", false, "every host of the inventory")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().StringVar(&r.reviewed, "reviewed", "",
		"do exactly what the preview in this `FILE` shows, and begin no host that reads otherwise by now")
	c.Flags().BoolVar(&r.take, "take-leftovers", false, "take away what an earlier run managed and nothing declares any more")
	c.Flags().BoolVar(&r.forget, "forget-leftovers", false, "let that go: it stays as it is, and is not told any more")
	r.adoptFlag(c)
	r.rollout.flags(c)
	return c
}

// leavings holds what a call says of leftovers together.
func (r *round) leavings() error {
	if r.take && r.forget {
		return problem.Errorf("--take-leftovers and --forget-leftovers are given together").Remedy("keep one of the two")
	}
	if (r.take || r.forget) && !r.part.All() {
		return problem.Errorf("of a part of the tasks it cannot be told what is left over").
			Remedy("leave out --task, --label, --manifest and --leave-out")
	}
	return nil
}

// question is how an apply asks.
func (r *round) question() string {
	if r.what != "" {
		return r.what
	}
	what := "Apply to"
	if r.take {
		what = "Take what is left over away, and apply to"
	}
	if r.adopt {
		what = "Take over what other projects manage, and " + strings.ToLower(what[:1]) + what[1:]
	}
	return what
}

func (a *App) verifyCommand() *cobra.Command {
	r := &round{verify: true}
	all := false
	c := &cobra.Command{
		Use: "verify TARGET... | --all", Short: "Ask the probes, and change nothing", GroupID: "work",
		Long: "Verify asks the probes that are declared for hosts, and does nothing else. Probes change nothing; one whose\n" +
			"answer is not as declared is a failed task. An apply asks them too, once all changes are made. Targets are\n" +
			"host names, patterns such as \"gauge-*\", and @groups; --all takes every host.",
		RunE: func(c *cobra.Command, targets []string) error {
			if (len(targets) == 0) != all {
				return problem.Errorf("verify wants to know where").Remedy("name hosts, patterns or @groups, or say --all")
			}
			p, err := a.reach(c.Context(), targets, r.except, r.parallel)
			if err != nil {
				return err
			}
			if len(r.part.Tasks) == 0 {
				r.part.Tasks, r.part.Silent = p.questions(), true
			}
			return a.round(c.Context(), r, p)
		},
	}
	c.Flags().StringSliceVar(&r.except, "except", nil, "`TARGETS` to take out again: hosts, patterns or @groups")
	c.Flags().IntVar(&r.parallel, "parallel", 0, "`N` hosts at once (default: [run] parallel, 32)")
	c.Flags().BoolVar(&all, "all", false, "every host of the inventory")
	c.Flags().StringArrayVar(&r.part.Labels, "label", nil, "only probes with this `LABEL`; may be repeated")
	c.Flags().StringArrayVar(&r.part.Manifests, "manifest", nil, "only probes of this `MANIFEST`; may be repeated")
	a.noteFlag(c)
	a.plainFlag(c)
	c.Flags().BoolVar(&r.summary, "summary", false, "show only how each host fared and what failed")
	r.lenientFlag(c)
	a.passwordFlags(c)
	c.ValidArgsFunction = a.completeTargets
	c.RegisterFlagCompletionFunc("except", a.completeTargets)
	c.RegisterFlagCompletionFunc("manifest", a.completeManifests)
	return c
}

// questions names the kinds that only ask.
func (p *project) questions() []string {
	var out []string
	for _, name := range p.Kinds.Names() {
		if k, _ := p.Kinds.Kind(name); k.Asks {
			out = append(out, name)
		}
	}
	return out
}

// canAsk refuses what asks before it starts where nobody can be asked. Where the output goes to
// does not matter.
func (a *App) canAsk(what string) error {
	if a.Terminal {
		return nil
	}
	return problem.Errorf("%s asks before it starts, and there is no terminal to ask on", what).Remedy("say --yes")
}

// agree asks whether to go on.
func (a *App) agree(what, env string, hosts []*inventory.Host) bool {
	names := make([]string, 0, 6)
	n := 0
	for _, h := range hosts {
		if h.Off != "" {
			continue
		}
		if n++; len(names) < 5 {
			names = append(names, h.Name)
		}
	}
	if env != "" {
		fmt.Fprintf(a.Err, "In the environment %s. ", env)
	}
	list := strings.Join(names, ", ")
	if n > len(names) {
		list += fmt.Sprintf(" and %d more", n-len(names))
	}
	fmt.Fprintf(a.Err, "%s %s: %s? [y/N] ", screen.Line(what), screen.Count(n, "host"), list)
	return yes(bufio.NewReader(a.In))
}

// round takes hosts through a preview or an apply and reports.
func (a *App) round(ctx context.Context, r *round, p *project) error {
	fleet, err := a.fleet(p, r.parallel)
	if err != nil {
		return err
	}
	defer p.dialer.Close()
	if r.verbose && r.summary {
		return problem.Errorf("-v and --summary are given together").Remedy("keep one of the two")
	}
	if r.parallel < 0 || r.parallel > 10000 || r.parallel == 0 && r.flag("parallel") {
		return problem.Errorf("--parallel is %d", r.parallel).Remedy("it takes a number of hosts from 1 to 10000")
	}
	if err := r.part.Check(p.Project); err != nil {
		return err
	}
	if !r.bare() {
		if err := fleet.Plans.Check(p.hosts); err != nil {
			return err
		}
	}
	id, started, err := a.newRun(ctx, p, r.preview)
	if err != nil {
		return err
	}
	how, err := r.rollout.over(p.Settings.Rollout)
	if err != nil {
		return err
	}
	if !r.preview && !r.verify {
		if fleet.Rollout, err = a.rollout(how, p, r); err != nil {
			return err
		}
		if r.undo != nil { // it undoes what went wrong, and goes to all at once
			fleet.Rollout = run.Rollout{Lenient: r.lenient}
		}
	}
	if r.first || r.mode() == record.ModeApply && r.foreseen == nil {
		a.tellOlder(ctx, p, id)
	}
	id.ShowClosed, id.Drift, id.Take, id.Forget, id.Adopt = r.closed, r.drift, r.take, r.forget, r.adopt
	fleet.Started = started
	fleet.Retire, fleet.Undo, fleet.Foreseen = r.retire, r.undo, r.foreseen
	fleet.Digest = r.first || r.save != ""
	id.Whole = r.part.All() // of a part it cannot be told what is left over
	fleet.Selection = r.part
	shown, to := a.output == "text" || r.first, a.Out
	if r.first {
		to = a.lookTo()
	}
	v := &screen.Run{W: to, Preview: r.preview, Drift: r.drift, Undo: r.undoes, Detail: r.detail(), Width: a.Width,
		Sources: &screen.Sources{Dir: p.dir}, Working: a.Err}
	for _, h := range p.hosts {
		v.Names = max(v.Names, len(h.Name))
	}
	kept, err := a.record(p, id, record.Head{Mode: r.mode(), Started: started, Whole: id.Whole,
		Declared: !r.bare(), Undoes: r.undoes, Part: r.part})
	if err != nil {
		return err
	}
	watch := a.watch(r.mode(), r.preview, p.reachable(), fleet.Parallel,
		func() map[string]time.Duration { return p.usual(r.mode(), id.Whole) })
	v.Working = besides{watch, a.Err}
	fleet.Notify = func(e record.Event) {
		kept.Event(e)
		watch.Event(e)
		if shown {
			v.Event(e)
		}
	}
	stopping := context.AfterFunc(ctx, func() {
		fmt.Fprintln(a.Err, "stopping: every host finishes the task in hand; press Ctrl-C again to end at once")
	})
	out := fleet.Run(ctx, p.hosts, id)
	watch.end()
	stopping()
	if len(out) == 0 {
		kept.end(exitWrong, nil)
		kept.wait()
		return problem.Errorf("none of these hosts is meant, now that their facts are known").
			Remedy("`jadekettle hosts --group NAME` shows who is a member")
	}
	if a.code, a.last = verdict(ctx, out, r.strict, r.lenient), out; r.unseen && a.code == exitDone {
		a.code = exitFailed
	}
	kept.end(a.code, out)
	defer func() { // once it is told here
		kept.wait()
		a.keep(context.WithoutCancel(ctx), p, out, true, kept.number)
		if !r.first { // of which the apply that follows tells
			a.tellOthers(ctx, p, kept, out)
		}
	}()
	if r.save != "" {
		if err := a.save(ctx, r, p, id, out); err != nil {
			return err
		}
	}
	if a.output == "json" && !r.first { // of which the apply that follows is the document
		return a.document(document.NewReport(kept.run))
	}
	v.Number = kept.number
	if r.verify && !r.summary {
		v.Detail = screen.Usual // what is alike is told once at the end
	}
	v.End(out)
	if !r.part.All() && !r.bare() && !slices.ContainsFunc(out, func(h *record.Host) bool {
		return h.Planned > 0 ||
			h.State != record.Reached && h.State != record.Off
	}) {
		if r.verify {
			return problem.Errorf("no probe is declared for any of these hosts").
				Remedy("declare one: [probe.\"the page answers\"]; `jadekettle kinds probe` shows how")
		}
		return problem.Errorf("the call selects no task on any of these hosts").
			Remedy("`jadekettle preview -v` lists the tasks")
	}
	return nil
}

// mode is what the round is as a run.
func (r *round) mode() string {
	switch {
	case r.verify:
		return record.ModeVerify
	case r.drift:
		return record.ModeDrift
	case r.preview:
		return record.ModePreview
	case r.retire:
		return record.ModeRetire
	case r.undo != nil:
		return record.ModeUndo
	}
	return record.ModeApply
}

// bare says whether the round is about nothing that is declared now.
func (r *round) bare() bool { return r.retire || r.undo != nil }

// verdict gives the exit code: 2 before 1 before 3, and 130 before all.
func verdict(ctx context.Context, hosts []*record.Host, strict, lenient bool) int {
	code := exitDone
	for _, h := range hosts {
		switch h.Outcome {
		case record.OutWrong:
			return exitWrong
		case record.OutNotReached:
			if !lenient {
				code = exitFailed
			}
		case record.OutLost, record.OutBusy, record.OutFailed, record.OutStopped, record.OutNotBegun:
			code = exitFailed
		}
		if strict && code == exitDone && h.Count(plan.Changed) > 0 {
			code = exitChanges
		}
	}
	if ctx.Err() != nil {
		return exitStopped
	}
	return code
}
