package run

import (
	"cmp"
	"fmt"
	"slices"
	"sync/atomic"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
)

// maxHeld bounds what one host may make this program hold, in bytes: what it
// sends, and what it becomes in memory.
const maxHeld = 128 << 20

// budget is what a host has made this program hold and do so far, all of which is limited.
type budget struct {
	held   atomic.Int64   // bytes that the host has made us hold
	given  map[string]int // how often each content was asked for
	asked  map[int]bool   // which probes were asked from here
	proofs int            // how often the host has had us log in again
}

// hold counts what a host makes us hold.
func (b *budget) hold(n int) error {
	if b.held.Add(int64(n)) > maxHeld {
		return fmt.Errorf("%w: more than %d MiB in total", wire.ErrFrame, maxHeld>>20)
	}
	return nil
}

// counted counts every byte that comes from a host.
type counted struct{ t *talk }

func (c counted) Read(p []byte) (int, error) {
	n, err := c.t.session.Read(p)
	if e := c.t.hold(n); e != nil {
		return 0, e
	}
	return n, err
}

// maxGiven is how often a host may ask for the content of one task.
const maxGiven = 4

// What a result may be at most: more than any worker sends, and little enough that what is made of
// it, for the screen, as JSON and in the history, stays small.
const (
	maxWord      = 256          // bytes of a run's name, of who ran it, of a digest
	maxName      = 8 << 10      // bytes of a kind and a name, and of what a change is about
	maxSaid      = 256 << 10    // bytes of a text; a worker cuts them at half of that
	maxCollected = 1 << 12      // runs of which a host may have kept results back
	lastSecond   = 253402300799 // in Unix seconds, of the year 9999: the last that RFC 3339 can write
)

// fits refuses a result of a host that no worker would send.
func fits(r plan.Result) error {
	bad := r.Took < 0 || r.Tries < 0 || r.Since < 0 || r.Since > lastSecond || fitsRef(r.Ref) != nil ||
		fitsRef(r.BlockedBy) != nil || len(r.By) > maxWord || len(r.Digest) > maxWord ||
		max(len(r.Message), len(r.Do), len(r.Output)) > maxSaid
	for _, c := range slices.Concat(r.Changes, r.Written) {
		bad = bad || len(c.What) > maxName || max(len(c.Was), len(c.Becomes), len(c.Diff)) > maxSaid
	}
	if bad {
		return fmt.Errorf("%w: a result that is too large", wire.ErrFrame)
	}
	return nil
}

func fitsRef(ref value.Ref) error {
	if len(ref.Kind)+len(ref.Name) > maxName {
		return fmt.Errorf("%w: a name that is too long", wire.ErrFrame)
	}
	return nil
}

// size is what a result takes in memory besides its text, which was counted as
// it came.
func size(r plan.Result) int { return 512 + 128*(len(r.Changes)+len(r.Written)) }

// accept counts a result, or refuses one that no worker would send.
func (b *budget) accept(r plan.Result) error { return cmp.Or(fits(r), b.hold(size(r))) }
