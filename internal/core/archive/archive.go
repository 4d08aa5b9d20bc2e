// Package archive encrypts a stream under a passphrase, and reads it back: for
// what leaves an installation and must be readable without its root key.
//
// The layout, all numbers big-endian:
//
//	magic      "ADYTUM-ARCHIVE-1\n"
//	salt       16 random bytes
//	time       uint32, passes of Argon2id (RFC 9106)
//	memory     uint32, KiB
//	threads    uint8
//	commitment 32 bytes: HKDF-SHA-256 of the Argon2id key for "adytum/archive/1/commitment"
//	chunk      uint32 length of the ciphertext, then the ciphertext; repeated
//
// The key of the chunks is HKDF-SHA-256 of the Argon2id key for
// "adytum/archive/1/chunks". A chunk is up to 64 KiB of the stream, sealed with
// AES-256-GCM (NIST SP 800-38D): the nonce is 7 zero bytes, the chunk's number
// from 0 as uint32, and a last byte that is 1 for the last chunk and 0 for all
// others; the associated data is the header up to the commitment. The last chunk
// is there always, and may be empty. The commitment binds the file to one key, so
// that no file opens under two passphrases.
package archive

import (
	"bufio"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/argon2"

	"adytum.example/internal/core/secret"
)

const (
	magic     = "ADYTUM-ARCHIVE-1\n"
	saltSize  = 16
	chunkSize = 64 << 10
	tagSize   = 16
)

// The cost of trying one passphrase: the second choice of RFC 9106, section 4.
const (
	passes  = 3
	memory  = 64 << 10 // KiB
	threads = 4
)

// Bounds of what a header may ask for.
const (
	maxPasses  = 20
	maxMemory  = 2 << 20 // KiB
	maxThreads = 16
)

// MinPassphrase is the least length of a passphrase, in characters.
const MinPassphrase = 12

// Errors that callers decide on.
var (
	ErrNotArchive = errors.New("this is no archive of Adytum, or of another version")
	ErrPassphrase = errors.New("the passphrase is wrong, or the archive's beginning was altered")
	ErrDamaged    = errors.New("the archive is damaged: a part was altered, or is missing")
)

type header struct {
	salt                    [saltSize]byte
	passes, memory, threads uint32
}

func (h header) bytes() []byte {
	b := append([]byte(magic), h.salt[:]...)
	b = binary.BigEndian.AppendUint32(b, h.passes)
	b = binary.BigEndian.AppendUint32(b, h.memory)
	return append(b, byte(h.threads))
}

// keys derives the commitment and the cipher of the chunks.
func (h header) keys(passphrase secret.Value) (commitment []byte, chunks cipher.AEAD, err error) {
	master := argon2.IDKey(passphrase.Expose(), h.salt[:], h.passes, h.memory, uint8(h.threads), secret.KeySize)
	defer clear(master)
	if commitment, err = hkdf.Key(sha256.New, master, nil, "adytum/archive/1/commitment", 32); err != nil {
		return nil, nil, err
	}
	key, err := hkdf.Key(sha256.New, master, nil, "adytum/archive/1/chunks", secret.KeySize)
	if err != nil {
		return nil, nil, err
	}
	defer clear(key)
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, nil, err
	}
	chunks, err = cipher.NewGCM(block)
	return commitment, chunks, err
}

func nonce(number uint32, last bool) []byte {
	b := make([]byte, 12)
	binary.BigEndian.PutUint32(b[7:], number)
	if last {
		b[11] = 1
	}
	return b
}

// Writer encrypts what is written to it. It must be closed, and is used by one
// goroutine.
type Writer struct {
	to     io.Writer
	aead   cipher.AEAD
	data   []byte
	buffer []byte
	number uint32
}

// NewWriter begins an archive.
func NewWriter(to io.Writer, passphrase secret.Value) (*Writer, error) {
	h := header{passes: passes, memory: memory, threads: threads}
	_, _ = rand.Read(h.salt[:]) // never fails since Go 1.24
	commitment, aead, err := h.keys(passphrase)
	if err != nil {
		return nil, fmt.Errorf("begin an archive: %w", err)
	}
	head := h.bytes()
	if _, err := to.Write(append(bytes.Clone(head), commitment...)); err != nil {
		return nil, err
	}
	return &Writer{to: to, aead: aead, data: head, buffer: make([]byte, 0, chunkSize)}, nil
}

// Write implements [io.Writer].
func (w *Writer) Write(b []byte) (n int, err error) {
	for len(b) > 0 {
		if len(w.buffer) == chunkSize {
			if err := w.chunk(false); err != nil {
				return n, err
			}
		}
		took := copy(w.buffer[len(w.buffer):chunkSize], b)
		w.buffer = w.buffer[:len(w.buffer)+took]
		b, n = b[took:], n+took
	}
	return n, nil
}

func (w *Writer) chunk(last bool) error {
	if w.number == 1<<32-1 {
		return errors.New("the archive has more chunks than its format can number")
	}
	sealed := w.aead.Seal(nil, nonce(w.number, last), w.buffer, w.data)
	clear(w.buffer)
	w.buffer, w.number = w.buffer[:0], w.number+1
	_, err := w.to.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(sealed))), sealed...))
	return err
}

// Close writes the last chunk. It does not close what is written to.
func (w *Writer) Close() error { return w.chunk(true) }

// Reader decrypts an archive. What it returns was authenticated; that nothing is
// missing is known when it returns io.EOF.
type Reader struct {
	from   *bufio.Reader
	aead   cipher.AEAD
	data   []byte
	number uint32
	rest   []byte
	ended  bool
}

// NewReader begins reading an archive.
func NewReader(from io.Reader, passphrase secret.Value) (*Reader, error) {
	r := &Reader{from: bufio.NewReader(from)}
	head := make([]byte, len(magic)+saltSize+4+4+1)
	if _, err := io.ReadFull(r.from, head); err != nil || string(head[:len(magic)]) != magic {
		return nil, ErrNotArchive
	}
	var h header
	rest := head[len(magic):]
	copy(h.salt[:], rest)
	rest = rest[saltSize:]
	h.passes, h.memory, h.threads = binary.BigEndian.Uint32(rest), binary.BigEndian.Uint32(rest[4:]), uint32(rest[8])
	if h.passes < 1 || h.passes > maxPasses || h.memory < 8*h.threads || h.memory > maxMemory || h.threads < 1 || h.threads > maxThreads {
		return nil, ErrNotArchive
	}
	stored := make([]byte, 32)
	if _, err := io.ReadFull(r.from, stored); err != nil {
		return nil, ErrNotArchive
	}
	commitment, aead, err := h.keys(passphrase)
	if err != nil {
		return nil, fmt.Errorf("open the archive: %w", err)
	}
	if subtle.ConstantTimeCompare(commitment, stored) != 1 {
		return nil, ErrPassphrase
	}
	r.aead, r.data = aead, head
	return r, nil
}

// Read implements [io.Reader].
func (r *Reader) Read(b []byte) (int, error) {
	for len(r.rest) == 0 {
		if r.ended {
			return 0, io.EOF
		}
		if err := r.next(); err != nil {
			return 0, err
		}
	}
	n := copy(b, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *Reader) next() error {
	var length [4]byte
	if _, err := io.ReadFull(r.from, length[:]); err != nil {
		return ErrDamaged // also where it ends without its last chunk
	}
	n := binary.BigEndian.Uint32(length[:])
	if n < tagSize || n > chunkSize+tagSize {
		return ErrDamaged
	}
	sealed := make([]byte, n)
	if _, err := io.ReadFull(r.from, sealed); err != nil {
		return ErrDamaged
	}
	_, peekErr := r.from.Peek(1)
	last := peekErr != nil
	plain, err := r.aead.Open(nil, nonce(r.number, last), sealed, r.data)
	if err != nil {
		return ErrDamaged
	}
	r.rest, r.ended, r.number = plain, last, r.number+1
	return nil
}
