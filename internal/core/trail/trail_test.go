package trail_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
)

var at = time.Date(2026, 3, 1, 9, 30, 0, 5_000_000, time.UTC)

func TestCanonicalFormAsRFC8785HasIt(t *testing.T) {
	e := trail.Event{Lane: "reader-1", Seq: 12345678901234567, At: at, Action: "entry.resolve", Outcome: trail.Allowed,
		Actor: "person:3", Names: []string{"B", "A"}, Layers: map[string]int64{"9": 2, "10": 7},
		Reason: "tab\t \"quoted\" \\ \x01 <&> \u2028 é"}
	want := `{"action":"entry.resolve","actor":"person:3","at":"2026-03-01T09:30:00.005Z","lane":"reader-1",` +
		`"layers":{"10":"7","9":"2"},"names":["B","A"],"outcome":"allowed",` +
		`"reason":"tab\t \"quoted\" \\ \u0001 <&> ` + "\u2028" + ` é","seq":"12345678901234567"}`
	assert.Equal(t, want, string(e.Canonical()))

	back, err := trail.Parse(e.Canonical())
	require.NoError(t, err)
	assert.Equal(t, e, back)
}

func FuzzCanonical(f *testing.F) {
	f.Add("reason", "name", int64(3))
	f.Fuzz(func(t *testing.T, reason, name string, n int64) {
		e := trail.Event{Lane: "l", Seq: n, At: at, Action: "a.b", Outcome: trail.Allowed, Reason: reason, Names: []string{name}}
		canonical := e.Canonical()
		require.True(t, json.Valid(canonical), "%s", canonical)
		back, err := trail.Parse(canonical)
		require.NoError(t, err)
		require.Equal(t, canonical, back.Canonical(), "reading and writing again changes nothing")
	})
}

// chain makes n batches of three events each in one lane.
func chain(key *secret.Key, lane string, n int) []trail.Batch {
	var batches []trail.Batch
	seq := int64(1)
	for range n {
		var events []trail.Event
		for range 3 {
			events = append(events, trail.Event{Lane: lane, Seq: seq, At: at.Add(time.Duration(seq) * time.Second), Action: "a.b", Outcome: trail.Allowed})
			seq++
		}
		batches = append(batches, trail.NewBatch(key, events))
	}
	return batches
}

func TestVerifierNamesTheFirstPlaceThatIsWrong(t *testing.T) {
	key, err := secret.RandomKey()
	require.NoError(t, err)
	defer key.Destroy()
	other := chain(key, "layer-2", 3)

	cases := []struct {
		what string
		harm func([]trail.Batch) []trail.Batch
		head int64
		seq  int64
		says string
	}{
		{"whole", func(b []trail.Batch) []trail.Batch { return b }, 9, 0, ""},
		{"altered", func(b []trail.Batch) []trail.Batch { b[1].Body[5] ^= 1; return b }, 9, 4, "signature"},
		{"removed", func(b []trail.Batch) []trail.Batch { return append(b[:1:1], b[2]) }, 9, 4, "3 events are missing"},
		{"cut at the end", func(b []trail.Batch) []trail.Batch { return b[:2] }, 9, 7, "last 3 events are missing"},
		{"cut whole", func(b []trail.Batch) []trail.Batch { return nil }, 9, 1, "last 9 events are missing"},
		{"doubled", func(b []trail.Batch) []trail.Batch { return []trail.Batch{b[0], b[1], b[1], b[2]} }, 9, 4, "twice"},
		{"from another lane", func(b []trail.Batch) []trail.Batch {
			b[1] = other[1]
			b[1].Lane = "layer-1"
			return b
		}, 9, 4, "signature"},
		{"moved", func(b []trail.Batch) []trail.Batch {
			b[1].First, b[2].First = 7, 4
			return []trail.Batch{b[0], b[2], b[1]}
		}, 9, 4, "signature"},
		{"set back", func(b []trail.Batch) []trail.Batch { return b }, 6, 7, "set back"},
	}
	for _, c := range cases {
		v := trail.NewVerifier(key)
		for _, b := range c.harm(chain(key, "layer-1", 3)) {
			v.Add(b)
		}
		v.Head("layer-1", c.head)
		if c.says == "" {
			assert.Empty(t, v.Problems, c.what)
			assert.EqualValues(t, 9, v.Events)
			continue
		}
		if assert.NotEmpty(t, v.Problems, c.what) {
			assert.Equal(t, c.seq, v.Problems[0].Seq, c.what)
			assert.Contains(t, v.Problems[0].What, c.says, c.what)
		}
	}
}

func TestVerifierNoticesTimeRunningBackwards(t *testing.T) {
	key, _ := secret.RandomKey()
	defer key.Destroy()
	v := trail.NewVerifier(key)
	v.Add(trail.NewBatch(key, []trail.Event{
		{Lane: "l", Seq: 1, At: at.Add(time.Hour), Action: "a.b", Outcome: trail.Allowed},
		{Lane: "l", Seq: 2, At: at, Action: "a.b", Outcome: trail.Allowed},
	}))
	require.Len(t, v.Problems, 1)
	assert.EqualValues(t, 2, v.Problems[0].Seq)
}

func FuzzParseAndVerify(f *testing.F) {
	f.Add([]byte(`{"lane":"l","seq":"1","at":"2026-03-01T09:30:00.005Z"}`), []byte("[]"))
	f.Add([]byte(`{"layers":{"1":"x"}}`), []byte(`[{"seq":1}]`))
	key, err := secret.RandomKey()
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, event, body []byte) {
		_, _ = trail.Parse(event)
		v := trail.NewVerifier(key)
		v.Add(trail.Batch{Lane: "l", First: 1, N: 1, Body: body, MAC: make([]byte, 32)})
		require.NotEmpty(t, v.Problems, "nothing verifies without the key")
	})
}

func TestTheListOfProblemsIsBounded(t *testing.T) {
	key, _ := secret.RandomKey()
	defer key.Destroy()
	v := trail.NewVerifier(key)
	for i := range 1000 {
		v.Add(trail.Batch{Lane: "l", First: int64(i*10 + 2), N: 1, Body: []byte("[]"), MAC: nil})
	}
	assert.LessOrEqual(t, len(v.Problems), 100)
	assert.EqualValues(t, map[string]int64{"l": 9992}, v.Lanes())
}
