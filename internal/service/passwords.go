package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"adytum.example/internal/core/secret"
)

// Argon2id, RFC 9106, with 19 MiB and two passes, and no more than two at once:
// a burst of sign-ins must not take the memory of everything else.
const (
	argonMemory   = 19 * 1024 // KiB
	argonTime     = 2
	argonParallel = 2
	argonQueue    = 10 * time.Second
)

// hashPassword returns an Argon2id hash in the PHC string format.
func hashPassword(password secret.Value) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails since Go 1.24
	return encodeHash(salt, argon(password, salt))
}

func argon(password secret.Value, salt []byte) []byte {
	return argon2.IDKey(password.Expose(), salt, argonTime, argonMemory, 1, 32)
}

func encodeHash(salt, hash []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(hash))
}

// nobody is a hash that no password has; checking against it takes as long as
// checking against somebody's.
var nobody = encodeHash(make([]byte, 16), make([]byte, 32))

func checkPassword(stored string, password secret.Value) bool {
	parts := strings.Split(stored, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	return subtle.ConstantTimeCompare([]byte(encodeHash(salt, argon(password, salt))), []byte(stored)) == 1
}

// turn waits for a place among the hashes that are computed at once.
func (s *Service) turn(ctx context.Context) (done func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, argonQueue)
	defer cancel()
	select {
	case s.argon <- struct{}{}:
		return func() { <-s.argon; s.settle() }, nil
	case <-ctx.Done():
		return nil, problem(Unavailable, "too many sign-ins at once; try again in a moment")
	}
}

// settleAfter is how long after the last hash its memory is given back.
const settleAfter = 2 * time.Second

// settle gives the memory of hashes back to the system once none was computed
// for a moment; left alone, it would stay with the process for minutes.
func (s *Service) settle() {
	s.settling.Lock()
	defer s.settling.Unlock()
	if s.settler == nil {
		s.settler = time.AfterFunc(settleAfter, debug.FreeOSMemory)
		return
	}
	s.settler.Reset(settleAfter)
}

func (s *Service) hash(ctx context.Context, password secret.Value) (string, error) {
	done, err := s.turn(ctx)
	if err != nil {
		return "", err
	}
	defer done()
	return hashPassword(password), nil
}

// sluice slows down guessing: after some failures of an account or a network
// every further try waits longer, up to a bound. Nobody is locked out.
type sluice struct {
	mu       sync.Mutex
	failures map[string]failures
}

type failures struct {
	count int
	until time.Time // when they are forgotten
}

const (
	freeFailures   = 5
	longestDelay   = 8 * time.Second
	forgetFailures = 15 * time.Minute
	sluiceSize     = 10000
)

// delay is how long a try must wait for any of its keys.
func (s *sluice) delay(now time.Time, keys ...string) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	var longest time.Duration
	for _, key := range keys {
		f := s.failures[key]
		if f.count < freeFailures || now.After(f.until) {
			continue
		}
		longest = max(longest, min(longestDelay, 250*time.Millisecond<<min(f.count-freeFailures, 6)))
	}
	return longest
}

func (s *sluice) failed(now time.Time, keys ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failures == nil || len(s.failures) > sluiceSize {
		s.failures = map[string]failures{}
	}
	for _, key := range keys {
		f := s.failures[key]
		if now.After(f.until) {
			f.count = 0
		}
		s.failures[key] = failures{f.count + 1, now.Add(forgetFailures)}
	}
}

func (s *sluice) succeeded(keys ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range keys {
		delete(s.failures, key)
	}
}
