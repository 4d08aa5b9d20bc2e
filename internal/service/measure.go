package service

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Flusher makes a batch of the reader lane durable and returns the true state at
// that moment; after an error the outcome is unknown.
type Flusher interface {
	Flush(ctx context.Context, b trail.Batch, layers, tokens []int64) (storage.Heads, error)
}

// FlushRate measures how many events a second are made durable while so many
// callers wait for theirs, as those do who obtain 50 values. It leaves its events in
// the database, in a lane that nobody can verify: it is for a database of its own.
func FlushRate(ctx context.Context, flushURL string, callers int, d time.Duration) (perSecond float64, err error) {
	f, err := storage.NewFlusher(flushURL)
	if err != nil {
		return 0, err
	}
	defer f.Close(ctx)
	key, err := secret.RandomKey()
	if err != nil {
		return 0, err
	}
	defer key.Destroy()
	r := newRecorder(f, key, time.Now, slog.New(slog.DiscardHandler))
	defer r.close()
	names := make([]string, 50)
	for i := range names {
		names[i] = "adytum:NAME_OF_SOME_LENGTH"
	}
	e := trail.Event{Action: "entry.resolve", Outcome: trail.Allowed, Actor: "workload:1", Token: 1, From: "192.0.2.7", Project: "loans", Environment: "live", Names: names, Layers: map[string]int64{"1": 4, "2": 5, "3": 6}}
	var (
		group sync.WaitGroup
		n     atomic.Int64
		first atomic.Pointer[error]
	)
	ctx, cancel := context.WithTimeout(ctx, d)
	defer cancel()
	start := time.Now()
	for range callers {
		group.Go(func() {
			for ctx.Err() == nil {
				if _, _, err := r.release(ctx, e, []int64{1, 2, 3}, 1); err != nil {
					if ctx.Err() == nil {
						first.CompareAndSwap(nil, &err)
					}
					return
				}
				n.Add(1)
			}
		})
	}
	group.Wait()
	if failed := first.Load(); failed != nil {
		return 0, *failed
	}
	return float64(n.Load()) / time.Since(start).Seconds(), nil
}
