package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

const mainBranch = "repo:fernhollow/loans:ref:refs/heads/main"

// trusting is a service with a workload that trusts the main branch of a
// repository, as the issuer knows it.
func trusting(t *testing.T) (s *testkit.Service, owner *client.Client, issuer *testkit.Issuer, audience string) {
	t.Helper()
	s, owner = loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	issuer = testkit.NewIssuer(t)
	added, err := owner.AddIssuer(ctx, wire.NewIssuer{Name: "runner", URL: issuer.URL})
	require.NoError(t, err)
	_, err = owner.AddWorkload(ctx, "pipeline")
	require.NoError(t, err)
	_, err = owner.AddTrust(ctx, "pipeline", wire.NewTrust{Issuer: "runner", Subject: mainBranch, Claims: map[string]string{"repository_id": "42"}})
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "workload", Who: "pipeline", Role: "consumer", Project: "loans", Environment: "live"})
	return s, owner, issuer, added.Audience
}

func TestASignedTokenSignsAWorkloadInOnce(t *testing.T) {
	s, owner, issuer, audience := trusting(t)
	claims := issuer.Claims(mainBranch, audience)
	claims["repository_id"] = "42"
	token := issuer.Sign(t, claims, nil)
	c := anonymous(t, s)
	_, err := c.SignInSigned(ctx, token, "")
	require.NoError(t, err)
	assert.Equal(t, "value from loans/live", answers(c, live, "adytum:KEY"))
	who, err := c.Who(ctx)
	require.NoError(t, err)
	assert.Equal(t, "pipeline", who.Name)
	other := moved(t, anonymous(t, s), second(t, s).URL)
	for _, again := range []*client.Client{anonymous(t, s), other} {
		_, err = again.SignInSigned(ctx, token, "")
		assert.ErrorContains(t, err, "is not accepted", "a replay, on any instance")
	}
	_, err = c.SignInSigned(ctx, issuer.Sign(t, claims, map[string]any{"exp": time.Now().Add(9 * time.Minute).Unix()}), "")
	assert.Error(t, err, "another token of the same id")
	for range 2 {
		noID := issuer.Sign(t, claims, map[string]any{"jti": nil})
		_, err = c.SignInSigned(ctx, noID, "")
		require.NoError(t, err, "tokens without an id are told apart as a whole")
		_, err = c.SignInSigned(ctx, noID, "")
		assert.Error(t, err)
		time.Sleep(time.Millisecond)
		claims["nonce"] = rand.Text()
	}
	require.NoError(t, owner.RemoveIssuer(ctx, "runner"))
	_, err = c.SignInSigned(ctx, issuer.Sign(t, claims, map[string]any{"jti": "fresh"}), "")
	assert.Error(t, err)
}

func TestSignedTokensThatAreNotAccepted(t *testing.T) {
	s, owner, issuer, audience := trusting(t)
	claims := issuer.Claims(mainBranch, audience)
	claims["repository_id"] = "42"
	foreign, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	own := jose.JSONWebKey{Key: foreign, KeyID: "first"}
	now := time.Now()
	raw := func(header string) string {
		body, err := json.Marshal(claims)
		require.NoError(t, err)
		return base64.RawURLEncoding.EncodeToString([]byte(header)) + "." + base64.RawURLEncoding.EncodeToString(body) + "."
	}
	with := func(others map[string]any) string {
		if _, given := others["jti"]; !given {
			others["jti"] = rand.Text()
		}
		return issuer.Sign(t, claims, others)
	}
	for what, token := range map[string]string{
		"nothing": "", "nonsense": "nonsense", "oversized": with(map[string]any{"x": strings.Repeat("x", 20<<10)}),
		"expired":                     with(map[string]any{"iat": now.Add(-20 * time.Minute).Unix(), "nbf": now.Add(-20 * time.Minute).Unix(), "exp": now.Add(-10 * time.Minute).Unix()}),
		"not valid yet":               with(map[string]any{"nbf": now.Add(5 * time.Minute).Unix()}),
		"issued in the future":        with(map[string]any{"iat": now.Add(5 * time.Minute).Unix()}),
		"good for too long":           with(map[string]any{"exp": now.Add(time.Hour).Unix()}),
		"good for too long, unsaid":   with(map[string]any{"iat": nil, "exp": now.Add(time.Hour).Unix()}),
		"without an end":              with(map[string]any{"exp": nil}),
		"without a subject":           with(map[string]any{"sub": nil}),
		"of another audience":         with(map[string]any{"aud": "adytum:elsewhere"}),
		"without an audience":         with(map[string]any{"aud": nil}),
		"of two audiences":            with(map[string]any{"aud": []string{audience, "another"}}),
		"of another issuer":           with(map[string]any{"iss": "https://runner.fernhollow.example"}),
		"of the issuer with a slash":  with(map[string]any{"iss": issuer.URL + "/"}),
		"of another branch":           with(map[string]any{"sub": "repo:fernhollow/loans:ref:refs/heads/feature"}),
		"of a name with a separator":  with(map[string]any{"sub": mainBranch + ":ref:refs/heads/main"}),
		"of another repository's id":  with(map[string]any{"repository_id": "43"}),
		"without the id":              with(map[string]any{"repository_id": nil}),
		"signed by another key":       testkit.SignWith(t, own, jose.ES256, claims, nil),
		"signed by a key in itself":   testkit.SignWith(t, foreign, jose.ES256, claims, map[string]any{"jwk": own.Public()}),
		"signed with a shared secret": testkit.SignWith(t, []byte(strings.Repeat("x", 32)), jose.HS256, claims, nil),
		"not signed":                  raw(`{"alg":"none"}`),
		"not signed, otherwise put":   raw(`{"alg":"NoNe","kid":"first"}`),
		"of an unknown key":           testkit.SignWith(t, jose.JSONWebKey{Key: foreign, KeyID: "second"}, jose.ES256, claims, nil),
		"altered":                     alter(issuer.Sign(t, claims, nil)),
	} {
		c := anonymous(t, s)
		_, err := c.SignInSigned(ctx, token, "")
		assert.EqualError(t, err, "the signed token is not accepted; the trail tells auditors why", what)
		assert.Empty(t, c.Token(), what)
		// A service that has just started lets nobody wait for failures before it.
		s.Stop()
		s.Serve(t)
	}
	owner = moved(t, owner, s.URL)
	// What was not accepted was not used up.
	page, err := owner.Trail(ctx, "", 200)
	require.NoError(t, err)
	reasons := map[string]bool{}
	for _, e := range page.Events {
		if e.Action == "session.begin" && e.Outcome == "refused" {
			reasons[e.Reason] = true
		}
		assert.NotContains(t, e.Reason, "eyJ")
	}
	assert.Greater(t, len(reasons), 8, "the trail tells why: %v", reasons)
}

// alter changes a letter in the middle of what a token says.
func alter(token string) string {
	parts := strings.Split(token, ".")
	b := []byte(parts[1])
	if i := len(b) / 2; b[i] == 'A' {
		b[i] = 'B'
	} else {
		b[i] = 'A'
	}
	return parts[0] + "." + string(b) + "." + parts[2]
}

func TestAnIssuersKeysAreObtainedSeldomAndRenewed(t *testing.T) {
	s, owner, issuer, audience := trusting(t)
	signIn := func() error {
		claims := issuer.Claims(mainBranch, audience)
		claims["repository_id"] = "42"
		_, err := anonymous(t, s).SignInSigned(ctx, issuer.Sign(t, claims, nil), "")
		return err
	}
	before := issuer.Asked.Load()
	for range 5 {
		require.NoError(t, signIn())
	}
	assert.EqualValues(t, 1, issuer.Asked.Load()-before, "once for all of them")
	issuer.Renew(t, "second")
	for range 3 {
		assert.Error(t, signIn(), "within a minute the issuer is not asked again")
	}
	assert.EqualValues(t, 1, issuer.Asked.Load()-before)
	s.Later(61 * time.Second)
	require.NoError(t, signIn())
	assert.EqualValues(t, 2, issuer.Asked.Load()-before)

	for what, c := range map[string]struct {
		answer http.HandlerFunc
		says   string
	}{
		"away":      {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, "does not answer"},
		"redirects": {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "https://elsewhere.example", 302) }, "answers 302"},
		"nonsense":  {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>")) }, "metadata are none"},
		"another issuer's": {func(w http.ResponseWriter, _ *http.Request) {
			_ = json.NewEncoder(w).Encode(map[string]string{"issuer": issuer.URL + "/", "jwks_uri": issuer.URL + "/keys"})
		}, "or another issuer's"},
		"keys elsewhere": {func(w http.ResponseWriter, _ *http.Request) {
			_ = json.NewEncoder(w).Encode(map[string]string{"issuer": issuer.URL, "jwks_uri": "http://169.254.169.254/keys"})
		}, "https address"},
	} {
		issuer.Answer.Store(&c.answer)
		_, err := owner.AddIssuer(ctx, wire.NewIssuer{Name: "another", URL: issuer.URL})
		assert.ErrorContains(t, err, c.says, what)
		s.Later(61 * time.Minute)
		err = signIn()
		assert.Equal(t, http.StatusServiceUnavailable, status(err), "%s: %v", what, err)
		assert.NotContains(t, err.Error(), "html")
		owner = s.Owner(t)
	}
	issuer.Answer.Store(nil)
	s.Later(61 * time.Second)
}

func TestWhoIsTrustedIsDecidedByThoseWhoMayGiveIt(t *testing.T) {
	s, owner, issuer, audience := trusting(t)
	steward := person(t, s, owner, "tomasz@fernhollow.example", "steward", common)
	_, err := owner.DefineRole(ctx, wire.NewRole{Name: "keeper-of-people", Verbs: []string{"people"}})
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "tomasz@fernhollow.example", Role: "keeper-of-people"})
	_, err = steward.AddIssuer(ctx, wire.NewIssuer{Name: "mine", URL: issuer.URL})
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = steward.AddTrust(ctx, "pipeline", wire.NewTrust{Issuer: "runner", Subject: "repo:fernhollow/loans:ref:refs/heads/dev"})
	require.NoError(t, err, "whose rights the steward holds")
	_, err = owner.AddWorkload(ctx, "everything")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "workload", Who: "everything", Role: "owner"})
	_, err = steward.AddTrust(ctx, "everything", wire.NewTrust{Issuer: "runner", Subject: mainBranch})
	assert.Equal(t, http.StatusForbidden, status(err))

	_, err = owner.AddTrust(ctx, "everything", wire.NewTrust{Issuer: "runner", Subject: "repo:fernhollow/*:ref:refs/heads/main"})
	require.NoError(t, err)
	claims := issuer.Claims(mainBranch, audience)
	claims["repository_id"] = "42"
	_, err = anonymous(t, s).SignInSigned(ctx, issuer.Sign(t, claims, nil), "")
	assert.Error(t, err, "two workloads trust it")
	workloads, err := owner.Workloads(ctx)
	require.NoError(t, err)
	c := anonymous(t, s)
	_, err = c.SignInSigned(ctx, issuer.Sign(t, claims, nil), workloads[1].ClientID)
	require.NoError(t, err)
	who, err := c.Who(ctx)
	require.NoError(t, err)
	assert.Equal(t, workloads[1].Name, who.Name)
	trusts, err := owner.Trusts(ctx, "pipeline")
	require.NoError(t, err)
	require.Len(t, trusts, 2)
	assert.Equal(t, map[string]string{"repository_id": "42"}, trusts[0].Claims)
	require.NoError(t, owner.RemoveTrust(ctx, "pipeline", trusts[0].ID))
	for _, wrong := range []wire.NewTrust{{Issuer: "runnre", Subject: mainBranch}, {Issuer: "runner", Subject: "*"}} {
		_, err = owner.AddTrust(ctx, "pipeline", wrong)
		assert.Error(t, err)
	}
}
