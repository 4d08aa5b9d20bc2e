package trail_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/tlog"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
)

// tiles keeps a tree's tiles as a database would.
type tiles map[string][]byte

func (s tiles) keep(e *trail.Edge) {
	for _, t := range e.Tiles() {
		s[fmt.Sprint(t.Level, " ", t.Index)] = t.Hashes
	}
}

func (s tiles) read(level int, index int64) ([]byte, error) {
	if h, there := s[fmt.Sprint(level, " ", index)]; there {
		return h, nil
	}
	return nil, errors.New("no such tile")
}

// naive is the root as RFC 6962, section 2.1, defines it.
func naive(leaves []trail.Hash) trail.Hash {
	if len(leaves) == 1 {
		return leaves[0]
	}
	k := 1
	for k*2 < len(leaves) {
		k *= 2
	}
	return tlog.NodeHash(naive(leaves[:k]), naive(leaves[k:]))
}

func TestTheTreeIsThatOfRFC6962(t *testing.T) {
	stored, edge := tiles{}, &trail.Edge{}
	var leaves []trail.Hash
	sizes := map[int64]trail.Hash{}
	random := rand.New(rand.NewPCG(1, 2))
	for len(leaves) < 70_000 {
		for range 1 + random.IntN(700) {
			leaf := trail.Leaf(fmt.Append(nil, len(leaves)))
			leaves = append(leaves, leaf)
			edge.Append(leaf)
		}
		stored.keep(edge)
		if random.IntN(20) == 0 || len(leaves) > 65_000 {
			sizes[edge.Size] = edge.Root()
			require.Equal(t, naive(leaves), edge.Root(), "%d leaves", edge.Size)
		}
		if random.IntN(3) == 0 { // as another instance goes on
			opened, err := trail.OpenEdge(edge.Size, stored.read)
			require.NoError(t, err)
			require.Equal(t, edge.Root(), opened.Root())
			edge = opened
		}
	}
	require.Greater(t, len(sizes), 5)
	now := trail.Checkpoint{Size: edge.Size, Root: edge.Root()}
	for size, root := range sizes {
		old := trail.Checkpoint{Size: size, Root: root}
		proof, err := trail.ProveGrowth(size, now.Size, stored.read)
		require.NoError(t, err)
		assert.NoError(t, trail.CheckGrowth(old, now, proof))
		if size == now.Size {
			continue
		}
		old.Root[3] ^= 1
		assert.ErrorContains(t, trail.CheckGrowth(old, now, proof), "rewritten")
		assert.ErrorContains(t, trail.CheckGrowth(now, trail.Checkpoint{Size: size, Root: root}, nil), "shorter")
	}
	for range 200 {
		index := random.Int64N(now.Size)
		proof, err := trail.ProveEvent(index, now.Size, stored.read)
		require.NoError(t, err)
		content := fmt.Append(nil, index)
		require.NoError(t, trail.CheckEvent(content, index, now, proof))
		require.Error(t, trail.CheckEvent(content, (index+1)%now.Size, now, proof))
		require.Error(t, trail.CheckEvent(append(content, ' '), index, now, proof))
	}
	_, err := trail.ProveEvent(now.Size, now.Size, stored.read)
	assert.Error(t, err)
	_, err = trail.ProveGrowth(now.Size+1, now.Size, stored.read)
	assert.Error(t, err)
	assert.NoError(t, trail.CheckGrowth(trail.Checkpoint{}, now, nil), "everything has grown from nothing")
	empty, err := tlog.TreeHash(0, nil)
	require.NoError(t, err)
	assert.Equal(t, empty, (&trail.Edge{}).Root())
}

func newKey(t *testing.T) (*secret.Key, string) {
	t.Helper()
	seed, err := secret.RandomKey()
	require.NoError(t, err)
	t.Cleanup(seed.Destroy)
	key, err := trail.CheckpointKey("adytum/fernhollow", seed)
	require.NoError(t, err)
	return seed, key
}

func TestCheckpointsAreSignedNotes(t *testing.T) {
	seed, key := newKey(t)
	c := trail.Checkpoint{Origin: "adytum/fernhollow", Size: 7, Root: trail.Leaf([]byte("x")), At: at, Heads: trail.HeadsDigest(map[string]int64{"organization": 3})}
	note, err := c.Sign(seed)
	require.NoError(t, err)
	assert.Regexp(t, `^adytum/fernhollow\n7\n[A-Za-z0-9+/=]{44}\ntime 2026-03-01T09:30:00.005Z\nheads [A-Za-z0-9+/=]{44}\n\n— adytum/fernhollow [A-Za-z0-9+/=]+\n$`, string(note))
	back, err := trail.OpenCheckpoint(note, key)
	require.NoError(t, err)
	assert.Equal(t, c, back)

	_, other := newKey(t)
	for what, broken := range map[string][]byte{
		"altered": bytes.Replace(note, []byte("\n7\n"), []byte("\n8\n"), 1), "nothing": nil, "too long": append(note, make([]byte, 5000)...), "cut off": note[:len(note)-9], "no note": []byte("hello\n"),
	} {
		_, err := trail.OpenCheckpoint(broken, key)
		assert.ErrorIs(t, err, trail.ErrCheckpoint, what)
	}
	_, err = trail.OpenCheckpoint(note, other)
	assert.ErrorIs(t, err, trail.ErrCheckpoint, "another installation's")
	_, err = trail.OpenCheckpoint(note, "no key")
	assert.ErrorContains(t, err, "the key is none")
}

func FuzzCheckpoint(f *testing.F) {
	_, key := func() (*secret.Key, string) {
		seed, _ := secret.NewKey(make([]byte, 32))
		key, _ := trail.CheckpointKey("o", seed)
		c := trail.Checkpoint{Origin: "o", Size: 3, At: at}
		note, _ := c.Sign(seed)
		f.Add(note)
		return seed, key
	}()
	f.Fuzz(func(t *testing.T, note []byte) {
		c, err := trail.OpenCheckpoint(note, key)
		if err == nil {
			require.GreaterOrEqual(t, c.Size, int64(0))
		}
	})
}

// Whatever bytes a batch holds: reading it does not fail otherwise than by an
// error, and what the scanner reads of events is what encoding/json reads.
func FuzzElements(f *testing.F) {
	f.Add([]byte(`[{"a":"b\"c","d":["e",{"f":"]"}],"g":true},{"a":"\\"}]`))
	f.Add([]byte(`[{"action":"a.b","at":"2026-03-01T09:30:00.005Z","lane":"l","names":["x"],"seq":"1"}]`))
	f.Add([]byte(`[`))
	f.Fuzz(func(t *testing.T, body []byte) {
		b := trail.Batch{Lane: "l", First: 1, N: 1, Body: body}
		var x trail.Indexer
		_, indexed := x.Index(b)
		events, err := b.Events()
		if err == nil && indexed == nil {
			for _, e := range events {
				require.NotEmpty(t, e.Canonical())
			}
		}
	})
}

// What a filter chooses has the filter's terms.
func TestWhateverAFilterChoosesIsFoundByItsTerms(t *testing.T) {
	key, err := secret.RandomKey()
	require.NoError(t, err)
	defer key.Destroy()
	random := rand.New(rand.NewPCG(5, 6))
	pick := func(all ...string) string { return all[random.IntN(len(all))] }
	var x trail.Indexer
	chosen := 0
	for range 2000 {
		var events []trail.Event
		for i := range 1 + random.IntN(4) {
			events = append(events, trail.Event{Lane: "l", Seq: int64(i + 1), At: at.Add(time.Duration(random.IntN(100)) * time.Minute), Action: pick("entry.value", "entry.resolve", "change.commit"), Outcome: trail.Outcome(pick("allowed", "refused")),
				Actor: pick("", "person:1", "workload:1"), From: pick("192.0.2.1", "192.0.2.2"), Project: pick("", "loans", "notices"), Environment: pick("", "live"),
				Names: []string{pick("adytum:KEY", "adytum:loans/live/KEY@3:a.b", "HOST"), pick("A", "é\"<\n")}})
		}
		b := trail.NewBatch(key, events)
		index, err := x.Index(b)
		require.NoError(t, err)
		has := map[int64]bool{}
		for _, term := range index.Terms {
			has[term] = true
		}
		f := trail.Filter{Actor: pick("", "person:1"), Action: pick("", "entry", "entry.value"), Outcome: trail.Outcome(pick("", "refused")), Project: pick("", "loans"), Environment: pick("", "live"),
			Name: pick("", "KEY", "é\"<\n"), From: pick("", "192.0.2.2"), Since: at.Add(time.Duration(random.IntN(50)) * time.Minute), Until: at.Add(time.Duration(50+random.IntN(50)) * time.Minute)}
		for _, e := range events {
			if !f.Chooses(e) {
				continue
			}
			chosen++
			for _, term := range f.Terms() {
				require.True(t, has[term], "%+v of %+v", f, e)
			}
			require.False(t, index.Latest.Before(f.Since) || !index.Earliest.Before(f.Until))
		}
	}
	assert.Greater(t, chosen, 100)
}

// records are the records of some lanes' events, with a checkpoint in their midst.
func records(t *testing.T, seed *secret.Key) (text string, middle trail.Checkpoint) {
	t.Helper()
	var out bytes.Buffer
	edge := &trail.Edge{}
	require.NoError(t, trail.WriteRecords(&out, edge, nil))
	for i := range 300 {
		e := trail.Event{Lane: fmt.Sprintf("layer-%d", i%3), Seq: int64(i/3 + 1), At: at.Add(time.Duration(i) * time.Second), Action: "change.commit", Outcome: trail.Allowed, Reason: fmt.Sprint("<reason> ", i)}
		require.NoError(t, trail.WriteRecord(&out, e.Canonical()))
		edge.Append(trail.Leaf(e.Canonical()))
		if i == 149 {
			middle = trail.Checkpoint{Origin: "adytum/fernhollow", Size: edge.Size, Root: edge.Root(), At: at}
		}
	}
	note, err := trail.Checkpoint{Origin: "adytum/fernhollow", Size: edge.Size, Root: edge.Root(), At: at.Add(time.Hour)}.Sign(seed)
	require.NoError(t, err)
	require.NoError(t, trail.EndRecords(&out, note))
	return out.String(), middle
}

func TestRecordsProveThemselves(t *testing.T) {
	seed, key := newKey(t)
	text, middle := records(t, seed)
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	join := func(parts ...[]string) string {
		var all []string
		for _, p := range parts {
			all = append(all, p...)
		}
		return strings.Join(all, "")
	}
	altered := append([]string{}, lines...)
	altered[100] = strings.Replace(altered[100], "reason", "season", 1)
	swapped := append([]string{}, lines...)
	swapped[7], swapped[10] = swapped[10], swapped[7]
	dated := append([]string{}, lines...)
	dated[50] = strings.Replace(dated[50], "2026-03-01", "2026-02-01", 1)
	for _, c := range []struct{ what, text, says string }{
		{"whole", text, ""},
		{"altered", join(altered), "between this event and event 299"},
		{"one removed", join(lines[:100], lines[101:]), "1 events are missing before event"},
		{"one inserted", join(lines[:100], lines[99:]), "the event stands twice"},
		{"two swapped", join(swapped), "events are missing before"},
		{"dated back", join(dated), "dated before the one that precedes it"},
		{"cut at the end", join(lines[:250], lines[301:]), "speaks of 300 events, and the tree ends with 249"},
		{"something after the end", text + "more", "something follows the checkpoint"},
		{"a line that is no event", join(lines[:100], []string{"{\n"}, lines[101:]), "the line holds no event"},
	} {
		v, point, err := trail.ReadRecords(strings.NewReader(c.text), key, middle)
		require.NoError(t, err, c.what)
		if c.says == "" {
			assert.Empty(t, v.Problems, c.what)
			assert.EqualValues(t, 300, v.Events)
			assert.EqualValues(t, 300, point.Size)
			continue
		}
		if assert.NotEmpty(t, v.Problems, c.what) {
			assert.Contains(t, fmt.Sprint(v.Problems), c.says, c.what)
		}
	}
	other := middle
	other.Root[0] ^= 1
	v, _, err := trail.ReadRecords(strings.NewReader(text), key, other)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(v.Problems), "the first 150 events are not those of the checkpoint")
	other = middle
	other.Size = 400
	v, _, err = trail.ReadRecords(strings.NewReader(text), key, other)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(v.Problems), "the last 100 events are missing")

	_, wrong := newKey(t)
	_, _, err = trail.ReadRecords(strings.NewReader(text), wrong)
	assert.ErrorIs(t, err, trail.ErrCheckpoint)
	for what, broken := range map[string]string{"nothing": "", "no records": "hello\n", "no end": join(lines[:200]), "an edge that is not whole": `{"records":7}` + "\n", "an edge that is too short": `{"records":7,"edge":[{"Level":0,"Index":0,"Hashes":"AAAA"}]}` + "\n", "below nothing": `{"records":-7}` + "\n"} {
		_, _, err := trail.ReadRecords(strings.NewReader(broken), key)
		assert.ErrorIs(t, err, trail.ErrRecords, what)
	}
}

func FuzzRecords(f *testing.F) {
	seed, _ := secret.NewKey(make([]byte, 32))
	key, _ := trail.CheckpointKey("adytum/fernhollow", seed)
	f.Add([]byte("{\"records\":0}\n{\"action\":\"a.b\",\"at\":\"2026-03-01T09:30:00.005Z\",\"lane\":\"l\",\"outcome\":\"allowed\",\"seq\":\"1\"}\n{\"checkpoint\":\"AAAA\"}\n"))
	f.Add([]byte("{\"records\":300,\"edge\":[]}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		v, _, err := trail.ReadRecords(bytes.NewReader(text), key)
		require.True(t, v != nil || err != nil)
	})
}

func TestAProofOfOneEvent(t *testing.T) {
	seed, key := newKey(t)
	stored, edge := tiles{}, &trail.Edge{}
	var third trail.Event
	for i := range 1000 {
		e := trail.Event{Lane: "organization", Seq: int64(i + 1), At: at, Action: "grant.add", Outcome: trail.Allowed, Reason: "a <b> & c"}
		if i == 2 {
			third = e
		}
		edge.Append(trail.Leaf(e.Canonical()))
	}
	stored.keep(edge)
	note, err := trail.Checkpoint{Origin: "adytum/fernhollow", Size: edge.Size, Root: edge.Root(), At: at}.Sign(seed)
	require.NoError(t, err)
	proof, err := trail.ProveEvent(2, edge.Size, stored.read)
	require.NoError(t, err)
	e, c, err := trail.CheckProof(third.Canonical(), 2, proof, note, key)
	require.NoError(t, err)
	assert.Equal(t, third, e)
	assert.EqualValues(t, 1000, c.Size)
	_, _, err = trail.CheckProof(third.Canonical(), 3, proof, note, key)
	assert.Error(t, err)
	_, err = trail.ParseHashes([]string{"nonsense"})
	assert.Error(t, err)
	texts := []string{proof[0].String()}
	hashes, err := trail.ParseHashes(texts)
	require.NoError(t, err)
	assert.Equal(t, proof[:1], hashes)

	for text, want := range map[string]bool{"layer-3:12": true, "organization:1": true, "layer-3": false, "layer-3:x": false, ":3": false, "layer-3:0": false} {
		_, _, ok := trail.ParsePlace(text)
		assert.Equal(t, want, ok, text)
	}
}
