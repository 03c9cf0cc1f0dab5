package cli

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	tell "jadekettle/internal/app/notify"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	screen "jadekettle/internal/present/text"
)

// tellLimit is how long telling others may take in all, tries and waits together.
const tellLimit = 45 * time.Second

// tellOthers tells those whom the settings name that a run has ended. It is over by then: what
// does not get through is told here, and changes nothing.
func (a *App) tellOthers(ctx context.Context, p *project, kept *recording, hosts []*record.Host) {
	if len(p.Settings.Tells) == 0 {
		return
	}
	if ctx.Err() != nil { // a run that was stopped is told as well; else Ctrl-C ends the telling
		ctx = context.WithoutCancel(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, tellLimit)
	defer cancel()
	k := &record.Run{Head: kept.head, Hosts: hosts}
	k.State, k.Seconds = record.Ended, time.Since(k.Started).Seconds()
	news := &tell.News{Project: p.Settings.Project, Summary: k.Summary(), Run: k,
		Report: func(form string) ([]byte, error) {
			var b bytes.Buffer
			err := a.report(&b, form, p.runs, k)
			return b.Bytes(), err
		}}
	t := &tell.Teller{Dir: p.dir, File: func(name string) ([]byte, error) {
		return tell.ReadSecret(expand(name, a.Getenv("HOME"), p.dir))
	}}
	var wg sync.WaitGroup
	var mu sync.Mutex
	failed := func(what string, err error) {
		if err == nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		fmt.Fprintf(a.Err, "%s: %s\n", what, screen.Line(problem.From(err).Error()))
	}
	for i := range p.Settings.Tells {
		to := &p.Settings.Tells[i]
		if a.started != nil && a.started.Tell != nil && !slices.Contains(a.started.Tell, to.Name) {
			continue
		}
		wg.Go(func() { failed(to.Name+" could not be told", t.Tell(ctx, to, news)) })
	}
	wg.Wait()
}
