package service_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

// second is another instance on the same database, which knows nothing of the first.
func second(t *testing.T, s *testkit.Service) *testkit.Service {
	t.Helper()
	other := &testkit.Service{Config: s.Config, Admin: s.Admin, Log: &testkit.Log{}}
	other.Serve(t)
	return other
}

func TestNoAnswerIsStaleOnAnyInstance(t *testing.T) {
	s, owner := loans(t)
	instances := []*client.Client{owner, moved(t, owner, second(t, s).URL)}
	random := rand.New(rand.NewPCG(5, 6))
	model := map[string]string{}
	for i := range 400 {
		c, other := instances[random.IntN(2)], instances[random.IntN(2)]
		name := fmt.Sprintf("N%d", random.IntN(8))
		_, set := model[name]
		switch random.IntN(4) {
		case 0, 1:
			value := fmt.Sprint("value ", i)
			kind := []string{"secret", "setting"}[random.IntN(2)]
			keep(t, c, live, wire.Edit{Name: name, Kind: kind, Value: value})
			model[name] = value
		case 2:
			_, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: name, Act: "remove"}}})
			assert.Equal(t, set, err == nil)
			delete(model, name)
		}
		got, err := other.Value(ctx, live, name)
		want, set := model[name]
		require.Equal(t, set, err == nil, "step %d: %s: %v", i, name, err)
		require.Equal(t, want, got.Value, "step %d: %s", i, name)
	}
	entries, err := instances[1].Entries(ctx, live)
	require.NoError(t, err)
	assert.Len(t, entries.Entries, len(model))
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}

// A hundred thousand keeps, revocations and resolves by eight workloads on two
// instances: no resolve that began after an acknowledged change answers what was
// before, and no token is good for anything after its revocation. Each workload
// has names of its own, so that it knows what must be answered.
func TestNothingIsStaleInAHundredThousandSteps(t *testing.T) {
	s, owner := loans(t)
	urls := []string{s.URL, second(t, s).URL}
	const workers, steps = 8, 12_500
	var group sync.WaitGroup
	for w := range workers {
		workload, err := owner.AddWorkload(ctx, fmt.Sprintf("worker-%d", w))
		require.NoError(t, err)
		_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "workload", Who: workload.Name, Role: "editor", Project: "loans"})
		require.NoError(t, err)
		group.Go(func() {
			random := rand.New(rand.NewPCG(uint64(w), 7))
			signIn := func() (on [2]*client.Client) {
				for i, url := range urls {
					on[i], err = client.New(url)
					if err == nil && i == 0 {
						_, err = on[0].SignInWorkload(ctx, workload.ClientID, workload.ClientSecret)
					} else if err == nil {
						on[1].UseToken(on[0].Token())
					}
					if !assert.NoError(t, err) {
						return on
					}
				}
				return on
			}
			clients := signIn()
			model := map[string]string{}
			for step := range steps {
				name := fmt.Sprintf("W%d_%d", w, random.IntN(3))
				switch chance := random.IntN(1000); {
				case chance < 15:
					value := fmt.Sprint("value ", step)
					_, err := clients[random.IntN(2)].Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit(name, value)}})
					if !assert.NoError(t, err) {
						return
					}
					model[name] = value
				case chance < 16:
					if !assert.NoError(t, clients[random.IntN(2)].SignOut(ctx)) {
						return
					}
					for _, c := range clients {
						if _, err := c.Resolve(ctx, live, nil, []string{"adytum:" + name}); !assert.ErrorIs(t, err, client.ErrNotSignedIn, "step %d: a revoked token", step) {
							return
						}
					}
					clients = signIn()
				}
				out, err := clients[random.IntN(2)].Resolve(ctx, live, nil, []string{"adytum:" + name})
				if !assert.NoError(t, err) {
					return
				}
				got := ""
				if len(out.Values) > 0 {
					got = out.Values[0].Value
				}
				if !assert.Equal(t, model[name], got, "step %d", step) {
					return
				}
			}
		})
	}
	group.Wait()
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
	assert.Greater(t, v.Events, int64(workers*steps))
}

func TestARevocationHoldsAtOnceOnAnyInstance(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	other := second(t, s)
	for range 20 {
		c := s.Owner(t)
		there := moved(t, c, other.URL)
		_, err := there.Value(ctx, live, "KEY")
		require.NoError(t, err)
		require.NoError(t, c.SignOut(ctx))
		_, err = there.Value(ctx, live, "KEY")
		require.ErrorIs(t, err, client.ErrNotSignedIn)
		_, err = there.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "y")}})
		require.ErrorIs(t, err, client.ErrNotSignedIn)
	}
	priya := person(t, s, owner, "priya@fernhollow.example", "", whole)
	there := moved(t, priya, other.URL)
	for range 10 {
		g, err := owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live"})
		require.NoError(t, err)
		_, err = there.Value(ctx, live, "KEY")
		require.NoError(t, err, "granted")
		require.NoError(t, owner.RemoveGrant(ctx, g.ID))
		_, err = there.Value(ctx, live, "KEY")
		require.Equal(t, 404, status(err), "taken back")
	}
}

// A reader and writers at once: what is read was acknowledged before the read
// began, or later.
func TestReadsDuringWritesNeverGoBack(t *testing.T) {
	s, owner := loans(t)
	there := moved(t, owner, second(t, s).URL)
	keep(t, owner, live, secretEdit("COUNTER", "0"))
	var acknowledged sync.Map
	acknowledged.Store("n", 0)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 1; i <= 60; i++ {
			_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("COUNTER", fmt.Sprint(i))}})
			if !assert.NoError(t, err) {
				return
			}
			acknowledged.Store("n", i)
		}
	}()
	for reading := true; reading; {
		select {
		case <-done:
			reading = false
		default:
		}
		least, _ := acknowledged.Load("n")
		v, err := there.Value(ctx, live, "COUNTER")
		require.NoError(t, err)
		var got int
		_, err = fmt.Sscan(v.Value, &got)
		require.NoError(t, err)
		require.GreaterOrEqual(t, got, least, "an answer from before an acknowledged change")
	}
}

// Killed in the midst of concurrent changes, the service and its database lose
// none that was acknowledged.
func TestAKilledServiceAndDatabaseLoseNothingAcknowledged(t *testing.T) {
	s, owner := loans(t)
	// fsync is off in tests, so that only processes are killed here, not the machine.
	config := filepath.Join(t.TempDir(), "adytumd.yaml")
	testkit.Write(t, filepath.Dir(config), "adytumd.yaml", fmt.Sprintf("listen: 127.0.0.1:0\ndatabase: %q\ndatabase-flush: %q\nroot-key-file: %q\n", s.Config.Database, s.Config.Flush, s.Config.RootKeyFile))
	process := exec.Command(testkit.Program(t, "adytumd"), "--config", config, "serve")
	var log syncBuffer
	process.Stderr = &log
	require.NoError(t, process.Start())
	t.Cleanup(func() { _ = process.Process.Kill() })
	var address string
	require.Eventually(t, func() bool {
		_, rest, found := strings.Cut(log.String(), `"address":"`)
		address, _, _ = strings.Cut(rest, `"`)
		return found
	}, 20*time.Second, 20*time.Millisecond)
	c := moved(t, owner, address)

	var (
		group sync.WaitGroup
		mu    sync.Mutex
		kept  []string
	)
	for w := range 200 {
		group.Go(func() {
			for i := range 20 {
				name := fmt.Sprintf("W%d_%d", w, i)
				if _, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit(name, "value of "+name)}}); err != nil {
					return
				}
				mu.Lock()
				kept = append(kept, name)
				mu.Unlock()
			}
		})
	}
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(kept) > 40
	}, time.Minute, 10*time.Millisecond, "in the midst of it, however slow the machine")
	require.NoError(t, process.Process.Kill())
	require.NoError(t, testkit.Cluster(t).Kill())
	group.Wait()
	require.NoError(t, testkit.Cluster(t).Restart(ctx))
	require.Greater(t, len(kept), 20)
	s.Stop()
	s.Serve(t)
	again := s.Owner(t)
	references := make([]string, len(kept))
	for i, name := range kept {
		references[i] = "adytum:" + name
	}
	for start := 0; start < len(references); start += 1000 {
		out, err := again.Resolve(ctx, live, references[start:min(start+1000, len(references))], nil)
		require.NoError(t, err)
		for i, v := range out.Values {
			assert.Equal(t, "value of "+kept[start+i], v.Value)
		}
	}
	v, err := again.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}

// syncBuffer is a buffer that a program writes while a test reads.
type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
