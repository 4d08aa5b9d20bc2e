package service_test

import (
	"math/rand/v2"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/sample"
	"adytum.example/internal/testkit"
)

// What is done as the database's owner must be noticed when it is used. Each
// case starts from a service that has not read the rows yet.
func TestAlteredRowsAreNoticedWhenTheyAreUsed(t *testing.T) {
	const (
		entry   = "id = (SELECT id FROM entries WHERE name = 'KEY')"
		version = "entry_id = (SELECT id FROM entries WHERE name = 'KEY')"
		other   = "entry_id = (SELECT id FROM entries WHERE name = 'OTHER')"
		layer   = "layer_id = (SELECT layer_id FROM entries WHERE name = 'KEY')"
	)
	cases := map[string]string{
		"a setting edited":              "UPDATE versions SET setting = 'evil' WHERE entry_id = (SELECT id FROM entries WHERE name = 'HOST')",
		"a setting edited with its sum": "UPDATE versions SET setting = 'evil', digest = sha256('evil') WHERE entry_id = (SELECT id FROM entries WHERE name = 'HOST')",
		"an entry renamed":              "UPDATE entries SET name = 'KEY2' WHERE name = 'KEY'",
		"an entry hidden":               "UPDATE entries SET removed_at = now() WHERE name = 'KEY'",
		"a removed entry brought back":  "UPDATE entries SET removed_at = NULL WHERE name = 'GONE'",
		"a purge put off":               "UPDATE entries SET purge_at = purge_at + interval '1 year' WHERE name = 'GONE'",
		"a tombstone raised":            "UPDATE entries SET destroyed_at = NULL, removed_at = NULL WHERE name = 'SHREDDED'",
		"rules loosened":                "UPDATE entries SET details = '' WHERE name = 'HOST'",
		"an entry removed":              "WITH k AS (DELETE FROM version_keys WHERE " + version + "), v AS (DELETE FROM versions WHERE " + version + ") DELETE FROM entries WHERE name = 'KEY'",
		"a version set back":            "UPDATE entries SET version = 1, settled = 1, past = '' WHERE name = 'KEY'",
		"what counts set back":          "UPDATE entries SET settled = 1 WHERE name = 'KEY'",
		"the past rewritten":            "UPDATE entries SET past = sha256(past) WHERE name = 'KEY'",
		"an old version edited":         "UPDATE versions SET author_id = 99 WHERE version = 1 AND " + version,
		"an old version removed":        "WITH k AS (DELETE FROM version_keys WHERE version = 1 AND " + version + ") DELETE FROM versions WHERE version = 1 AND " + version,
		"an old version undestroyed":    "UPDATE versions SET destroyed_at = NULL WHERE destroyed_at IS NOT NULL AND " + other,
		"the newest version removed":    "WITH k AS (DELETE FROM version_keys WHERE version = 2 AND " + version + ") DELETE FROM versions WHERE version = 2 AND " + version,
		"a kind changed":                "UPDATE versions SET kind = 'setting' WHERE version = 2 AND " + version,
		"an end put off":                "UPDATE versions SET expires_at = expires_at + interval '1 year' WHERE version = 2 AND " + version,
		"a beginning put off":           "UPDATE versions SET active_from = now() + interval '1 year' WHERE version = 2 AND " + version,
		"a provenance forged":           "UPDATE versions SET source = '{\"how\":\"generated\",\"bits\":256}' WHERE version = 2 AND " + version,
		"a fingerprint exchanged":       "UPDATE versions SET fingerprint = (SELECT fingerprint FROM versions WHERE version = 2 AND " + other + ") WHERE version = 2 AND " + version,
		"a ciphertext altered":          "UPDATE versions SET sealed = set_byte(sealed, 20, get_byte(sealed, 20) # 1) WHERE version = 2 AND " + version,
		"a ciphertext of another entry": "UPDATE versions SET sealed = (SELECT sealed FROM versions WHERE version = 2 AND " + other + ") WHERE version = 2 AND " + version,
		"a ciphertext of an older one":  "UPDATE versions v SET sealed = o.sealed, digest = o.digest FROM versions o WHERE o.entry_id = v.entry_id AND o.version = 1 AND v.version = 2 AND v." + version,
		"a key altered":                 "UPDATE version_keys SET wrapped = set_byte(wrapped, 20, get_byte(wrapped, 20) # 1) WHERE version = 2 AND " + version,
		"a key of another entry":        "UPDATE version_keys SET wrapped = (SELECT wrapped FROM version_keys WHERE version = 2 AND " + other + ") WHERE version = 2 AND " + version,
		"a key removed":                 "DELETE FROM version_keys WHERE version = 2 AND " + version,
		"an author replaced":            "UPDATE versions SET author_id = 99 WHERE version = 2 AND " + version,
		"a layer's revision set back":   "UPDATE layers SET revision = revision - 1 WHERE revision > 1",
		"a manifest of another layer":   "UPDATE layers SET manifest = (SELECT manifest FROM layers ORDER BY id LIMIT 1) WHERE revision > 1",
		"a change rewritten":            "UPDATE changes SET effects = replace(effects, 'KEY', 'YEK') WHERE revision = 2 AND " + layer,
		"a change's reason rewritten":   "UPDATE changes SET reason = 'evil' WHERE revision = 2 AND " + layer,
		"a change removed":              "DELETE FROM changes WHERE revision = 2 AND " + layer,
		"a project key altered":         "UPDATE project_keys SET wrapped = set_byte(wrapped, 20, get_byte(wrapped, 20) # 1) WHERE project_id <> 0 AND purpose = 'values'",
		"project keys exchanged":        "UPDATE project_keys SET wrapped = (SELECT wrapped FROM project_keys WHERE purpose = 'fingerprints' AND project_id <> 0) WHERE project_id <> 0 AND purpose = 'values'",
		"the signing key altered":       "UPDATE project_keys SET wrapped = set_byte(wrapped, 20, get_byte(wrapped, 20) # 1) WHERE purpose = 'signing'",
		"the root key's proof altered":  "UPDATE root_keys SET proof = sha256(proof)",
		"an environment unprotected":    "UPDATE environments SET protected = NOT protected",
		"an environment made to follow": "UPDATE environments SET follows = (SELECT id FROM environments WHERE name = 'staging') WHERE name = 'live'",
		"an environment brought back":   "UPDATE environments SET removed_at = NULL WHERE name = 'old'",
		"a project's policy altered":    "UPDATE projects SET keep_removed_days = 1",
		"a grant added":                 "INSERT INTO grants (subject_kind, subject_id, role, created_at) SELECT 'workload', 7, 'owner', now()",
		"a grant widened":               "UPDATE grants SET role = 'owner' WHERE role <> 'owner'",
		"a grant removed":               "DELETE FROM grants WHERE role <> 'owner'",
		"a grant's names widened":       "UPDATE grants SET names = '' WHERE names <> ''",
		"a grant's end put off":         "UPDATE grants SET until = NULL WHERE until IS NOT NULL",
		"a grant's networks widened":    "UPDATE grants SET networks = '0.0.0.0/0' WHERE networks <> ''",
		"somebody put into a team":      "INSERT INTO team_members (team_id, person_id) SELECT t.id, p.id FROM teams t, people p WHERE p.login LIKE 'priya%'",
		"a role given another verb":     "UPDATE roles SET verbs = verbs || ' read'",
		"a freeze lifted":               "DELETE FROM frozen",
		"codes taken away":              "DELETE FROM factors",
		"codes that do not count yet":   "UPDATE factors SET confirmed_at = NULL",
		"a recovery code added":         "UPDATE factors SET recovery = recovery || ' ' || encode(sha256('x'), 'hex')",
		"an invitation added":           "INSERT INTO invitations (person_id, hash, expires_at) SELECT id, sha256('x'), now() + interval '1 day' FROM people WHERE login LIKE 'priya%'",
		"a removed person brought back": "UPDATE people SET removed_at = NULL WHERE removed_at IS NOT NULL",
		"a trust widened":               "UPDATE trusts SET subject = 'repo:fernhollow/*:ref:refs/heads/main', claims = ''",
		"an issuer exchanged":           "UPDATE issuers SET url = 'https://elsewhere.example'",
		"a client secret's end put off": "UPDATE client_secrets SET expires_at = NULL WHERE expires_at IS NOT NULL",
		"a password replaced":           "UPDATE people SET password = 'x'",
		"a client secret added":         "INSERT INTO client_secrets (workload_id, hash, created_at) SELECT id, 'x', now() FROM workloads",
		"the organization set back":     "UPDATE organization SET revision = revision - 1",
		"a token's end put off":         "UPDATE tokens SET expires_at = expires_at + interval '1 year'",
		"a token given to another":      "UPDATE tokens SET subject_id = subject_id + 1",
		"a revocation taken back":       "DELETE FROM revoked_tokens",
		"an approval lifted":            "UPDATE environments SET approval = NOT approval",
		"a provider exchanged":          "UPDATE providers SET url = 'https://elsewhere.example'",
		"a provider's secret exchanged": "UPDATE providers SET sealed = set_byte(sealed, 20, get_byte(sealed, 20) # 1)",
		"an account given to another":   "UPDATE accounts SET subject = 'another'",
		"a channel led elsewhere":       "UPDATE channels SET target = 'elsewhere@fernhollow.example'",
		"a decoy unmarked":              "DELETE FROM decoys",
		"codes asked of nobody":         "UPDATE organization SET codes = NOT codes",
		"where a lane ends, set back":   "UPDATE trail_heads SET seq = seq - 1 WHERE seq > 1",
		"a checkpoint altered":          "UPDATE checkpoints SET note = replace(encode(note, 'escape'), 'time 2', 'time 1')::bytea",
	}
	for name, statement := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, owner := loans(t)
			end := time.Now().Add(24 * time.Hour)
			keep(t, owner, live, secretEdit("KEY", "first"), secretEdit("OTHER", "other"), setting("HOST", "good"), secretEdit("GONE", "gone"), secretEdit("SHREDDED", "shredded"))
			keep(t, owner, live, wire.Edit{Name: "KEY", Kind: "secret", Value: "second", Expires: &end}, secretEdit("OTHER", "other again"),
				wire.Edit{Act: "describe", Name: "HOST", Details: &wire.Details{Rules: &wire.Rules{Type: "host"}}})
			keep(t, owner, live, wire.Edit{Act: "remove", Name: "GONE"}, wire.Edit{Act: "destroy", Name: "SHREDDED"}, wire.Edit{Act: "destroy", Name: "OTHER", Version: 1})
			_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "old"})
			require.NoError(t, err)
			_, err = owner.RemovePlace(ctx, client.Place{Project: "loans", Environment: "old"})
			require.NoError(t, err)
			_, err = owner.AddWorkload(ctx, "loans-server")
			require.NoError(t, err)
			_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "workload", Who: "loans-server", Role: "consumer", Project: "loans"})
			require.NoError(t, err)
			limited(t, s, owner)
			token, gone := s.Owner(t), s.Owner(t)
			require.NoError(t, gone.SignOut(ctx))
			s.Stop()
			require.Positive(t, s.SQL(t, statement), "the statement does something")
			if err := s.TryServe(t); err != nil {
				assert.Regexp(t, "altered|signed|root key|set back", err.Error(), "the service does not even start")
				return
			}
			c := moved(t, token, s.URL)
			noticed := false
			for what, use := range uses(c) {
				got, want, err := use()
				if err == nil {
					require.Equal(t, want, got, "%s: an altered row was answered", what)
					continue // this one does not use the row
				}
				require.Equal(t, http.StatusInternalServerError, status(err), "%s: %v", what, err)
				noticed = true
			}
			require.True(t, noticed, "nothing was noticed")
			assert.Contains(t, s.Log.String(), "a request failed")
		})
	}
}

// limited makes one of everything that access is decided on.
func limited(t *testing.T, s *testkit.Service, owner *client.Client) {
	t.Helper()
	p := testkit.NewProvider(t)
	_, err := owner.AddProvider(ctx, wire.NewProvider{Name: "fernhollow", URL: p.URL, ClientID: p.ClientID, ClientSecret: p.ClientSecret})
	require.NoError(t, err)
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "noor@fernhollow.example", Name: "Noor", Provider: "fernhollow"})
	require.NoError(t, err)
	_, err = owner.AddChannel(ctx, wire.NewChannel{Kind: "mail", Target: "desk@fernhollow.example"})
	require.NoError(t, err)
	_, err = owner.AddDecoy(ctx, wire.NewDecoy{Name: "OLD", Project: "loans", Environment: "live"})
	require.NoError(t, err)
	end := time.Now().Add(time.Hour)
	c := person(t, s, owner, "priya@fernhollow.example", "", whole)
	grant(t, owner, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Names: "DB_*", Until: &end, From: []string{"192.0.2.0/24"}})
	_, err = owner.AddTeam(ctx, "desk")
	require.NoError(t, err)
	_, err = owner.DefineRole(ctx, wire.NewRole{Name: "rotator", Verbs: []string{"list", "write"}})
	require.NoError(t, err)
	f, err := c.BeginCode(ctx)
	require.NoError(t, err)
	code, err := totp.GenerateCode(f.Secret, time.Now())
	require.NoError(t, err)
	_, err = c.ConfirmCode(ctx, code)
	require.NoError(t, err)
	_, err = owner.AddClientSecret(ctx, "loans-server", wire.NewClientSecret{Days: 30})
	require.NoError(t, err)
	_, err = owner.AddIssuer(ctx, wire.NewIssuer{Name: "runner", URL: testkit.NewIssuer(t).URL})
	require.NoError(t, err)
	_, err = owner.AddTrust(ctx, "loans-server", wire.NewTrust{Issuer: "runner", Subject: mainBranch, Claims: map[string]string{"repository_id": "42"}})
	require.NoError(t, err)
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "abel@fernhollow.example", Name: "Abel Marsh"})
	require.NoError(t, err)
	require.NoError(t, owner.RemovePerson(ctx, "abel@fernhollow.example"))
	_, err = owner.Freeze(ctx, wire.Freeze{Kind: "workload", Name: "loans-server"})
	require.NoError(t, err)
}

// uses are ways to use what the cases alter, each with what it must answer where
// it answers at all.
func uses(c *client.Client) map[string]func() (got, want any, err error) {
	return map[string]func() (any, any, error){
		"value":   func() (any, any, error) { v, err := c.Value(ctx, live, "KEY"); return v.Value, "second", err },
		"setting": func() (any, any, error) { v, err := c.Value(ctx, live, "HOST"); return v.Value, "good", err },
		"history": func() (any, any, error) {
			h, err := c.History(ctx, live, "KEY")
			return len(h.Versions), 2, err
		},
		"other history": func() (any, any, error) {
			h, err := c.History(ctx, live, "OTHER")
			return len(h.Versions), 2, err
		},
		"changes": func() (any, any, error) {
			all, err := c.Changes(ctx, live)
			return len(all), 3, err
		},
		"same": func() (any, any, error) {
			same, err := c.Same(ctx, live, "KEY")
			return len(same.Same), 0, err
		},
		"compare": func() (any, any, error) {
			compared, err := c.Compare(ctx, live, client.NewestRevision, live, 1)
			return len(compared.Rows), 5, err
		},
		"revert": func() (any, any, error) {
			one := int64(1)
			change, err := c.Revert(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.RevertRequest{Revision: &one})
			if err != nil && status(err) == http.StatusUnprocessableEntity {
				err = nil // what was destroyed cannot come back
			}
			return len(change.Effects), 0, err
		},
	}
}

// A row that stands under the key of another is noticed as well: whole layers are
// set back, or exchanged.
func TestALayerThatIsSetBackIsNoticed(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "first"))
	require.Positive(t, s.SQL(t, "CREATE TABLE public.kept AS SELECT * FROM layers"))
	require.Positive(t, s.SQL(t, "CREATE TABLE public.kept_entries AS SELECT * FROM entries"))
	keep(t, owner, live, secretEdit("KEY", "second"))
	s.SQL(t, "UPDATE layers l SET revision = k.revision, manifest = k.manifest FROM public.kept k WHERE k.id = l.id")
	s.SQL(t, "UPDATE entries e SET version = k.version, settled = k.settled, past = k.past FROM public.kept_entries k WHERE k.id = e.id")
	s.SQL(t, "DELETE FROM version_keys WHERE version = 2")
	s.SQL(t, "DELETE FROM versions WHERE version = 2")
	_, err := owner.Value(ctx, live, "KEY")
	assert.Equal(t, http.StatusInternalServerError, status(err), "all its rows are as they were signed once, and its trail is ahead of them")
	assert.Contains(t, s.Log.String(), "was set back in the database")
	s.Stop()
	assert.ErrorContains(t, s.TryServe(t), "the database was set back")
}

// moved is a client with the same token for a service at another address.
func moved(t *testing.T, c *client.Client, url string) *client.Client {
	t.Helper()
	m, err := client.New(url)
	require.NoError(t, err)
	m.UseToken(c.Token())
	return m
}

func TestTheTrailShowsWhatWasDoneAndRefused(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	_, err := owner.Value(ctx, live, "KEY")
	require.NoError(t, err)
	c := person(t, s, owner, "priya@fernhollow.example", "observer", live)
	_, err = c.Value(ctx, live, "KEY")
	require.Error(t, err)
	_, err = c.Value(ctx, staging, "KEY")
	require.Error(t, err)

	var events wire.Events
	var lines []string
	require.Eventually(t, func() bool {
		lines = nil
		events, err = owner.Trail(ctx, "", 100)
		require.NoError(t, err)
		for _, e := range events.Events {
			lines = append(lines, e.Who+" "+e.Action+" "+e.Outcome+" "+e.Place)
		}
		return slices.Contains(lines, "priya@fernhollow.example entry.value refused loans/staging")
	}, 10*time.Second, 20*time.Millisecond, "refusals are written within a second")
	for _, want := range []string{"Ines Okafor entry.value allowed loans/live", "priya@fernhollow.example entry.value refused loans/live",
		"priya@fernhollow.example entry.value refused loans/staging", "Ines Okafor change.commit allowed loans/live", "Ines Okafor project.add allowed loans", " organization.setup allowed "} {
		assert.Contains(t, lines, want)
	}
	for _, e := range events.Events {
		if e.Action == "entry.value" {
			assert.Equal(t, []string{"adytum:KEY"}, e.Names)
			assert.Equal(t, "127.0.0.1", e.From)
		}
	}
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
	assert.Greater(t, v.Events, int64(10))
}

func TestTheTrailKeepsNoLoginAndNoValueTypedAsAName(t *testing.T) {
	s, owner := loans(t)
	person(t, s, owner, "priya@fernhollow.example", "observer", live)
	require.NoError(t, owner.RemoveGrant(ctx, 2))
	pasted := sample.Expand("npm_<base62:30><crc62>", rand.NewChaCha8([32]byte{9}))
	_, err := owner.Value(ctx, live, pasted)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), pasted)
	_, err = owner.Entry(ctx, live, pasted)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), pasted)
	require.Eventually(t, func() bool {
		page, err := owner.Trail(ctx, "", 50)
		require.NoError(t, err)
		return slices.ContainsFunc(page.Events, func(e wire.Event) bool { return e.Action == "entry.show" })
	}, 10*time.Second, 20*time.Millisecond, "what waited is written")
	for _, forbidden := range []string{"priya@fernhollow.example", pasted} {
		assert.Zero(t, s.SQL(t, "SELECT FROM trail_batches WHERE position($1::bytea IN body) > 0", []byte(forbidden)), forbidden)
	}
	page, err := owner.Trail(ctx, "", 50)
	require.NoError(t, err)
	grants := 0
	for _, e := range page.Events {
		if e.Action == "grant.add" || e.Action == "grant.remove" {
			grants++
			assert.Equal(t, []string{"priya@fernhollow.example", "observer"}, e.Names, "shown by the name that the person has now")
		}
	}
	assert.Equal(t, 2, grants)
}

func TestTheTrailOfAPageGoesOnWithoutGapOrRepetition(t *testing.T) {
	_, owner := loans(t)
	for range 30 {
		_, err := owner.Entries(ctx, live)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool {
		page, err := owner.Trail(ctx, "", 200)
		require.NoError(t, err)
		return len(page.Events) > 30
	}, 10*time.Second, 20*time.Millisecond, "what waited is written")
	seen := map[string]bool{}
	cursor := ""
	for range 50 {
		page, err := owner.Trail(ctx, cursor, 7)
		require.NoError(t, err)
		for _, e := range page.Events {
			seen[e.Lane+string(rune(e.Seq))] = true
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	assert.Empty(t, cursor, "the end is reached")
	assert.Greater(t, len(seen), 30)
}

func TestAnAlteredTrailDoesNotVerify(t *testing.T) {
	cases := map[string]struct{ statement, says string }{
		"altered":             {"UPDATE trail_batches SET body = replace(encode(body, 'escape'), 'allowed', 'refused')::bytea WHERE lane = 'organization' AND first = 2", "signature"},
		"deleted":             {"DELETE FROM trail_batches WHERE lane = 'organization' AND first = 2", "missing"},
		"inserted":            {"INSERT INTO trail_batches (lane, first, n, body, mac) SELECT lane, first + 1000, n, body, mac FROM trail_batches WHERE lane = 'organization' AND first = 1", "missing"},
		"moved":               {"UPDATE trail_batches SET lane = 'layer-1' WHERE lane = 'organization' AND first = 2", "missing"},
		"back-dated":          {"UPDATE trail_batches SET body = regexp_replace(encode(body, 'escape'), '20[0-9][0-9]-', '2001-')::bytea WHERE lane = 'organization' AND first = 2", "signature"},
		"cut at a lane's end": {"DELETE FROM trail_batches t WHERE lane = 'organization' AND first = (SELECT max(first) FROM trail_batches WHERE lane = t.lane)", "last 1 events are missing"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, owner := loans(t)
			require.Positive(t, s.SQL(t, c.statement))
			v, err := owner.VerifyTrail(ctx, 0)
			require.NoError(t, err)
			require.False(t, v.Whole)
			var says, lanes []string
			for _, p := range v.Problems {
				says, lanes = append(says, p.What), append(lanes, p.Lane)
			}
			assert.Contains(t, lanes, "organization")
			assert.Contains(t, joined(says), c.says)
		})
	}
}

func joined(all []string) (out string) {
	for _, s := range all {
		out += s + "\n"
	}
	return out
}
