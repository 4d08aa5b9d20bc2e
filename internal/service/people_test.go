package service_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

const harbour = "a lantern above the harbour"

func anonymous(t *testing.T, s *testkit.Service) *client.Client {
	t.Helper()
	c, err := client.New(s.URL)
	require.NoError(t, err)
	return c
}

func TestAPersonIsInvitedAndChoosesAPassword(t *testing.T) {
	s, owner := loans(t)
	const login = "priya@fernhollow.example"
	p, err := owner.AddPerson(ctx, wire.NewPerson{Login: login, Name: "Priya Vantongeren"})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(p.Invitation, "adyt_i_"))
	c := anonymous(t, s)
	_, err = c.SignIn(ctx, login, "")
	assert.ErrorContains(t, err, "the password or the code is wrong", "there is no password yet")

	for _, wrong := range []string{"tiny-one", "passwordpassword1", "Priya Vantongeren!"} {
		_, err = c.Accept(ctx, wire.Acceptance{Invitation: p.Invitation, Password: wrong})
		assert.Equal(t, http.StatusUnprocessableEntity, status(err), wrong)
		assert.NotContains(t, err.Error(), wrong)
	}
	accepted, err := c.Accept(ctx, wire.Acceptance{Invitation: p.Invitation, Password: harbour})
	require.NoError(t, err)
	assert.Equal(t, login, accepted.Login)
	_, err = c.SignIn(ctx, login, harbour)
	require.NoError(t, err)

	for what, invitation := range map[string]string{"used": p.Invitation, "none": "", "a text": "adyt_i_nonsense", "another token": c.Token()} {
		_, err = c.Accept(ctx, wire.Acceptance{Invitation: invitation, Password: harbour})
		assert.EqualError(t, err, "the invitation is not valid, or not any more; ask for a new one", what)
	}
	late, err := owner.AddPerson(ctx, wire.NewPerson{Login: "abel@fernhollow.example", Name: "Abel Marsh"})
	require.NoError(t, err)
	s.Later(73 * time.Hour)
	_, err = c.Accept(ctx, wire.Acceptance{Invitation: late.Invitation, Password: harbour})
	assert.ErrorContains(t, err, "not any more")
}

func TestTimeBasedCodes(t *testing.T) {
	s, owner := loans(t)
	const login, password = "priya@fernhollow.example", "a password for priya@fernhollow.example"
	c := person(t, s, owner, login, "consumer", live)
	ahead := time.Duration(0)
	code := func(seed string) string {
		out, err := totp.GenerateCode(seed, time.Now().Add(ahead))
		require.NoError(t, err)
		return out
	}
	next := func() { // to a code that was not used yet
		s.Later(2 * time.Minute)
		ahead += 2 * time.Minute
	}
	signIn := func(code string) error {
		_, err := anonymous(t, s).SignInWith(ctx, wire.SignIn{Login: login, Password: password, Code: code})
		return err
	}
	f, err := c.BeginCode(ctx)
	require.NoError(t, err)
	assert.Contains(t, f.URI, "otpauth://totp/")
	require.NoError(t, signIn(""), "codes that are not confirmed are not asked for")
	_, err = c.ConfirmCode(ctx, "000000")
	assert.ErrorContains(t, err, "is the device's clock right?")
	recovery, err := c.ConfirmCode(ctx, code(f.Secret))
	require.NoError(t, err)
	require.Len(t, recovery.Codes, 10)

	assert.Error(t, signIn(code(f.Secret)), "a code is good once, the one that confirmed too")
	next()
	for what, wrong := range map[string]string{"none": "", "another": "123456", "short": "12345", "a text": "codes", "the seed": f.Secret} {
		assert.EqualError(t, signIn(wrong), "the name, the password or the code is wrong", what)
	}
	require.NoError(t, signIn(" "+code(f.Secret)[:3]+" "+code(f.Secret)[3:]), "as authenticators show it")
	assert.Error(t, signIn(code(f.Secret)), "again")
	_, err = anonymous(t, s).SignInWith(ctx, wire.SignIn{Login: login, Password: "not the password", Code: recovery.Codes[0]})
	assert.EqualError(t, err, "the name, the password or the code is wrong", "a code without the password")
	require.NoError(t, signIn(strings.ToUpper(recovery.Codes[0])), "a recovery code, and the failed try has not used it up")
	assert.Error(t, signIn(recovery.Codes[0]), "again")
	require.NoError(t, signIn(strings.ReplaceAll(recovery.Codes[1], "-", "")))

	people, err := owner.People(ctx)
	require.NoError(t, err)
	assert.True(t, people[1].Codes)
	_, err = c.BeginCode(ctx)
	assert.ErrorContains(t, err, "you have codes already")
	assert.Equal(t, http.StatusForbidden, status(c.RemoveCode(ctx, "123456")))
	next()
	require.NoError(t, c.RemoveCode(ctx, code(f.Secret)))
	require.NoError(t, signIn(""))

	page, err := owner.Trail(ctx, "", 100)
	require.NoError(t, err)
	var seen []string
	for _, e := range page.Events {
		if strings.HasPrefix(e.Action, "factor.") && e.Outcome == "allowed" {
			seen = append(seen, e.Action)
		}
		assert.NotContains(t, strings.Join(e.Names, " ")+e.Reason, f.Secret)
	}
	assert.Equal(t, []string{"factor.remove", "factor.recover", "factor.recover", "factor.confirm", "factor.begin"}, seen)
	assert.Zero(t, s.SQL(t, "SELECT FROM factors WHERE position(convert_to('"+f.Secret+"', 'UTF8') IN sealed) > 0"))
}

func TestACodeIsGoodOnceOnAllInstances(t *testing.T) {
	s, owner := loans(t)
	const login, password = "priya@fernhollow.example", "a password for priya@fernhollow.example"
	c := person(t, s, owner, login, "consumer", live)
	other := second(t, s)
	f, err := c.BeginCode(ctx)
	require.NoError(t, err)
	at := time.Now()
	code, err := totp.GenerateCode(f.Secret, at)
	require.NoError(t, err)
	_, err = c.ConfirmCode(ctx, code)
	require.NoError(t, err)
	ahead, err := totp.GenerateCode(f.Secret, at.Add(30*time.Second))
	require.NoError(t, err)
	results := make(chan error, 8)
	for i := range 8 {
		go func() {
			on, err := client.New([]string{s.URL, other.URL}[i%2])
			if err == nil {
				_, err = on.SignInWith(ctx, wire.SignIn{Login: login, Password: password, Code: ahead})
			}
			results <- err
		}()
	}
	right := 0
	for range 8 {
		if <-results == nil {
			right++
		}
	}
	assert.Equal(t, 1, right)
}

func TestSessionsAreListedAndEnded(t *testing.T) {
	s, owner := loans(t)
	const login, password = "priya@fernhollow.example", "a password for priya@fernhollow.example"
	c := person(t, s, owner, login, "consumer", live)
	others := []*client.Client{s.Client(t, login, password), s.Client(t, login, password)}
	all, err := c.Sessions(ctx, "person", "")
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.True(t, all[2].Current)
	assert.Equal(t, "127.0.0.1", all[0].From)
	require.NoError(t, c.EndSessions(ctx, "person", "", all[0].ID))
	_, err = others[1].Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	_, err = others[0].Who(ctx)
	require.NoError(t, err)

	mine, err := owner.Sessions(ctx, "person", "")
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, status(c.EndSessions(ctx, "person", "", mine[0].ID)), "somebody else's")
	_, err = c.Sessions(ctx, "person", testkit.OwnerLogin)
	assert.Equal(t, http.StatusForbidden, status(err))
	require.NoError(t, owner.EndSessions(ctx, "person", login, 0))
	for _, gone := range append(others, c) {
		_, err = gone.Who(ctx)
		assert.ErrorIs(t, err, client.ErrNotSignedIn)
	}

	c = s.Client(t, login, password)
	other := s.Client(t, login, password)
	assert.ErrorContains(t, c.ChangePassword(ctx, wire.PasswordChange{Old: "not it at all", New: harbour}), "present password is wrong")
	assert.ErrorContains(t, c.ChangePassword(ctx, wire.PasswordChange{Old: password, New: "qwertyuiopqwertyuiop"}), "many people choose")
	require.NoError(t, c.ChangePassword(ctx, wire.PasswordChange{Old: password, New: harbour}))
	_, err = c.Who(ctx)
	require.NoError(t, err, "one's own session goes on")
	_, err = other.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	_, err = anonymous(t, s).SignIn(ctx, login, password)
	assert.Error(t, err)
	s.Client(t, login, harbour)
}

func TestAResetAndARemovalEndEverything(t *testing.T) {
	s, owner := loans(t)
	const login, password = "priya@fernhollow.example", "a password for priya@fernhollow.example"
	keep(t, owner, live, secretEdit("KEY", "value"))
	c := person(t, s, owner, login, "consumer", live)
	steward := person(t, s, owner, "tomasz@fernhollow.example", "steward", common)
	_, err := steward.ResetPerson(ctx, login)
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = owner.DefineRole(ctx, wire.NewRole{Name: "keeper-of-people", Verbs: []string{"people"}})
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "tomasz@fernhollow.example", Role: "keeper-of-people"})
	_, err = steward.ResetPerson(ctx, testkit.OwnerLogin)
	assert.Equal(t, http.StatusForbidden, status(err), "an owner's account would be the steward's")

	p, err := steward.ResetPerson(ctx, login)
	require.NoError(t, err, "whose rights the steward holds")
	_, err = c.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	_, err = anonymous(t, s).SignIn(ctx, login, password)
	assert.Error(t, err)
	_, err = anonymous(t, s).Accept(ctx, wire.Acceptance{Invitation: p.Invitation, Password: harbour})
	require.NoError(t, err)
	c = s.Client(t, login, harbour)
	assert.Equal(t, "value from loans/live", answers(c, live, "adytum:KEY"))

	assert.ErrorContains(t, owner.RemovePerson(ctx, testkit.OwnerLogin), "last owner")
	require.NoError(t, owner.RemovePerson(ctx, login))
	_, err = c.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn)
	_, err = anonymous(t, s).SignIn(ctx, login, harbour)
	assert.Error(t, err)
	people, err := owner.People(ctx)
	require.NoError(t, err)
	for _, p := range people {
		assert.NotEqual(t, "Priya Vantongeren", p.Name)
		assert.NotContains(t, p.Login, "removed")
	}
	assert.Zero(t, s.SQL(t, "SELECT FROM people p LEFT JOIN person_names n ON n.person_id = p.id WHERE p.login LIKE 'priya%' OR n.name LIKE 'priya%'"), "nothing names them any more")
	again, err := owner.AddPerson(ctx, wire.NewPerson{Login: login, Name: "Priya Vantongeren"})
	require.NoError(t, err, "the login is free")
	assert.NotEmpty(t, again.Invitation)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole)
}

func TestTheOrganizationAsksEverybodyForCodes(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", live)
	w, err := owner.AddWorkload(ctx, "loans-server")
	require.NoError(t, err)
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "workload", Who: "loans-server", Role: "consumer", Project: "loans"})
	require.NoError(t, err)
	yes, no := true, false
	_, err = owner.EditOrganization(ctx, wire.OrganizationEdit{Codes: &yes})
	require.Equal(t, http.StatusConflict, status(err), "nobody shuts themselves out")
	f, err := owner.BeginCode(ctx)
	require.NoError(t, err)
	code, err := totp.GenerateCode(f.Secret, time.Now())
	require.NoError(t, err)
	_, err = owner.ConfirmCode(ctx, code)
	require.NoError(t, err)
	_, err = reader.EditOrganization(ctx, wire.OrganizationEdit{Codes: &yes})
	require.Equal(t, http.StatusForbidden, status(err))
	o, err := owner.EditOrganization(ctx, wire.OrganizationEdit{Codes: &yes})
	require.NoError(t, err)
	assert.True(t, o.Codes)

	// At once, for those who are signed in already, on every way to a value.
	other := moved(t, reader, second(t, s).URL)
	for _, c := range []*client.Client{reader, other} {
		_, err = c.Value(ctx, live, "KEY")
		require.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, status(err))
		_, err = c.Resolve(ctx, live, []string{"adytum:KEY"}, nil)
		require.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, status(err))
		_, err = c.Organization(ctx)
		require.Equal(t, http.StatusForbidden, status(err))
		assert.Contains(t, err.Error(), "adytum code add")
		_, err = c.Who(ctx)
		require.NoError(t, err)
	}
	server := anonymous(t, s)
	_, err = server.SignInWorkload(ctx, w.ClientID, w.ClientSecret)
	require.NoError(t, err)
	_, err = server.Value(ctx, live, "KEY")
	require.NoError(t, err, "workloads have no codes")

	f, err = reader.BeginCode(ctx)
	require.NoError(t, err)
	code, err = totp.GenerateCode(f.Secret, time.Now())
	require.NoError(t, err)
	_, err = reader.ConfirmCode(ctx, code)
	require.NoError(t, err)
	_, err = reader.Value(ctx, live, "KEY")
	require.NoError(t, err)
	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Who: "priya@fernhollow.example", Action: "session.use", Outcome: "refused"}, "", 10)
	require.NoError(t, err)
	assert.NotEmpty(t, page.Events)
	_, err = owner.EditOrganization(ctx, wire.OrganizationEdit{Codes: &no})
	require.NoError(t, err)

	// As the database's owner: asking nobody any more is noticed.
	_, err = owner.EditOrganization(ctx, wire.OrganizationEdit{Codes: &yes})
	require.NoError(t, err)
	s.Stop()
	require.Positive(t, s.SQL(t, "UPDATE organization SET codes = false"))
	if err := s.TryServe(t); err == nil {
		_, err = moved(t, owner, s.URL).Projects(ctx)
		assert.Equal(t, http.StatusInternalServerError, status(err))
	}
}
