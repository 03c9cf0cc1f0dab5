package app

import (
	"cmp"
	"context"
	"log/slog"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/visible"
	"jadekettle/internal/history/store"
)

// recording is a run that is kept while it goes. One that cannot be kept is not, and has the
// number 0.
type recording struct {
	caller *Caller
	to     *store.Recorder
	log    *runLog
	head   record.Head
}

// begin begins to keep a run.
func (p *Project) begin(q *Request, w *work, hosts []*inventory.Host) (*recording, error) {
	notes, err := ReadNotes(q.Notes)
	if err != nil {
		return nil, err
	}
	h := record.Head{Mode: q.recorded(), Started: w.started, Declared: q.declared(), Part: q.Part, Run: w.id.ID,
		Env: w.id.Env, Revision: w.id.Revision, Edited: w.id.Edited, Notes: notes, Inputs: map[string]string{}}
	if q.Exec == nil {
		h.Whole = w.id.Whole
	}
	h.Who, h.Machine = Me(), w.id.Who[strings.LastIndexByte(w.id.Who, '@')+1:]
	h.Command, h.Params = p.shownCall()
	if q.Undo != nil {
		h.Undoes = q.Undo.Number
	}
	if q.Job != nil {
		h.Job, h.Inputs = q.Job.Name, q.Job.Shown
	}
	if p.Taken != nil {
		h.Source = p.Taken.URL
	}
	names := make([]string, len(hosts))
	for i, host := range hosts {
		names[i] = host.Name
	}
	return &recording{caller: p.Caller, to: p.Kept.Begin(h, names, p.files), head: h, log: p.log(&h, len(hosts))}, nil
}

// run gives the run as it came out, its number and its code aside.
func (k *recording) run(hosts []*record.Host) *record.Run {
	r := &record.Run{Head: k.head, Hosts: hosts}
	r.State, r.Seconds = record.Ended, record.Seconds(time.Since(r.Started))
	return r
}

// end has it kept what the run came to; its number is known then. wait must be called
// afterwards.
func (k *recording) end(r *record.Run) {
	k.to.End(r)
	r.Number, _ = k.to.Number() // wait returns what is wrong
	if err := k.log.End(r); err != nil {
		k.caller.note("the run is not logged completely: %s", visible.Line(err.Error()))
	}
}

// wait waits until all is kept, and says when it cannot be.
func (k *recording) wait() { k.caller.Unkept("the run", k.to.Wait()) }

// ReadNotes reads notes as KEY=VALUE.
func ReadNotes(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, n := range list {
		key, text, ok := strings.Cut(n, "=")
		if key = strings.TrimSpace(key); !ok || key == "" || len(n) > 4096 || !utf8.ValidString(n) {
			return nil, problem.Errorf("invalid note %q", n).Remedy("use KEY=VALUE, such as ticket=4711")
		}
		out[key] = text
	}
	return out, nil
}

// shownCall gives the call and the params that it gave, without the values of secret ones.
func (p *Project) shownCall() (command []string, params map[string]string) {
	params = map[string]string{}
	for _, given := range p.Params {
		name, v, _ := strings.Cut(given, "=")
		if p.secretParam(name) {
			v = value.Hidden
		}
		params[name] = v
	}
	for _, arg := range p.Args {
		given, flagged := strings.CutPrefix(arg, "--param=")
		name, _, valued := strings.Cut(given, "=")
		if _, is := params[name]; valued && is && p.secretParam(name) {
			given = name + "=" + value.Hidden
		}
		if flagged {
			given = "--param=" + given
		}
		command = append(command, given)
	}
	return command, params
}

// secretParam says whether the param MANIFEST.NAME is a secret, or none that is known.
func (p *Project) secretParam(name string) bool {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return true
	}
	unit := p.Units[name[:at]]
	if unit == nil {
		return true
	}
	for _, d := range unit.Params {
		if d.Name == name[at+1:] {
			return d.Type == "secret"
		}
	}
	return true
}

// lastApply gives the last apply in an environment.
func (p *Project) lastApply(env string) (record.Summary, bool) {
	list, err := p.Kept.List(store.Filter{Env: env, Modes: []string{record.ModeApply}, Most: 1})
	if err != nil || len(list) == 0 {
		return record.Summary{}, false
	}
	return list[0], true
}

// before says whether a commit is older than another.
func (p *Project) before(ctx context.Context, commit, other string) bool {
	return sources.Before(ctx, p.repository(), commit, other)
}

// runLog writes what happens in runs to a file, a line of JSON for each event. Without a file
// it writes nothing.
type runLog struct {
	to   *slog.Logger
	file *os.File
	err  error // the first that a write came to: slog drops them
}

// Write implements io.Writer.
func (l *runLog) Write(line []byte) (int, error) {
	n, err := l.file.Write(line)
	if l.err == nil {
		l.err = err
	}
	return n, err
}

// log begins to log a run. That it cannot is not a reason to end.
func (p *Project) log(h *record.Head, hosts int) *runLog {
	if p.Settings.Log == "" {
		return &runLog{}
	}
	f, err := os.OpenFile(p.Expand(p.Settings.Log, p.Home()), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		p.note("the run is not logged: %s", visible.Line(err.Error()))
		return &runLog{}
	}
	l := &runLog{file: f}
	l.to = slog.New(slog.NewJSONHandler(l, nil)).With("run", h.Run)
	l.to.Info("run started", "project", p.Settings.Project, "mode", h.Mode, "env", h.Env, "who", h.Who, "machine",
		h.Machine, "revision", h.Revision, "edited", h.Edited, "job", h.Job, "hosts", hosts)
	return l
}

// Event logs what has happened. What was unchanged is only counted, with its host.
func (l *runLog) Event(e record.Event) {
	switch {
	case l.to == nil:
	case e.Ended != nil:
		h, level := e.Ended, slog.LevelError
		switch h.Outcome {
		case record.OutChanged, record.OutUnchanged, record.OutDisabled:
			level = slog.LevelInfo
		}
		l.to.Log(context.Background(), level, "host ended", "host", h.Name, "outcome", string(h.Outcome), "message",
			h.Message, "changed", h.Changed, "failed", h.Failed, "unchanged", h.Unchanged, "blocked", h.Blocked,
			"seconds", h.Seconds)
	case e.Task != nil && e.Task.Status != plan.Unchanged && e.Task.Status != plan.Skipped:
		t, level := e.Task, slog.LevelError
		if t.Status == plan.Changed {
			level = slog.LevelInfo
		}
		l.to.Log(context.Background(), level, "task ended", "host", e.Host, "kind", t.Kind, "name", t.Name, "status",
			string(t.Status), "message", t.Message, "file", t.Manifest, "line", t.Line, "seconds", t.Seconds)
	}
}

// End logs that the run has ended, and its number, for which its beginning does not wait.
func (l *runLog) End(r *record.Run) error {
	if l.to == nil {
		return nil
	}
	l.to.Info("run ended", "number", r.Number, "code", r.Code)
	return cmp.Or(l.err, l.file.Close())
}
