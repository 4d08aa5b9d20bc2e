// Package generate makes new values: random texts, passphrases, UUIDs, key pairs
// and self-signed certificates. What it makes is new each time and is not kept.
package generate

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"unicode/utf8"

	_ "embed"

	"adytum.example/internal/core/secret"
)

// What can be made.
const (
	Text        = "text"        // random characters of an alphabet
	Passphrase  = "passphrase"  // random words
	UUID        = "uuid"        // RFC 9562, version 4
	RSA         = "rsa"         // a key pair, PKCS #8
	EC          = "ec"          // a key pair on P-256, P-384 or P-521, PKCS #8
	Ed25519     = "ed25519"     // a key pair, RFC 8410
	Certificate = "certificate" // a self-signed one with its key on P-256
)

// Whats are the names of all that can be made.
var Whats = []string{Text, Passphrase, UUID, RSA, EC, Ed25519, Certificate}

// Request says what to make. Zero fields have sensible values.
type Request struct {
	What     string
	Length   int      // characters of a text: 8 to 4096, 32
	Alphabet string   // of a text: a name of Alphabets or the characters themselves; alphanumeric
	Words    int      // of a passphrase: 4 to 32, 8
	Bits     int      // of an RSA key: 2048, 3072 or 4096, 3072; of an EC key: 256, 384 or 521, 256
	Hosts    []string // of a certificate: names and addresses that it is for
	Days     int      // that a certificate holds: 1 to 3650, 365
}

// Made is what was made.
type Made struct {
	Value  secret.Value
	Public string // the public half, PEM; empty where there is none
	Bits   int    // of randomness in the value
	About  string // for people: "32 characters of alphanumeric"
}

// Alphabets are the alphabets that have a name.
var Alphabets = map[string]string{
	"digits":       "0123456789",
	"hex":          "0123456789abcdef",
	"lower":        "abcdefghijklmnopqrstuvwxyz0123456789",
	"alphanumeric": "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789",
	"url":          "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_",
	"clear":        "ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnpqrstuvwxyz23456789", // nothing that is taken for something else
	"symbols":      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!#%+,-./:=?@_~",
}

// WeakBits is what a value should have at least to withstand guessing.
const WeakBits = 72

// Make makes a new value from a source of randomness, which is crypto/rand's
// Reader but in tests. The error completes a sentence that begins with the name
// of an entry. Key pairs and certificates take their randomness from crypto/rand
// whatever the source.
func Make(r Request, random io.Reader) (Made, error) {
	switch r.What {
	case Text:
		return text(r, random)
	case Passphrase:
		return passphrase(r, random)
	case UUID:
		return uuid(random)
	case RSA, EC, Ed25519:
		return pair(r)
	case Certificate:
		return certificate(r)
	}
	return Made{}, fmt.Errorf("cannot be generated as %q; there are %s", r.What, strings.Join(Whats, ", "))
}

func text(r Request, random io.Reader) (Made, error) {
	length, name := r.Length, r.Alphabet
	if length == 0 {
		length = 32
	}
	if name == "" {
		name = "alphanumeric"
	}
	alphabet, named := Alphabets[name]
	about := name
	if !named {
		alphabet, about = name, "an alphabet of its own"
	}
	if length < 8 || length > 4096 {
		return Made{}, fmt.Errorf("cannot be generated with %d characters; there are 8 to 4096", length)
	}
	characters := []rune(alphabet)
	seen := map[rune]bool{}
	for _, c := range characters {
		if seen[c] || c == utf8.RuneError || c < ' ' {
			return Made{}, errors.New("cannot be generated from that alphabet: its characters are printable and each stands in it once")
		}
		seen[c] = true
	}
	if len(characters) < 2 || len(characters) > 256 {
		return Made{}, fmt.Errorf("cannot be generated from an alphabet of %d characters; it has 2 to 256", len(characters))
	}
	out := make([]byte, 0, length*utf8.UTFMax)
	for range length {
		n, err := below(len(characters), random)
		if err != nil {
			return Made{}, err
		}
		out = utf8.AppendRune(out, characters[n])
	}
	return Made{Value: secret.New(out), Bits: bits(length, len(characters)), About: fmt.Sprintf("%d characters of %s", length, about)}, nil
}

//go:embed words.txt
var wordFile string

var words = strings.Fields(wordFile)

func passphrase(r Request, random io.Reader) (Made, error) {
	count := r.Words
	if count == 0 {
		count = 8
	}
	if count < 4 || count > 32 {
		return Made{}, fmt.Errorf("cannot be generated with %d words; there are 4 to 32", count)
	}
	chosen := make([]string, count)
	for i := range chosen {
		n, err := below(len(words), random)
		if err != nil {
			return Made{}, err
		}
		chosen[i] = words[n]
	}
	return Made{Value: secret.FromString(strings.Join(chosen, "-")), Bits: bits(count, len(words)), About: fmt.Sprintf("a passphrase of %d words", count)}, nil
}

func uuid(random io.Reader) (Made, error) {
	var b [16]byte
	if _, err := io.ReadFull(random, b[:]); err != nil {
		return Made{}, fmt.Errorf("cannot be generated: %w", err)
	}
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	value := fmt.Appendf(nil, "%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
	return Made{Value: secret.New(value), Bits: 122, About: "a UUID"}, nil
}

// bits is the randomness of n choices among many, rounded down.
func bits(n, among int) int { return int(float64(n) * math.Log2(float64(among))) }

// below draws a number from 0 to n-1, n at most 65536, each as likely.
func below(n int, random io.Reader) (int, error) {
	limit := 1 << 16 / n * n
	var b [2]byte
	for {
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return 0, fmt.Errorf("cannot be generated: %w", err)
		}
		if v := int(b[0])<<8 | int(b[1]); v < limit {
			return v % n, nil
		}
	}
}

// Reader is the source of randomness for everything but tests.
var Reader io.Reader = rand.Reader
