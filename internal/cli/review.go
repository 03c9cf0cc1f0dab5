package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"jadekettle/internal/app/atomicfile"
	reviewed "jadekettle/internal/app/review"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/fleet/run"
	screen "jadekettle/internal/present/text"
)

// save keeps a preview for review.
func (a *App) save(ctx context.Context, r *round, p *project, id plan.Run, hosts []*record.Host) error {
	commit, edited := a.revised(ctx, p.dir)
	var b bytes.Buffer
	made := reviewed.New(id, r.part, commit, edited, time.Now(), hosts)
	made.Params = a.params
	if err := made.Write(&b); err != nil {
		return err
	}
	name, err := filepath.Abs(r.save)
	if err == nil {
		err = atomicfile.Write(name, b.Bytes(), 0o644)
	}
	if err != nil {
		return fmt.Errorf("save the preview: %w", err)
	}
	fmt.Fprintf(a.Err, "saved in %s; `jadekettle apply --reviewed %s` does exactly that\n", screen.Line(r.save), screen.Line(r.save))
	return nil
}

// readReviewed reads a saved preview, and makes the call be about its hosts and tasks.
func (a *App) readReviewed(r *round, name string) (hosts []string, err error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, problem.Errorf("read the saved preview: %w", err).Remedy("make one with `jadekettle preview --save %s`", name)
	}
	if r.saved, err = reviewed.Read(name, data); err != nil {
		return nil, err
	}
	if a.env != "" && a.env != r.saved.Env {
		return nil, problem.Errorf("%s is of the environment %q, and --env is %q", name, r.saved.Env, a.env).Remedy("keep one of the two")
	}
	a.env, r.part = r.saved.Env, r.saved.Selection()
	if len(a.params) > 0 {
		return nil, problem.Errorf("--param is given with --reviewed").Remedy("leave it out: the saved preview says which")
	}
	a.params = r.saved.Params
	return r.saved.Names(), nil
}

// holdTo makes a run do what was reviewed and nothing else.
func (a *App) holdTo(ctx context.Context, r *round, p *project) error {
	if r.saved.Project != p.Settings.Project {
		return problem.Errorf("it is a preview of the project %q, and this one is %q", r.saved.Project, p.Settings.Project).
			Remedy("call it in the project that it was made in")
	}
	fmt.Fprintf(a.Err, "the preview was %s\n", screen.Line(r.saved.Said()))
	commit, edited := a.revised(ctx, p.dir)
	switch {
	case commit != r.saved.Revision:
		return problem.Errorf("the project is at %s, and the preview was made at %s", cmp.Or(short(commit), "no revision"),
			cmp.Or(short(r.saved.Revision), "no revision")).Remedy("go to that revision, or preview again and have that reviewed")
	case edited && !r.saved.Edited:
		return problem.Errorf("the project has changes since %s, at which the preview was made", short(commit)).
			Remedy("put them aside, or preview again and have that reviewed")
	}
	var err error
	r.foreseen, err = r.saved.Foreseen(func(s string) (value.Ref, bool) {
		ref, ok := value.ParseRef(s)
		return ref, ok
	})
	return err
}

// lookTo is where a preview goes that somebody is asked about: to the terminal.
func (a *App) lookTo() io.Writer {
	if a.Width == 0 || a.output != "text" {
		return a.Err
	}
	return a.Out
}

// firstLook previews what an apply would do and keeps it, so that just that is done once
// somebody agrees. It is false when nothing is to be done.
func (a *App) firstLook(ctx context.Context, r *round, p *project) (goOn bool, err error) {
	look := *r
	look.preview, look.first = true, true
	if err := a.round(ctx, &look, p); err != nil {
		return false, err
	}
	p.dialer = nil // its connections are closed
	code := a.code
	a.code = exitDone
	if code == exitWrong || code == exitStopped {
		a.code = code
		return false, nil
	}
	r.foreseen = run.Foresee(a.last)
	var shown []*inventory.Host
	changes := false
	for _, h := range a.last {
		if _, ok := r.foreseen[h.Name]; !ok {
			continue
		}
		host, _ := p.Inventory.Host(h.Name)
		shown = append(shown, host)
		changes = changes || h.Count(plan.Changed)+h.Count(plan.Failed) > 0 || r.adopt || r.forget
	}
	if len(shown) == 0 {
		a.code = exitFailed
		return false, nil
	}
	if n := len(a.last) - len(shown); n > 0 {
		fmt.Fprintf(a.Err, "%s could not be looked at, and what is done now leaves them out\n", screen.Count(n, "host"))
		r.unseen = code == exitFailed && !r.lenient
	}
	p.hosts = shown
	fmt.Fprintln(a.lookTo())
	return !changes || a.agree(r.question(), p.Settings.Env, p.hosts), nil
}
