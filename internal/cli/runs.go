package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
	"jadekettle/internal/present/document"
	screen "jadekettle/internal/present/text"
)

// keptRuns gives the runs of the project of the call, which need not be one that loads.
func (a *App) keptRuns() (store.Project, settings.Settings, error) {
	dir, root, err := a.projectFiles()
	if err != nil {
		return store.Project{}, settings.Settings{}, err
	}
	s := settings.Glance(root)
	if s.Project == "" {
		return store.Project{}, s, problem.Errorf("%s does not say which project this is", settings.File).
			Remedy("`jadekettle lint` tells what is wrong with it")
	}
	if err := a.permit(dir, s, nil); err != nil {
		return store.Project{}, s, err
	}
	return a.history(dir, s), s, nil
}

// named finds the run that an argument names.
func (a *App) named(which string) (store.Project, int, error) {
	p, _, err := a.keptRuns()
	if err != nil {
		return p, 0, err
	}
	n, err := p.Number(which, a.env)
	return p, n, err
}

// sift are the flags that say which runs are meant.
type sift struct {
	since           string
	hosts, tasks    []string
	notes, modes    []string
	failed, changed bool
	by              string
	jobs            []string
	most            int
}

func (s *sift) flags(c *cobra.Command, most int) {
	c.Flags().StringVar(&s.since, "since", "", "only runs since a `TIME`: a date, or how long ago, such as 7d or 12h")
	c.Flags().StringSliceVar(&s.hosts, "host", nil, "only runs over this `HOST`, a name or a pattern; may be repeated")
	c.Flags().BoolVar(&s.failed, "failed", false, "only runs in which a host failed or was not reached, and interrupted ones")
	c.Flags().BoolVar(&s.changed, "changed", false, "only runs in which something changed, or would have")
	c.Flags().StringArrayVar(&s.tasks, "task", nil,
		"only runs in which a task of this `'KIND PATTERN'`, or of this KIND, changed, failed or was blocked; may be repeated")
	c.Flags().StringSliceVar(&s.jobs, "job", nil, "only runs of this `JOB`; may be repeated")
	c.Flags().StringVar(&s.by, "by", "", "only runs of this `WHO`: part of an account or of a machine")
	c.Flags().StringArrayVar(&s.notes, "note", nil, "only runs with this note, `KEY` or KEY=VALUE; may be repeated")
	c.Flags().StringSliceVar(&s.modes, "mode", nil, "only runs of this `MODE`: apply, preview, verify, drift, exec, undo or retire")
	c.Flags().IntVar(&s.most, "most", most, "at most `N`, the newest; 0 for all")
}

var modes = []string{record.ModeApply, record.ModePreview, record.ModeVerify, record.ModeDrift, record.ModeExec, record.ModePrune,
	record.ModeUndo, record.ModeRetire}

// filter gives them as the store takes them.
func (s *sift) filter(env string, now time.Time) (store.Filter, error) {
	f := store.Filter{Env: env, Failed: s.failed, Changed: s.changed, By: s.by, Notes: s.notes, Tasks: s.tasks, Modes: s.modes, Jobs: s.jobs,
		Most: s.most}
	for _, m := range s.modes {
		if !slices.Contains(modes, m) {
			return f, problem.Errorf("--mode is %q", m).Remedy("it takes %s", strings.Join(modes, ", "))
		}
	}
	if s.most < 0 {
		return f, problem.Errorf("--most is %d", s.most).Remedy("give how many runs are to be shown, or 0 for all")
	}
	for _, h := range s.hosts {
		list, err := inventory.Unfold(h)
		if err != nil {
			return f, err
		}
		f.Hosts = append(f.Hosts, list...)
	}
	var err error
	f.Since, err = since(s.since, now)
	return f, err
}

// sifted gives the runs of the project of the call, and which of them are meant.
func (a *App) sifted(s *sift) (store.Project, store.Filter, error) {
	p, _, err := a.keptRuns()
	if err != nil {
		return p, store.Filter{}, err
	}
	f, err := s.filter(a.env, time.Now())
	return p, f, err
}

// since reads a time: a date, a date with a time of day, or how long ago.
func since(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	d, err := settings.ParseDuration(text)
	if err != nil {
		return time.Time{}, problem.Errorf("%q is no time", text).Remedy(`write a date such as 2026-11-29, or how long ago, such as 7d or 12h`)
	}
	return now.Add(-d), nil
}

func (a *App) runsCommand() *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "runs", Short: "List the runs that were kept, and find in them", GroupID: "work", Args: noArgs,
		Long: "Runs lists the runs of this project, newest first: every preview, apply, verify, drift, exec and undo is kept,\n" +
			"those without a change as well. A run is named by its number, as last or last-failed, or as -1, -2 and so on,\n" +
			"counted from the newest. They lie in one SQLite file, see [history] in jadekettle.toml.",
		RunE: func(c *cobra.Command, _ []string) error {
			p, f, err := a.sifted(s)
			if err != nil {
				return err
			}
			list, err := p.List(f)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.document(document.Runs{Head: document.One, Runs: append([]record.Summary{}, list...)})
			}
			if len(list) == 0 {
				fmt.Fprintln(a.Out, "no such run is kept")
				return nil
			}
			screen.Runs(a.Out, list, a.Width)
			if s.most > 0 && len(list) == s.most {
				fmt.Fprintln(a.Err, screen.Paint(screen.Quiet, "older ones are left out; --most shows more"))
			}
			return nil
		},
	}
	s.flags(c, 30)
	c.AddCommand(a.runsShowCommand(), a.runsSearchCommand(), a.runsDifferCommand(), a.runsOfCommand(), a.runsSlowCommand(),
		a.runsFollowCommand(), a.runsNoteCommand(), a.runsPruneCommand(), a.runsCheckCommand())
	return c
}

// noArgs refuses arguments in our words.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	return problem.Errorf("%s has no %q", c.CommandPath(), args[0]).Meant(args[0], names,
		"it has "+strings.Join(names, ", "))
}

func (a *App) runsShowCommand() *cobra.Command {
	whole, withFacts := false, false
	c := &cobra.Command{
		Use: "show RUN [HOST [KIND NAME]]", Short: "Show a run, one of its hosts, or one task",
		Long: "Show tells a run again as it was told when it ended. With a host it lists what became of that, with a task all\n" +
			"that is kept of it, and the lines of the manifest as they were then.",
		RunE: func(c *cobra.Command, args []string) error {
			if n := len(args); n == 0 || n == 3 || n > 4 {
				return problem.Errorf("runs show takes a run, a host, and the two words of a task").
					Remedy("write `jadekettle runs show RUN`, then HOST, then KIND NAME behind it")
			}
			p, n, err := a.named(args[0])
			if err != nil {
				return err
			}
			k, err := p.Load(n, args[1:min(2, len(args))]...)
			if err != nil {
				return err
			}
			if len(args) > 1 && len(k.Hosts) == 0 {
				return a.noHost(p, n, args[1])
			}
			if withFacts && len(args) != 2 {
				return problem.Errorf("--facts is about one host").Remedy("name a run and a host")
			}
			switch {
			case withFacts:
				return a.showFacts(p, n, args[1])
			case len(args) == 4:
				return a.showTask(p, k, value.Ref{Kind: args[2], Name: args[3]})
			case a.output == "json":
				return a.document(document.RunShown{Head: document.One, Run: *k})
			case len(args) == 2:
				a.showHost(p, k, whole)
			default:
				a.showRun(a.Out, p, k, whole)
			}
			return nil
		},
	}
	c.Flags().BoolVarP(&whole, "verbose", "v", false, "show unchanged tasks too, and every line of every diff")
	c.Flags().BoolVar(&withFacts, "facts", false, "show the facts of the host as the run read them")
	return c
}

// noHost is the error for a host that a run does not have.
func (a *App) noHost(p store.Project, n int, host string) error {
	k, err := p.Load(n)
	if err != nil {
		return err
	}
	var names []string
	for _, h := range k.Hosts {
		names = append(names, h.Name)
	}
	return problem.Errorf("the run %d did not go over %q", n, host).Meant(host, names, "it went over "+strings.Join(inventory.Fold(names), " "))
}

// past tells a run that is over, with the project's lines as they were then.
func (a *App) past(p store.Project, k *record.Run, whole bool) *screen.Run {
	v := &screen.Run{W: a.Out, Past: true, Width: a.Width, Number: k.Number,
		Preview: k.Would(), Drift: k.Mode == record.ModeDrift,
		Sources: &screen.Sources{Text: func(name string) ([]byte, error) { return p.Text(k.Number, name) }}}
	if whole {
		v.Detail = screen.Whole
	}
	for _, h := range k.Hosts {
		v.Names = max(v.Names, len(h.Name))
	}
	return v
}

func (a *App) showRun(w io.Writer, p store.Project, k *record.Run, whole bool) {
	screen.RunHead(w, &k.Head)
	fmt.Fprintln(w)
	v := a.past(p, k, whole)
	if v.W = w; w != a.Out {
		v.Width = 0
	}
	visits := k.Hosts
	if k.Mode == record.ModeExec {
		v.Executed(visits)
		return
	}
	for _, h := range visits {
		for i := range h.Tasks {
			v.Event(record.Event{Host: h.Name, Task: &h.Tasks[i]})
		}
	}
	v.End(visits)
	for _, h := range k.Hosts {
		if h.CollectedBy > 0 {
			fmt.Fprintf(w, "%s  what had not arrived came with run %d\n", h.Name, h.CollectedBy)
		}
	}
}

func (a *App) showHost(p store.Project, k *record.Run, whole bool) {
	screen.RunHead(a.Out, &k.Head)
	v := a.past(p, k, whole)
	for _, h := range k.Hosts {
		fmt.Fprintln(a.Out)
		if k.Mode == record.ModeExec {
			v.Executed(k.Hosts)
			return
		}
		pad, hiddenTasks := 0, 0
		for _, t := range h.Tasks {
			if whole || t.Status != plan.Unchanged {
				pad = max(pad, len(t.Kind)+1+len(t.Name))
			}
		}
		for j := range h.Tasks {
			t := &h.Tasks[j]
			if !whole && t.Status == plan.Unchanged {
				hiddenTasks++
				continue
			}
			v.TaskLine(t, min(pad, 60))
			v.TaskWhole(t)
		}
		if hiddenTasks > 0 {
			fmt.Fprintln(a.Out, screen.Paint(screen.Quiet, fmt.Sprintf("%s unchanged; -v lists them", screen.Count(hiddenTasks, "task"))))
		}
		for _, d := range h.Debts {
			fmt.Fprintf(a.Out, "a %s of %s is owed\n", d.Action, screen.Line(d.Kind+" "+d.Name))
		}
		v.HostEnd(h)
	}
}

func (a *App) showTask(p store.Project, k *record.Run, ref value.Ref) error {
	h := k.Hosts[0]
	i := slices.IndexFunc(h.Tasks, func(t record.Task) bool { return t.Kind == ref.Kind && t.Name == ref.Name })
	if i < 0 {
		var names []string
		for _, t := range h.Tasks {
			names = append(names, t.Kind+" "+t.Name)
		}
		return problem.Errorf("the run %d had no task %s on %s", k.Number, ref, h.Name).Meant(ref.String(), names, "`jadekettle runs show "+fmt.Sprint(k.Number)+" "+h.Name+" -v` lists its tasks")
	}
	t := &h.Tasks[i]
	text, err := p.Text(k.Number, t.Manifest)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.document(document.TaskShown{Head: document.One, Number: k.Number, Run: k.Run, Host: h.Name, Task: *t,
			Manifest: string(text)})
	}
	screen.RunHead(a.Out, &k.Head)
	fmt.Fprintln(a.Out)
	v := a.past(p, k, true)
	fmt.Fprintf(a.Out, "%s  ", h.Name)
	v.TaskLine(t, 0)
	v.TaskWhole(t)
	if t.Manifest == "" {
		return nil
	}
	fmt.Fprintf(a.Out, "\n%s\n", screen.Paint(screen.Loud, screen.Line(fmt.Sprintf("%s:%d", t.Manifest, t.Line))))
	if len(text) == 0 {
		fmt.Fprintln(a.Out, "  what it said then is not kept")
		return nil
	}
	screen.Declaration(a.Out, string(text), t.Line)
	return nil
}

func (a *App) showFacts(p store.Project, n int, host string) error {
	f, err := p.Facts(n, host)
	if err != nil {
		return err
	}
	if f == nil {
		return problem.Errorf("the run %d read no facts of %s", n, host).Remedy("it was not reached then")
	}
	if a.output == "json" {
		return a.document(document.RunFacts{Head: document.One, Number: n, Host: host, Facts: f.Tree()})
	}
	flat := history.FlatFacts(f)
	var rows [][]string
	for _, name := range value.Keys(flat) {
		rows = append(rows, []string{name, flat[name]})
	}
	screen.Pairs(a.Out, rows)
	return nil
}

func (a *App) runsSearchCommand() *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "search WORD...", Short: "Find words in messages, outputs, diffs, names and notes",
		Long: "Search finds runs, hosts and tasks in whose messages, outputs, diffs, names or notes all the words stand, newest\n" +
			"first. A word may be the beginning of one; several in one pair of quotes stand for just these, in this order.",
		RunE: func(c *cobra.Command, words []string) error {
			if len(words) == 0 {
				return problem.Errorf("runs search wants to know what to look for").Remedy("name words")
			}
			p, f, err := a.sifted(s)
			if err != nil {
				return err
			}
			hits, all, err := p.Search(words, f)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.document(document.RunsFound{Head: document.One, All: all, Hits: append([]history.Hit{}, hits...)})
			}
			a.found(hits, all)
			return nil
		},
	}
	s.flags(c, 40)
	return c
}

func (a *App) found(hits []history.Hit, all int) {
	if all == 0 {
		fmt.Fprintln(a.Out, "nothing was found")
		return
	}
	number := 0
	for _, h := range hits {
		if h.Number != number {
			number = h.Number
			fmt.Fprintln(a.Out, screen.Paint(screen.Loud, screen.Line(fmt.Sprintf("run %d  %s  %s  by %s", h.Number, h.Mode,
				screen.When(h.Started), h.Who))))
		}
		what := "the run itself"
		switch {
		case h.Kind != "":
			what = fmt.Sprintf("%s  %s %s  %s", h.Host, h.Kind, h.Name, h.Status)
		case h.Host != "":
			what = fmt.Sprintf("%s  %s", h.Host, h.Status)
		}
		fmt.Fprintf(a.Out, "  %s\n", screen.Line(what))
		if h.Line != "" {
			fmt.Fprintf(a.Out, "      %s\n", screen.Line(h.Line))
		}
	}
	if all > len(hits) {
		fmt.Fprintln(a.Err, screen.Paint(screen.Quiet, fmt.Sprintf("%d more; --most shows them", all-len(hits))))
	}
}

func (a *App) runsOfCommand() *cobra.Command {
	s := &sift{}
	c := &cobra.Command{
		Use: "of HOST KIND NAME", Short: "Tell the life of one thing on a host",
		Long: "Of tells of one thing on a host, newest first, each run in which it changed, would have changed, failed or was\n" +
			"blocked: when, by whom and by which revision, and what differed; and how often it was found right in between.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 3 {
				return problem.Errorf("runs of wants to know of what").Remedy("name a host, a kind and a name, such as gauge-01 file /etc/motd")
			}
			p, f, err := a.sifted(s)
			if err != nil {
				return err
			}
			most := f.Most
			f.Most = 0
			ref := value.Ref{Kind: args[1], Name: args[2]}
			list, err := p.Of(args[0], ref, f)
			if err != nil {
				return err
			}
			if most > 0 {
				list = list[:min(most, len(list))]
			}
			if a.output == "json" {
				return a.document(document.Life{Head: document.One, Host: args[0], Kind: ref.Kind, Name: ref.Name,
					Moments: append([]history.Moment{}, list...)})
			}
			if len(list) == 0 {
				return problem.Errorf("no run that is kept had %s on %s", ref, args[0]).
					Remedy("`jadekettle runs search %s` looks for it everywhere", ref.Name)
			}
			a.life(p, args[0], ref, list)
			return nil
		},
	}
	s.flags(c, 40)
	c.ValidArgsFunction = a.completeTargets
	return c
}

func (a *App) life(p store.Project, host string, ref value.Ref, list []history.Moment) {
	fmt.Fprintln(a.Out, screen.Paint(screen.Loud, screen.Line(host+"  "+ref.String())))
	for i := range list {
		m := &list[i]
		v := a.past(p, &record.Run{Head: record.Head{Number: m.Number, Mode: m.Mode}}, true)
		if m.Task.Status == plan.Unchanged {
			text := fmt.Sprintf("unchanged in run %d, %s", m.Number, screen.When(m.Started))
			if m.Runs > 1 {
				text = fmt.Sprintf("unchanged in %d runs, from run %d, %s, to run %d, %s", m.Runs, m.SinceNumber, screen.When(m.Since),
					m.Number, screen.When(m.Started))
			}
			fmt.Fprintln(a.Out, screen.Paint(screen.Quiet, text))
			continue
		}
		by := m.Who + "@" + m.Machine
		if m.Revision != "" {
			by += ", revision " + short(m.Revision)
			if m.Edited {
				by += " edited"
			}
		}
		v.Told(&m.Task, fmt.Sprintf("run %d  %s  %s  by %s", m.Number, m.Mode, screen.When(m.Started), by))
	}
}

func (a *App) runsSlowCommand() *cobra.Command {
	most := 10
	c := &cobra.Command{
		Use: "slow [RUN]", Short: "Tell where the time of a run went, against what is usual",
		Long: "Slow tells which tasks, kinds and hosts took longest in a run, the last one unless another is named, and how long\n" +
			"they usually take: the median of up to twenty earlier runs of the same sort.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return problem.Errorf("runs slow takes one run").Remedy("name one")
			}
			p, n, err := a.named(append(args, store.Last)[0])
			if err != nil {
				return err
			}
			s, err := p.Slow(n, most)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.document(document.Slow{Head: document.One, Slow: *s})
			}
			a.slow(s)
			return nil
		},
	}
	c.Flags().IntVar(&most, "most", most, "at most `N` of each sort")
	return c
}

func (a *App) slow(s *history.Slow) {
	line := fmt.Sprintf("run %d, %s, took %s", s.Number, s.Mode, screen.Long(s.Seconds))
	if s.Runs > 0 {
		line += fmt.Sprintf("; usually %s, out of %s before", screen.Long(s.Usual), screen.Count(s.Runs, "run"))
	}
	fmt.Fprintln(a.Out, screen.Paint(screen.Loud, line))
	for _, part := range []struct {
		title string
		list  []history.Part
	}{{"tasks", s.Tasks}, {"kinds, over all hosts", s.Kinds}, {"hosts", s.Hosts}} {
		if len(part.list) == 0 {
			continue
		}
		rows := [][]string{{part.title, "took", "usually", ""}}
		moods := []screen.Mood{screen.Quiet}
		for _, t := range part.list {
			usual, times, mood := "", "", screen.Plain
			if t.Usual > 0 {
				usual = screen.Long(t.Usual)
				if t.Seconds > 2*t.Usual && t.Seconds-t.Usual > 1 {
					times, mood = fmt.Sprintf("%.1f times", t.Seconds/t.Usual), screen.Loud
				}
			}
			what := strings.TrimSpace(t.Host + "  " + strings.TrimSpace(t.Kind+" "+t.Name))
			rows, moods = append(rows, []string{what, screen.Long(t.Seconds), usual, times}), append(moods, mood)
		}
		fmt.Fprintln(a.Out)
		for i, line := range screen.Aligned(rows) {
			fmt.Fprintln(a.Out, screen.Paint(moods[i], line))
		}
	}
}

func (a *App) runsDifferCommand() *cobra.Command {
	return &cobra.Command{
		Use: "differ RUN RUN", Short: "Tell what differs between two runs in outcome, declarations, facts and time",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 2 {
				return problem.Errorf("runs differ takes two runs").Remedy("name both, such as -2 -1")
			}
			p, _, err := a.keptRuns()
			if err != nil {
				return err
			}
			var sides [2]history.Side
			for i, which := range args {
				if sides[i], err = a.side(p, which); err != nil {
					return err
				}
			}
			d, err := history.Differ(sides[0], sides[1])
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.document(document.RunsDiffer{Head: document.One, Differences: *d})
			}
			screen.Differences(a.Out, d, a.Width)
			return nil
		},
	}
}

func (a *App) side(p store.Project, which string) (s history.Side, err error) {
	n, err := p.Number(which, a.env)
	if err != nil {
		return s, err
	}
	if s.Run, err = p.Load(n); err != nil {
		return s, err
	}
	if s.Files, err = p.Files(n); err != nil {
		return s, err
	}
	s.Text = func(path string) ([]byte, error) { return p.Text(n, path) }
	s.Facts = func(host string) (*facts.Facts, error) { return p.Facts(n, host) }
	return s, nil
}

func (a *App) runsNoteCommand() *cobra.Command {
	return &cobra.Command{
		Use: "note RUN KEY=VALUE...", Short: "Note something on a run", Long: "Note notes something on a run that is kept, to be shown with it and found by. KEY= takes a note away.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return problem.Errorf("runs note takes a run and what is to be noted").Remedy("write KEY=VALUE behind the run, such as ticket=4711")
			}
			notes, err := readNotes(args[1:])
			if err != nil {
				return err
			}
			p, n, err := a.named(args[0])
			if err != nil {
				return err
			}
			return p.Note(n, notes)
		},
	}
}

func (a *App) runsPruneCommand() *cobra.Command {
	age, keep, size, sure := "", 0, "", false
	c := &cobra.Command{
		Use: "prune", Short: "Let old runs go", Args: noArgs,
		Long: "Prune lets runs of this project go that are older than an age, beyond a number, or beyond a size, and gives the\n" +
			"room back. It tells first which these are and how much they take, and asks.",
		RunE: func(c *cobra.Command, _ []string) error {
			l, err := limits(age, keep, size, time.Now())
			if err != nil {
				return err
			}
			p, _, err := a.keptRuns()
			if err != nil {
				return err
			}
			return a.prune(p, l, sure)
		},
	}
	c.Flags().StringVar(&age, "older", "", "runs that are older than this `AGE`, such as 90d")
	c.Flags().IntVar(&keep, "keep", 0, "all but the `N` newest")
	c.Flags().StringVar(&size, "size", "", "the oldest, until the rest takes no more than this `SIZE`, such as 500 MiB")
	c.Flags().BoolVar(&sure, "yes", false, "do not ask")
	return c
}

func limits(age string, keep int, size string, now time.Time) (l store.Limits, err error) {
	if age == "" && keep == 0 && size == "" {
		return l, problem.Errorf("runs prune wants to know what may go").Remedy("say --older 90d, --keep 500 or --size '500 MiB'")
	}
	if keep < 0 {
		return l, problem.Errorf("--keep is %d", keep).Remedy("give how many runs are to stay")
	}
	l.Count = keep
	if size != "" {
		if l.Size, err = expr.ParseBytes(size); err != nil {
			return l, err
		}
	}
	if age != "" {
		d, err := settings.ParseDuration(age)
		if err != nil {
			return l, err
		}
		l.Before = now.Add(-d)
	}
	return l, nil
}

func (a *App) prune(p store.Project, l store.Limits, sure bool) error {
	old, err := p.Old(l)
	if err != nil {
		return err
	}
	if len(old) == 0 {
		fmt.Fprintln(a.Out, "no run is beyond that")
		return nil
	}
	var size int64
	for _, o := range old {
		size += o.Bytes
	}
	fmt.Fprintf(a.Out, "%s would go, from run %d of %s to run %d of %s: about %s, and the facts and files that only they have\n",
		screen.Count(len(old), "run"), old[0].Number, screen.When(old[0].Started), old[len(old)-1].Number,
		screen.When(old[len(old)-1].Started), screen.Size(size))
	if !sure {
		if !a.Terminal {
			return problem.Errorf("prune asks before it lets runs go, and there is no terminal to ask on").Remedy("say --yes")
		}
		fmt.Fprint(a.Err, "Let them go, for good? [y/N] ")
		if !yes(bufio.NewReader(a.In)) {
			return a.nothingDone()
		}
	}
	if err := a.notePrune(p, old); err != nil {
		return err
	}
	freed, err := p.Prune(old)
	if err != nil {
		return err
	}
	if p.URL != "" { // a server keeps the room for what comes
		fmt.Fprintf(a.Out, "%s gone; the server has their room for others\n", screen.Count(len(old), "run"))
		return nil
	}
	fmt.Fprintf(a.Out, "%s gone; the file is %s smaller\n", screen.Count(len(old), "run"), screen.Size(max(0, freed)))
	return nil
}

// notePrune keeps who lets which runs go, before they do.
func (a *App) notePrune(p store.Project, old []store.Old) error {
	id, err := uuid.NewV7()
	if err != nil {
		return err
	}
	machine, err := os.Hostname()
	if err != nil {
		return err
	}
	notes := map[string]string{"gone": fmt.Sprintf("%d, from run %d to run %d", len(old), old[0].Number, old[len(old)-1].Number)}
	r := p.Begin(record.Head{Run: id.String(), Mode: record.ModePrune, Started: time.Now(), Who: me(), Machine: machine, Command: a.args,
		Params: map[string]string{}, Answers: map[string]string{}, Notes: notes}, nil, nil)
	r.End(&record.Run{})
	if err := r.Wait(); err != nil {
		return fmt.Errorf("keep who lets runs go: %w", err)
	}
	return nil
}

func (a *App) runsCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Read the history whole, and tell whether it is sound", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, _, err := a.keptRuns()
			if err != nil {
				return err
			}
			h, err := p.Check()
			if errors.Is(err, store.ErrNone) {
				fmt.Fprintln(a.Out, "no run is kept yet")
				return nil
			}
			if err != nil {
				return err
			}
			if len(h.Wrong) > 0 {
				a.code = exitFailed
			}
			if a.output == "json" {
				return a.document(document.Checked{Head: document.One, File: p.Place(), Bytes: h.Bytes, Runs: h.Runs, Hosts: h.Hosts,
					Tasks: h.Tasks, Texts: h.Contents, Wrong: append([]string{}, h.Wrong...)})
			}
			fmt.Fprintf(a.Out, "%s  %s: %s, %s, %s, %s\n", screen.Line(p.Place()), screen.Size(h.Bytes), screen.Count(h.Runs, "run"),
				screen.Count(h.Hosts, "visit"), screen.Count(h.Tasks, "task"), screen.Count(h.Contents, "text"))
			for _, w := range h.Wrong {
				fmt.Fprintln(a.Out, screen.Paint(screen.Bad, "  "+screen.Line(w)))
			}
			if len(h.Wrong) == 0 {
				fmt.Fprintln(a.Out, "it is sound")
				return nil
			}
			fmt.Fprintln(a.Out, "what can be read of it is shown as ever; moved away, it is begun anew")
			return nil
		},
	}
}
