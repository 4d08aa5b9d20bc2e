package alert_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/alert"
)

var monday = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func names(from, n int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprint("loans/live/N", from+i))
	}
	return all
}

// ordinary is a person's baseline after some weeks of work by day, from one network.
func ordinary(t *testing.T, days int) *alert.Baseline {
	t.Helper()
	b := &alert.Baseline{}
	for day := range days {
		for hour := range 8 {
			all := b.Observe(alert.Seen{At: monday.AddDate(0, 0, day).Add(time.Duration(hour) * time.Hour), Actor: "person:3", Person: true, From: "192.0.2.7", Obtained: names(hour, 3)})
			require.Empty(t, all, "an ordinary day")
		}
	}
	return b
}

func kinds(all []alert.Raised) (out []alert.Kind) {
	for _, r := range all {
		out = append(out, r.Kind)
	}
	return out
}

func TestWhatIsOutOfTheOrdinary(t *testing.T) {
	next := monday.AddDate(0, 0, 21).Add(2 * time.Hour)
	at := func(s alert.Seen) alert.Seen {
		if s.At.IsZero() {
			s.At = next
		}
		s.Actor, s.Person = "person:3", true
		if s.From == "" {
			s.From = "192.0.2.9"
		}
		return s
	}
	for _, c := range []struct {
		what string
		seen alert.Seen
		want []alert.Kind
		says string
	}{
		{"the same network", alert.Seen{}, nil, ""},
		{"another network", alert.Seen{From: "198.51.100.4"}, []alert.Kind{alert.Network}, "198.51.100.0/24"},
		{"another network of IPv6", alert.Seen{From: "2001:db8:7::1"}, []alert.Kind{alert.Network}, "2001:db8:7::/48"},
		{"a refusal from another network", alert.Seen{From: "198.51.100.4", Refused: true}, nil, ""},
		{"an hour beside those that are usual", alert.Seen{At: next.Add(6 * time.Hour)}, nil, ""},
		{"the middle of the night", alert.Seen{At: next.Add(16 * time.Hour)}, []alert.Kind{alert.Hours}, "03:00 UTC"},
		{"many refusals counted as one", alert.Seen{Refused: true, Times: 12}, []alert.Kind{alert.Refusals}, "12 requests were refused"},
		{"a few more names than usual", alert.Seen{Obtained: names(0, 12)}, nil, ""},
		{"everything at once", alert.Seen{Obtained: names(0, 40)}, []alert.Kind{alert.Everything}, "40 different values"},
		{"a project's archive", alert.Seen{Archive: true}, []alert.Kind{alert.Everything}, "a whole project"},
		{"an unusual volume of the same names", alert.Seen{Obtained: names(0, 10), Times: 30}, []alert.Kind{alert.Volume}, "300 values were obtained within an hour, and never more than 3 before"},
	} {
		got := ordinary(t, 21).Observe(at(c.seen))
		assert.Equal(t, c.want, kinds(got), c.what)
		if c.says != "" && len(got) > 0 {
			assert.Contains(t, got[0].What, c.says, c.what)
		}
	}
}

func TestTheSameIsNotToldAgainForAnHour(t *testing.T) {
	b := ordinary(t, 21)
	next := monday.AddDate(0, 0, 21)
	n := 0
	for i := range 40 {
		n += len(b.Observe(alert.Seen{At: next.Add(time.Duration(i) * time.Second), Actor: "person:3", Person: true, From: "192.0.2.7", Refused: true}))
	}
	assert.Equal(t, 1, n)
	for i := range 12 {
		n += len(b.Observe(alert.Seen{At: next.Add(2*time.Hour + time.Duration(i)*time.Second), Actor: "person:3", Person: true, From: "192.0.2.7", Refused: true}))
	}
	assert.Equal(t, 2, n)
	assert.Empty(t, b.Observe(alert.Seen{At: next.Add(30 * time.Hour), Actor: "person:3", Person: true, From: "198.51.100.4"})[1:])
	assert.Empty(t, b.Observe(alert.Seen{At: next.Add(54 * time.Hour), Actor: "person:3", Person: true, From: "198.51.100.5"}), "the network is known now")
}

func TestOneWhoIsNewHasNoBaselineToDepartFrom(t *testing.T) {
	b := &alert.Baseline{}
	for i := range 5 {
		assert.Empty(t, b.Observe(alert.Seen{At: monday.Add(time.Duration(i) * time.Minute), Actor: "person:4", Person: true, From: fmt.Sprintf("192.0.%d.1", i), Obtained: names(i*8, 8)}))
	}
	assert.Equal(t, []alert.Kind{alert.Everything}, kinds(b.Observe(alert.Seen{At: monday.Add(6 * time.Minute), Actor: "person:4", Person: true, From: "192.0.2.1", Obtained: names(100, 30)})), "70 names in some minutes are much all the same")
	// A workload reads all that it needs at each start.
	w := &alert.Baseline{}
	for i := range 500 {
		require.Empty(t, w.Observe(alert.Seen{At: monday.Add(time.Duration(i) * time.Hour), Actor: "workload:1", From: "192.0.2.1", Obtained: names(0, 60)}))
	}
	// Nobody who signed in: refusals from one address are all there is.
	stranger := &alert.Baseline{}
	assert.Equal(t, []alert.Kind{alert.Refusals}, kinds(stranger.Observe(alert.Seen{At: monday, From: "198.51.100.4", Refused: true, Times: 200})))
}

// A baseline that is kept and read again goes on as one that was not.
func TestABaselineIsKept(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	a, b := &alert.Baseline{}, &alert.Baseline{}
	at := monday
	for range 3000 {
		at = at.Add(time.Duration(random.IntN(7200)) * time.Second)
		s := alert.Seen{At: at, Actor: "person:1", Person: true, From: fmt.Sprintf("192.0.%d.1", random.IntN(90)), Refused: random.IntN(5) == 0, Obtained: names(random.IntN(50), random.IntN(30))}
		if s.Refused {
			s.Obtained = nil
		}
		require.Equal(t, kinds(a.Observe(s)), kinds(b.Observe(s)))
		kept, err := json.Marshal(b)
		require.NoError(t, err)
		require.Less(t, len(kept), 64<<10, "bounded")
		b = &alert.Baseline{}
		require.NoError(t, json.Unmarshal(kept, b))
	}
}
