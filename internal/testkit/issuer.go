package testkit

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"
)

// Issuer is a stand-in for one that signs tokens, as a pipeline's runner or a
// cluster does.
type Issuer struct {
	URL    string
	Asked  atomic.Int64 // how often its keys were obtained
	Answer atomic.Pointer[http.HandlerFunc]
	key    atomic.Pointer[jose.JSONWebKey]
}

// NewIssuer starts an issuer, which ends with the test.
func NewIssuer(t testing.TB) *Issuer {
	t.Helper()
	i := &Issuer{}
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, r *http.Request) {
		if answer := i.Answer.Load(); answer != nil {
			(*answer)(w, r)
			return
		}
		_ = json.NewEncoder(w).Encode(map[string]string{"issuer": i.URL, "jwks_uri": i.URL + "/keys"})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		i.Asked.Add(1)
		_ = json.NewEncoder(w).Encode(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{i.key.Load().Public()}})
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	i.URL = s.URL
	i.Renew(t, "first")
	return i
}

// Renew gives the issuer another key.
func (i *Issuer) Renew(t testing.TB, id string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	i.key.Store(&jose.JSONWebKey{Key: key, KeyID: id, Algorithm: string(jose.ES256), Use: "sig"})
}

// Claims are those of a token that is right, for a subject and an audience.
func (i *Issuer) Claims(subject, audience string) map[string]any {
	now := time.Now()
	return map[string]any{"iss": i.URL, "sub": subject, "aud": audience, "jti": rand.Text(), "iat": now.Unix(), "nbf": now.Unix(), "exp": now.Add(10 * time.Minute).Unix()}
}

// Sign signs claims, with others put in or, where they are nil, left out.
func (i *Issuer) Sign(t testing.TB, claims map[string]any, others map[string]any) string {
	t.Helper()
	return SignWith(t, *i.key.Load(), jose.ES256, claims, others)
}

// SignWith signs claims with any key.
func SignWith(t testing.TB, key any, algorithm jose.SignatureAlgorithm, claims map[string]any, others map[string]any) string {
	t.Helper()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: key}, (&jose.SignerOptions{}).WithType("JWT"))
	require.NoError(t, err)
	all := maps.Clone(claims)
	for name, value := range others {
		if value == nil {
			delete(all, name)
		} else {
			all[name] = value
		}
	}
	text, err := jwt.Signed(signer).Claims(all).Serialize()
	require.NoError(t, err)
	return text
}
