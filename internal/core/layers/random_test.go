package layers_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"adytum.example/internal/core/layers"
)

// chance makes random chains of layers in which times and kinds differ.
type chance struct{ *rand.Rand }

func (c chance) moment() time.Time {
	if c.IntN(3) > 0 {
		return time.Time{}
	}
	return now.Add(time.Duration(c.IntN(41)-20) * time.Minute)
}

func (c chance) version(number int64) layers.Version {
	v := layers.Version{Number: number, Kind: []layers.Kind{layers.Secret, layers.Setting, layers.Nothing}[c.IntN(3)], ActiveFrom: c.moment(), Expires: c.moment()}
	if c.IntN(12) == 0 {
		v.Destroyed = now.Add(-time.Hour)
	}
	return v
}

func (c chance) chain() []*layers.Layer {
	places := []layers.Place{{Project: "loans", Environment: "preview"}, {Project: "loans", Environment: "staging"}, {Project: "loans"}, {}}
	var chain []*layers.Layer
	for i, place := range places {
		l := layer(1, place)
		l.ID = int64(i + 1)
		for n := range 4 {
			if c.IntN(3) == 0 {
				continue
			}
			e := &layers.Entry{ID: int64(n + 1), Name: fmt.Sprintf("N%d", n)}
			for v := range 1 + c.IntN(4) {
				e.Live = append(e.Live, c.version(int64(v+1)))
			}
			l.Entries[e.Name] = e
		}
		chain = append(chain, l)
	}
	return chain
}

// counting is what the words of the documentation say, and nothing else: of the
// versions that have begun, the newest one counts.
func counting(e *layers.Entry, at time.Time) *layers.Version {
	for i := len(e.Live) - 1; i >= 0; i-- {
		if from := e.Live[i].ActiveFrom; from.IsZero() || !from.After(at) {
			return &e.Live[i]
		}
	}
	return nil
}

// answering is the nearest layer in which something counts, whatever it is.
func answering(chain []*layers.Layer, name string, at time.Time) (*layers.Layer, *layers.Version) {
	var waiting *layers.Layer
	for _, l := range chain {
		e := l.Entries[name]
		if e == nil {
			continue
		}
		if v := counting(e, at); v != nil {
			return l, v
		}
		if waiting == nil {
			waiting = l
		}
	}
	return waiting, nil
}

func TestLookupAgreesWithItsDocumentation(t *testing.T) {
	c := chance{rand.New(rand.NewPCG(3, 9))}
	usable, unusable := 0, 0
	for range 3000 {
		chain := c.chain()
		for n := range 5 {
			name := fmt.Sprintf("N%d", n)
			got, may := layers.Lookup(chain, name, now)
			l, v := answering(chain, name, now)
			if l == nil {
				assert.Nil(t, got.Layer, name)
				assert.False(t, may)
				continue
			}
			if !assert.Same(t, l, got.Layer, name) {
				return
			}
			want := v != nil && v.Kind != layers.Nothing && v.Destroyed.IsZero() && (v.Expires.IsZero() || now.Before(v.Expires))
			if !assert.Equal(t, want, may, "%s: %+v", name, v) {
				return
			}
			if want {
				usable++
				assert.Equal(t, v.Number, got.Version.Number)
			} else {
				unusable++
			}
		}
	}
	assert.Greater(t, usable, 2000)
	assert.Greater(t, unusable, 2000)
}

// Between now and the next moment nothing that counts changes in a layer; at the
// moment itself something may.
func TestNothingChangesBeforeTheNextMoment(t *testing.T) {
	c := chance{rand.New(rand.NewPCG(5, 11))}
	moments := 0
	for range 3000 {
		l := c.chain()[0]
		next := l.NextMoment(now)
		until := now.Add(30 * time.Minute)
		if !next.IsZero() {
			moments++
			assert.True(t, next.After(now))
			until = next.Add(-time.Nanosecond)
		}
		for _, e := range l.Entries {
			before, stateBefore := e.At(now)
			for range 3 {
				at := now.Add(time.Duration(c.Int64N(int64(until.Sub(now)) + 1)))
				after, stateAfter := e.At(at)
				assert.Equal(t, before, after)
				assert.Equal(t, stateBefore, stateAfter)
			}
		}
	}
	assert.Greater(t, moments, 1000)
}

// All lists every layer that sets a name, nearest first, and Lookup's answer is
// one of them.
func TestAllHoldsWhatLookupAnswers(t *testing.T) {
	c := chance{rand.New(rand.NewPCG(7, 13))}
	for range 1000 {
		chain := c.chain()
		for _, name := range layers.Names(chain) {
			all := layers.All(chain, name, now)
			var setting []*layers.Layer
			for _, l := range chain {
				if l.Entries[name] != nil {
					setting = append(setting, l)
				}
			}
			if !assert.Len(t, all, len(setting)) {
				return
			}
			answered, _ := layers.Lookup(chain, name, now)
			found := false
			for i, a := range all {
				assert.Same(t, setting[i], a.Layer)
				found = found || a.Layer == answered.Layer
			}
			assert.True(t, found)
		}
	}
}
