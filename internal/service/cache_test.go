package service

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"adytum.example/internal/core/layers"
)

func TestABoundedCacheKeepsWhatWasUsedLast(t *testing.T) {
	b := newBounded[string](10, func(weight int) int { return weight })
	b.put("a", 4)
	b.put("b", 4)
	_, found := b.get("a")
	assert.True(t, found)
	b.put("c", 4)
	_, found = b.get("b")
	assert.False(t, found, "the one that was not used goes")
	for _, key := range []string{"a", "c"} {
		_, found = b.get(key)
		assert.True(t, found, key)
	}
	b.put("a", 1)
	assert.Equal(t, 5, b.weight, "what is replaced weighs no more")
	b.put("large", 100)
	v, found := b.get("large")
	assert.True(t, found, "one is kept, however heavy")
	assert.Equal(t, 100, v)
	assert.Equal(t, 1, b.order.Len())
	b.remove("large")
	b.remove("never there")
	assert.Zero(t, b.weight)
	assert.Empty(t, b.items)
}

func TestABoundedCacheIsSafeForConcurrentUse(t *testing.T) {
	b := newBounded[string](50, func(int) int { return 1 })
	var group sync.WaitGroup
	for w := range 8 {
		group.Go(func() {
			for i := range 2000 {
				key := fmt.Sprint((i * (w + 1)) % 90)
				switch i % 3 {
				case 0:
					b.put(key, i)
				case 1:
					b.get(key)
				default:
					b.remove(key)
				}
			}
		})
	}
	group.Wait()
	assert.LessOrEqual(t, b.order.Len(), 50)
	assert.Equal(t, b.order.Len(), len(b.items))
	assert.Equal(t, b.order.Len(), b.weight)
}

func TestAnOlderLayerNeverTakesANewersPlace(t *testing.T) {
	c := newLayerCache()
	at := func(revision layers.Revision) *loadedLayer {
		l := &loadedLayer{}
		l.ID, l.Revision = 1, revision
		return l
	}
	c.put(at(3))
	c.put(at(2))
	assert.EqualValues(t, 3, c.get(1).Revision)
	c.put(at(4))
	assert.EqualValues(t, 4, c.get(1).Revision)
	assert.Nil(t, c.get(2))
}
