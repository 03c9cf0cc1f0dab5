package run

import (
	"sync"
	"sync/atomic"
	"time"

	"jadekettle/internal/core/record"
)

// queue holds events for one printer. To put one in never waits: a screen that
// is still must not hold up a host.
type queue struct {
	mu   sync.Mutex
	list []record.Event
	kick chan struct{}
	open atomic.Int64 // events that are not handed over yet
}

func (q *queue) push(e record.Event) {
	q.open.Add(1)
	q.mu.Lock()
	q.list = append(q.list, e)
	q.mu.Unlock()
	select {
	case q.kick <- struct{}{}:
	default:
	}
}

func (q *queue) drain() []record.Event {
	q.mu.Lock()
	defer q.mu.Unlock()
	list := q.list
	q.list = nil
	return list
}

// settle waits until all is handed over, so that what is printed next comes after it; not
// for long, since a screen that is still must not hold up a run.
func (q *queue) settle() {
	const limit, again = 500 * time.Millisecond, 5 * time.Millisecond
	for waited := time.Duration(0); q.open.Load() > 0 && waited < limit; waited += again {
		time.Sleep(again)
	}
}

// deliver begins to hand events over, one at a time. What it gives ends that, once
// all are handed over.
func (q *queue) deliver(to func(record.Event)) (end func()) {
	q.kick = make(chan struct{}, 1)
	over, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for last := false; !last; {
			select {
			case <-q.kick:
			case <-over:
				last = true
			}
			for _, e := range q.drain() {
				to(e)
				q.open.Add(-1)
			}
		}
	}()
	return func() {
		close(over)
		<-done
	}
}
