package app

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"jadekettle/internal/app/review"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history/store"
)

// UsualTimes gives how long hosts took in earlier runs of a sort. Where it is not known nothing
// depends on it.
func UsualTimes(runs store.Project, env, mode string, whole bool) map[string]time.Duration {
	out := map[string]time.Duration{}
	list, _ := runs.UsualHosts(env, mode, whole)
	for host, seconds := range list {
		out[host] = time.Duration(seconds * float64(time.Second))
	}
	return out
}

// Last is what names the newest run.
const Last = store.Last

// Again gives the hosts that failed, were not reached or not started in an earlier run, and its part of
// the tasks where part is all of them.
func (s *Site) Again(which string, part Part) ([]string, Part, error) {
	glance := s.Glance()
	if err := glance.Choose(s.Env); err != nil {
		return nil, part, err
	}
	runs, err := s.RunsOf(glance)
	if err != nil {
		return nil, part, err
	}
	n, err := runs.Number(which, glance.Env, record.ModeApply)
	if err != nil {
		return nil, part, err
	}
	kept, err := runs.Load(n)
	if err != nil {
		return nil, part, err
	}
	var out []string
	for _, h := range kept.Hosts {
		if h.Failed+h.Blocked > 0 || h.Outcome == record.OutStopped ||
			h.State != record.Reached && h.State != record.Disabled {
			out = append(out, h.Name)
		}
	}
	if len(out) == 0 {
		return nil, part, problem.Errorf("in run %d, no host failed, was not reached, was not started or stopped early",
			kept.Number).
			Remedy("there is nothing to retry")
	}
	if part.All() && !kept.Part.All() && kept.Mode != record.ModeVerify {
		part = kept.Part
		s.note("using the task selection of run %d: %s", kept.Number, visible.Line(selected(part)))
	}
	return out, part, nil
}

// selected writes a part of the tasks as the flags that select it.
func selected(s Part) string {
	var out []string
	for _, f := range []struct {
		name string
		list []string
	}{{"task", s.Tasks}, {"label", s.Labels}, {"manifest", s.Manifests}, {"skip", s.Skip}} {
		for _, v := range f.list {
			out = append(out, "--"+f.name, shell.Quote(v))
		}
	}
	if s.WithNeeds {
		out = append(out, "--with-needs")
	}
	return strings.Join(out, " ")
}

// undoable are the modes of runs that can be put back.
var undoable = []string{record.ModeApply, record.ModeUndo, record.ModeRetire}

// ToUndo gives the run that is to be put back. It must be of the environment of the call, where that names one, and
// have changed something.
func (s *Site) ToUndo(which string) (*record.Run, error) {
	runs, err := s.Runs()
	if err != nil {
		return nil, err
	}
	n, err := runs.Number(which, s.Env, undoable...)
	if err != nil {
		return nil, err
	}
	kept, err := runs.Load(n)
	if err != nil {
		return nil, err
	}
	if s.Env != "" && s.Env != kept.Env {
		return nil, problem.Errorf("run %d was in the environment %s, not %s", kept.Number,
			kept.Env, s.Env).Remedy("remove --env")
	}
	if names, _ := kept.Changed(); len(names) > 0 {
		return kept, nil
	}
	do := "there is nothing to undo"
	list, _ := runs.List(store.Filter{Env: kept.Env, Changed: true, Modes: undoable})
	for _, b := range list {
		if b.Number < kept.Number {
			do = fmt.Sprintf("the last earlier run that did is run %d", b.Number)
			break
		}
	}
	return nil, problem.Errorf("run %d changed nothing", kept.Number).Remedy("%s", do)
}

// SaveReview writes what a preview has shown, to be reviewed and then applied.
func (p *Project) SaveReview(ctx context.Context, q Request, r *record.Run, write func(data []byte) error) error {
	commit, edited := p.revised(ctx)
	made := review.New(r, p.Settings.Project, q.Part, commit, edited, time.Now())
	made.Params = p.Params
	data, err := made.Bytes()
	if err == nil {
		err = write(data)
	}
	if err != nil {
		return fmt.Errorf("save the preview: %w", err)
	}
	return nil
}

// maxReview bounds a saved preview, in bytes.
const maxReview = 256 << 20

// ReadReview reads a saved preview, - being in, and gives the request and the place that it is about. The
// command line may give neither params nor another environment.
func ReadReview(name string, in io.Reader, w Where, q Request) (*review.Preview, Where, Request, error) {
	data, err := readSaved(name, in)
	if err != nil {
		return nil, w, q, problem.Errorf("read the saved preview: %w", err).
			Remedy("create one with `jadekettle preview --save FILE`")
	}
	if name == "-" {
		name = "standard input"
	}
	saved, err := review.Read(name, data)
	switch {
	case err != nil:
		return nil, w, q, err
	case w.Env != "" && w.Env != saved.Env:
		return nil, w, q, problem.Errorf("%s is for the environment %q, but --env is %q", name, saved.Env, w.Env).
			Remedy("use only one of them")
	case len(w.Params) > 0:
		return nil, w, q, problem.Errorf("--param cannot be combined with --reviewed").
			Remedy("remove it; the saved preview has its own params")
	}
	w.Env, w.Params = saved.Env, saved.Params
	q.Targets, q.Part = saved.Names(), saved.Selection()
	return saved, w, q, nil
}

// readSaved reads all of a saved preview, - being in: a part of it might pass for one of fewer hosts.
func readSaved(name string, in io.Reader) ([]byte, error) {
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	data, err := io.ReadAll(io.LimitReader(in, maxReview+1))
	if err == nil && len(data) > maxReview {
		err = fmt.Errorf("it is larger than %d MiB", maxReview>>20)
	}
	return data, err
}

// HoldTo gives what a request is held to: just what was reviewed, of the project as it was then.
func (p *Project) HoldTo(ctx context.Context, saved *review.Preview) (run.Foreseen, error) {
	if saved.Project != p.Settings.Project {
		return nil, problem.Errorf("it is a preview of the project %q, but this one is %q", saved.Project,
			p.Settings.Project).
			Remedy("run it in the project that was previewed")
	}
	p.note("the preview was %s", visible.Line(saved.Said()))
	commit, edited := p.revised(ctx)
	switch {
	case commit != saved.Revision:
		return nil, problem.Errorf("the project is at %s, but the preview was made at %s", orNone(commit),
			orNone(saved.Revision)).
			Remedy("check out that revision, or preview again and have the new preview reviewed")
	case edited && !saved.Edited:
		return nil, problem.Errorf("the project was modified after %s, the revision of the preview", short(commit)).
			Remedy("set the changes aside, or preview again and have the new preview reviewed")
	}
	return saved.Foreseen(value.ParseRef)
}

// Retired lets go of what is known of hosts on which all was taken away, and says which those are. err is why the first
// one could not be.
func (p *Project) Retired(r *record.Run, say func(host string, forgotten bool)) error {
	for _, h := range r.Hosts {
		done := h.Outcome == record.OutChanged || h.Outcome == record.OutUnchanged
		if done {
			if err := p.Known.Forget(h.Name); err != nil {
				return err
			}
		}
		say(h.Name, done)
	}
	return nil
}

// Back may stand for the dash of -1, by which the newest run is named and which a command line takes for a flag.
const Back = store.Back

// Since reads a time: a date, a date with a time of day, or how long before now. It is zero for no text.
func Since(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	d, err := measure.ParseDuration(text)
	if err != nil {
		return time.Time{}, problem.Errorf("invalid time %q", text).
			Remedy(`use a date such as 2026-11-29, or an age such as 7d or 12h`)
	}
	return now.Add(-d), nil
}
