package api_test

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/standin"
	"adytum.example/internal/testkit"
)

func goingOn(t *testing.T, s *testkit.Service) (*client.Client, wire.Session) {
	t.Helper()
	c, err := client.New(s.URL)
	require.NoError(t, err)
	out, err := c.SignInWith(ctx, wire.SignIn{Login: testkit.OwnerLogin, Password: testkit.OwnerPassword, GoesOn: true})
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(out.Refresh, "adyt_r_"))
	return c, out
}

func TestASignInGoesOnByRefreshTokens(t *testing.T) {
	s := testkit.Start(t)
	c, first := goingOn(t, s)
	assert.WithinDuration(t, time.Now().Add(time.Hour), first.ExpiresAt, time.Minute)
	next, err := c.Refresh(ctx, first.Refresh)
	require.NoError(t, err)
	assert.NotEqual(t, first.Refresh, next.Refresh)
	_, err = c.Projects(ctx)
	require.NoError(t, err)

	// Parallel shells present the same token at once, and get the same successor.
	var group sync.WaitGroup
	successors := make([]string, 6)
	for i := range successors {
		group.Go(func() {
			shell, err := client.New(s.URL)
			if assert.NoError(t, err) {
				out, err := shell.Refresh(ctx, next.Refresh)
				assert.NoError(t, err)
				successors[i] = out.Refresh
			}
		})
	}
	group.Wait()
	for _, successor := range successors {
		assert.Equal(t, successors[0], successor)
	}
	// It is one sign-in, whatever the number of its tokens.
	sessions, err := c.Sessions(ctx, "", "")
	require.NoError(t, err)
	require.Len(t, sessions, 1)
	assert.True(t, sessions[0].Current)
	for _, wrong := range []string{"", "nonsense", first.Token, "adyt_r_" + strings.Repeat("A", 49)} {
		_, err := c.Refresh(ctx, wrong)
		assert.ErrorIs(t, err, client.ErrNotSignedIn, "%q", wrong)
	}
	assert.Zero(t, s.SQL(t, "SELECT FROM refresh_tokens WHERE position($1::bytea IN hash) > 0", []byte(successors[0])), "stored as a hash")
}

func TestARefreshTokenThatIsUsedAgainEndsTheSignIn(t *testing.T) {
	for name, reuse := range map[string]func(t *testing.T, s *testkit.Service, c *client.Client, first string) string{
		"long after it was replaced": func(t *testing.T, s *testkit.Service, c *client.Client, first string) string {
			out, err := c.Refresh(ctx, first)
			require.NoError(t, err)
			s.Later(31 * time.Second)
			return out.Refresh
		},
		"after its successor was replaced too": func(t *testing.T, _ *testkit.Service, c *client.Client, first string) string {
			out, err := c.Refresh(ctx, first)
			require.NoError(t, err)
			out, err = c.Refresh(ctx, out.Refresh)
			require.NoError(t, err)
			return out.Refresh
		},
		"from another address": func(t *testing.T, s *testkit.Service, c *client.Client, first string) string {
			out, err := c.Refresh(ctx, first)
			require.NoError(t, err)
			require.Positive(t, s.SQL(t, "SELECT FROM refresh_tokens WHERE replaced_from = '127.0.0.1'"))
			form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {first}}
			r, err := http.NewRequest(http.MethodPost, s.URL+"/oauth/token", strings.NewReader(form.Encode()))
			require.NoError(t, err)
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			r.Header.Set("X-Forwarded-For", "192.0.2.9")
			answer, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			require.NoError(t, answer.Body.Close())
			require.Equal(t, http.StatusBadRequest, answer.StatusCode)
			return out.Refresh
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := testkit.Start(t)
			s.Stop()
			s.Config.Proxies = "127.0.0.1/32"
			s.Serve(t)
			c, first := goingOn(t, s)
			newest := reuse(t, s, c, first.Refresh)
			_, err := c.Refresh(ctx, first.Refresh)
			assert.ErrorIs(t, err, client.ErrNotSignedIn)
			_, err = c.Refresh(ctx, newest)
			assert.ErrorIs(t, err, client.ErrNotSignedIn, "who has the newest one is out as well")
			_, err = c.Projects(ctx)
			assert.ErrorIs(t, err, client.ErrNotSignedIn, "and so is every token of the sign-in")
			page, err := s.Owner(t).FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "session.revoke", Outcome: "refused"}, "", 10)
			require.NoError(t, err)
			require.NotEmpty(t, page.Events)
			assert.Contains(t, page.Events[0].Names[1], "used again")
		})
	}
}

func TestWhatEndsASignInEndsItsRefreshToken(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	for what, end := range map[string]func(c *client.Client) error{
		"signing out":       func(c *client.Client) error { return c.SignOut(ctx) },
		"ending all others": func(*client.Client) error { return owner.EndSessions(ctx, "", "", 0) },
		"an altered row": func(*client.Client) error {
			s.SQL(t, "UPDATE refresh_tokens SET family = family + 1")
			return nil
		},
		"ending one by its number": func(c *client.Client) error {
			all, err := owner.Sessions(ctx, "", "")
			require.NoError(t, err)
			for _, session := range all {
				if !session.Current {
					require.NoError(t, owner.EndSessions(ctx, "", "", session.ID))
				}
			}
			return nil
		},
	} {
		c, first := goingOn(t, s)
		require.NoError(t, end(c), what)
		_, err := c.Refresh(ctx, first.Refresh)
		assert.Error(t, err, what)
		s.SQL(t, "DELETE FROM refresh_tokens")
	}
	c, first := goingOn(t, s)
	require.NoError(t, owner.ChangePassword(ctx, wire.PasswordChange{Old: testkit.OwnerPassword, New: "another-reading-room-after-dark"}))
	_, err := c.Refresh(ctx, first.Refresh)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	out, err := c.SignInWith(ctx, wire.SignIn{Login: testkit.OwnerLogin, Password: "another-reading-room-after-dark", GoesOn: true})
	require.NoError(t, err)
	s.Later(31 * 24 * time.Hour)
	_, err = c.Refresh(ctx, out.Refresh)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
}

func TestADeviceIsLetInByWhoSeesIt(t *testing.T) {
	s := testkit.Start(t)
	device, err := client.New(s.URL)
	require.NoError(t, err)
	asked, err := device.AskDevice(ctx, "reading-desk\n3")
	require.NoError(t, err)
	assert.Regexp(t, `^[BCDFGHJKLMNPQRSTVWXZ]{4}-[BCDFGHJKLMNPQRSTVWXZ]{4}$`, asked.UserCode)
	assert.Equal(t, s.URL+"/device", asked.VerificationURI)
	assert.NotContains(t, asked.VerificationURI, asked.UserCode, "the code is typed, never part of a link")
	waits := func(code string) string {
		_, err := device.TakeDevice(ctx, code)
		var problem *client.Error
		require.ErrorAs(t, err, &problem)
		return problem.OAuth
	}
	assert.Equal(t, "authorization_pending", waits(asked.DeviceCode))
	assert.Equal(t, "slow_down", waits(asked.DeviceCode))
	assert.Equal(t, "expired_token", waits("adyt_d_unknown"))

	owner := s.Owner(t)
	shown, err := owner.Device(ctx, " "+strings.ToLower(strings.ReplaceAll(asked.UserCode, "-", " ")))
	require.NoError(t, err)
	assert.Equal(t, "reading-desk3", shown.Host)
	assert.Equal(t, "127.0.0.1", shown.Network)
	assert.True(t, shown.Same)

	// A console that was left open lets nobody in.
	s.Later(6 * time.Minute)
	err = owner.AnswerDevice(ctx, wire.DeviceAnswer{Code: asked.UserCode, Allowed: true})
	assert.ErrorContains(t, err, "sign in again before you let a device in")
	require.NoError(t, s.Owner(t).AnswerDevice(ctx, wire.DeviceAnswer{Code: asked.UserCode, Allowed: true}))
	out, err := device.TakeDevice(ctx, asked.DeviceCode)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(out.Refresh, "adyt_r_"))
	who, err := device.Who(ctx)
	require.NoError(t, err)
	assert.Equal(t, testkit.OwnerLogin, who.Login)
	assert.Equal(t, "expired_token", waits(asked.DeviceCode), "once")
	_, err = s.Owner(t).Device(ctx, asked.UserCode)
	assert.ErrorContains(t, err, "no device waits with this code")

	// One that is denied, one that takes too long, one that is altered.
	asked, err = device.AskDevice(ctx, "x")
	require.NoError(t, err)
	require.NoError(t, s.Owner(t).AnswerDevice(ctx, wire.DeviceAnswer{Code: asked.UserCode}))
	assert.Equal(t, "access_denied", waits(asked.DeviceCode))
	asked, err = device.AskDevice(ctx, "x")
	require.NoError(t, err)
	s.Later(11 * time.Minute)
	assert.Equal(t, "expired_token", waits(asked.DeviceCode))
	assert.ErrorContains(t, s.Owner(t).AnswerDevice(ctx, wire.DeviceAnswer{Code: asked.UserCode, Allowed: true}), "no device waits")
	asked, err = device.AskDevice(ctx, "x")
	require.NoError(t, err)
	require.Positive(t, s.SQL(t, "UPDATE devices SET answer = 'allowed', person_id = 1"))
	_, err = device.TakeDevice(ctx, asked.DeviceCode)
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusInternalServerError, problem.Status)
}

func TestCodesOfDevicesAreNotTriedOut(t *testing.T) {
	s := testkit.Start(t)
	device, err := client.New(s.URL)
	require.NoError(t, err)
	asked, err := device.AskDevice(ctx, "x")
	require.NoError(t, err)
	owner := s.Owner(t)
	for range 5 {
		_, err := owner.Device(ctx, "BBBB-BBBB")
		assert.ErrorContains(t, err, "no device waits with this code")
	}
	_, err = owner.Device(ctx, asked.UserCode)
	assert.ErrorContains(t, err, "too many wrong codes")
	assert.Error(t, owner.AnswerDevice(ctx, wire.DeviceAnswer{Code: asked.UserCode, Allowed: true}))
	s.Later(11 * time.Minute)
	_, err = s.Owner(t).Device(ctx, asked.UserCode)
	assert.ErrorContains(t, err, "no device waits", "after ten minutes the tries and the code are gone")
	refused := false
	for range 30 {
		if _, err := device.AskDevice(ctx, "x"); err != nil {
			refused = true
			assert.ErrorContains(t, err, "too many devices wait")
		}
	}
	assert.True(t, refused, "devices of one network are bounded")
}

// provider starts a stand-in that the service trusts, with a person who signs in
// through it.
func provider(t *testing.T, s *testkit.Service, owner *client.Client) *standin.Provider {
	t.Helper()
	p := testkit.NewProvider(t, standin.Person{Email: "priya@fernhollow.example", Name: "Priya Vantongeren"}, standin.Person{Email: "stranger@fernhollow.example", Name: "A stranger"})
	_, err := owner.AddProvider(ctx, wire.NewProvider{Name: "fernhollow", URL: p.URL, ClientID: p.ClientID, ClientSecret: p.ClientSecret})
	require.NoError(t, err)
	added, err := owner.AddPerson(ctx, wire.NewPerson{Login: "priya@fernhollow.example", Name: "Priya Vantongeren", Provider: "fernhollow"})
	require.NoError(t, err)
	assert.Empty(t, added.Invitation)
	return p
}

// browser follows links as one does.
type browser struct {
	*http.Client
	t *testing.T
}

func newBrowser(t *testing.T) browser {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return browser{&http.Client{Jar: jar}, t}
}

// signIn goes through the provider as a person, and returns where it ends.
func (b browser) signIn(s *testkit.Service, as, to string) *url.URL {
	b.t.Helper()
	answer, err := b.Get(s.URL + "/api/v1/console/providers/fernhollow/begin?to=" + url.QueryEscape(to))
	require.NoError(b.t, err)
	require.NoError(b.t, answer.Body.Close())
	if !strings.HasSuffix(answer.Request.URL.Path, "/authorize") {
		return answer.Request.URL
	}
	form := answer.Request.URL.Query()
	form.Set("person", as)
	answer, err = b.PostForm(answer.Request.URL.String(), form)
	require.NoError(b.t, err)
	require.NoError(b.t, answer.Body.Close())
	return answer.Request.URL
}

// who asks the service who is signed in by the browser's cookies.
func (b browser) who(s *testkit.Service) (status int, body string) {
	b.t.Helper()
	answer, err := b.Get(s.URL + "/api/v1/sessions/current")
	require.NoError(b.t, err)
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	require.NoError(b.t, err)
	return answer.StatusCode, string(content)
}

// allow lets a device in with the browser's session.
func (b browser) allow(s *testkit.Service, code string) int {
	b.t.Helper()
	answer, err := b.Post(s.URL+"/api/v1/devices/answer", "application/json", strings.NewReader(`{"code":"`+code+`","allowed":true}`))
	require.NoError(b.t, err)
	require.NoError(b.t, answer.Body.Close())
	return answer.StatusCode
}

// newBrowserLike is another window of the same browser.
func newBrowserLike(b browser) browser { return browser{&http.Client{Jar: b.Jar}, b.t} }

func (b browser) refresh(s *testkit.Service) int {
	b.t.Helper()
	answer, err := b.Post(s.URL+"/api/v1/console/session/refresh", "application/json", nil)
	require.NoError(b.t, err)
	require.NoError(b.t, answer.Body.Close())
	return answer.StatusCode
}

func TestSigningInThroughAProvider(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	p := provider(t, s, owner)
	p.Away(true)
	assert.Equal(t, "/sign-in?provider=away", newBrowser(t).signIn(s, "priya@fernhollow.example", "/").RequestURI())
	p.Away(false)
	b := newBrowser(t)
	assert.Equal(t, "/trail", b.signIn(s, "priya@fernhollow.example", "/trail").Path)
	status, body := b.who(s)
	require.Equal(t, http.StatusOK, status)
	assert.Contains(t, body, "priya@fernhollow.example")
	assert.Equal(t, http.StatusOK, b.refresh(s))
	people, err := owner.People(ctx)
	require.NoError(t, err)
	for _, person := range people {
		assert.Equal(t, person.Login == "priya@fernhollow.example", person.Provider == "fernhollow")
	}
	// The second time the provider's own subject counts.
	require.Equal(t, "/", newBrowser(t).signIn(s, "priya@fernhollow.example", "//evil.example/").Path, "only to a page of the console")
	// Who has an account there and is nobody here stays outside.
	stranger := newBrowser(t)
	assert.Equal(t, "/sign-in?provider=refused", stranger.signIn(s, "stranger@fernhollow.example", "/").RequestURI())
	status, _ = stranger.who(s)
	assert.Equal(t, http.StatusUnauthorized, status)
	// A person of the provider has no password.
	c, err := client.New(s.URL)
	require.NoError(t, err)
	_, err = c.SignIn(ctx, "priya@fernhollow.example", "")
	assert.Error(t, err)

	// While the provider is away nothing goes on, and nothing ends.
	p.Away(true)
	assert.Equal(t, http.StatusOK, b.refresh(s), "it was asked a moment ago")
	s.Later(2 * time.Minute)
	assert.Equal(t, http.StatusServiceUnavailable, b.refresh(s))
	p.Away(false)
	assert.Equal(t, http.StatusOK, b.refresh(s))

	// A device that they let in is theirs too.
	device, err := client.New(s.URL)
	require.NoError(t, err)
	asked, err := device.AskDevice(ctx, "desk")
	require.NoError(t, err)
	fresh := newBrowser(t)
	fresh.signIn(s, "priya@fernhollow.example", "/")
	require.Equal(t, http.StatusNoContent, fresh.allow(s, asked.UserCode))
	let, err := device.TakeDevice(ctx, asked.DeviceCode)
	require.NoError(t, err)
	s.Later(2 * time.Minute)
	// Many at once ask the provider once, which replaces its token each time.
	var group sync.WaitGroup
	for range 5 {
		group.Go(func() { assert.Equal(t, http.StatusOK, newBrowserLike(b).refresh(s)) })
	}
	group.Wait()
	next, err := device.Refresh(ctx, let.Refresh)
	require.NoError(t, err)

	// Every sign-in ends when the provider's account does, at the next refresh.
	p.Close("priya@fernhollow.example")
	s.Later(2 * time.Minute)
	_, err = device.Refresh(ctx, next.Refresh)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	assert.Equal(t, http.StatusUnauthorized, b.refresh(s))
	status, _ = b.who(s)
	assert.Equal(t, http.StatusUnauthorized, status, "every token of the sign-in ends")
	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "session.revoke", Outcome: "refused"}, "", 10)
	require.NoError(t, err)
	require.NotEmpty(t, page.Events)
	assert.Contains(t, page.Events[0].Names[1], "does not know the account any more")
}

func TestAnswersOfAProviderThatWereNotAskedForAreRefused(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	provider(t, s, owner)
	victim := newBrowser(t)
	get := func(address string) string {
		answer, err := victim.Get(address)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.Request.URL.RequestURI()
	}
	// An attacker's own answer, brought to a victim's browser.
	attacker := newBrowser(t)
	attacker.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/api/v1/console/callback" {
			return http.ErrUseLastResponse
		}
		return nil
	}
	answer, err := attacker.Get(s.URL + "/api/v1/console/providers/fernhollow/begin")
	require.NoError(t, err)
	form := answer.Request.URL.Query()
	require.NotEmpty(t, form.Get("code_challenge"))
	require.NotEmpty(t, form.Get("nonce"))
	form.Set("person", "priya@fernhollow.example")
	answer, err = attacker.PostForm(answer.Request.URL.String(), form)
	require.NoError(t, err)
	callback := answer.Header.Get("Location")
	require.Contains(t, callback, "/api/v1/console/callback?")
	assert.Equal(t, "/sign-in?provider=refused", get(callback), "it was not begun in this browser")
	_, err = victim.Get(s.URL + "/api/v1/console/providers/fernhollow/begin")
	require.NoError(t, err)
	assert.Equal(t, "/sign-in?provider=refused", get(callback), "its state is another one")
	assert.Equal(t, "/sign-in?provider=refused", get(s.URL+"/api/v1/console/callback?state=x&code=y"))
	status, _ := victim.who(s)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Equal(t, "/sign-in?provider=refused", get(s.URL+"/api/v1/console/providers/nope/begin"))

	// What the trail tells auditors and nobody else.
	require.Eventually(t, func() bool {
		page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "session.begin", Outcome: "refused"}, "", 10)
		require.NoError(t, err)
		return len(page.Events) > 0 && strings.Contains(page.Events[len(page.Events)-1].Reason, "not begun in this browser")
	}, 10*time.Second, 50*time.Millisecond)
}

func TestProvidersAreManagedByOwners(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	p := provider(t, s, owner)
	all, err := owner.Providers(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Zero(t, s.SQL(t, "SELECT FROM providers WHERE position($1::bytea IN sealed) > 0", []byte(p.ClientSecret)))
	for _, c := range []struct {
		add  wire.NewProvider
		says string
	}{
		{wire.NewProvider{Name: "Other!", URL: "ftp://x", ClientID: "", ClientSecret: ""}, "things are wrong with the provider"},
		{wire.NewProvider{Name: "other", URL: p.URL + "/", ClientID: "a", ClientSecret: "b"}, "another issuer's"},
		{wire.NewProvider{Name: "other", URL: "http://127.0.0.1:1", ClientID: "a", ClientSecret: "b"}, "it does not answer"},
		{wire.NewProvider{Name: "fernhollow", URL: p.URL, ClientID: "a", ClientSecret: "b"}, "there is already a provider"},
	} {
		_, err := owner.AddProvider(ctx, c.add)
		assert.ErrorContains(t, err, c.says)
	}
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "x@fernhollow.example", Name: "X", Provider: "nope"})
	assert.ErrorContains(t, err, `there is no provider "nope"`)
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "x@fernhollow.example", Name: "X", Provider: "fernhollow", Password: "gravel teacup eleven moth"})
	assert.ErrorContains(t, err, "one of the two")

	b := newBrowser(t)
	b.signIn(s, "priya@fernhollow.example", "/")
	require.NoError(t, owner.RemoveProvider(ctx, "fernhollow"))
	status, _ := b.who(s)
	assert.Equal(t, http.StatusUnauthorized, status, "who signed in through it is signed out")
	assert.Equal(t, http.StatusUnauthorized, b.refresh(s))
	assert.ErrorContains(t, owner.RemoveProvider(ctx, "fernhollow"), "there is no provider")
}
