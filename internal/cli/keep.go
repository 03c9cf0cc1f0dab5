package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"jadekettle/internal/app/atomicfile"
	tell "jadekettle/internal/app/notify"
	"jadekettle/internal/app/sources"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
	"jadekettle/internal/history/store"
	screen "jadekettle/internal/present/text"
)

// history gives the runs of a project as they are kept.
func (a *App) history(dir string, s settings.Settings) store.Project {
	at := store.Store{URL: s.HistoryURL, Tell: func(text string) { fmt.Fprintln(a.Err, screen.Line(text)) }}
	if at.URL != "" {
		key, err := a.factsKey()
		a.unkept("the key for facts", err)
		at.Key = key
	}
	if at.URL == "" {
		at.File = cmp.Or(expand(s.History, a.Getenv("HOME"), a.home(dir)), a.historyFile())
	}
	if a.stores == nil {
		a.stores = map[string]*store.Store{}
	}
	if a.stores[at.File+at.URL] == nil {
		a.stores[at.File+at.URL] = &at
	}
	return store.Project{Store: a.stores[at.File+at.URL], ID: s.Project}
}

// factsKey reads the key with which facts are sealed that go into a database, or makes one. Without
// one none of them are this machine's own.
func (a *App) factsKey() ([]byte, error) {
	key := make([]byte, sha256.Size)
	rand.Read(key) // which nothing was sealed with, where none can be kept
	file := a.historyFile()
	if file == "" {
		return key, nil
	}
	name := filepath.Join(filepath.Dir(file), "facts-key")
	kept, err := tell.ReadSecret(name)
	switch {
	case err == nil && len(kept) == sha256.Size:
		return kept, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return key, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return key, err
	}
	return key, atomicfile.Write(name, key, 0o600)
}

// historyFile is where runs are kept when the settings do not say: in the user's folder for
// what programs keep, see the XDG Base Directory Specification. Empty where none is known.
func (a *App) historyFile() string {
	state := a.Getenv("XDG_STATE_HOME")
	if home := a.Getenv("HOME"); !filepath.IsAbs(state) {
		if home == "" {
			return ""
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "jadekettle", "history.db")
}

func (a *App) closeStores() {
	for _, s := range a.stores {
		s.Close()
	}
	a.stores = nil
}

// unkept tells, once in a call, that something could not be kept, which is no reason to end.
func (a *App) unkept(what string, err error) {
	if err == nil || a.unkeptTold {
		return
	}
	a.unkeptTold = true
	p := problem.From(err)
	fmt.Fprintf(a.Err, "%s could not be kept: %s\n", what, screen.Line(p.What))
	if do := p.Do; do != "" {
		fmt.Fprint(a.Err, screen.Wrap(screen.Line(do), "  ", a.Width))
	}
}

// recording is a run that is kept while it goes. One that cannot be kept is not, and has the
// number 0.
type recording struct {
	app    *App
	to     *store.Recorder
	log    *runLog
	head   record.Head
	number int // once it has ended; 0 when it could not be kept
	run    *record.Run
}

// record begins to keep a run.
func (a *App) record(p *project, id plan.Run, h record.Head) (*recording, error) {
	notes, err := readNotes(a.notes)
	if err != nil {
		return nil, err
	}
	h.Run, h.Env, h.Revision, h.Edited = id.ID, id.Env, id.Revision, id.Edited
	h.Who, h.Machine = me(), id.Who[strings.LastIndexByte(id.Who, '@')+1:]
	h.Command, h.Params = a.shownCall(p)
	h.Notes, h.Answers = notes, map[string]string{}
	if a.started != nil {
		h.Job, h.Answers = a.started.Name, a.started.shown
	}
	if a.taken != nil {
		h.Source = a.taken.URL
	}
	hosts := make([]string, len(p.hosts))
	for i, host := range p.hosts {
		hosts[i] = host.Name
	}
	return &recording{app: a, to: p.runs.Begin(h, hosts, p.files), head: h, log: a.log(p, &h, len(hosts))}, nil
}

// noteFlag lets a call note something on its run.
func (a *App) noteFlag(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.notes, "note", nil, "note something on the run, as `KEY=VALUE`; may be repeated")
}

// readNotes reads notes as KEY=VALUE.
func readNotes(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, n := range list {
		key, text, ok := strings.Cut(n, "=")
		if key = strings.TrimSpace(key); !ok || key == "" || len(n) > 4096 || !utf8.ValidString(n) {
			return nil, problem.Errorf("%q is no note", n).Remedy("write KEY=VALUE, such as ticket=4711")
		}
		out[key] = text
	}
	return out, nil
}

// Event takes what has happened.
func (r *recording) Event(e record.Event) {
	r.log.Event(e)
	r.to.Event(e)
}

// end has it kept what the run came to; the number is known then. wait must be called
// afterwards.
func (r *recording) end(code int, hosts []*record.Host) {
	r.head.Code, r.head.Seconds = code, record.Seconds(time.Since(r.head.Started))
	r.run = &record.Run{Head: r.head, Hosts: hosts}
	r.to.End(r.run)
	r.number, _ = r.to.Number() // what is wrong, wait tells
	r.head.Number, r.run.Number = r.number, r.number
	r.log.end(code, r.number)
}

// wait waits until all is kept, and tells when it cannot be.
func (r *recording) wait() { r.app.unkept("the run", r.to.Wait()) }

// hidden stands for the value of a secret param.
const hidden = "(secret)"

// shownCall gives the call and the params that it gave, without the values of secret ones.
func (a *App) shownCall(p *project) (command []string, params map[string]string) {
	params = map[string]string{}
	for _, given := range a.params {
		name, v, _ := strings.Cut(given, "=")
		if p.secretParam(name) {
			v = hidden
		}
		params[name] = v
	}
	for _, arg := range a.args {
		given, flagged := strings.CutPrefix(arg, "--param=")
		name, _, valued := strings.Cut(given, "=")
		if _, is := params[name]; valued && is && p.secretParam(name) {
			given = name + "=" + hidden
		}
		if flagged {
			given = "--param=" + given
		}
		command = append(command, given)
	}
	return command, params
}

// secretParam says whether the param MANIFEST.NAME is a secret, or none that is known.
func (p *project) secretParam(name string) bool {
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

// revised gives the commit that the project is at, and whether its files were changed since.
func (a *App) revised(ctx context.Context, dir string) (commit string, edited bool) {
	if a.taken != nil {
		return a.taken.Commit, false
	}
	for at := dir; ; at = filepath.Dir(at) { // git is asked only where there is a repository
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return sources.Head(ctx, dir)
		}
		if at == filepath.Dir(at) {
			return "", false
		}
	}
}

// tellOlder tells when an apply is one of an older revision than the last one.
func (a *App) tellOlder(ctx context.Context, p *project, id plan.Run) {
	if id.Revision == "" {
		return
	}
	list, err := p.runs.List(store.Filter{Env: id.Env, Modes: []string{record.ModeApply}, Most: 1})
	if err != nil || len(list) == 0 || list[0].Revision == "" || list[0].Revision == id.Revision {
		return
	}
	last := list[0]
	repo := p.dir
	if a.taken != nil {
		repo = a.taken.Repo
	}
	if !sources.Before(ctx, repo, id.Revision, last.Revision) {
		return
	}
	fmt.Fprintf(a.Err, "the revision %s is older than %s, which %s applied in run %d on %s\n", short(id.Revision),
		short(last.Revision), screen.Line(last.Who+"@"+last.Machine), last.Number, last.Started.Local().Format("2006-01-02 15:04"))
}

// short is as much of a commit as people read.
func short(commit string) string { return commit[:min(12, len(commit))] }
