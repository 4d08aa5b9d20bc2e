package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// recorder is this instance's reader lane: one goroutine that gives events their
// seqs and flushes what waits, up to a batch, without a timer.
type recorder struct {
	flusher Flusher
	key     *secret.Key
	lane    atomic.Pointer[string]
	now     func() time.Time
	log     *slog.Logger
	queue   chan *waiting
	done    chan struct{}

	next    int64
	last    time.Time
	unsure  *flight // a batch whose outcome is unknown
	refused refusals
}

// waiting is an event on its way, with what to compare when it is durable.
type waiting struct {
	event  trail.Event
	layers []int64
	token  int64
	result chan flushed // nil: nobody waits
}

type flushed struct {
	heads storage.Heads
	at    stand
	err   error
}

// stand is where an event stands.
type stand struct {
	lane string
	seq  int64
}

// flight is a batch with the events in it.
type flight struct {
	batch trail.Batch
	all   []*waiting
}

const (
	queueLength  = 8192
	flushTimeout = 5 * time.Second
	flushTries   = 3
)

func newRecorder(f Flusher, key *secret.Key, now func() time.Time, log *slog.Logger) *recorder {
	r := &recorder{flusher: f, key: key, now: now, log: log, queue: make(chan *waiting, queueLength), done: make(chan struct{})}
	r.openLane()
	go r.run()
	return r
}

// openLane begins a lane that nobody else writes.
func (r *recorder) openLane() {
	boot := make([]byte, 8)
	_, _ = rand.Read(boot) // never fails since Go 1.24
	lane := trail.ReaderLane(hex.EncodeToString(boot))
	r.lane.Store(&lane)
	r.next = 1
}

// laneName is the lane that is written now.
func (r *recorder) laneName() string { return *r.lane.Load() }

// close ends the lane when all that waits has been written.
func (r *recorder) close() {
	close(r.queue)
	<-r.done
}

// release makes an event durable and returns the true state at that moment. No
// value may be answered before it has returned without error.
func (r *recorder) release(ctx context.Context, e trail.Event, layers []int64, token int64) (storage.Heads, stand, error) {
	w := &waiting{event: e, layers: layers, token: token, result: make(chan flushed, 1)}
	select {
	case r.queue <- w:
	case <-ctx.Done():
		return storage.Heads{}, stand{}, ctx.Err()
	}
	select {
	case f := <-w.result:
		return f.heads, f.at, f.err
	case <-ctx.Done():
		return storage.Heads{}, stand{}, ctx.Err()
	}
}

// note records an event that nobody waits for; it is durable within a second.
// With the queue full for long the request is refused rather than the event lost.
func (r *recorder) note(ctx context.Context, e trail.Event) error {
	select {
	case r.queue <- &waiting{event: e}:
		return nil
	default:
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	select {
	case r.queue <- &waiting{event: e}:
		return nil
	case <-ctx.Done():
		return problem(Unavailable, "the trail cannot be written; try again in a moment")
	}
}

// noteStranger records the refusal of someone who did not sign in: the first of
// a source and minute at once, the others as a count when the minute is over.
func (r *recorder) noteStranger(ctx context.Context, e trail.Event) error {
	first, ended := r.refused.add(e, r.now())
	for _, count := range ended {
		if err := r.note(ctx, count); err != nil {
			return err
		}
	}
	if !first {
		return nil
	}
	return r.note(ctx, e)
}

func (r *recorder) run() {
	defer close(r.done)
	for first := range r.queue {
		r.flush(r.gather(first))
	}
	if r.next > 1 {
		r.flush([]*waiting{{event: trail.Event{Action: trail.LaneClosed, Outcome: trail.Allowed}}})
	}
}

// gather takes what waits, up to a batch.
func (r *recorder) gather(first *waiting) []*waiting {
	all := []*waiting{first}
	for yields := 0; len(all) < trail.MaxBatch; {
		select {
		case w, open := <-r.queue:
			if !open {
				return all
			}
			all = append(all, w)
		default:
			// Requests that are ready to be recorded get their turn first: a
			// larger batch costs hardly more than a small one.
			if yields++; yields > maxYields {
				return all
			}
			runtime.Gosched()
		}
	}
	return all
}

const maxYields = 3

func (r *recorder) flush(all []*waiting) {
	if r.unsure != nil {
		// Its callers were refused already; what counts is that its seqs are settled.
		if _, err := r.write(r.unsure); errors.Is(err, storage.ErrSeqUsed) {
			all = slices.Concat(unwaited(r.unsure.all), all)
			r.openLane()
		} else if err != nil {
			r.answer(all, storage.Heads{}, stand{}, err)
			return
		}
		r.unsure = nil
	}
	f := r.prepare(all)
	heads, err := r.write(f)
	if errors.Is(err, storage.ErrSeqUsed) {
		// The lane was closed while this instance was silent for too long. None of
		// these events was written: they begin a lane of their own.
		r.openLane()
		f = r.prepare(all)
		heads, err = r.write(f)
	}
	if err != nil {
		r.unsure = f
	}
	r.answer(all, heads, stand{f.batch.Lane, f.batch.First}, err)
}

// unwaited are the events of a batch that nobody waited for. Who waited was
// refused, and has no event to come.
func unwaited(all []*waiting) []*waiting {
	var out []*waiting
	for _, w := range all {
		if w.result == nil {
			out = append(out, w)
		}
	}
	return out
}

// prepare gives the events their places in the lane.
func (r *recorder) prepare(all []*waiting) *flight {
	now := r.now().UTC().Truncate(time.Millisecond)
	if now.Before(r.last) {
		now = r.last // the clock was set back; within a lane time does not run backwards
	}
	r.last = now
	events := make([]trail.Event, len(all))
	for i, w := range all {
		events[i] = w.event
		events[i].Lane, events[i].Seq, events[i].At = r.laneName(), r.next, now
		r.next++
	}
	return &flight{trail.NewBatch(r.key, events), all}
}

// write flushes one batch, again and the same after an unknown outcome.
func (r *recorder) write(f *flight) (heads storage.Heads, err error) {
	layers, tokens := map[int64]bool{}, map[int64]bool{}
	for _, w := range f.all {
		for _, id := range w.layers {
			layers[id] = true
		}
		if w.token != 0 {
			tokens[w.token] = true
		}
	}
	for try := range flushTries {
		ctx, cancel := context.WithTimeout(context.Background(), flushTimeout)
		heads, err = r.flusher.Flush(ctx, f.batch, slices.Collect(maps.Keys(layers)), slices.Collect(maps.Keys(tokens)))
		cancel()
		if err == nil {
			return heads, nil
		}
		if errors.Is(err, storage.ErrSeqUsed) {
			r.log.Warn("the lane of the trail was closed by another instance, since this one was silent; a new one is begun", "lane", f.batch.Lane)
			return heads, err
		}
		time.Sleep(time.Duration(try+1) * 50 * time.Millisecond)
	}
	r.log.Warn("the trail could not be written", "events", f.batch.N, "error", err)
	return heads, fmt.Errorf("%w: the trail could not be written", storage.ErrUnavailable)
}

func (r *recorder) answer(all []*waiting, heads storage.Heads, first stand, err error) {
	for i, w := range all {
		if w.result != nil {
			w.result <- flushed{heads, stand{first.lane, first.seq + int64(i)}, err}
		}
	}
}

// refusals counts the refusals of strangers per source and minute.
type refusals struct {
	mu     sync.Mutex
	minute int64
	counts map[string]*trail.Event
}

// add tells whether a refusal is the first of its source in its minute, and
// returns the counts of a minute that has ended.
func (c *refusals) add(e trail.Event, now time.Time) (first bool, ended []trail.Event) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if minute := now.Unix() / 60; minute != c.minute || c.counts == nil {
		for _, counted := range c.counts {
			if counted.Count > 0 {
				ended = append(ended, *counted)
			}
		}
		c.minute, c.counts = minute, map[string]*trail.Event{}
	}
	key := e.Action + " " + e.From
	if counted, seen := c.counts[key]; seen {
		counted.Count++
		return false, ended
	}
	// A flood from many sources is counted as one; memory stays bounded.
	if len(c.counts) >= 4096 {
		e.From = "others"
		if counted, seen := c.counts[e.Action+" others"]; seen {
			counted.Count++
			return false, ended
		}
		key = e.Action + " others"
	}
	c.counts[key] = &e
	return true, ended
}
