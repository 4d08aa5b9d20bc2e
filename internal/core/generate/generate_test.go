package generate_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"math"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/generate"
)

func made(t *testing.T, r generate.Request) generate.Made {
	t.Helper()
	m, err := generate.Make(r, generate.Reader)
	require.NoError(t, err)
	return m
}

func TestATextHasItsLengthAlphabetAndBits(t *testing.T) {
	for name, c := range map[string]struct {
		request generate.Request
		form    string
		bits    int
	}{
		"as it comes":  {generate.Request{What: generate.Text}, `^[A-Za-z0-9]{32}$`, 190},
		"hex":          {generate.Request{What: generate.Text, Alphabet: "hex", Length: 64}, `^[0-9a-f]{64}$`, 256},
		"digits":       {generate.Request{What: generate.Text, Alphabet: "digits", Length: 8}, `^[0-9]{8}$`, 26},
		"its own":      {generate.Request{What: generate.Text, Alphabet: "äöü", Length: 20}, `^[äöü]{20}$`, 31},
		"a passphrase": {generate.Request{What: generate.Passphrase}, `^([a-z]+-){7}[a-z]+$`, 80},
		"six words":    {generate.Request{What: generate.Passphrase, Words: 6}, `^([a-z]+-){5}[a-z]+$`, 60},
		"a UUID":       {generate.Request{What: generate.UUID}, `^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`, 122},
	} {
		m := made(t, c.request)
		assert.Regexp(t, regexp.MustCompile(c.form), string(m.Value.Expose()), name)
		assert.Equal(t, c.bits, m.Bits, name)
		assert.NotEqual(t, m.Value.Expose(), made(t, c.request).Value.Expose(), "%s: new each time", name)
		assert.NotContains(t, m.About, string(m.Value.Expose()))
	}
}

// Every character is as likely as every other: chi-squared over many draws, with
// a seeded source so that the outcome is the same each time.
func TestCharactersAreEquallyLikely(t *testing.T) {
	random := rand.NewChaCha8([32]byte{1})
	counts := map[rune]int{}
	const draws = 200
	for range draws {
		m, err := generate.Make(generate.Request{What: generate.Text, Alphabet: "clear", Length: 1000}, random)
		require.NoError(t, err)
		for _, c := range string(m.Value.Expose()) {
			counts[c]++
		}
	}
	k := len(generate.Alphabets["clear"])
	require.Len(t, counts, k)
	expected, sum := float64(draws*1000)/float64(k), 0.0
	for _, n := range counts {
		sum += (float64(n) - expected) * (float64(n) - expected) / expected
	}
	assert.Less(t, sum, float64(k-1)+4*math.Sqrt(2*float64(k-1)))
}

func TestKeyPairsAreWhatTheySayTheyAre(t *testing.T) {
	for what, bits := range map[string][]int{generate.RSA: {0, 2048}, generate.EC: {0, 384, 521}, generate.Ed25519: {0}} {
		for _, b := range bits {
			m := made(t, generate.Request{What: what, Bits: b})
			block, rest := pem.Decode(m.Value.Expose())
			require.NotNil(t, block)
			assert.Empty(t, rest)
			assert.Equal(t, "PRIVATE KEY", block.Type)
			key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
			require.NoError(t, err)
			block, _ = pem.Decode([]byte(m.Public))
			require.NotNil(t, block)
			public, err := x509.ParsePKIXPublicKey(block.Bytes)
			require.NoError(t, err)
			switch k := key.(type) {
			case *rsa.PrivateKey:
				assert.True(t, k.PublicKey.Equal(public))
				assert.Equal(t, map[int]int{0: 3072, 2048: 2048}[b], k.N.BitLen())
			case *ecdsa.PrivateKey:
				assert.True(t, k.PublicKey.Equal(public))
				assert.Equal(t, map[int]int{0: 256, 384: 384, 521: 521}[b], k.Params().BitSize)
			case ed25519.PrivateKey:
				assert.Equal(t, k.Public(), public)
			default:
				assert.Fail(t, "another kind of key")
			}
			assert.GreaterOrEqual(t, m.Bits, 112)
		}
	}
}

func TestACertificateHoldsForItsHostsUntilItsEnd(t *testing.T) {
	m := made(t, generate.Request{What: generate.Certificate, Hosts: []string{"loans.fernhollow.example", "127.0.0.1"}, Days: 90})
	block, _ := pem.Decode([]byte(m.Public))
	c, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	assert.NoError(t, c.VerifyHostname("loans.fernhollow.example"))
	assert.NoError(t, c.VerifyHostname("127.0.0.1"))
	assert.Error(t, c.VerifyHostname("live.fernhollow.example"))
	require.NoError(t, c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature))
	end := generate.CertificateEnd([]byte(m.Public))
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 90), end, time.Minute)
	earlier := made(t, generate.Request{What: generate.Certificate, Hosts: []string{"a.example"}, Days: 3})
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 3), generate.CertificateEnd([]byte(m.Public+earlier.Public)), time.Minute, "of a chain the first end counts")
	assert.Zero(t, generate.CertificateEnd(m.Value.Expose()), "a key has no end")
	assert.Zero(t, generate.CertificateEnd([]byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n")))
}

func TestWhatCannotBeGeneratedSaysWhy(t *testing.T) {
	for says, r := range map[string]generate.Request{
		"there are text, passphrase":        {What: "password"},
		"with 7 characters":                 {What: generate.Text, Length: 7},
		"with 5000 characters":              {What: generate.Text, Length: 5000},
		"each stands in it once":            {What: generate.Text, Alphabet: "aab"},
		"its characters are printable":      {What: generate.Text, Alphabet: "a\x00b"},
		"an alphabet of 1 characters":       {What: generate.Text, Alphabet: "a"},
		"with 3 words":                      {What: generate.Passphrase, Words: 3},
		"an RSA key of 1024 bits":           {What: generate.RSA, Bits: 1024},
		"an EC key of 512 bits":             {What: generate.EC, Bits: 512},
		"without a host":                    {What: generate.Certificate},
		"for 4000 days":                     {What: generate.Certificate, Hosts: []string{"a.example"}, Days: 4000},
		`for "https://a.example", which is`: {What: generate.Certificate, Hosts: []string{"https://a.example"}},
		"a host is a name in ASCII":         {What: generate.Certificate, Hosts: []string{"bücher.example"}},
	} {
		_, err := generate.Make(r, generate.Reader)
		assert.ErrorContains(t, err, says)
	}
	_, err := generate.Make(generate.Request{What: generate.UUID}, strings.NewReader("short"))
	assert.Error(t, err)
}
