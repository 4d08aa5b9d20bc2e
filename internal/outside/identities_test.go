package outside_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/identity"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/outside"
)

// crooked is a provider whose answers can be anything.
type crooked struct {
	url    string
	key    jose.JSONWebKey
	answer func(w http.ResponseWriter)
}

func newCrooked(t *testing.T) *crooked {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &crooked{key: jose.JSONWebKey{Key: key, KeyID: "1", Algorithm: "ES256", Use: "sig"}}
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(map[string]any{"issuer": c.url, "authorization_endpoint": c.url + "/authorize", "token_endpoint": c.url + "/token", "jwks_uri": c.url + "/keys", "id_token_signing_alg_values_supported": []string{"ES256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{c.key.Public()}})
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, _ *http.Request) { c.answer(w) })
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	c.url = server.URL
	return c
}

// says answers with an ID token.
func (c *crooked) says(signed string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"access_token": "a", "token_type": "Bearer", "refresh_token": "r", "id_token": signed})
	}
}

func (c *crooked) signs(t *testing.T, key any, others map[string]any) string {
	t.Helper()
	now := time.Now()
	claims := map[string]any{"iss": c.url, "aud": "adytum", "sub": "7", "nonce": "n", "email": "noor@fernhollow.example", "email_verified": true, "iat": now.Unix(), "exp": now.Add(time.Hour).Unix()}
	for name, value := range others {
		claims[name] = value
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, nil)
	require.NoError(t, err)
	text, err := jwt.Signed(signer).Claims(claims).Serialize()
	require.NoError(t, err)
	return text
}

func TestWhatAProviderSaysIsChecked(t *testing.T) {
	ctx := context.Background()
	c := newCrooked(t)
	ask := outside.NewIdentities(outside.New(true))
	p := identity.Provider{URL: c.url, ClientID: "adytum", Secret: secret.FromString("s")}
	right := c.signs(t, c.key, nil)
	c.answer = c.says(right)
	said, err := ask.Answer(ctx, p, c.url+"/back", "code", "n", "verifier")
	require.NoError(t, err)
	assert.Equal(t, "7", said.Subject)
	assert.Equal(t, "noor@fernhollow.example", said.Email)
	said, err = ask.Again(ctx, p, secret.FromString("r"))
	require.NoError(t, err)
	assert.Equal(t, "7", said.Subject)

	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	parts := strings.Split(right, ".")
	encode := func(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }
	for what, signed := range map[string]string{
		"another nonce":    c.signs(t, c.key, map[string]any{"nonce": "m"}),
		"another audience": c.signs(t, c.key, map[string]any{"aud": "somebody"}),
		"another issuer":   c.signs(t, c.key, map[string]any{"iss": c.url + "/"}),
		"expired":          c.signs(t, c.key, map[string]any{"exp": time.Now().Add(-time.Hour).Unix()}),
		"another key":      c.signs(t, jose.JSONWebKey{Key: other, KeyID: "1"}, nil),
		"no signature":     encode(`{"alg":"none"}`) + "." + parts[1] + ".",
		"a shared key's":   encode(`{"alg":"HS256","kid":"1"}`) + "." + parts[1] + "." + parts[2],
		"altered":          parts[0] + "." + encode(`{"iss":"`+c.url+`","aud":"adytum","sub":"1"}`) + "." + parts[2],
		"nonsense":         "nonsense",
	} {
		c.answer = c.says(signed)
		_, err := ask.Answer(ctx, p, c.url+"/back", "code", "n", "verifier")
		assert.ErrorIs(t, err, identity.ErrUnknown, what)
	}
	c.answer = c.says(c.signs(t, c.key, map[string]any{"email_verified": false}))
	said, err = ask.Answer(ctx, p, c.url+"/back", "code", "n", "verifier")
	require.NoError(t, err)
	assert.Empty(t, said.Email, "an address that the provider does not vouch for is none")

	// A provider that refuses is told from one that does not answer as it should.
	for what, answer := range map[string]func(http.ResponseWriter){
		"a refusal": func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			_, _ = fmt.Fprint(w, `{"error":"invalid_grant"}`)
		},
		"an error":     func(w http.ResponseWriter) { http.Error(w, "no", http.StatusBadGateway) },
		"no token":     func(w http.ResponseWriter) { _, _ = fmt.Fprint(w, "{}") },
		"far too much": func(w http.ResponseWriter) { _, _ = w.Write(make([]byte, 4*outside.MaxAnswer)) },
	} {
		c.answer = answer
		for _, again := range []bool{false, true} {
			if again {
				_, err = ask.Again(ctx, p, secret.FromString("r"))
			} else {
				_, err = ask.Answer(ctx, p, c.url+"/back", "code", "n", "verifier")
			}
			require.Error(t, err, what)
			assert.Equal(t, what == "a refusal", strings.Contains(err.Error(), identity.ErrUnknown.Error()), "%s: %v", what, err)
			assert.NotContains(t, err.Error(), "secret")
		}
	}
	_, err = outside.NewIdentities(outside.New(true)).Begin(ctx, identity.Provider{URL: c.url + "/other", ClientID: "adytum"}, c.url, "s", "n", "v")
	assert.Error(t, err, "an address that is not the provider's own name")
	address, err := ask.Begin(ctx, p, c.url+"/back", "state-1", "nonce-1", "verifier-1")
	require.NoError(t, err)
	assert.Contains(t, address, "code_challenge_method=S256")
	assert.NotContains(t, address, "verifier-1")
}
