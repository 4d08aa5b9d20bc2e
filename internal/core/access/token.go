package access

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"hash/crc32"
	"math/big"
	"strings"

	"adytum.example/internal/core/secret"
)

// TokenKind is the readable beginning of a token.
type TokenKind string

// The kinds of token.
const (
	PersonToken   TokenKind = "adyt_p_"
	WorkloadToken TokenKind = "adyt_w_"
	ClientSecret  TokenKind = "adyt_c_"
	InvitedToken  TokenKind = "adyt_i_" // good for choosing a password once
	RefreshToken  TokenKind = "adyt_r_" // good for going on with a sign-in once
	DeviceCode    TokenKind = "adyt_d_" // of a device that waits to be let in
)

const (
	tokenAlphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
	tokenRandom   = 43 // characters: 256 bits
	tokenSum      = 6  // characters: CRC-32 of all that stands before
)

// NewToken returns a token with 256 random bits and a checksum, by which a sweep
// tells a token from a text that merely looks like one.
func NewToken(kind TokenKind) secret.Value {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return tokenOf(kind, b)
}

// NextToken is the token that follows another one: who has the key makes the same
// one again, and nobody else can.
func NextToken(kind TokenKind, key *secret.Key, before secret.Value) secret.Value {
	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write([]byte("next token\x00" + string(kind)))
	mac.Write(before.Expose())
	return tokenOf(kind, mac.Sum(nil))
}

func tokenOf(kind TokenKind, b []byte) secret.Value {
	body := string(kind) + base62(new(big.Int).SetBytes(b), tokenRandom)
	return secret.FromString(body + tokenChecksum(body))
}

// ValidToken tells whether text has the form and the checksum of a token. It
// says nothing of whether the token is known.
func ValidToken(text string) bool {
	for _, kind := range []TokenKind{PersonToken, WorkloadToken, ClientSecret, InvitedToken, RefreshToken, DeviceCode} {
		if strings.HasPrefix(text, string(kind)) && len(text) == len(kind)+tokenRandom+tokenSum {
			return tokenChecksum(text[:len(text)-tokenSum]) == text[len(text)-tokenSum:]
		}
	}
	return false
}

// HashToken is the form in which a token is stored. A token has 256 random
// bits, so a plain SHA-256 gives nothing to guess.
func HashToken(token secret.Value) []byte {
	sum := sha256.Sum256(token.Expose())
	return sum[:]
}

func tokenChecksum(body string) string {
	return base62(big.NewInt(int64(crc32.ChecksumIEEE([]byte(body)))), tokenSum)
}

func base62(n *big.Int, width int) string {
	out := make([]byte, width)
	base, digit := big.NewInt(int64(len(tokenAlphabet))), new(big.Int)
	for i := width - 1; i >= 0; i-- {
		n.DivMod(n, base, digit)
		out[i] = tokenAlphabet[digit.Int64()]
	}
	return string(out)
}

// The alphabet of codes that are typed (RFC 8628, section 6.1): consonants alone,
// so that no words come about, and none that look alike.
const (
	codeAlphabet = "BCDFGHJKLMNPQRSTVWXZ"
	codeLength   = 8
)

// NewCode returns a code to be typed, in two groups of four: 34 bits, which are
// enough for ten minutes and five tries.
func NewCode() string {
	var b strings.Builder
	for i := range codeLength {
		if i == codeLength/2 {
			b.WriteByte('-')
		}
		n, _ := rand.Int(rand.Reader, big.NewInt(int64(len(codeAlphabet)))) // never fails since Go 1.24
		b.WriteByte(codeAlphabet[n.Int64()])
	}
	return b.String()
}

// ReadCode makes what a person typed the code that was meant; "" where it is none.
func ReadCode(typed string) string {
	letters := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' || r == '\t' {
			return -1
		}
		return r
	}, strings.ToUpper(typed))
	if len(letters) != codeLength || strings.Trim(letters, codeAlphabet) != "" {
		return ""
	}
	return letters[:codeLength/2] + "-" + letters[codeLength/2:]
}
