package secret

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// KeySize is the length of every key in bytes: AES-256, HMAC-SHA-256.
const KeySize = 32

// Key is a 32-byte key in a page of its own, locked against swapping and left
// out of core dumps where the system permits it (RLIMIT_MEMLOCK). It prints as
// [Withheld]. Reading is safe for concurrent use; [Key.Destroy] is not.
type Key struct {
	page   []byte
	Locked bool // whether the page could be locked
}

// ErrKeySize says that something other than 32 bytes was given as a key.
var ErrKeySize = errors.New("a key has 32 bytes")

// NewKey copies b into locked memory and overwrites b.
func NewKey(b []byte) (*Key, error) {
	defer clear(b)
	if len(b) != KeySize {
		return nil, fmt.Errorf("%w, not %d", ErrKeySize, len(b))
	}
	page, err := unix.Mmap(-1, 0, os.Getpagesize(), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANON)
	if err != nil {
		return nil, fmt.Errorf("map memory for a key: %w", err)
	}
	locked := unix.Mlock(page) == nil
	// Not every kernel knows the advice; a core dump is ruled out by the process as well.
	_ = unix.Madvise(page, unix.MADV_DONTDUMP)
	copy(page, b)
	return &Key{page: page, Locked: locked}, nil
}

// RandomKey returns a new key from the system's random source.
func RandomKey() (*Key, error) {
	b := make([]byte, KeySize)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return NewKey(b)
}

// Bytes returns the key itself, valid until [Key.Destroy].
func (k *Key) Bytes() []byte { return k.page[:KeySize] }

// Destroy overwrites the key and gives its memory back.
func (k *Key) Destroy() {
	if k.page == nil {
		return
	}
	clear(k.page)
	_ = unix.Munmap(k.page)
	k.page = nil
}

// Format implements [fmt.Formatter].
func (k *Key) Format(state fmt.State, _ rune) { _, _ = state.Write([]byte(Withheld)) }

// MarshalJSON implements [encoding/json.Marshaler].
func (k *Key) MarshalJSON() ([]byte, error) { return []byte(`"` + Withheld + `"`), nil }

// HardenProcess rules out core dumps and the reading of this process's memory
// by others of the same user, as far as the system lets it.
func HardenProcess() error {
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return fmt.Errorf("rule out core dumps: %w", err)
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("make the process unreadable: %w", err)
	}
	return nil
}
