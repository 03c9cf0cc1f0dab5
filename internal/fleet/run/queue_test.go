package run

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"jadekettle/internal/core/record"
)

// TestAQueueNeverWaits puts events in from many goroutines while their printer
// is still, and wants all of them, each goroutine's in order, before it ends.
func TestAQueueNeverWaits(t *testing.T) {
	const hosts, each = 8, 500
	var q queue
	current := make(chan struct{})
	var got []record.Event
	end := q.deliver(func(e record.Event) {
		<-current
		got = append(got, e)
	})
	put := make(chan struct{})
	go func() {
		defer close(put)
		var wg sync.WaitGroup
		for h := range hosts {
			wg.Go(func() {
				for i := range each {
					q.push(record.Event{Host: fmt.Sprint(h), Task: &record.Task{Line: i}})
				}
			})
		}
		wg.Wait()
	}()
	select {
	case <-put:
	case <-time.After(10 * time.Second):
		t.Fatal("a screen that is still holds up the hosts")
	}
	close(current)
	end()
	if len(got) != hosts*each {
		t.Fatalf("%d events are reported %d", len(got), hosts*each)
	}
	next := map[string]int{}
	for _, e := range got {
		if e.Task.Line != next[e.Host] {
			t.Fatal("events of one host are reported out of order")
		}
		next[e.Host]++
	}
}
