// Package app is what a command does, and knows neither flags nor a terminal.
//
// A call finds its project and asks it to do something:
//
//	site, err := app.Find(ctx, caller, app.Where{Env: "production"})
//	...
//	project, err := site.Open()
//	...
//	run, err := project.Do(ctx, app.Request{Mode: record.ModePreview, Targets: []string{"@gauge"}}, screen)
//
// [Project.Do] is the only place that runs anything on hosts that is kept: preview, apply, verify, drift, undo, retire,
// exec and jobs are requests. What happens goes to sinks as it happens; what it came to is returned. The packages below
// this one do the rest, one job each: sources, secrets, jobs, capture, admission, notifications.
package app

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"sync"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history/store"
)

// Caller is who calls, and how to speak with them. The fields are set once. One Caller is one call: it remembers what
// it has opened, which Close lets go, and what it has asked.
type Caller struct {
	Version string
	Args    []string            // of the call, for the record
	Getenv  func(string) string // the environment
	Ask     Asker               // nil where there is nobody to ask
	// Note says something beside the result. Warn says what could not be done, and why, where that is not a reason
	// to end.
	Note func(text string)
	Warn func(what string, err error)
	// Report writes a run in one of settings.NotifyForms, for notifications: the application draws nothing itself.
	Report func(w io.Writer, form string, runs store.Project, r *record.Run) error
	Trust  bool // a project of somebody else may do on this machine what its settings say
	// Completing says that a shell asks what may come next: nobody is asked anything then.
	Completing bool

	mu      sync.Mutex
	stores  map[string]*store.Store
	agreed  map[string][]string // to what deeds of which projects, see permit; nil until it is read
	warned  bool                // that something cannot be kept
	secrets passwords
}

// Asker asks a person.
type Asker interface {
	// Agree puts a question that is answered with yes or no.
	Agree(question string) bool
	// Secret asks for a text that is not shown.
	Secret(prompt string) ([]byte, error)
	// Key waits for a key, and says whether it is one to go on.
	Key(ctx context.Context, prompt string) bool
}

// Close lets go of what the call has opened.
func (c *Caller) Close() { c.leave((*store.Store).Close) }

// End is Close for a process that ends.
func (c *Caller) End() { c.leave((*store.Store).End) }

func (c *Caller) leave(how func(*store.Store) error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.stores {
		how(s)
	}
	c.stores = nil
}

// Sibling is a call like this one, which has opened nothing yet. Nobody is asked in it.
func (c *Caller) Sibling() *Caller {
	return &Caller{Version: c.Version, Args: c.Args, Getenv: c.Getenv, Note: c.Note, Warn: c.Warn, Report: c.Report,
		Trust: c.Trust}
}

func (c *Caller) note(format string, args ...any) { c.Note(fmt.Sprintf(format, args...)) }

// Unkept says, once in a call, that something could not be kept.
func (c *Caller) Unkept(what string, err error) {
	c.mu.Lock()
	warned := c.warned
	c.warned = warned || err != nil
	c.mu.Unlock()
	if err != nil && !warned {
		c.Warn(what+" could not be saved", err)
	}
}

// StateDir is the folder of the account for what programs keep, see the XDG Base Directory Specification. Empty where
// none is known.
func (c *Caller) StateDir() string { return c.xdg("XDG_STATE_HOME", ".local/state") }

// CacheDir is the folder of the account for what can be had again.
func (c *Caller) CacheDir() (string, error) {
	if dir := c.xdg("XDG_CACHE_HOME", ".cache"); dir != "" {
		return dir, nil
	}
	return "", problem.Errorf("no location for the cache: neither XDG_CACHE_HOME nor HOME is set").
		Remedy("set one of them")
}

// ConfigDir is the folder of the account for settings of programs.
func (c *Caller) ConfigDir() string {
	dir := c.Getenv("XDG_CONFIG_HOME")
	if filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(c.Getenv("HOME"), ".config")
}

// xdg gives this program's folder in one of the folders of the specification.
func (c *Caller) xdg(variable, usual string) string {
	dir := c.Getenv(variable)
	if home := c.Getenv("HOME"); !filepath.IsAbs(dir) {
		if home == "" {
			return ""
		}
		dir = filepath.Join(home, filepath.FromSlash(usual))
	}
	return filepath.Join(dir, "jadekettle")
}

// Expand makes a path of the settings whole: ~/ is the home folder, and anything else relative is in dir.
func (c *Caller) Expand(path, dir string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(c.Getenv("HOME"), rest)
	}
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// password asks for a secret, or says what to do where nobody is there.
func (c *Caller) password(prompt string, nobody problem.Problem) ([]byte, error) {
	if c.Ask == nil {
		return nil, nobody
	}
	return c.Ask.Secret(prompt)
}

// IdentityVariable holds the name of an identity file, or an identity itself.
const IdentityVariable = "JADEKETTLE_IDENTITY"

// short is as much of a commit as people read.
func short(commit string) string { return commit[:min(12, len(commit))] }

// orNone names a commit, or that there is none.
func orNone(commit string) string { return cmp.Or(short(commit), "no revision") }
