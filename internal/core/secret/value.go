// Package secret holds values that must not be seen: a [Value] does not print,
// marshal or log itself, and a [Key] lies in memory that is neither swapped nor
// dumped. What is exposed from them is the caller's to look after.
package secret

import (
	"crypto/subtle"
	"fmt"
	"io"
	"log/slog"
)

// Withheld is what stands wherever a value would have been shown.
const Withheld = "[withheld]"

// Value is a plaintext. Every way of turning it into text gives [Withheld];
// [Value.Expose] alone gives the bytes. The zero value is empty. A Value may be
// copied, all copies share their bytes; it is safe for concurrent reading, not
// for [Value.Wipe] beside other use.
type Value struct{ bytes []byte }

// New returns a Value that takes over b: the caller neither reads nor writes b
// afterwards.
func New(b []byte) Value { return Value{bytes: b} }

// FromString returns a Value with a copy of s. The string itself cannot be
// wiped; where there is a choice, keep the plaintext in bytes and use [New].
func FromString(s string) Value { return Value{bytes: []byte(s)} }

// Expose returns the plaintext itself, not a copy. It is named so that its uses
// can be found and read.
func (v Value) Expose() []byte { return v.bytes }

// Len is the length in bytes.
func (v Value) Len() int { return len(v.bytes) }

// Equal tells in constant time for equal lengths whether both hold the same bytes.
func (v Value) Equal(other Value) bool {
	return subtle.ConstantTimeCompare(v.bytes, other.bytes) == 1
}

// Wipe overwrites the plaintext with zeros, in this Value and all its copies.
// It is best effort: copies that the runtime or a library made stay.
func (v Value) Wipe() { clear(v.bytes) }

// Format implements [fmt.Formatter] for every verb and flag.
func (v Value) Format(state fmt.State, _ rune) { _, _ = io.WriteString(state, Withheld) }

// String implements [fmt.Stringer].
func (v Value) String() string { return Withheld }

// GoString implements [fmt.GoStringer].
func (v Value) GoString() string { return Withheld }

// LogValue implements [slog.LogValuer].
func (v Value) LogValue() slog.Value { return slog.StringValue(Withheld) }

// MarshalJSON implements [encoding/json.Marshaler].
func (v Value) MarshalJSON() ([]byte, error) { return []byte(`"` + Withheld + `"`), nil }

// MarshalText implements [encoding.TextMarshaler].
func (v Value) MarshalText() ([]byte, error) { return []byte(Withheld), nil }

// MarshalBinary implements [encoding.BinaryMarshaler], which gob uses.
func (v Value) MarshalBinary() ([]byte, error) { return []byte(Withheld), nil }
