// Package envelope encrypts what the store keeps: values are sealed with a key
// of their own, that key is wrapped by a project's key, and a project's key by
// the root key. It ends at bytes; where they lie is the storage's business.
//
// Sealing is AES-256-GCM (NIST SP 800-38D) with a random 96-bit nonce; keys are
// split by purpose with HKDF-SHA-256 (RFC 5869). The associated data binds every
// ciphertext to the immutable ids of its place, so that rows cannot be swapped.
package envelope

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"adytum.example/internal/core/secret"
)

// Purpose names what a derived key is for. Two purposes never share a key.
type Purpose string

// The purposes that there are.
const (
	WrapProjectKeys Purpose = "adytum/1/wrap project keys"
	WrapVersionKeys Purpose = "adytum/1/wrap version keys"
	SignManifests   Purpose = "adytum/1/manifests"
	SignTokens      Purpose = "adytum/1/token rows"
	SignTrail       Purpose = "adytum/1/trail"
	RootProof       Purpose = "adytum/1/root proof"
	Fingerprints    Purpose = "adytum/1/fingerprints"
	SignRequests    Purpose = "adytum/1/write requests"
	SealFactors     Purpose = "adytum/1/factors"
	SignAlerts      Purpose = "adytum/1/alerts" // the seed of an Ed25519 key
	SealRecords     Purpose = "adytum/1/records"
	SignCheckpoints Purpose = "adytum/1/checkpoints" // the seed of an Ed25519 key
)

// Derive returns the key for a purpose from a key that is used for nothing else.
func Derive(from *secret.Key, purpose Purpose) (*secret.Key, error) {
	b, err := hkdf.Key(sha256.New, from.Bytes(), nil, string(purpose), secret.KeySize)
	if err != nil {
		return nil, fmt.Errorf("derive the key for %s: %w", purpose, err)
	}
	return secret.NewKey(b)
}

// Identity is where a version stands, in ids that never change. Its fields go
// into the associated data of everything that is sealed for it.
type Identity struct {
	Organization string // the installation's random id
	Project      int64  // 0 for the organization's own layer
	Layer        int64
	Entry        int64
	Version      int64
	Kind         string
}

// formats of what is sealed; the first byte of the ciphertext and of the associated data.
const (
	formatValue      byte = 1
	formatVersionKey byte = 2
	formatProjectKey byte = 3
	formatPrint      byte = 4
	formatFactor     byte = 5
	formatRecord     byte = 6
)

// step is what plaintexts are padded to, so that a length tells little.
const step = 64

// MaxValue is the longest value in bytes.
const MaxValue = 1 << 20

// ErrOpen says that a ciphertext is not what was sealed for this place under
// this key: altered, moved, or of another key.
var ErrOpen = errors.New("the stored data does not belong here or was altered")

// Wrapping is a project's wrapping key, ready for use. It is safe for concurrent
// use. What the cipher makes of the key lies in ordinary memory.
type Wrapping struct{ aead cipher.AEAD }

// NewWrapping prepares a project's wrapping key. The key itself may be destroyed
// afterwards.
func NewWrapping(key *secret.Key) (*Wrapping, error) {
	aead, err := newAEAD(key.Bytes())
	return &Wrapping{aead}, err
}

// wrap encrypts a version's key.
func (w *Wrapping) wrap(id Identity, key []byte) []byte {
	return w.aead.Seal([]byte{formatVersionKey}, nil, key, id.associated(formatVersionKey))
}

// unwrap decrypts a version's key; the data is what [Identity.associated] gives
// for a version's key.
func (w *Wrapping) unwrap(data, wrapped []byte) ([]byte, error) {
	if len(wrapped) < 1 || wrapped[0] != formatVersionKey {
		return nil, ErrOpen
	}
	key, err := w.aead.Open(nil, nil, wrapped[1:], data)
	if err != nil {
		return nil, ErrOpen
	}
	return key, nil
}

// Stored is everything that is stored of one version of a secret: its
// ciphertext and its sealed fingerprint, and, to be kept apart, its own key,
// wrapped. Without the wrapped key the others cannot be opened by anyone.
type Stored struct{ Sealed, Fingerprint, Wrapped []byte }

// SealVersion encrypts a value and its fingerprint for their place under a new
// random key, and wraps that key with the project's wrapping key.
func SealVersion(wrapping *Wrapping, id Identity, value secret.Value, fingerprint []byte) (Stored, error) {
	var out Stored
	if value.Len() > MaxValue {
		return out, fmt.Errorf("a value has at most %d bytes, this one has %d", MaxValue, value.Len())
	}
	var key [secret.KeySize]byte
	defer clear(key[:])
	_, _ = rand.Read(key[:]) // never fails since Go 1.24
	padded := make([]byte, (4+value.Len()+step-1)/step*step)
	defer clear(padded)
	binary.BigEndian.PutUint32(padded, uint32(value.Len()))
	copy(padded[4:], value.Expose())
	own, err := newAEAD(key[:])
	if err != nil {
		return out, err
	}
	out.Sealed = own.Seal([]byte{formatValue}, nil, padded, id.associated(formatValue))
	out.Fingerprint = own.Seal([]byte{formatPrint}, nil, fingerprint, id.associated(formatPrint))
	out.Wrapped = wrapping.wrap(id, key[:])
	return out, nil
}

// VersionKey is the unwrapped key of one version, ready for use: as good as the
// wrapping key with the wrapped one, and so kept no longer than these two are
// kept side by side. It is safe for concurrent use.
type VersionKey struct {
	aead cipher.AEAD
	data []byte // associated with the value
}

// Unwrap makes a version's key ready for use.
func (w *Wrapping) Unwrap(id Identity, wrapped []byte) (*VersionKey, error) {
	data := id.associated(formatVersionKey)
	key, err := w.unwrap(data, wrapped)
	if err != nil {
		return nil, err
	}
	defer clear(key)
	aead, err := newAEAD(key)
	data[0] = formatValue // all else is the same
	return &VersionKey{aead, data}, err
}

// Open decrypts the value that [SealVersion] sealed for the same place.
func (k *VersionKey) Open(sealed []byte) (secret.Value, error) {
	padded, err := k.open(formatValue, k.data, sealed)
	if err != nil {
		return secret.Value{}, err
	}
	if len(padded) < 4 || int(binary.BigEndian.Uint32(padded)) > len(padded)-4 {
		return secret.Value{}, ErrOpen
	}
	n := int(binary.BigEndian.Uint32(padded))
	return secret.New(padded[4 : 4+n : 4+n]), nil
}

// OpenFingerprint decrypts a version's fingerprint.
func (k *VersionKey) OpenFingerprint(sealed []byte) ([]byte, error) {
	data := bytes.Clone(k.data)
	data[0] = formatPrint
	return k.open(formatPrint, data, sealed)
}

func (k *VersionKey) open(format byte, data, sealed []byte) ([]byte, error) {
	if len(sealed) < 1 || sealed[0] != format {
		return nil, ErrOpen
	}
	plaintext, err := k.aead.Open(nil, nil, sealed[1:], data)
	if err != nil {
		return nil, ErrOpen
	}
	return plaintext, nil
}

// OpenVersion decrypts what [SealVersion] sealed for the same place. The
// fingerprint of what is given is not looked at.
func OpenVersion(wrapping *Wrapping, id Identity, stored Stored) (secret.Value, error) {
	key, err := wrapping.Unwrap(id, stored.Wrapped)
	if err != nil {
		return secret.Value{}, err
	}
	return key.Open(stored.Sealed)
}

// OpenFingerprint decrypts a version's fingerprint alone.
func OpenFingerprint(wrapping *Wrapping, id Identity, stored Stored) ([]byte, error) {
	key, err := wrapping.Unwrap(id, stored.Wrapped)
	if err != nil {
		return nil, err
	}
	return key.OpenFingerprint(stored.Fingerprint)
}

// RewrapVersionKey wraps a version's key with another key of its project. What
// was sealed under the version's key stays as it is.
func RewrapVersionKey(from, to *Wrapping, id Identity, wrapped []byte) ([]byte, error) {
	key, err := from.unwrap(id.associated(formatVersionKey), wrapped)
	if err != nil {
		return nil, err
	}
	defer clear(key)
	return to.wrap(id, key), nil
}

// Fingerprint tells whether two values are the same, to one who has the key:
// HMAC-SHA-256, cut to 16 bytes. It is never stored in the clear.
func Fingerprint(key *secret.Key, value secret.Value) []byte {
	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write(value.Expose())
	return mac.Sum(nil)[:16]
}

// SealFactor encrypts the seed of a person's codes, bound to the person.
func SealFactor(key *secret.Key, organization string, person int64, seed secret.Value) ([]byte, error) {
	return seal(key.Bytes(), formatFactor, factorData(organization, person), seed.Expose())
}

// OpenFactor decrypts what [SealFactor] sealed for the same person.
func OpenFactor(key *secret.Key, organization string, person int64, sealed []byte) (secret.Value, error) {
	seed, err := open(key.Bytes(), formatFactor, factorData(organization, person), sealed)
	if err != nil {
		return secret.Value{}, err
	}
	return secret.New(seed), nil
}

func factorData(organization string, person int64) []byte {
	return append([]byte{formatFactor}, organization+Number(person)...)
}

// SealRecord encrypts the secret part of a record of some kind, bound to what else
// the record says.
func SealRecord(key *secret.Key, kind, says string, content secret.Value) ([]byte, error) {
	return seal(key.Bytes(), formatRecord, recordData(kind, says), content.Expose())
}

// OpenRecord decrypts what [SealRecord] sealed for the same record.
func OpenRecord(key *secret.Key, kind, says string, sealed []byte) (secret.Value, error) {
	content, err := open(key.Bytes(), formatRecord, recordData(kind, says), sealed)
	if err != nil {
		return secret.Value{}, err
	}
	return secret.New(content), nil
}

func recordData(kind, says string) []byte {
	return append([]byte{formatRecord}, Number(int64(len(kind)))+" "+kind+says...)
}

// WrapProjectKey encrypts a project's key under the root's wrapping key.
// The id is the key's own, not the project's alone: a project has several, each
// for a purpose.
func WrapProjectKey(wrapping *secret.Key, organization, purpose string, project, id int64, key *secret.Key) ([]byte, error) {
	return seal(wrapping.Bytes(), formatProjectKey, projectKeyData(organization, purpose, project, id), key.Bytes())
}

// UnwrapProjectKey is the reverse of [WrapProjectKey].
func UnwrapProjectKey(wrapping *secret.Key, organization, purpose string, project, id int64, wrapped []byte) (*secret.Key, error) {
	b, err := open(wrapping.Bytes(), formatProjectKey, projectKeyData(organization, purpose, project, id), wrapped)
	if err != nil {
		return nil, err
	}
	return secret.NewKey(b)
}

func projectKeyData(organization, purpose string, project, id int64) []byte {
	return appendParts([]byte{formatProjectKey}, organization, purpose, number(project), number(id))
}

func (id Identity) associated(format byte) []byte {
	b := make([]byte, 0, 1+4+len(id.Organization)+4*12+4+len(id.Kind))
	b = appendPart(append(b, format), id.Organization)
	for _, n := range [...]int64{id.Project, id.Layer, id.Entry, id.Version} {
		b = binary.BigEndian.AppendUint64(append(b, 0, 0, 0, 8), uint64(n))
	}
	return appendPart(b, id.Kind)
}

func appendPart(b []byte, part string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(part))), part...)
}

// appendParts appends every part behind its length, so that no two lists of
// parts give the same bytes.
func appendParts(b []byte, parts ...string) []byte {
	for _, p := range parts {
		b = appendPart(b, p)
	}
	return b
}

func number(n int64) string {
	return string(binary.BigEndian.AppendUint64(nil, uint64(n)))
}

func seal(key []byte, format byte, data, plaintext []byte) ([]byte, error) {
	aead, err := newAEAD(key)
	if err != nil {
		return nil, err
	}
	return aead.Seal([]byte{format}, nil, plaintext, data), nil
}

func open(key []byte, format byte, data, sealed []byte) ([]byte, error) {
	aead, err := newAEAD(key)
	if err != nil {
		return nil, err
	}
	if len(sealed) < 1 || sealed[0] != format {
		return nil, ErrOpen
	}
	plaintext, err := aead.Open(nil, nil, sealed[1:], data)
	if err != nil {
		return nil, ErrOpen
	}
	return plaintext, nil
}

func newAEAD(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("prepare the cipher: %w", err)
	}
	return cipher.NewGCMWithRandomNonce(block)
}
