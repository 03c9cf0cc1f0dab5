package resolve

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"jadekettle/internal/core/inventory"
)

// part is how many hosts are resolved before what came of them is gone through. With more the collector has more to
// look at, and with fewer the processors wait for one another.
const part = 32

// Each does something for every host, on all processors, and then goes through what came of it in the order of hosts.
func Each[T any](hosts []*inventory.Host, do func(*inventory.Host) T, then func(*inventory.Host, T)) {
	var came [part]T
	for some := range slices.Chunk(hosts, part) {
		var next atomic.Int64
		var all sync.WaitGroup
		var fault atomic.Pointer[any]
		for range min(runtime.GOMAXPROCS(0), len(some)) {
			all.Go(func() {
				defer func() {
					if p := recover(); p != nil {
						fault.Store(&p)
					}
				}()
				for i := next.Add(1) - 1; i < int64(len(some)); i = next.Add(1) - 1 {
					came[i] = do(some[i])
				}
			})
		}
		all.Wait()
		if p := fault.Load(); p != nil {
			panic(*p) // where the caller can take it
		}
		for i, h := range some {
			then(h, came[i])
		}
	}
}
