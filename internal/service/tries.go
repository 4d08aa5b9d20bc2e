package service

import (
	"sync"
	"time"
)

// tries counts wrong tries for as long as a code lives. The zero value is ready;
// it is safe for concurrent use.
type tries struct {
	mu  sync.Mutex
	all map[string][]time.Time
}

// maxTried bounds how many are counted for.
const maxTried = 10_000

func (t *tries) count(key string, now time.Time) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for _, at := range t.all[key] {
		if now.Sub(at) < DeviceLife {
			n++
		}
	}
	return n
}

func (t *tries) add(key string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil || len(t.all) > maxTried {
		t.all = map[string][]time.Time{}
	}
	kept := t.all[key][:0]
	for _, at := range t.all[key] {
		if now.Sub(at) < DeviceLife {
			kept = append(kept, at)
		}
	}
	t.all[key] = append(kept, now)
}
