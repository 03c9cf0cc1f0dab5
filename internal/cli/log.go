package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	screen "jadekettle/internal/present/text"
)

// runLog writes what happens in runs to a file, a line of JSON for each event. Without a file
// it writes nothing.
type runLog struct {
	to   *slog.Logger
	file io.Closer
}

// log begins to log a run. That it cannot is told, and no reason to end.
func (a *App) log(p *project, h *record.Head, hosts int) *runLog {
	if p.Settings.Log == "" {
		return &runLog{}
	}
	name := expand(p.Settings.Log, a.Getenv("HOME"), a.home(p.dir))
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		fmt.Fprintf(a.Err, "the run is not logged: %s\n", screen.Line(err.Error()))
		return &runLog{}
	}
	l := &runLog{slog.New(slog.NewJSONHandler(f, nil)).With("run", h.Run), f}
	l.to.Info("run began", "project", p.Settings.Project, "mode", h.Mode, "env", h.Env, "who", h.Who, "machine", h.Machine,
		"revision", h.Revision, "edited", h.Edited, "job", h.Job, "hosts", hosts)
	return l
}

// Event logs what has happened. What was unchanged is only counted, with its host.
func (l *runLog) Event(e record.Event) {
	if l.to == nil || e.Begun != nil || e.AtWork != nil {
		return
	}
	if e.Task == nil {
		h := e.Ended
		level := slog.LevelInfo
		if o := h.Outcome; o != record.OutChanged && o != record.OutUnchanged && o != record.OutOff {
			level = slog.LevelError
		}
		l.to.Log(context.Background(), level, "host ended", "host", h.Name, "outcome", string(h.Outcome), "message", h.Message, "changed",
			h.Changed, "failed", h.Failed, "unchanged", h.Unchanged, "blocked", h.Blocked, "seconds", h.Seconds)
		return
	}
	t := e.Task
	if t.Status == plan.Unchanged || t.Status == plan.LeftOut {
		return
	}
	level := slog.LevelInfo
	if t.Status != plan.Changed {
		level = slog.LevelError
	}
	l.to.Log(context.Background(), level, "task ended", "host", e.Host, "kind", t.Kind, "name", t.Name, "status",
		string(t.Status), "message", t.Message, "file", t.Manifest, "line", t.Line, "seconds", t.Seconds)
}

// end logs that the run has ended, and its number, for which its beginning does not wait.
func (l *runLog) end(code, number int) {
	if l.to == nil {
		return
	}
	l.to.Info("run ended", "number", number, "code", code)
	l.file.Close()
}
