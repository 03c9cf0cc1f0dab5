// Package runcmd has the commands that go over hosts: each makes a request, shows what it comes to, and ends with its
// code.
package runcmd

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/cli"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// Commands gives them.
func Commands(e *cli.Env) []*cobra.Command {
	return []*cobra.Command{preview(e), apply(e), drift(e), undo(e), verify(e), exec(e), compare(e), rehearse(e)}
}

// Look is how much of a run is shown.
type Look struct {
	Verbose bool
	Summary bool
	Quiet   bool
	beside  bool // what people read goes to standard error, since standard output has a file
}

// Flags adds those of what a run shows.
func (l *Look) Flags(c *cobra.Command) {
	c.Flags().BoolVarP(&l.Verbose, "verbose", "v", false,
		"show unchanged tasks, every host and full diffs")
	c.Flags().BoolVar(&l.Summary, "summary", false, "show only per-host results and failures")
	l.quietFlag(c)
}

func (l *Look) quietFlag(c *cobra.Command) {
	c.Flags().BoolVarP(&l.Quiet, "quiet", "q", false, "print nothing unless something changed or failed")
}

// Check says what is wrong with them.
func (l *Look) Check() error {
	if l.Quiet && l.Verbose {
		return problem.Errorf("-q and -v cannot be combined").Remedy("use only one of them")
	}
	if l.Verbose && l.Summary {
		return problem.Errorf("-v and --summary cannot be combined").Remedy("use only one of them")
	}
	return nil
}

// detail says how much of the changes is shown.
func (l *Look) detail(mode string) text.Detail {
	switch {
	case l.Verbose, mode == record.ModeVerify && !l.Summary:
		return text.Whole
	case l.Summary:
		return text.Summary
	}
	return text.Usual
}

// Show does what a request says, and shows it as it happens and when it is over.
func Show(ctx context.Context, e *cli.Env, p *app.Project, q app.Request, l Look) (*record.Run, error) {
	to := e.Out
	switch {
	case q.Before:
		to = asking(e)
	case l.beside:
		to = e.Err
	}
	of, err := p.Outlook(q)
	if err != nil {
		return nil, err
	}
	quiet := l.Quiet && !q.Before
	live := e.Watch(of, quiet)
	defer live.End(nil) // where an error keeps Do from it
	v := &text.Run{W: to, Preview: of.Would, Mode: q.Mode, Detail: l.detail(q.Mode), Width: e.Width,
		Sources: &text.Sources{Dir: p.Root}}
	var held bytes.Buffer
	if quiet {
		v.W = &held
	}
	if !l.Quiet {
		v.Working = live.Beside()
	}
	if q.Undo != nil {
		v.Undo = q.Undo.Number
	}
	for _, name := range of.Hosts {
		v.Names = max(v.Names, len(name))
	}
	sinks := []record.Sink{live}
	switch {
	case e.JSON() && !q.Before: // of which what follows is the document
		sinks = append(sinks, documented{e, q, quiet})
	case q.Exec != nil:
		sinks = append(sinks, text.Exec{Run: v})
	default:
		sinks = append(sinks, v)
	}
	defer context.AfterFunc(ctx, func() { fmt.Fprintln(e.Err, stopping(q)) })()
	r, err := p.Do(ctx, q, sinks...)
	if r != nil && r.Noteworthy() {
		to.Write(held.Bytes())
	}
	return r, err
}

func stopping(q app.Request) string {
	if q.Exec != nil {
		return "Stopping after the current commands. Press Ctrl-C again to abort immediately."
	}
	return "Stopping after the current tasks. Press Ctrl-C again to abort immediately."
}

// documented prints the document of a run when it is over.
type documented struct {
	e     *cli.Env
	q     app.Request
	quiet bool // only if something changed or failed
}

// Event implements record.Sink.
func (documented) Event(record.Event) {}

// End implements record.Sink.
func (d documented) End(r *record.Run) error {
	if d.quiet && !r.Noteworthy() {
		return nil
	}
	if d.q.Exec != nil {
		return d.e.Document(document.NewExecuted(d.q.Exec.Words, r.Hosts))
	}
	return d.e.Document(document.NewReport(r))
}

// finish is Show for a command that ends with the code of its run.
func finish(ctx context.Context, e *cli.Env, p *app.Project, q app.Request, l Look) error {
	r, err := Show(ctx, e, p, q, l)
	if err != nil {
		return err
	}
	return cli.Ended(r.Code)
}

// Asked previews what a request would do, asks, and then does just that. It gives no run where that is the end of it.
func Asked(ctx context.Context, e *cli.Env, p *app.Project, q app.Request, l Look) (*record.Run, error) {
	look, err := Show(ctx, e, p, q.Looks(), l)
	switch {
	case err != nil:
		return nil, err
	case look.Code == app.CodeWrong || look.Code == app.CodeStopped:
		return nil, cli.Exit(look.Code)
	}
	then, left, changes := q.After(look)
	if len(then.Only) == 0 {
		return nil, cli.Exit(app.CodeFailed)
	}
	if left > 0 {
		fmt.Fprintf(e.Err, "%s could not be previewed and will be skipped\n",
			text.Count(left, "host"))
	}
	fmt.Fprintln(asking(e))
	if changes && !e.AgreeOn(q.Question(), p.Settings.Env, then.Only) {
		return nil, e.NothingDone()
	}
	return Show(ctx, e, p, then, l)
}

// asking is where to write what a question is about: the terminal, even if the output goes elsewhere.
func asking(e *cli.Env) io.Writer {
	if e.Width == 0 || e.Output != "text" {
		return e.Err
	}
	return e.Out
}

// round is what the commands over hosts have in common.
type round struct {
	app.Request
	Look
	again string // a run whose hosts are meant
	given *cobra.Command
}

// hostFlags are those of whatever goes over hosts and reports a result for each.
func (r *round) hostFlags(e *cli.Env, c *cobra.Command) {
	r.given = c
	e.ExceptFlag(c, &r.Except)
	e.ParallelFlag(c, &r.Parallel)
	r.Look.Flags(c)
}

// flags are those of whatever is about what is declared.
func (r *round) flags(e *cli.Env, c *cobra.Command) {
	r.hostFlags(e, c)
	e.NoteFlag(c)
	e.PlainFlag(c)
	f := c.Flags()
	f.BoolVar(&r.ShowClosed, "show-closed", false,
		"include the old contents of private files in diffs")
	f.StringArrayVar(&r.Part.Tasks, "task", nil,
		"select tasks that match `'KIND PATTERN'`, such as 'file /etc/*', or KIND (repeatable)")
	f.StringArrayVar(&r.Part.Labels, "label", nil, "select tasks with `LABEL` (repeatable)")
	f.StringArrayVar(&r.Part.Manifests, "manifest", nil, "select tasks from `MANIFEST` (repeatable)")
	f.StringArrayVar(&r.Part.Skip, "skip", nil, "skip tasks that match `'KIND PATTERN'` (repeatable)")
	f.BoolVar(&r.Part.WithNeeds, "with-needs", false, "also run the tasks that the selected ones depend on")
	e.PasswordFlags(c)
	f.BoolVar(&r.Strict, "fail-if-changes", false, "exit with status 3 if anything changed or would change")
	f.StringVar(&r.again, "again", "",
		"retry the hosts that failed, were not reached or were not started in the last apply, or in `RUN`")
	f.Lookup("again").NoOptDefVal = app.Last
	e.LenientFlag(c, &r.Lenient)
	complete(e, c)
}

// complete gives the shell what may follow the flags.
func complete(e *cli.Env, c *cobra.Command) {
	refs := e.Complete(func(p *app.Project, _ []string) []string { return append(p.Site.Kinds().Names(), p.Refs()...) })
	c.ValidArgsFunction = e.CompleteTargets()
	for flag, with := range map[string]cobra.CompletionFunc{"except": e.CompleteTargets(), "task": refs,
		"skip":     refs,
		"manifest": e.CompleteManifests()} {
		if c.Flags().Lookup(flag) != nil {
			c.RegisterFlagCompletionFunc(flag, with)
		}
	}
}

func (r *round) adoptFlag(c *cobra.Command) {
	c.Flags().BoolVar(&r.Adopt, "adopt", false, "take over resources managed by another, discontinued project")
}

// request gives the request of a call whose arguments are targets: those that are named, or with --again those of
// an earlier run, whose number may stand behind it as a word of its own.
func (r *round) request(ctx context.Context, e *cli.Env, named []string) (app.Request, error) {
	q := r.Request
	q.Targets, q.Notes, q.Passwords = named, e.Notes, e.Passwords
	if err := r.Look.Check(); err != nil {
		return q, err
	}
	if err := cli.Parallel(r.given, q.Parallel); err != nil {
		return q, err
	}
	if r.again != "" {
		which := r.again
		if _, err := strconv.Atoi(strings.Join(named, " ")); err == nil && which == app.Last {
			which, named = named[0], nil
		}
		if len(named) > 0 {
			return q, problem.Errorf("--again cannot be combined with targets").Remedy("use only one of them")
		}
		s, err := e.Site(ctx)
		if err != nil {
			return q, err
		}
		if q.Targets, q.Part, err = s.Again(which, q.Part); err != nil {
			return q, err
		}
	}
	if e.Here {
		var err error
		if q.Targets, err = app.Myself(q.Targets); err != nil {
			return q, err
		}
	}
	return q, q.Check()
}

// look takes the hosts of a call through what changes nothing.
func (r *round) look(ctx context.Context, e *cli.Env,
	targets []string) (*app.Project, app.Request, *record.Run, error) {
	q, err := r.request(ctx, e, targets)
	if err != nil {
		return nil, q, nil, err
	}
	s, err := e.Site(ctx)
	if err != nil {
		return nil, q, nil, err
	}
	p, err := s.OpenFor(ctx, q)
	if err != nil {
		return nil, q, nil, err
	}
	run, err := Show(ctx, e, p, q, r.Look)
	return p, q, run, err
}
