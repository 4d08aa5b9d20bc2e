package service

import (
	"container/list"
	"sync"
	"sync/atomic"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/storage"
)

// Bounds of what is kept in memory beside the directory.
const (
	maxCachedRows   = 60_000   // entries and versions of layers
	maxCachedSealed = 24 << 20 // bytes of ciphertext
	maxSealedValue  = 64 << 10 // larger ones are read anew each time
	maxCachedTokens = 20_000
)

// bounded keeps what was used last, up to a total weight. Its contents are never
// changed, only replaced: every answer made from them is compared with the true
// state before it is given. It is safe for concurrent use.
type bounded[K comparable, V any] struct {
	mu     sync.Mutex
	limit  int
	weight int
	weigh  func(V) int
	order  *list.List // of items, the last used first
	items  map[K]*list.Element
}

type item[K comparable, V any] struct {
	key   K
	value V
}

func newBounded[K comparable, V any](limit int, weigh func(V) int) *bounded[K, V] {
	return &bounded[K, V]{limit: limit, weigh: weigh, order: list.New(), items: map[K]*list.Element{}}
}

func (b *bounded[K, V]) get(key K) (value V, found bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	e := b.items[key]
	if e == nil {
		return value, false
	}
	b.order.MoveToFront(e)
	return e.Value.(item[K, V]).value, true
}

func (b *bounded[K, V]) put(key K, value V) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.drop(key)
	b.items[key] = b.order.PushFront(item[K, V]{key, value})
	b.weight += b.weigh(value)
	for b.weight > b.limit && b.order.Len() > 1 {
		b.drop(b.order.Back().Value.(item[K, V]).key)
	}
}

func (b *bounded[K, V]) remove(key K) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.drop(key)
}

func (b *bounded[K, V]) drop(key K) {
	if e := b.items[key]; e != nil {
		b.weight -= b.weigh(b.order.Remove(e).(item[K, V]).value)
		delete(b.items, key)
	}
}

// layerCache holds each layer at the newest revision that this instance has seen.
type layerCache struct{ all *bounded[int64, *loadedLayer] }

func newLayerCache() *layerCache {
	return &layerCache{newBounded[int64](maxCachedRows, func(l *loadedLayer) int {
		n := 8
		for _, r := range l.records {
			n += 1 + len(r.live)
		}
		return n
	})}
}

func (c *layerCache) get(id int64) *loadedLayer {
	l, _ := c.all.get(id)
	return l
}

func (c *layerCache) put(l *loadedLayer) {
	if present := c.get(l.ID); present == nil || present.Revision <= l.Revision {
		c.all.put(l.ID, l)
	}
}

// sealedID names one version's ciphertext.
type sealedID struct{ entry, version int64 }

// sealedVersion is a ciphertext with its wrapped key and the digest of what it is.
type sealedVersion struct {
	storage.SealedVersion
	digest []byte
	key    atomic.Pointer[envelope.VersionKey] // once it was opened
}

func withDigest(v storage.SealedVersion) *sealedVersion {
	return &sealedVersion{SealedVersion: v, digest: envelope.Digest(v.Sealed)}
}

func newSealedCache() *bounded[sealedID, *sealedVersion] {
	return newBounded[sealedID](maxCachedSealed, func(v *sealedVersion) int { return len(v.Sealed) + len(v.Wrapped) + 1500 })
}

// knownToken is a token whose row was checked.
type knownToken struct {
	row     storage.Token
	subject access.Subject
}

func newTokenCache() *bounded[string, knownToken] {
	return newBounded[string](maxCachedTokens, func(knownToken) int { return 1 })
}
