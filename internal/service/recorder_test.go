package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// store is a trail in memory whose flushes can be made to fail, before they
// have written or after.
type memoryTrail struct {
	mu      sync.Mutex
	batches map[string]trail.Batch
	order   []trail.Batch
	fail    func(n int) (before, after bool)
	n       int
	delay   time.Duration
}

func (m *memoryTrail) Flush(_ context.Context, b trail.Batch, _, _ []int64) (storage.Heads, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	time.Sleep(m.delay)
	m.n++
	before, after := false, false
	if m.fail != nil {
		before, after = m.fail(m.n)
	}
	if before {
		return storage.Heads{}, errors.New("the connection was cut before the statement")
	}
	key := fmt.Sprint(b.Lane, b.First)
	if present, there := m.batches[key]; there {
		if string(present.MAC) != string(b.MAC) {
			return storage.Heads{}, storage.ErrSeqUsed
		}
	} else {
		m.batches[key] = b
		m.order = append(m.order, b)
	}
	if after {
		return storage.Heads{}, errors.New("the connection was cut between statement and answer")
	}
	return storage.Heads{Now: time.Now()}, nil
}

func recording(t *testing.T, m *memoryTrail) (*recorder, func() *trail.Verifier) {
	t.Helper()
	m.batches = map[string]trail.Batch{}
	key, err := secret.RandomKey()
	require.NoError(t, err)
	r := newRecorder(m, key, time.Now, slog.New(slog.DiscardHandler))
	return r, func() *trail.Verifier {
		r.close()
		v := trail.NewVerifier(key)
		for _, b := range m.order {
			v.Add(b)
		}
		key.Destroy()
		return v
	}
}

func event(action string) trail.Event { return trail.Event{Action: action, Outcome: trail.Allowed} }

func TestNothingIsReleasedWithoutItsDurableEventAndNoneIsLostOrDoubled(t *testing.T) {
	cases := map[string]func(n int) (before, after bool){
		"never fails":                       nil,
		"fails now and then before writing": func(n int) (bool, bool) { return n%3 == 0, false },
		"outcome unknown now and then":      func(n int) (bool, bool) { return false, n%3 == 0 },
		"fails for a while":                 func(n int) (bool, bool) { return n > 5 && n < 13, false },
		"outcome unknown for a while":       func(n int) (bool, bool) { return false, n > 5 && n < 13 },
		"everything at once":                func(n int) (bool, bool) { return n%4 == 0, n%5 == 0 },
	}
	for name, fail := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := &memoryTrail{fail: fail, delay: 100 * time.Microsecond}
			r, verify := recording(t, m)
			var (
				group    sync.WaitGroup
				mu       sync.Mutex
				released = map[string]int64{}
			)
			for i := range 120 {
				group.Go(func() {
					action := fmt.Sprintf("test.%d", i)
					_, at, err := r.release(context.Background(), event(action), nil, 0)
					if err == nil {
						mu.Lock()
						released[action] = at.seq
						mu.Unlock()
					}
				})
			}
			group.Wait()
			v := verify()
			assert.Empty(t, v.Problems)
			stands := map[string]int64{}
			for _, b := range m.order {
				events, err := b.Events()
				require.NoError(t, err)
				for _, e := range events {
					assert.NotContains(t, stands, e.Action, "an event stands twice")
					stands[e.Action] = e.Seq
				}
			}
			for action, seq := range released {
				assert.Equal(t, seq, stands[action], "%s was released and is not in the trail", action)
			}
			if fail == nil {
				assert.Len(t, released, 120)
			}
		})
	}
}

func TestAFlushThatFailsRefusesAllThatWait(t *testing.T) {
	m := &memoryTrail{fail: func(int) (bool, bool) { return true, false }}
	r, verify := recording(t, m)
	_, _, err := r.release(context.Background(), event("a.b"), nil, 0)
	assert.ErrorIs(t, err, storage.ErrUnavailable)
	m.mu.Lock()
	m.fail = nil
	m.mu.Unlock()
	_, at, err := r.release(context.Background(), event("a.c"), nil, 0)
	require.NoError(t, err)
	assert.EqualValues(t, 2, at.seq, "the seq of the failed event is not used for another")
	assert.Empty(t, verify().Problems)
}

func TestManyEventsShareAFlush(t *testing.T) {
	m := &memoryTrail{delay: 2 * time.Millisecond}
	r, verify := recording(t, m)
	for range 1000 {
		require.NoError(t, r.note(context.Background(), event("a.b")))
	}
	v := verify()
	assert.EqualValues(t, 1001, v.Events, "closing writes what waits, and that the lane has ended")
	assert.Less(t, m.n, 200)
}

func TestAClockThatIsSetBackDoesNotMakeTimeRunBackwards(t *testing.T) {
	m := &memoryTrail{}
	r, verify := recording(t, m)
	now := time.Now()
	r.now = func() time.Time { now = now.Add(-time.Minute); return now }
	for range 5 {
		_, _, err := r.release(context.Background(), event("a.b"), nil, 0)
		require.NoError(t, err)
	}
	assert.Empty(t, verify().Problems)
}

func TestRefusalsOfStrangersAreCountedPerSourceAndMinute(t *testing.T) {
	var c refusals
	now := time.Unix(6000, 0)
	refusal := func(from string) trail.Event {
		return trail.Event{Action: "token.use", Outcome: trail.Refused, From: from}
	}
	first, _ := c.add(refusal("192.0.2.1"), now)
	assert.True(t, first)
	for range 9 {
		first, _ = c.add(refusal("192.0.2.1"), now)
		assert.False(t, first)
	}
	first, _ = c.add(refusal("192.0.2.2"), now)
	assert.True(t, first, "another source")
	first, ended := c.add(refusal("192.0.2.1"), now.Add(time.Minute))
	assert.True(t, first, "another minute")
	require.Len(t, ended, 1)
	assert.EqualValues(t, 9, ended[0].Count)
	for i := range 10000 {
		c.add(refusal(net.IPv4(10, 0, byte(i>>8), byte(i)).String()), now.Add(time.Minute))
	}
	assert.LessOrEqual(t, len(c.counts), 4097, "memory is bounded")
}

func TestGuessingIsSlowedDownAndNobodyIsLockedOut(t *testing.T) {
	var s sluice
	now := time.Now()
	for range freeFailures - 1 {
		s.failed(now, "name a")
	}
	assert.Zero(t, s.delay(now, "name a"))
	var last time.Duration
	for range 10 {
		s.failed(now, "name a")
		d := s.delay(now, "name a", "from b")
		assert.GreaterOrEqual(t, d, last)
		last = d
	}
	assert.Equal(t, longestDelay, last)
	assert.Zero(t, s.delay(now.Add(forgetFailures+time.Second), "name a"), "it is forgotten")
	s.succeeded("name a")
	assert.Zero(t, s.delay(now, "name a"))
}

func TestPasswordHashes(t *testing.T) {
	hash := hashPassword(secret.FromString("reading room"))
	assert.Regexp(t, `^\$argon2id\$v=19\$m=19456,t=2,p=1\$`, hash)
	assert.True(t, checkPassword(hash, secret.FromString("reading room")))
	assert.False(t, checkPassword(hash, secret.FromString("reading rooms")))
	assert.False(t, checkPassword(nobody, secret.FromString("")))
	assert.False(t, checkPassword("broken", secret.FromString("")))
	assert.NotEqual(t, hash, hashPassword(secret.FromString("reading room")), "salted")
}

// Another instance closes the lane, as it does of one that is silent: nothing is
// lost, nothing doubled, and what is answered has its event in the lane that
// follows.
func TestALaneThatWasClosedByAnotherIsLeft(t *testing.T) {
	for name, unsure := range map[string]bool{"between two flushes": false, "while the outcome of one is unknown": true} {
		t.Run(name, func(t *testing.T) {
			m := &memoryTrail{}
			r, verify := recording(t, m)
			_, _, err := r.release(context.Background(), event("a.first"), nil, 0)
			require.NoError(t, err)
			first := r.laneName()
			if unsure {
				m.mu.Lock()
				m.fail = func(int) (bool, bool) { return true, false }
				m.mu.Unlock()
				require.NoError(t, r.note(context.Background(), event("a.noted")))
				_, _, err = r.release(context.Background(), event("a.refused"), nil, 0)
				require.ErrorIs(t, err, storage.ErrUnavailable)
			}
			m.mu.Lock()
			m.fail = nil
			closing := trail.NewBatch(r.key, []trail.Event{{Lane: first, Seq: 2, At: time.Now(), Action: trail.LaneClosed, Outcome: trail.Allowed}})
			m.batches[fmt.Sprint(first, 2)] = closing
			m.order = append(m.order, closing)
			m.mu.Unlock()
			_, at, err := r.release(context.Background(), event("a.second"), nil, 0)
			require.NoError(t, err)
			assert.NotEqual(t, first, r.laneName())
			assert.LessOrEqual(t, at.seq, int64(2))
			v := verify()
			assert.Empty(t, v.Problems)
			actions := map[string]int{}
			for _, b := range m.order {
				events, err := b.Events()
				require.NoError(t, err)
				for _, e := range events {
					actions[e.Action]++
				}
			}
			want := map[string]int{"a.first": 1, "a.second": 1, trail.LaneClosed: 2}
			if unsure {
				want["a.noted"] = 1
				delete(actions, "a.refused") // its event may stand: nothing was answered
			}
			assert.Equal(t, want, actions)
		})
	}
}
