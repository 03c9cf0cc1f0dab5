package cli

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"jadekettle/internal/cli/screen"
	"jadekettle/internal/cli/tell"
	"jadekettle/internal/cli/trace"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
	"jadekettle/internal/history/pages"
)

// tellLimit is how long telling others may take in all, tries and waits together.
const tellLimit = 45 * time.Second

// tellOthers tells those whom the settings name that a run has ended. It is over by then: what
// does not get through is told here, and changes nothing.
func (a *App) tellOthers(ctx context.Context, p *project, kept *recording, hosts []*run.Visit) {
	endpoint := p.Settings.Traces
	if endpoint == "" {
		endpoint = a.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")
	}
	traced := endpoint != "" || a.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") != ""
	if len(p.Settings.Tells) == 0 && !traced {
		return
	}
	if ctx.Err() != nil { // a run that was stopped is told as well; else Ctrl-C ends the telling
		ctx = context.WithoutCancel(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, tellLimit)
	defer cancel()
	h := kept.head
	h.State, h.Seconds = history.Ended, time.Since(h.Started).Seconds()
	k := history.KeptOf(h, hosts)
	news := &tell.News{Project: p.Settings.Project, Brief: k.Brief(), Kept: k, Sentence: pages.Sentence(k),
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
	if traced {
		wg.Go(func() { failed("the run could not be traced", trace.Send(ctx, endpoint, Version, k)) })
	}
	wg.Wait()
}
