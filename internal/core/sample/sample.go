// Package sample makes values that look like real ones and are none, for the
// demo, for the examples of the sweep's rules, and for tests.
package sample

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"math/big"
	"regexp"
	"strconv"
	"strings"
)

const (
	lower = "abcdefghijklmnopqrstuvwxyz"
	upper = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	digit = "0123456789"
)

// alphabets are what a place in a template can be filled from.
var alphabets = map[string]string{
	"digits": digit, "hex": digit + "abcdef", "HEX": digit + "ABCDEF", "lower": lower, "upper": upper,
	"lower36": lower + digit, "UPPER36": upper + digit, "base62": digit + upper + lower,
	"base32": upper + "234567", "word": digit + upper + lower + "_", "url64": digit + upper + lower + "_-", "base64": digit + upper + lower + "+/",
}

var place = regexp.MustCompile(`<([A-Za-z0-9]+):([0-9]+)>|<(crc62)>|<jwt>`)

// Expand fills the places of a template from random: <ALPHABET:COUNT> with
// characters of an alphabet, <crc62> with the base-62 CRC-32 of the characters
// behind the last "_" before it, <jwt> with the three parts of a JWS. It panics
// on an unknown alphabet; templates are part of the program.
func Expand(template string, random io.Reader) string {
	var out strings.Builder
	at := 0
	for _, m := range place.FindAllStringSubmatchIndex(template, -1) {
		out.WriteString(template[at:m[0]])
		at = m[1]
		switch {
		case m[2] >= 0:
			count, _ := strconv.Atoi(template[m[4]:m[5]])
			out.WriteString(pick(template[m[2]:m[3]], count, random))
		case m[6] >= 0:
			so := out.String()
			out.WriteString(CRC62(so[strings.LastIndexByte(so, '_')+1:]))
		default:
			out.WriteString(jws(random))
		}
	}
	return out.String() + template[at:]
}

// CRC62 is the CRC-32 (IEEE) of a text in six digits of base 62, a checksum
// that several issuers put at the end of their tokens.
func CRC62(text string) string {
	n := big.NewInt(int64(crc32.ChecksumIEEE([]byte(text))))
	alphabet := alphabets["base62"]
	out := make([]byte, 6)
	for i := len(out) - 1; i >= 0; i-- {
		var d big.Int
		n.DivMod(n, big.NewInt(62), &d)
		out[i] = alphabet[d.Int64()]
	}
	return string(out)
}

func pick(alphabet string, count int, random io.Reader) string {
	letters, known := alphabets[alphabet]
	if !known {
		panic(fmt.Sprintf("there is no alphabet %q", alphabet))
	}
	out := make([]byte, 0, count)
	limit := byte(256 / len(letters) * len(letters) & 0xff) // 0: every byte will do
	b := make([]byte, 1)
	for len(out) < count {
		if _, err := io.ReadFull(random, b); err != nil {
			panic("the random source has failed: " + err.Error())
		}
		if limit == 0 || b[0] < limit {
			out = append(out, letters[int(b[0])%len(letters)])
		}
	}
	return string(out)
}

func jws(random io.Reader) string {
	b := make([]byte, 40)
	_, _ = io.ReadFull(random, b)
	part := base64.RawURLEncoding.EncodeToString
	claims := `{"sub":"` + hex.EncodeToString(b[:8]) + `","iss":"sign-in.fernhollow.example"}`
	return part([]byte(`{"alg":"HS256","typ":"JWT"}`)) + "." + part([]byte(claims)) + "." + part(b[8:])
}
