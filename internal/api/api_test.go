package api_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/api"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

// ask makes one request and returns the answer with its body.
func ask(t *testing.T, method, url, token, body string, header ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(content)
}

func TestEveryOperationButSignInNeedsASignIn(t *testing.T) {
	s := testkit.Start(t)
	document, err := api.Document()
	require.NoError(t, err)
	var openapi struct {
		OpenAPI string
		Paths   map[string]map[string]struct {
			OperationID string
			Security    []map[string][]string
		}
	}
	require.NoError(t, json.Unmarshal(document, &openapi))
	assert.True(t, strings.HasPrefix(openapi.OpenAPI, "3.1"))
	open := map[string]bool{"sign-in": true, "sign-in-console": true, "accept-invitation": true, "list-sign-in-providers": true, "refresh-console": true}
	operations := 0
	for path, methods := range openapi.Paths {
		for method, op := range methods {
			operations++
			assert.Equal(t, open[op.OperationID], len(op.Security) == 0, op.OperationID)
			if open[op.OperationID] {
				continue
			}
			filled := strings.NewReplacer("{project}", "loans", "{environment}", "live", "{name}", "KEY", "{grant}", "1").Replace(path)
			for what, token := range map[string]string{"none": "", "nonsense": "nonsense", "well-formed and unknown": "adyt_p_" + strings.Repeat("0", 49), "oversized": strings.Repeat("x", 20000)} {
				answer, body := ask(t, strings.ToUpper(method), s.URL+filled, token, "")
				assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "%s with a token that is %s: %s", op.OperationID, what, body)
				assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
				assert.Contains(t, answer.Header.Get("WWW-Authenticate"), "Bearer")
			}
		}
	}
	assert.Greater(t, operations, 25)
	answer, body := ask(t, http.MethodGet, s.URL+"/api/openapi.json", "", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.JSONEq(t, string(document), body)
}

func TestProblemsAreProblemDetails(t *testing.T) {
	s := testkit.Start(t)
	token := s.Owner(t).Token()
	for path, want := range map[string]int{"/api/v1/projects/none": 404, "/api/v1/nothing": 404, "/api/v1/trail?limit=9999": 422, "/api/v1/trail?cursor=x": 422} {
		answer, body := ask(t, http.MethodGet, s.URL+path, token, "")
		assert.Equal(t, want, answer.StatusCode, path)
		var p wire.Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p), path)
		assert.Equal(t, want, p.Status)
		assert.NotEmpty(t, p.Title)
		assert.NotEmpty(t, p.Detail)
	}
	for body, want := range map[string]int{"{": 400, `{"name":"x","colour":"red"}`: 422, `{}`: 422, `{"name":"Bad Name"}`: 422} {
		answer, got := ask(t, http.MethodPost, s.URL+"/api/v1/projects", token, body)
		assert.Equal(t, want, answer.StatusCode, "%s: %s", body, got)
		assert.Contains(t, answer.Header.Get("Content-Type"), "application/problem+json")
	}
	answer, _ := ask(t, http.MethodPost, s.URL+"/api/v1/projects", token, `{"name":"`+strings.Repeat("x", 2<<20)+`"}`)
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
	answer, _ = ask(t, http.MethodPut, s.URL+"/livez", "", "")
	assert.Equal(t, http.StatusMethodNotAllowed, answer.StatusCode)
}

func TestAWrongPasswordAndAnUnknownNameAnswerAlike(t *testing.T) {
	s := testkit.Start(t)
	wrong, wrongBody := ask(t, http.MethodPost, s.URL+"/api/v1/sessions", "", `{"login":"`+testkit.OwnerLogin+`","password":"not the password"}`)
	unknown, unknownBody := ask(t, http.MethodPost, s.URL+"/api/v1/sessions", "", `{"login":"nobody@fernhollow.example","password":"not the password"}`)
	assert.Equal(t, http.StatusUnauthorized, wrong.StatusCode)
	assert.Equal(t, unknown.StatusCode, wrong.StatusCode)
	assert.Equal(t, unknownBody, wrongBody)
	assert.NotContains(t, wrongBody, "not the password")
}

func TestTokensEnd(t *testing.T) {
	s := testkit.Start(t)
	var ahead atomic.Int64
	s.Stop()
	s.Config.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	s.Serve(t)
	first, second := s.Owner(t), s.Owner(t)
	require.NoError(t, first.SignOut(ctx))
	_, err := first.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn, "revoked")
	_, err = second.Who(ctx)
	require.NoError(t, err, "another session of the same person goes on")

	third := s.Owner(t)
	answer, err := http.PostForm(s.URL+"/oauth/revoke", url.Values{"token": {third.Token()}})
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	require.NoError(t, answer.Body.Close())
	_, err = third.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn, "revoked as RFC 7009 has it")
	answer, err = http.PostForm(s.URL+"/oauth/revoke", url.Values{"token": {"unknown"}})
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode, "an unknown token is answered alike")
	require.NoError(t, answer.Body.Close())

	ahead.Store(int64(9 * time.Hour))
	_, err = second.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn, "expired")
}

func TestTheTokenEndpoint(t *testing.T) {
	s := testkit.Start(t)
	w, err := s.Owner(t).AddWorkload(ctx, "loans-server")
	require.NoError(t, err)
	post := func(form url.Values, user, password string) (int, map[string]any) {
		r, err := http.NewRequest(http.MethodPost, s.URL+"/oauth/token", strings.NewReader(form.Encode()))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if user != "" {
			r.SetBasicAuth(user, password)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var body map[string]any
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&body))
		assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"), "RFC 6749, section 5.1")
		return answer.StatusCode, body
	}
	grant := url.Values{"grant_type": {"client_credentials"}}
	code, body := post(grant, w.ClientID, w.ClientSecret)
	assert.Equal(t, 200, code)
	assert.Equal(t, "Bearer", body["token_type"])
	assert.InDelta(t, 3600, body["expires_in"], 5)
	assert.Regexp(t, "^adyt_w_", body["access_token"])
	code, _ = post(url.Values{"grant_type": {"client_credentials"}, "client_id": {w.ClientID}, "client_secret": {w.ClientSecret}}, "", "")
	assert.Equal(t, 200, code)
	code, body = post(grant, w.ClientID, "wrong")
	assert.Equal(t, 401, code)
	assert.Equal(t, "invalid_client", body["error"])
	code, other := post(grant, "nobody", "wrong")
	assert.Equal(t, 401, code)
	assert.Equal(t, body, other, "a wrong secret and an unknown client answer alike")
	code, body = post(url.Values{"grant_type": {"password"}}, w.ClientID, w.ClientSecret)
	assert.Equal(t, 400, code)
	assert.Equal(t, "unsupported_grant_type", body["error"])

	_, text := ask(t, http.MethodGet, s.URL+"/.well-known/oauth-authorization-server", "", "")
	assert.Contains(t, text, s.URL+"/oauth/token")
}

func TestTheConsolesCookie(t *testing.T) {
	s := testkit.Start(t)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	send := func(method, path, body, site string) *http.Response {
		r, err := http.NewRequest(method, s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Sec-Fetch-Site", site)
		answer, err := browser.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		return answer
	}
	credentials := `{"login":"` + testkit.OwnerLogin + `","password":"` + testkit.OwnerPassword + `"}`
	assert.Equal(t, http.StatusForbidden, send(http.MethodPost, "/api/v1/console/session", credentials, "cross-site").StatusCode)
	answer := send(http.MethodPost, "/api/v1/console/session", credentials, "same-origin")
	require.Equal(t, http.StatusOK, answer.StatusCode)
	cookie := answer.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	assert.Equal(t, http.StatusOK, send(http.MethodGet, "/api/v1/sessions/current", "", "same-origin").StatusCode)
	assert.Equal(t, http.StatusForbidden, send(http.MethodPost, "/api/v1/projects", `{"name":"loans"}`, "cross-site").StatusCode, "another site writes nothing")
	assert.Equal(t, http.StatusCreated, send(http.MethodPost, "/api/v1/projects", `{"name":"loans"}`, "same-origin").StatusCode)
	require.Less(t, send(http.MethodDelete, "/api/v1/console/session", "", "same-origin").StatusCode, 300)
	assert.Equal(t, http.StatusUnauthorized, send(http.MethodGet, "/api/v1/sessions/current", "", "same-origin").StatusCode)
}

func TestHeadersOfEveryAnswer(t *testing.T) {
	s := testkit.Start(t)
	for _, path := range []string{"/", "/projects/loans/entries", "/api/v1/projects", "/livez", "/nothing.js"} {
		answer, _ := ask(t, http.MethodGet, s.URL+path, "", "")
		assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"), path)
		assert.Equal(t, "no-referrer", answer.Header.Get("Referrer-Policy"), path)
		if !strings.HasPrefix(path, "/api") && path != "/livez" {
			assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'self'", path)
			assert.NotContains(t, answer.Header.Get("Content-Security-Policy"), "unsafe", path)
		}
	}
}

func TestWithTheDatabaseAwayTheServiceSaysSoAndRecovers(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	_, err = owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "live"})
	require.NoError(t, err)
	live := client.Place{Project: "loans", Environment: "live"}
	_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY", Kind: "secret", Value: "value"}}})
	require.NoError(t, err)

	require.NoError(t, testkit.Cluster(t).Kill())
	for path, token := range map[string]string{"/readyz": "", "/api/v1/projects": owner.Token(), "/api/v1/projects/loans/environments/live/entries/KEY/value": owner.Token()} {
		answer, body := ask(t, http.MethodGet, s.URL+path, token, "")
		assert.Equal(t, http.StatusServiceUnavailable, answer.StatusCode, "%s: %s", path, body)
		assert.NotEmpty(t, answer.Header.Get("Retry-After"), path)
	}
	_, err = s.TryOwner(t)
	assert.ErrorIs(t, err, client.ErrUnreachable, "signing in")
	answer, _ := ask(t, http.MethodGet, s.URL+"/livez", "", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode, "the process itself lives")

	require.NoError(t, testkit.Cluster(t).Restart(ctx))
	require.Eventually(t, func() bool {
		v, err := owner.Value(ctx, live, "KEY")
		return err == nil && v.Value == "value"
	}, 20*time.Second, 100*time.Millisecond, "without a restart of the service")
	answer, _ = ask(t, http.MethodGet, s.URL+"/readyz", "", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}
