// Package cli is the command line: it reads flags, has package app do what they say, and package present show what that
// came to. The commands live in folders of their own, one file each:
//
//	runcmd      preview, apply, verify, drift, undo, exec, compare, rehearse
//	hostscmd    hosts and what is below it
//	runscmd     runs and what is below it, status, report
//	jobscmd     job and what is below it, tend
//	projectcmd  all else
//
// A command is given an [Env] and gives a *cobra.Command. It returns an error, or [Exit] for a code without one.
package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/spf13/cobra"

	"jadekettle/internal/app"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present"
	"jadekettle/internal/present/document"
	"jadekettle/internal/present/text"
)

// Version is this program's version.
const Version = "0.1.0"

// Env is what a command reads, writes and asks on. Nothing travels home through it.
type Env struct {
	In       io.Reader
	Out, Err io.Writer // for people: what is written is escaped
	Raw      io.Writer // Out as it is, for what programs read
	Getenv   func(string) string
	Terminal bool // In and Err are a terminal to ask on, wherever Out goes
	Color    bool
	Width    int      // of the terminal that Out is; 0 when it is none
	Height   int      // likewise, in lines
	Args     []string // of the call
	Flags

	// Call runs another command line in this process, which nobody is asked in and no variables steer.
	Call func(ctx context.Context, args []string) (code int)

	once
}

// once is what is made when it is first asked for.
type once struct {
	callerOnce sync.Once
	caller     *app.Caller
	siteOnce   sync.Once
	site       *app.Site
	siteErr    error
	inOnce     sync.Once
	in         *bufio.Reader
	shown      atomic.Pointer[Live] // the run that is shown now; nil where none is
	release    func()               // what is kept back for a pager; nil where nothing is
}

// Exit ends a command with a code, and with nothing more to say.
type Exit int

// Error implements error.
func (e Exit) Error() string { return fmt.Sprintf("ended with %d", int(e)) }

// Ended gives the error of a command that ends with a code; nil for 0.
func Ended(code int) error {
	if code == app.CodeDone {
		return nil
	}
	return Exit(code)
}

// Caller is who calls, as the application knows them.
func (e *Env) Caller() *app.Caller {
	e.callerOnce.Do(func() {
		e.caller = &app.Caller{Version: Version, Args: e.Args, Getenv: e.Getenv, Trust: e.Trust, Report: present.Write,
			Note: func(s string) { fmt.Fprintln(e.Err, s) }, Warn: e.warn,
			Completing: len(e.Args) > 0 && (e.Args[0] == cobra.ShellCompRequestCmd ||
				e.Args[0] == cobra.ShellCompNoDescRequestCmd)}
		if e.Terminal {
			e.caller.Ask = e
		}
	})
	return e.caller
}

// Where says which project the call is about.
func (e *Env) Where() app.Where {
	return app.Where{Dir: e.Project, Env: e.EnvName, Params: e.Params, Identities: e.Identities, From: e.From,
		Here: e.Here}
}

// Site finds the project of the call.
func (e *Env) Site(ctx context.Context) (*app.Site, error) {
	e.siteOnce.Do(func() { e.site, e.siteErr = app.Find(ctx, e.Caller(), e.Where()) })
	return e.site, e.siteErr
}

// Open reads the project of the call.
func (e *Env) Open(ctx context.Context) (*app.Project, error) {
	s, err := e.Site(ctx)
	if err != nil {
		return nil, err
	}
	return s.Open()
}

// OpenHosts reads the project of the call, and gives the hosts that targets name.
func (e *Env) OpenHosts(ctx context.Context, targets []string) (*app.Project, []app.Host, error) {
	p, err := e.Open(ctx)
	if err != nil {
		return nil, nil, err
	}
	list, err := p.Select(targets, nil)
	return p, list, err
}

// JSON says whether the call wants a document.
func (e *Env) JSON() bool { return e.Output == "json" }

// Document prints what programs read. Their own parsers make text safe.
func (e *Env) Document(doc any) error { return document.Write(e.Raw, doc) }

// Render prints a result: as a document where the call wants one, and else as draw draws it.
func (e *Env) Render(doc any, draw func(w io.Writer)) error {
	if e.JSON() {
		return e.Document(doc)
	}
	draw(e.Out)
	return nil
}

// Sources shows lines of the project of the call, once it is found.
func (e *Env) Sources() *text.Sources {
	if e.site == nil {
		return &text.Sources{}
	}
	return &text.Sources{Dir: e.site.Root}
}

// warn says what could not be done, and why, where that is not a reason to end.
func (e *Env) warn(what string, err error) {
	p := problem.From(err)
	fmt.Fprintf(e.Err, "%s: %s\n", what, text.Line(p.What))
	if p.Do != "" {
		fmt.Fprint(e.Err, text.Wrap(text.Line(p.Do), "  ", e.Width))
	}
}

// EachHost does something with hosts, one after another. One that fails holds up no other: it is
// reported, and at the end which failed and which were not started.
func (e *Env) EachHost(ctx context.Context, hosts []app.Host, do func(app.Host) error) error {
	var failed, waiting []string
	for _, h := range hosts {
		switch {
		case h.Disabled != "":
			fmt.Fprintf(e.Out, "%s  disabled: %s\n", h.Name, text.Line(h.Disabled))
			continue
		case ctx.Err() != nil:
			waiting = append(waiting, h.Name)
			continue
		}
		if err := do(h); err != nil {
			failed = append(failed, h.Name)
			if _, said := err.(Exit); !said {
				e.warn(h.Name+"  "+text.Paint(text.Bad, "failed"), err)
			}
		}
	}
	code := app.CodeDone
	if len(failed) > 0 {
		code = app.CodeFailed
	}
	if len(failed) > 0 && len(hosts) > 1 {
		fmt.Fprintf(e.Err, "failed: %s\n", text.Line(strings.Join(app.Folded(failed), " ")))
	}
	if len(waiting) > 0 {
		code = app.CodeStopped
		fmt.Fprintf(e.Err, "not started: %s\n", text.Line(strings.Join(app.Folded(waiting), " ")))
	}
	return Ended(code)
}
