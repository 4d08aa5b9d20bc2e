package service

import "sync"

// asking lets one question about each person be under way at a time. The zero value
// is ready; it is safe for concurrent use.
type asking struct {
	mu  sync.Mutex
	all map[int64]*turn
}

type turn struct {
	mu      sync.Mutex
	waiting int
}

// lock waits for its turn, and returns what ends it.
func (a *asking) lock(person int64) (unlock func()) {
	a.mu.Lock()
	if a.all == nil {
		a.all = map[int64]*turn{}
	}
	one := a.all[person]
	if one == nil {
		one = &turn{}
		a.all[person] = one
	}
	one.waiting++
	a.mu.Unlock()
	one.mu.Lock()
	return func() {
		one.mu.Unlock()
		a.mu.Lock()
		defer a.mu.Unlock()
		if one.waiting--; one.waiting == 0 {
			delete(a.all, person)
		}
	}
}
