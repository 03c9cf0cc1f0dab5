package worker

import (
	"sync/atomic"
	"time"
)

// Pulse knows how long ago the other side was last heard. It counts by the monotonic
// clock: somebody who sets the wall clock makes nobody silent. Make it by NewPulse.
type Pulse struct {
	elapsed func() time.Duration
	last    atomic.Int64 // of elapsed
}

// NewPulse has heard of the other side now.
func NewPulse() *Pulse {
	begun := time.Now() // which holds a reading of the monotonic clock, and Since looks at that alone
	return &Pulse{elapsed: func() time.Duration { return time.Since(begun) }}
}

// Beat notes that the other side was heard.
func (p *Pulse) Beat() { p.last.Store(int64(p.elapsed())) }

// Silent is for how long it was not.
func (p *Pulse) Silent() time.Duration { return p.elapsed() - time.Duration(p.last.Load()) }
