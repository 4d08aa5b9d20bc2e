package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func grant(t *testing.T, owner *client.Client, g wire.NewGrant) wire.Grant {
	t.Helper()
	out, err := owner.AddGrant(ctx, g)
	require.NoError(t, err)
	return out
}

func nameList(entries []wire.Entry) string {
	var names []string
	for _, e := range entries {
		names = append(names, e.Name)
	}
	return strings.Join(names, " ")
}

// Whoever was granted some names of a place finds these, and of the others as
// little as of what is not there: in every operation that there is.
func TestAGrantForSomeNamesReachesTheseAlone(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("DB_PASSWORD", "one"), setting("DB_HOST", "db"), secretEdit("PENNYWICK_KEY", "two"), setting("PAGE", "9"))
	keep(t, owner, live, secretEdit("DB_PASSWORD", "three"), secretEdit("PENNYWICK_KEY", "four"))
	keep(t, owner, staging, secretEdit("PENNYWICK_KEY", "four"), secretEdit("DB_PASSWORD", "three"))
	c := person(t, s, owner, "priya@fernhollow.example", "", whole)
	for _, place := range []client.Place{live, staging} {
		grant(t, owner, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "editor", Project: place.Project, Environment: place.Environment, Names: "DB_*"})
	}

	entries, err := c.Entries(ctx, live)
	require.NoError(t, err)
	assert.Equal(t, "DB_HOST DB_PASSWORD", nameList(entries.Entries))
	_, err = c.Entry(ctx, live, "PENNYWICK_KEY")
	assert.EqualError(t, err, "PENNYWICK_KEY is not set in loans/live")
	_, err = c.Entry(ctx, live, "NOTHING_LIKE_IT")
	assert.EqualError(t, err, "NOTHING_LIKE_IT is not set in loans/live")
	_, err = c.Entry(ctx, live, "PENNYWICK_KEYS")
	assert.NotContains(t, err.Error(), "did you mean", "no hint names what may not be listed")

	assert.Equal(t, "three from loans/live", answers(c, live, "adytum:DB_PASSWORD"))
	for _, name := range []string{"PENNYWICK_KEY", "NOTHING_LIKE_IT"} {
		assert.Equal(t, "404 "+name+" is not set in loans/live", answers(c, live, "adytum:"+name))
	}
	_, err = c.History(ctx, live, "PENNYWICK_KEY")
	assert.Equal(t, http.StatusNotFound, status(err))

	changes, err := c.Changes(ctx, live)
	require.NoError(t, err)
	for _, change := range changes {
		for _, e := range change.Effects {
			assert.True(t, strings.HasPrefix(e.Name, "DB_"), e.Name)
		}
		assert.Empty(t, change.Reason, "a reason may speak of the others")
	}
	comparison, err := c.Compare(ctx, live, -1, staging, -1)
	require.NoError(t, err)
	for _, row := range comparison.Rows {
		assert.True(t, strings.HasPrefix(row.Name, "DB_"), row.Name)
	}
	same, err := c.Same(ctx, live, "DB_PASSWORD")
	require.NoError(t, err)
	assert.Equal(t, "DB_PASSWORD", nameList(same.Same))
	_, err = c.Same(ctx, live, "PENNYWICK_KEY")
	assert.Equal(t, http.StatusNotFound, status(err))

	change := func(edits ...wire.Edit) error {
		_, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: edits})
		return err
	}
	require.NoError(t, change(secretEdit("DB_EXTRA", "x")))
	for what, edit := range map[string]wire.Edit{
		"keep": secretEdit("PENNYWICK_KEY", "x"), "remove": {Name: "PENNYWICK_KEY", Act: "remove"}, "revert": {Name: "PENNYWICK_KEY", Act: "revert", Version: 1},
		"rename to": {Name: "DB_EXTRA", Act: "rename", To: "PENNYWICK_KEY2"}, "rename from": {Name: "PENNYWICK_KEY", Act: "rename", To: "DB_MINE"},
		"describe": {Name: "PENNYWICK_KEY", Act: "describe", Details: &wire.Details{}},
		"refer":    setting("DB_URL", "{adytum:PENNYWICK_KEY}"),
	} {
		err := change(secretEdit("DB_OTHER", "x"), edit)
		assert.Contains(t, []int{http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusNotFound}, status(err), "%s: %v", what, err)
	}
	revision := int64(1)
	_, err = c.Revert(ctx, live, client.Commit{Base: client.AnyRevision}, wire.RevertRequest{Revision: &revision})
	assert.Equal(t, http.StatusForbidden, status(err), "going back would change other names too")
	_, err = c.Copy(ctx, live, client.Commit{Base: client.AnyRevision}, wire.CopyRequest{From: wire.PlaceID(staging), Names: []string{"PENNYWICK_KEY"}})
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = c.Move(ctx, live, client.Commit{Base: client.AnyRevision}, wire.MoveRequest{To: wire.PlaceID(staging), Names: []string{"PENNYWICK_KEY"}})
	assert.Equal(t, http.StatusForbidden, status(err))
	assert.Error(t, c.Archive(ctx, "loans", nil), "an archive holds everything")
	v, err := owner.Value(ctx, live, "PENNYWICK_KEY")
	require.NoError(t, err)
	assert.Equal(t, "four", v.Value)
}

func TestAGrantEndsByItselfAndHoldsFromItsNetworksAlone(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	c := person(t, s, owner, "priya@fernhollow.example", "", whole)
	soon := time.Now().Add(2 * time.Second)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live", Until: &soon})
	for range 3 {
		assert.Equal(t, "value from loans/live", answers(c, live, "adytum:KEY"))
	}
	time.Sleep(time.Until(soon) + 20*time.Millisecond)
	for range 3 {
		assert.Equal(t, `404 there is no project "loans"`, answers(c, live, "adytum:KEY"))
	}
	for names, network := range map[string]string{"K*": "192.0.2.0/24", "*Y": "2001:db8::/32"} {
		grant(t, owner, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live", Names: names, From: []string{network}})
	}
	assert.Equal(t, `404 there is no project "loans"`, answers(c, live, "adytum:KEY"))
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", From: []string{"127.0.0.0/8", "::1"}})
	assert.Equal(t, "value from loans/live", answers(c, live, "adytum:KEY"))

	past := time.Now().Add(-time.Hour)
	_, err := owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "emperor", Names: "DB-*", Until: &past, From: []string{"10.0.0.1/8", "everywhere"}})
	require.Error(t, err)
	assert.Len(t, err.(*client.Error).Details, 5, "everything at once: %v", err.(*client.Error).Details)
}

func TestNobodyGetsMoreThanTheyHoldByWayOfTeamsRolesAndSecrets(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	const login = "tomasz@fernhollow.example"
	c := person(t, s, owner, login, "steward", common)
	_, err := owner.DefineRole(ctx, wire.NewRole{Name: "keeper-of-people", Verbs: []string{"people"}})
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: login, Role: "keeper-of-people"})
	_, err = owner.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "workload", Who: "mailer", Role: "owner"})
	_, err = owner.AddTeam(ctx, "owners")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "team", Who: "owners", Role: "owner"})

	_, err = c.AddMember(ctx, "owners", login)
	assert.Equal(t, http.StatusForbidden, status(err), "a team's rights")
	_, err = c.AddClientSecret(ctx, "mailer", wire.NewClientSecret{})
	assert.Equal(t, http.StatusForbidden, status(err), "a workload's rights: %v", err)
	_, err = c.DefineRole(ctx, wire.NewRole{Name: "keeper-of-people", Verbs: []string{"people", "audit"}})
	assert.Equal(t, http.StatusForbidden, status(err), "a role's rights")
	_, err = c.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: login, Role: "owner", Project: "loans"})
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = owner.Freeze(ctx, wire.Freeze{Kind: "workload", Name: "mailer"})
	require.NoError(t, err)
	assert.Equal(t, http.StatusForbidden, status(c.Thaw(ctx, wire.Freeze{Kind: "workload", Name: "mailer"})))
	assert.ErrorContains(t, owner.RemoveRole(ctx, "keeper-of-people"), "1 grants give the role")
	_, err = owner.DefineRole(ctx, wire.NewRole{Name: "owner", Verbs: []string{"list"}})
	assert.ErrorContains(t, err, "stays as it is")

	// A team of one's own rights is another thing.
	_, err = c.AddTeam(ctx, "desk")
	require.NoError(t, err)
	grant(t, c, wire.NewGrant{Kind: "team", Who: "desk", Role: "consumer", Project: "loans", Environment: "live"})
	reader := person(t, s, owner, "priya@fernhollow.example", "", whole)
	assert.Equal(t, `404 there is no project "loans"`, answers(reader, live, "adytum:KEY"))
	_, err = c.AddMember(ctx, "desk", "priya@fernhollow.example")
	require.NoError(t, err)
	assert.Equal(t, "value from loans/live", answers(reader, live, "adytum:KEY"))
	require.NoError(t, c.RemoveMember(ctx, "desk", "priya@fernhollow.example"))
	assert.Equal(t, `404 there is no project "loans"`, answers(reader, live, "adytum:KEY"))
	_, err = c.AddMember(ctx, "desk", "priya@fernhollow.example")
	require.NoError(t, err)
	require.NoError(t, c.RemoveTeam(ctx, "desk"))
	assert.Equal(t, `404 there is no project "loans"`, answers(reader, live, "adytum:KEY"), "a team goes with its grants")
}

func TestAFreezeHoldsAtOnceOnEveryInstance(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	w, err := owner.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "workload", Who: "mailer", Role: "editor", Project: "loans"})
	var on []*client.Client
	for i, url := range []string{s.URL, second(t, s).URL} {
		c, err := client.New(url)
		require.NoError(t, err)
		on = append(on, c)
		if i == 0 {
			_, err = c.SignInWorkload(ctx, w.ClientID, w.ClientSecret)
			require.NoError(t, err)
		} else {
			c.UseToken(on[0].Token())
		}
	}
	everywhere := func(want string) {
		t.Helper()
		for i, c := range on {
			assert.Regexp(t, want, answers(c, live, "adytum:KEY"), "instance %d", i)
		}
	}
	everywhere("^value from")
	for _, c := range []struct{ kind, name, want string }{
		{"workload", "mailer", "^(401 .*frozen|404 there is no project)"}, {"project", "loans", "^403 the project loans is frozen"}, {"organization", "", "^403 the organization is frozen"},
	} {
		f := wire.Freeze{Kind: c.kind, Name: c.name, Reason: "to be safe"}
		_, err := owner.Freeze(ctx, f)
		require.NoError(t, err, c.kind)
		everywhere(c.want)
		if c.kind == "workload" {
			_, err := on[0].SignInWorkload(ctx, w.ClientID, w.ClientSecret)
			assert.ErrorContains(t, err, "client id or the client secret is wrong")
		} else {
			_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "y")}})
			assert.Equal(t, http.StatusForbidden, status(err), "an owner too")
			_, err = owner.Entries(ctx, live)
			assert.NoError(t, err, "it can be looked at")
		}
		_, err = owner.Freeze(ctx, f)
		assert.ErrorContains(t, err, "frozen already")
		if c.kind != "workload" {
			// The first refusal came after an answer from memory was made and withheld.
			require.Eventually(t, func() bool {
				page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "workload", Who: "mailer", Action: "entry.resolve"}, "", 10)
				require.NoError(t, err)
				refused := 0
				for _, e := range page.Events {
					if e.Outcome == "refused" {
						refused++
					} else if !e.NotReleased {
						break
					}
				}
				return refused == 2
			}, 5*time.Second, 50*time.Millisecond, "both refusals of %s are in the trail", c.kind)
		}
		all, err := owner.Frozen(ctx)
		require.NoError(t, err)
		assert.Len(t, all, 1)
		require.NoError(t, owner.Thaw(ctx, f))
		assert.ErrorContains(t, owner.Thaw(ctx, f), "is not frozen")
		everywhere("^value from")
	}
	_, err = owner.Freeze(ctx, wire.Freeze{Kind: "person", Name: testkit.OwnerLogin})
	assert.ErrorContains(t, err, "last owner")
}

func TestClientSecretsAreReplacedWithoutAGap(t *testing.T) {
	s, owner := loans(t)
	w, err := owner.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	signIn := func(clientSecret string) error {
		c, err := client.New(s.URL)
		require.NoError(t, err)
		_, err = c.SignInWorkload(ctx, w.ClientID, clientSecret)
		return err
	}
	next, err := owner.AddClientSecret(ctx, "mailer", wire.NewClientSecret{Days: 30})
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 30), next.ExpiresAt, time.Hour)
	require.NoError(t, signIn(w.ClientSecret))
	require.NoError(t, signIn(next.ClientSecret))
	all, err := owner.ClientSecrets(ctx, "mailer")
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, one := range all {
		assert.Empty(t, one.ClientSecret)
		assert.WithinDuration(t, time.Now(), one.LastUsed, time.Minute)
	}
	require.NoError(t, owner.RemoveClientSecret(ctx, "mailer", all[0].ID))
	assert.Error(t, signIn(w.ClientSecret))
	require.NoError(t, signIn(next.ClientSecret))
	assert.ErrorContains(t, owner.RemoveClientSecret(ctx, "mailer", all[0].ID), "has no client secret")
	s.Later(31 * 24 * time.Hour)
	assert.Error(t, signIn(next.ClientSecret), "it has ended")
	_, err = s.Owner(t).AddClientSecret(ctx, "mailre", wire.NewClientSecret{})
	assert.ErrorContains(t, err, "did you mean mailer?")
}

func TestExplanations(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"), secretEdit("DB_PASSWORD", "x"), setting("PAGE", "9"))
	keep(t, owner, common, secretEdit("SHARED", "y"))
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", live)
	_, err := owner.AddTeam(ctx, "desk")
	require.NoError(t, err)
	_, err = owner.AddMember(ctx, "desk", "priya@fernhollow.example")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "team", Who: "desk", Role: "editor", Project: "loans", Environment: "live", Names: "DB_*"})

	rows := func(place client.Place, name string) (all []string) {
		out, err := owner.ExplainPlace(ctx, place, name)
		require.NoError(t, err)
		for _, r := range out.Rows {
			all = append(all, fmt.Sprintf("%s %s %s %s", r.Login, strings.Join(r.Verbs, "+"), r.Via, r.State))
		}
		return all
	}
	ines := testkit.OwnerLogin + " list+read+write+remove+destroy+manage  holds"
	assert.Equal(t, []string{ines, "priya@fernhollow.example list+read  holds"}, rows(live, "KEY"))
	assert.Equal(t, []string{ines, "priya@fernhollow.example list+read  holds", "priya@fernhollow.example list+read+write+remove the team desk holds"}, rows(live, "DB_PASSWORD"))
	assert.Equal(t, []string{ines, "priya@fernhollow.example read loans/live holds"}, rows(common, "SHARED"), "a common layer is read with an environment's grant")
	_, err = owner.Freeze(ctx, wire.Freeze{Kind: "person", Name: "priya@fernhollow.example"})
	require.NoError(t, err)
	assert.Contains(t, rows(live, "KEY"), "priya@fernhollow.example list+read  frozen")
	require.NoError(t, owner.Thaw(ctx, wire.Freeze{Kind: "person", Name: "priya@fernhollow.example"}))

	mine, err := reader.ExplainSubject(ctx, "person", "priya@fernhollow.example")
	require.NoError(t, err, "one may always ask about oneself")
	assert.Len(t, mine.Rows, 2)
	for _, who := range []string{testkit.OwnerLogin, "nobody@fernhollow.example"} {
		_, err = reader.ExplainSubject(ctx, "person", who)
		assert.EqualError(t, err, "priya@fernhollow.example may not manage people in the organization; an owner can grant it", "whether or not there is such a one")
	}

	preview, err := owner.PreviewGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "editor", Project: "loans"})
	require.NoError(t, err)
	var gains []string
	for _, g := range preview.Gains {
		gains = append(gains, fmt.Sprintf("%s %s %d", g.Place, strings.Join(g.Verbs, "+"), g.Entries))
	}
	assert.Equal(t, []string{"loans list+read+write+remove 1", "loans/live write+remove 2", "loans/staging list+read+write+remove 0"}, gains)
	assert.NotContains(t, strings.Join(rows(staging, ""), "\n"), "priya", "nothing was granted")

	for range 3 {
		answers(reader, live, "adytum:KEY", "adytum:SHARED")
	}
	answers(reader, live, "adytum:PAGE")
	keep(t, owner, common, secretEdit("SHARED", "replaced"))
	require.Eventually(t, func() bool {
		out, err := owner.Exposure(ctx, "person", "priya@fernhollow.example")
		require.NoError(t, err)
		return len(out.Rows) == 2 && out.Rows[0].Reference == "adytum:KEY" && out.Rows[0].Times == 3 && out.Rows[0].Replaced.IsZero() &&
			out.Rows[1].Reference == "adytum:SHARED" && !out.Rows[1].Replaced.IsZero()
	}, 5*time.Second, 50*time.Millisecond)
}

func TestProblemsOfAChangeNameNothingThatMayNotBeListed(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("PENNYWICK_KEY", "value"))
	_, err := owner.DefineRole(ctx, wire.NewRole{Name: "blind", Verbs: []string{"write", "remove"}})
	require.NoError(t, err)
	blind := person(t, s, owner, "priya@fernhollow.example", "blind", live)
	for what, edit := range map[string]wire.Edit{"a name nearby": {Name: "PENNYWICK_KEYS", Act: "remove"}, "another case": setting("pennywick_key", "x")} {
		request := wire.ChangeRequest{Edits: []wire.Edit{edit}}
		_, err := blind.Change(ctx, live, client.AnyRevision, request)
		require.Error(t, err, what)
		told := err.Error() + strings.Join(err.(*client.Error).Details, " ")
		assert.NotContains(t, strings.ReplaceAll(told, "PENNYWICK_KEYS", ""), "PENNYWICK_KEY", what)
		_, err = owner.Change(ctx, live, client.AnyRevision, request)
		require.Error(t, err, what)
		assert.Contains(t, strings.Join(err.(*client.Error).Details, " ")+err.Error(), "PENNYWICK_KEY", "who may list it is told: %s", what)
	}
}

func TestAFreezeHoldsForPrivateValuesToo(t *testing.T) {
	_, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	mine := wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "mine")}}
	_, err := owner.CommitPrivate(ctx, live, client.Commit{Base: client.AnyRevision}, mine)
	require.NoError(t, err)
	assert.Equal(t, "mine from loans/live", answers(owner, live, "adytum:KEY"))
	_, err = owner.Freeze(ctx, wire.Freeze{Kind: "project", Name: "loans"})
	require.NoError(t, err)
	assert.Regexp(t, "^403 the project loans is frozen", answers(owner, live, "adytum:KEY"))
	_, err = owner.CommitPrivate(ctx, live, client.Commit{Base: client.AnyRevision}, mine)
	assert.Equal(t, http.StatusForbidden, status(err))
}

// A grant that others limit is found whatever stands before it.
func TestAGrantIsRemovedByWhoManagesItsPlaceOrItsNames(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, setting("DB_HOST", "db"))
	steward := person(t, s, owner, "tomasz@fernhollow.example", "", whole)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "tomasz@fernhollow.example", Role: "steward", Project: "loans", Environment: "live", Names: "DB_*"})
	_, err := owner.AddPerson(ctx, wire.NewPerson{Login: "abel@fernhollow.example", Name: "Abel Marsh"})
	require.NoError(t, err)
	theirs := grant(t, steward, wire.NewGrant{Kind: "person", Who: "abel@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live", Names: "DB_*"})
	whole := grant(t, owner, wire.NewGrant{Kind: "person", Who: "abel@fernhollow.example", Role: "observer", Project: "loans", Environment: "live"})
	_, err = steward.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "abel@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live"})
	assert.Equal(t, http.StatusForbidden, status(err))
	assert.Equal(t, http.StatusNotFound, status(steward.RemoveGrant(ctx, whole.ID)), "it is for all names")
	require.NoError(t, steward.RemoveGrant(ctx, theirs.ID))
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "tomasz@fernhollow.example", Role: "steward", Project: "loans"})
	require.NoError(t, steward.RemoveGrant(ctx, whole.ID))
}

// Keys that must be unique, and what is refused before they are looked at, tell
// nothing of names that one may not list.
func TestUniqueNamesTellNothingToWhoMayNotListThem(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("A_OPEN", "x"), secretEdit("B_HIDDEN", "x"))
	_, err := owner.DefineRole(ctx, wire.NewRole{Name: "letterbox", Verbs: []string{"list", "write", "remove"}})
	require.NoError(t, err)
	c := person(t, s, owner, "priya@fernhollow.example", "", live)
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "letterbox", Project: "loans", Environment: "live", Names: "A_*"})
	require.NoError(t, err)
	change := func(edits ...wire.Edit) error {
		_, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: edits})
		return err
	}
	for what, act := range map[string]func(name string) error{
		"rename to":     func(name string) error { return change(wire.Edit{Act: "rename", Name: "A_OPEN", To: name}) },
		"rename":        func(name string) error { return change(wire.Edit{Act: "rename", Name: name, To: "A_NEW"}) },
		"keep":          func(name string) error { return change(secretEdit(name, "y")) },
		"remove":        func(name string) error { return change(wire.Edit{Act: "remove", Name: name}) },
		"restore":       func(name string) error { return change(wire.Edit{Act: "restore", Name: name}) },
		"revert":        func(name string) error { return change(wire.Edit{Act: "revert", Name: name, Version: 1}) },
		"keep with one": func(name string) error { return change(secretEdit("A_OPEN", "y"), secretEdit(name, "y")) },
		"show":          func(name string) error { _, err := c.Entry(ctx, live, name); return err },
		"copy": func(name string) error {
			_, err := c.Copy(ctx, live, client.Commit{Base: client.AnyRevision}, wire.CopyRequest{From: wire.PlaceID(staging), Names: []string{name}})
			return err
		},
	} {
		there, missing := act("B_HIDDEN"), act("B_NOWHERE")
		require.Error(t, there, what)
		assert.Equal(t, status(missing), status(there), what)
		assert.Equal(t, strings.ReplaceAll(missing.Error(), "B_NOWHERE", "X"), strings.ReplaceAll(there.Error(), "B_HIDDEN", "X"), what)
	}
	// A project and a person are added by those who may know of all.
	for what, act := range map[string]func(name string) error{
		"a project": func(name string) error { _, err := c.AddProject(ctx, name); return err },
		"a person": func(name string) error {
			_, err := c.AddPerson(ctx, wire.NewPerson{Login: name + "@fernhollow.example", Name: "X"})
			return err
		},
		"a team":     func(name string) error { _, err := c.AddTeam(ctx, name); return err },
		"a workload": func(name string) error { _, err := c.AddWorkload(ctx, name); return err },
	} {
		there, missing := act("loans"), act("nowhere")
		require.Error(t, there, what)
		assert.Equal(t, missing.Error(), there.Error(), what)
	}
}
