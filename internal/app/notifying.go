package app

import (
	"bytes"
	"context"
	"slices"
	"sync"
	"time"

	"jadekettle/internal/app/notify"
	"jadekettle/internal/app/secrets"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/visible"
)

// notifyLimit is how long notifications may take in all, tries and waits together.
const notifyLimit = 45 * time.Second

// notify notifies those whom the settings name that a run has ended. It is over by then: what
// does not get through is said here, and changes nothing.
func (p *Project) notify(ctx context.Context, q *Request, r *record.Run) {
	if len(p.Settings.Notify) == 0 {
		return
	}
	if ctx.Err() != nil { // a run that was stopped is reported as well; else Ctrl-C ends the reporting
		ctx = context.WithoutCancel(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, notifyLimit)
	defer cancel()
	news := &notify.News{Project: p.Settings.Project, Summary: r.Summary(), Run: r,
		Report: func(form string) ([]byte, error) {
			var b bytes.Buffer
			err := p.Report(&b, form, p.Kept, r)
			return b.Bytes(), err
		}}
	t := &notify.Notifier{Dir: p.Root, File: func(name string) ([]byte, error) {
		return secrets.ReadFile(p.Expand(name, p.Root))
	}}
	var wg sync.WaitGroup
	var mu sync.Mutex
	for i := range p.Settings.Notify {
		to := &p.Settings.Notify[i]
		if q.Job != nil && q.Job.Notify != nil && !slices.Contains(q.Job.Notify, to.Name) {
			continue
		}
		wg.Go(func() {
			if err := t.Notify(ctx, to, news); err != nil {
				mu.Lock()
				defer mu.Unlock()
				p.note("%s could not be notified: %s", to.Name, visible.Line(problem.From(err).Error()))
			}
		})
	}
	wg.Wait()
}
