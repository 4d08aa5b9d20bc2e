package sample_test

import (
	"crypto/rand"
	mathrand "math/rand/v2"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"

	"adytum.example/internal/core/sample"
)

func TestExpand(t *testing.T) {
	for template, form := range map[string]string{
		"plain": `^plain$`, "a-<digits:4>-z": `^a-[0-9]{4}-z$`, "<base32:20>": `^[A-Z2-7]{20}$`, "<url64:9><HEX:2>": `^[A-Za-z0-9_-]{9}[0-9A-F]{2}$`,
		"<jwt>": `^eyJ[\w-]+\.eyJ[\w-]+\.[\w-]{43}$`, "<your-key>": `^<your-key>$`, "p_<base62:30><crc62>": `^p_[0-9A-Za-z]{36}$`,
	} {
		for range 20 {
			assert.Regexp(t, regexp.MustCompile(form), sample.Expand(template, rand.Reader), template)
		}
	}
	assert.Panics(t, func() { sample.Expand("<klingon:3>", rand.Reader) })
}

func TestTheSameRandomGivesTheSameSample(t *testing.T) {
	draw := func() string {
		return sample.Expand("<base62:40>", mathrand.NewChaCha8([32]byte{7}))
	}
	assert.Equal(t, draw(), draw())
}

func TestEveryLetterIsDrawnAboutAsOften(t *testing.T) {
	counts := map[rune]int{}
	for _, c := range sample.Expand("<digits:10000>", mathrand.NewChaCha8([32]byte{8})) {
		counts[c]++
	}
	for c, n := range counts {
		assert.InDelta(t, 1000, n, 150, string(c))
	}
}

// CRC62 is checked against the CRC-32 of "123456789", 0xcbf43926, in base 62.
func TestCRC62(t *testing.T) {
	assert.Equal(t, "3jZRME", sample.CRC62("123456789"))
}
