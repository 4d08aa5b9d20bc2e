package daemon

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// What a request needs is garbage at once. While the heap is small, letting it
// grow by this much before it is collected saves a fifth of the processor; the
// larger it is, the less it is let grow.
const (
	grownBy   = 48 << 20 // bytes
	mostOften = 400      // percent
	leastOf   = 100      // percent, Go's own
	lookEvery = 2 * time.Second
)

// collectSeldom adjusts how often garbage is collected until ctx ends, and
// returns what puts it back.
func collectSeldom(ctx context.Context) (back func()) {
	before := debug.SetGCPercent(mostOften)
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		ticker := time.NewTicker(lookEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
			metrics.Read(sample)
			if live := sample[0].Value.Uint64(); live > 0 {
				debug.SetGCPercent(int(min(mostOften, max(leastOf, grownBy*100/live))))
			}
		}
	}()
	return func() {
		cancel()
		debug.SetGCPercent(before)
	}
}
