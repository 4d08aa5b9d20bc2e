package trail

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"adytum.example/internal/core/secret"
)

// Checkpoint is a signed statement of all events up to one: how many there are,
// the root of the tree over them, where each lane ends, and when. Who keeps one
// can tell later whether the trail has only grown.
type Checkpoint struct {
	Origin string // whose trail it is
	Size   int64
	Root   Hash
	At     time.Time
	Heads  Hash // of the lanes' ends, as [HeadsDigest] makes it
}

// maxNote bounds a signed note, in bytes.
const maxNote = 4096

// ErrCheckpoint says that a text is no checkpoint of the trail in question.
var ErrCheckpoint = errors.New("checkpoint")

func (c Checkpoint) text() string {
	return c.Origin + "\n" + strconv.FormatInt(c.Size, 10) + "\n" + base64.StdEncoding.EncodeToString(c.Root[:]) +
		"\ntime " + c.At.UTC().Format(timeForm) + "\nheads " + base64.StdEncoding.EncodeToString(c.Heads[:]) + "\n"
}

// Sign writes the checkpoint as a signed note, with Ed25519 (RFC 8032).
func (c Checkpoint) Sign(seed *secret.Key) ([]byte, error) {
	s := signer{c.Origin, ed25519.NewKeyFromSeed(seed.Bytes())}
	defer clear(s.key)
	return note.Sign(&note.Note{Text: c.text()}, s)
}

// signer signs notes without its key ever being a text.
type signer struct {
	name string
	key  ed25519.PrivateKey
}

func (s signer) Name() string                    { return s.name }
func (s signer) Sign(msg []byte) ([]byte, error) { return ed25519.Sign(s.key, msg), nil }
func (s signer) KeyHash() uint32 {
	sum := sha256.Sum256(slices.Concat([]byte(s.name+"\n\x01"), s.key.Public().(ed25519.PublicKey)))
	return binary.BigEndian.Uint32(sum[:])
}

// CheckpointKey is the text of the public key that a trail's checkpoints are
// checked with.
func CheckpointKey(origin string, seed *secret.Key) (string, error) {
	key := ed25519.NewKeyFromSeed(seed.Bytes())
	defer clear(key)
	return note.NewEd25519VerifierKey(origin, key.Public().(ed25519.PublicKey))
}

// OpenCheckpoint checks a signed note with the text of a public key, and reads it.
func OpenCheckpoint(signed []byte, key string) (Checkpoint, error) {
	if len(signed) > maxNote {
		return Checkpoint{}, fmt.Errorf("%w: it is longer than %d bytes", ErrCheckpoint, maxNote)
	}
	verifier, err := note.NewVerifier(key)
	if err != nil {
		return Checkpoint{}, fmt.Errorf("%w: the key is none that checkpoints are checked with", ErrCheckpoint)
	}
	n, err := note.Open(signed, note.VerifierList(verifier))
	if err != nil {
		return Checkpoint{}, fmt.Errorf("%w: it is not signed with the trail's key", ErrCheckpoint)
	}
	return readCheckpoint(n.Text, verifier.Name())
}

func readCheckpoint(text, origin string) (c Checkpoint, err error) {
	malformed := fmt.Errorf("%w: it cannot be read", ErrCheckpoint)
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if len(lines) < 5 {
		return c, malformed
	}
	at, isTime := strings.CutPrefix(lines[3], "time ")
	heads, isHeads := strings.CutPrefix(lines[4], "heads ")
	if c.Origin = lines[0]; c.Origin != origin || !isTime || !isHeads {
		return c, malformed
	}
	var sizeErr, atErr, rootErr, headsErr error
	c.Size, sizeErr = strconv.ParseInt(lines[1], 10, 64)
	c.Root, rootErr = tlog.ParseHash(lines[2])
	c.At, atErr = time.Parse(timeForm, at)
	c.Heads, headsErr = tlog.ParseHash(heads)
	if errors.Join(sizeErr, rootErr, atErr, headsErr) != nil || c.Size < 0 {
		return c, malformed
	}
	return c, nil
}

// HeadsDigest is what a checkpoint says of where lanes end.
func HeadsDigest(heads map[string]int64) Hash {
	h := sha256.New()
	for _, lane := range slices.Sorted(maps.Keys(heads)) {
		fmt.Fprintf(h, "%s %d\n", lane, heads[lane])
	}
	return Hash(h.Sum(nil))
}
