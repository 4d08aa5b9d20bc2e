package service_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

var (
	live    = client.Place{Project: "loans", Environment: "live"}
	staging = client.Place{Project: "loans", Environment: "staging"}
	common  = client.Place{Project: "loans"}
	whole   = client.Place{}
)

// loans is a service with the project loans and two environments.
func loans(t *testing.T) (*testkit.Service, *client.Client) {
	t.Helper()
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	for _, e := range []string{"staging", "live"} {
		_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: e})
		require.NoError(t, err)
	}
	return s, owner
}

func keep(t *testing.T, c *client.Client, p client.Place, edits ...wire.Edit) wire.Change {
	t.Helper()
	change, err := c.Change(ctx, p, client.AnyRevision, wire.ChangeRequest{Reason: "a test", Edits: edits})
	require.NoError(t, err)
	return change
}

func secretEdit(name, value string) wire.Edit {
	return wire.Edit{Name: name, Kind: "secret", Value: value}
}

func setting(name, value string) wire.Edit {
	return wire.Edit{Name: name, Kind: "setting", Value: value}
}

// person adds a person with a role and signs them in.
func person(t *testing.T, s *testkit.Service, owner *client.Client, login, role string, place client.Place) *client.Client {
	t.Helper()
	password := "a password for " + login
	_, err := owner.AddPerson(ctx, wire.NewPerson{Login: login, Name: login, Password: password})
	require.NoError(t, err)
	if role != "" {
		_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: login, Role: role, Project: place.Project, Environment: place.Environment})
		require.NoError(t, err)
	}
	return s.Client(t, login, password)
}

func status(err error) int {
	if p, ok := err.(*client.Error); ok {
		return p.Status
	}
	return 0
}

func TestAValueComesBackAsItWentIn(t *testing.T) {
	_, owner := loans(t)
	for i, value := range []string{"plain", "", " spaces ", "line\nends\r\n", "ünïcode ☂", strings.Repeat("x", 1<<20)} {
		name := fmt.Sprintf("V%d", i)
		keep(t, owner, live, secretEdit(name, value))
		got, err := owner.Value(ctx, live, name)
		require.NoError(t, err)
		assert.Equal(t, value, got.Value)
		assert.Equal(t, "text", got.Encoding)
	}
	binary := "\x00\xff\xfe binary"
	keep(t, owner, live, wire.Edit{Name: "BINARY", Kind: "secret", Value: base64.StdEncoding.EncodeToString([]byte(binary)), Encoding: "base64"})
	got, err := owner.Value(ctx, live, "BINARY")
	require.NoError(t, err)
	assert.Equal(t, "base64", got.Encoding)
	assert.Equal(t, base64.StdEncoding.EncodeToString([]byte(binary)), got.Value)

	_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("LARGE", strings.Repeat("x", 1<<20+1)), setting("NUL", "a\x00b")}})
	require.Error(t, err)
	assert.Equal(t, []string{"LARGE: a value has at most 1 MiB, this one has 1048577 bytes", "NUL: a setting is UTF-8 text without NUL; keep it as a secret"}, err.(*client.Error).Details)
}

func TestTheNearestLayerAnswersAndSaysSo(t *testing.T) {
	_, owner := loans(t)
	_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "preview", Follows: "staging"})
	require.NoError(t, err)
	preview := client.Place{Project: "loans", Environment: "preview"}
	keep(t, owner, whole, setting("A", "organization"), setting("B", "organization"), setting("C", "organization"), setting("D", "organization"))
	keep(t, owner, common, setting("B", "project"), setting("C", "project"), setting("D", "project"))
	keep(t, owner, staging, setting("C", "staging"), setting("D", "staging"))
	keep(t, owner, preview, setting("D", "preview"), wire.Edit{Name: "A", Kind: "nothing"})

	entries, err := owner.Entries(ctx, preview)
	require.NoError(t, err)
	var got []string
	for _, e := range entries.Entries {
		got = append(got, e.Name+" "+e.Kind+" "+e.Origin+" "+e.Layer+" "+e.Setting)
	}
	assert.Equal(t, []string{"A nothing here loans/preview ", "B setting project loans project", "C setting followed loans/staging staging", "D setting here loans/preview preview"}, got)

	_, err = owner.Value(ctx, preview, "A")
	assert.EqualError(t, err, "A is set to nothing in loans/preview")
	v, err := owner.Value(ctx, live, "A")
	require.NoError(t, err)
	assert.Equal(t, "organization", v.Value)
}

func TestResolveIsOneAnswerOrEveryProblemAtOnce(t *testing.T) {
	_, owner := loans(t)
	keep(t, owner, live, secretEdit("DB_PASSWORD", "first"), secretEdit("CONFIG", `{"smtp": {"host": "mail", "port": 25}}`))
	keep(t, owner, live, secretEdit("DB_PASSWORD", "second"))
	keep(t, owner, common, setting("DB_HOST", "db"))
	keep(t, owner, whole, setting("ZONE", "Dublin"))

	out, err := owner.Resolve(ctx, live, []string{"adytum:DB_PASSWORD", "adytum:loans/live/DB_PASSWORD@1", "adytum:loans/DB_HOST", "adytum:/ZONE", "adytum:CONFIG:smtp.host", "adytum:CONFIG:smtp.port"}, []string{"adytum:OPTIONAL", "adytum:DB_HOST"})
	require.NoError(t, err)
	var got []string
	for _, v := range out.Values {
		got = append(got, v.Value)
	}
	assert.Equal(t, []string{"second", "first", "db", "Dublin", "mail", "25", "db"}, got)
	assert.Equal(t, map[string]int64{"loans/live": 2, "loans": 1, "organization": 1}, out.Revisions)

	_, err = owner.Resolve(ctx, live, []string{"adytum:DB_PASWORD", "adytum:loans/live/DB_PASSWORD@7", "adytum:loans/live/DB_HOST@1", "adytum:CONFIG:smtp.user", "adytum:DB_PASSWORD:field", "adytum:loan/live/X", "adytum:loans/livve/X"}, nil)
	require.Error(t, err)
	details := strings.Join(err.(*client.Error).Details, "\n")
	for _, want := range []string{"DB_PASWORD is not set in loans/live; did you mean DB_PASSWORD?", "DB_PASSWORD has no version 7 in loans/live; its newest is 2",
		"DB_HOST is not set in loans/live itself but comes from loans", "the value has no field user", "the value is not a JSON object there",
		`there is no project "loan"; did you mean loans?`, `the project loans has no environment "livve"; did you mean live?`} {
		assert.Contains(t, details, want)
	}
	assert.NotContains(t, details, "second", "no value in a message")

	_, err = owner.Resolve(ctx, live, []string{"adytum:9", "adytum:"}, nil)
	require.Error(t, err)
	assert.Equal(t, 422, status(err))
	assert.Len(t, err.(*client.Error).Details, 2)
}

func TestWhoMayDoWhat(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	keep(t, owner, staging, secretEdit("KEY", "value"))
	roles := map[string]*client.Client{}
	for _, role := range []string{"observer", "consumer", "depositor", "editor", "steward", "auditor"} {
		roles[role] = person(t, s, owner, role+"@fernhollow.example", role, live)
	}
	roles["nobody"] = person(t, s, owner, "nobody@fernhollow.example", "", whole)

	acts := map[string]func(c *client.Client, p client.Place) error{
		"list":  func(c *client.Client, p client.Place) error { _, err := c.Entries(ctx, p); return err },
		"show":  func(c *client.Client, p client.Place) error { _, err := c.Entry(ctx, p, "KEY"); return err },
		"value": func(c *client.Client, p client.Place) error { _, err := c.Value(ctx, p, "KEY"); return err },
		"write": func(c *client.Client, p client.Place) error {
			_, err := c.Change(ctx, p, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "y")}})
			return err
		},
		"remove": func(c *client.Client, p client.Place) error {
			_, err := c.Change(ctx, p, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "X", Act: "remove"}}})
			return err
		},
		"grant": func(c *client.Client, p client.Place) error {
			_, err := c.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "nobody@fernhollow.example", Role: "consumer", Project: p.Project, Environment: p.Environment})
			return err
		},
	}
	may := map[string]string{"observer": "list show", "consumer": "list show value", "depositor": "list show write", "editor": "list show value write remove",
		"steward": "list show value write remove grant", "auditor": "list show", "nobody": ""}
	for role, c := range roles {
		for _, act := range []string{"list", "show", "value", "write", "remove"} {
			if act == "remove" {
				keep(t, owner, live, setting("X", "there"))
			}
			err := acts[act](c, live)
			switch {
			case strings.Contains(" "+may[role]+" ", " "+act+" "):
				assert.NoError(t, err, "%s %s", role, act)
			case role == "nobody":
				assert.Equal(t, http.StatusNotFound, status(err), "%s %s: %v", role, act, err)
			default:
				assert.Equal(t, http.StatusForbidden, status(err), "%s %s: %v", role, act, err)
			}
			// The environment beside it does not exist for any of them.
			assert.Equal(t, http.StatusNotFound, status(acts[act](c, staging)), "%s %s in staging", role, act)
		}
	}
	for role, c := range roles {
		_, err := c.Trail(ctx, "", 10)
		assert.Equal(t, http.StatusForbidden, status(err), "%s: an auditor of one environment does not read the whole trail", role)
		_, err = c.People(ctx)
		assert.Equal(t, http.StatusForbidden, status(err), role)
		_, err = c.AddProject(ctx, "own")
		assert.Equal(t, http.StatusForbidden, status(err), role)
	}
	assert.NoError(t, acts["grant"](roles["steward"], live))
	for _, role := range []string{"editor", "consumer"} {
		assert.Equal(t, http.StatusForbidden, status(acts["grant"](roles[role], live)), "%s grants nothing", role)
	}
	_, err := roles["steward"].AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "nobody@fernhollow.example", Role: "owner", Project: "loans", Environment: "live"})
	assert.Equal(t, http.StatusForbidden, status(err), "nobody grants a verb that they do not hold")
}

func TestWhatACallerMayNotSeeAnswersLikeWhatIsNotThere(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	keep(t, owner, staging, secretEdit("KEY", "value"))
	c := person(t, s, owner, "priya@fernhollow.example", "consumer", staging)
	hidden, absent := [2]error{}, [2]error{}
	_, hidden[0] = c.Value(ctx, live, "KEY")
	_, absent[0] = c.Value(ctx, client.Place{Project: "loans", Environment: "dead"}, "KEY")
	_, hidden[1] = c.Resolve(ctx, staging, []string{"adytum:loans/live/KEY"}, nil)
	_, absent[1] = c.Resolve(ctx, staging, []string{"adytum:loans/dead/KEY"}, nil)
	for i := range hidden {
		assert.Equal(t, status(absent[i]), status(hidden[i]))
		assert.Equal(t, absent[i].Error(), strings.ReplaceAll(hidden[i].Error(), "live", "dead"))
	}
	// The same for an entry of a layer that may be neither listed nor read.
	d := person(t, s, owner, "sweeper@fernhollow.example", "sweeper", whole)
	_, err := d.Entries(ctx, live)
	_, absentErr := d.Entries(ctx, client.Place{Project: "none", Environment: "live"})
	assert.Equal(t, strings.ReplaceAll(absentErr.Error(), "none", "loans"), err.Error())
}

func TestTwoWritersNeverLoseEachOthersWork(t *testing.T) {
	_, owner := loans(t)
	first := keep(t, owner, live, setting("A", "1"))
	keep(t, owner, live, setting("B", "1"))
	_, err := owner.Change(ctx, live, first.Revision, wire.ChangeRequest{Edits: []wire.Edit{setting("A", "2")}})
	require.Equal(t, http.StatusConflict, status(err))
	assert.ErrorContains(t, err, "loans/live is at revision 2, and the change was made for revision 1")
	_, err = owner.Change(ctx, live, 2, wire.ChangeRequest{Edits: []wire.Edit{setting("A", "2")}})
	require.NoError(t, err)

	var group sync.WaitGroup
	for i := range 40 {
		group.Go(func() {
			_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit(fmt.Sprintf("N%d", i), "v")}})
			assert.NoError(t, err)
		})
	}
	group.Wait()
	entries, err := owner.Entries(ctx, live)
	require.NoError(t, err)
	assert.Len(t, entries.Entries, 42)
	assert.EqualValues(t, 43, entries.Revision, "every change is a revision of its own")
}

func TestAChangeIsWholeOrNotAtAll(t *testing.T) {
	_, owner := loans(t)
	_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("GOOD", "1"), setting("9BAD", "1"), setting("ADYTUM_URL", "x"), {Name: "GONE", Act: "remove"}}})
	require.Error(t, err)
	assert.Len(t, err.(*client.Error).Details, 3)
	entries, err := owner.Entries(ctx, live)
	require.NoError(t, err)
	assert.Empty(t, entries.Entries)
	assert.Zero(t, entries.Revision)
}

func TestASecretNeverStandsInTheDatabaseOrTheLog(t *testing.T) {
	s, owner := loans(t)
	const value = "the-glass-owl-sings-at-noon"
	keep(t, owner, live, secretEdit("KEY", value))
	_, err := owner.Value(ctx, live, "KEY")
	require.NoError(t, err)
	_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Reason: `password = "Zk3vQ9sLw2Xc7Bn5"`, Edits: []wire.Edit{setting("X", "y")}})
	require.NoError(t, err)
	dump, err := exec.Command("pg_dump", "--dbname="+s.Admin).Output()
	require.NoError(t, err)
	require.Contains(t, string(dump), "COPY adytum.versions")
	for _, forbidden := range []string{value, testkit.OwnerPassword, "Zk3vQ9sLw2Xc7Bn5"} {
		for name, form := range map[string]string{"plain": forbidden, "hex": hex.EncodeToString([]byte(forbidden)), "base64": base64.StdEncoding.EncodeToString([]byte(forbidden))[:len(forbidden)]} {
			assert.NotContains(t, string(dump), form, "%s in the dump", name)
			assert.NotContains(t, s.Log.String(), form, "%s in the log", name)
		}
	}
	// Nor in what the database writes beside it: its log before writing, and its log.
	searched := 0
	for _, pattern := range []string{"data/pg_wal/*", "log"} {
		files, err := filepath.Glob(filepath.Join(testkit.Cluster(t).Folder(), pattern))
		require.NoError(t, err)
		for _, file := range files {
			content, err := os.ReadFile(file)
			if err != nil {
				continue // a folder
			}
			searched++
			for _, forbidden := range []string{value, testkit.OwnerPassword, "Zk3vQ9sLw2Xc7Bn5"} {
				for _, form := range [][]byte{[]byte(forbidden), []byte(hex.EncodeToString([]byte(forbidden))), []byte(base64.StdEncoding.EncodeToString([]byte(forbidden))[:len(forbidden)])} {
					assert.False(t, bytes.Contains(content, form), "%s holds a value", file)
				}
			}
		}
	}
	assert.GreaterOrEqual(t, searched, 2, "there was something to search")
	changes, err := owner.Changes(ctx, live)
	require.NoError(t, err)
	assert.Contains(t, changes[0].Reason, "[withheld]", "a value typed as a reason is not kept")
}

func TestFollowingIsNoWayRoundAGrant(t *testing.T) {
	s, owner := loans(t)
	_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "preview", Follows: "staging"})
	require.NoError(t, err)
	preview := client.Place{Project: "loans", Environment: "preview"}
	keep(t, owner, staging, secretEdit("KEY", "value"), setting("HOST", "staging-host"))
	keep(t, owner, preview, setting("BANNER", "preview"))
	c := person(t, s, owner, "priya@fernhollow.example", "editor", preview)
	entries, err := c.Entries(ctx, preview)
	require.NoError(t, err)
	require.Len(t, entries.Entries, 1, "what is set in staging is staging's to show")
	for _, name := range []string{"KEY", "HOST"} {
		_, err = c.Value(ctx, preview, name)
		assert.Equal(t, http.StatusForbidden, status(err), name)
		_, err = c.Entry(ctx, preview, name)
		assert.Equal(t, http.StatusNotFound, status(err), name)
	}
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Environment: "staging"})
	require.NoError(t, err)
	v, err := c.Value(ctx, preview, "KEY")
	require.NoError(t, err)
	assert.Equal(t, "value", v.Value)

	// Nor may one who manages the preview alone make it follow something else.
	d := person(t, s, owner, "steward@fernhollow.example", "steward", preview)
	_, err = d.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "mine", Follows: "live"})
	require.Error(t, err)
}
