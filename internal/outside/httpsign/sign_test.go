package httpsign_test

import (
	"crypto/ed25519"
	"encoding/base64"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/outside/httpsign"
)

// RFC 9421, appendix B.2.6, with the key of appendix B.1.4.
func TestTheStandardsOwnSignature(t *testing.T) {
	seed, err := base64.RawURLEncoding.DecodeString("n4Ni-HpISpVObnQMW0wOhCKROaIKqKtW_2ZYb2p9KcU")
	require.NoError(t, err)
	key := ed25519.NewKeyFromSeed(seed)
	r, err := http.NewRequest(http.MethodPost, "https://example.com/foo?param=Value&Pet=dog", strings.NewReader(`{"hello": "world"}`))
	require.NoError(t, err)
	r.Header.Set("Date", "Tue, 20 Apr 2021 02:07:55 GMT")
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Content-Length", "18")
	parameters, base, err := httpsign.Base(r, []string{"date", "@method", "@path", "@authority", "content-type", "content-length"}, time.Unix(1618884473, 0), "test-key-ed25519")
	require.NoError(t, err)
	assert.Equal(t, `("date" "@method" "@path" "@authority" "content-type" "content-length");created=1618884473;keyid="test-key-ed25519"`, parameters)
	assert.Equal(t, "wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==", base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(base))))
}

func TestASignedRequestShowsWhatWasAltered(t *testing.T) {
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	body := []byte(`{"kind":"decoy"}`)
	r, err := http.NewRequest(http.MethodPost, "https://pager.fernhollow.example/hook?team=desk", nil)
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Content-Digest", httpsign.ContentDigest(body))
	require.NoError(t, httpsign.Sign(r, key, "adytum/1", time.Unix(1700000000, 0), "content-type", "content-digest"))
	signature, err := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(r.Header.Get("Signature"), "adytum="), ":"))
	require.NoError(t, err)
	verifies := func(r *http.Request) bool {
		parameters, base, err := httpsign.Base(r, []string{"@method", "@target-uri", "content-type", "content-digest"}, time.Unix(1700000000, 0), "adytum/1")
		return err == nil && r.Header.Get("Signature-Input") == "adytum="+parameters && ed25519.Verify(public, []byte(base), signature)
	}
	assert.True(t, verifies(r))
	altered := r.Clone(t.Context())
	altered.Header.Set("Content-Digest", httpsign.ContentDigest([]byte(`{"kind":"nothing"}`)))
	assert.False(t, verifies(altered))
	altered = r.Clone(t.Context())
	altered.URL.RawQuery = "team=other"
	assert.False(t, verifies(altered))

	assert.Error(t, httpsign.Sign(r, key, "x", time.Now(), "x-missing"), "what is not there cannot be signed")
	r.Header["X-Odd"] = []string{"a\r\nb"}
	assert.Error(t, httpsign.Sign(r, key, "x", time.Now(), "x-odd"))
	// RFC 9530, appendix A, of the body {"hello": "world"} and a line end.
	assert.Equal(t, "sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:", httpsign.ContentDigest([]byte("{\"hello\": \"world\"}\n")))
}
