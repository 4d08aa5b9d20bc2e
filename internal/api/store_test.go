package api_test

import (
	"encoding/json"
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

var live = client.Place{Project: "loans", Environment: "live"}

const livePath = "/api/v1/projects/loans/environments/live"

func kept(t *testing.T, edits ...wire.Edit) (*testkit.Service, *client.Client) {
	t.Helper()
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	for _, e := range []string{"staging", "live"} {
		_, err = owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: e})
		require.NoError(t, err)
	}
	if len(edits) > 0 {
		_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: edits})
		require.NoError(t, err)
	}
	return s, owner
}

func TestListsGoOnByCursorWithoutGapOrRepetition(t *testing.T) {
	var edits []wire.Edit
	for i := range 25 {
		edits = append(edits, wire.Edit{Name: fmt.Sprintf("N%02d", i), Kind: "setting", Value: "x"})
	}
	s, owner := kept(t, edits...)
	var names []string
	cursor := ""
	for range 10 {
		var page wire.Entries
		answer, text := ask(t, http.MethodGet, s.URL+livePath+"/entries?limit=7&cursor="+cursor, owner.Token(), "")
		require.Equal(t, http.StatusOK, answer.StatusCode)
		require.Equal(t, `"1"`, answer.Header.Get("ETag"))
		require.NoError(t, json.Unmarshal([]byte(text), &page))
		assert.LessOrEqual(t, len(page.Entries), 7)
		for _, e := range page.Entries {
			names = append(names, e.Name)
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	require.Len(t, names, 25)
	for i, name := range names {
		assert.Equal(t, fmt.Sprintf("N%02d", i), name)
	}
	for i := range 5 {
		_, err := owner.AddProject(ctx, fmt.Sprintf("p%d", i))
		require.NoError(t, err)
		_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "N00", Kind: "setting", Value: fmt.Sprint(i)}}})
		require.NoError(t, err)
	}
	var projects []wire.Project
	_, text := ask(t, http.MethodGet, s.URL+"/api/v1/projects?limit=3&cursor=p0", owner.Token(), "")
	require.NoError(t, json.Unmarshal([]byte(text), &projects))
	assert.Equal(t, []string{"p1", "p2", "p3"}, []string{projects[0].Name, projects[1].Name, projects[2].Name})
	for i := range 3 {
		_, err := owner.AddWorkload(ctx, fmt.Sprintf("w%d", i))
		require.NoError(t, err)
		_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "workload", Who: fmt.Sprintf("w%d", i), Role: "consumer", Project: "loans"})
		require.NoError(t, err)
	}
	var workloads []wire.Workload
	_, text = ask(t, http.MethodGet, s.URL+"/api/v1/workloads?limit=1&cursor=w0", owner.Token(), "")
	require.NoError(t, json.Unmarshal([]byte(text), &workloads))
	require.Len(t, workloads, 1)
	assert.Equal(t, "w1", workloads[0].Name)
	var grants []wire.Grant
	_, text = ask(t, http.MethodGet, s.URL+"/api/v1/grants?limit=2&cursor=00000000000000000001", owner.Token(), "")
	require.NoError(t, json.Unmarshal([]byte(text), &grants))
	require.Len(t, grants, 2)
	assert.EqualValues(t, 2, grants[0].ID)
	var people []wire.Person
	_, text = ask(t, http.MethodGet, s.URL+"/api/v1/people?cursor=zzz", owner.Token(), "")
	require.NoError(t, json.Unmarshal([]byte(text), &people))
	assert.Empty(t, people)
	var history wire.History
	_, text = ask(t, http.MethodGet, s.URL+livePath+"/entries/N00/versions?limit=2&before=4", owner.Token(), "")
	require.NoError(t, json.Unmarshal([]byte(text), &history))
	assert.Equal(t, []int64{3, 2}, []int64{history.Versions[0].Version, history.Versions[1].Version})
	changes, err := owner.ChangesBefore(ctx, live, 4, 2)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 2}, []int64{changes[0].Revision, changes[1].Revision})
	for _, query := range []string{"limit=0", "limit=1001", "state=nonsense", "kind=nonsense", "search=" + strings.Repeat("x", 201)} {
		answer, _ := ask(t, http.MethodGet, s.URL+livePath+"/entries?"+query, owner.Token(), "")
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, query)
	}
}

func TestEntriesAreFoundByNameTagOwnerKindAndState(t *testing.T) {
	text := func(s string) *string { return &s }
	soon := time.Now().Add(time.Hour)
	_, owner := kept(t,
		wire.Edit{Name: "QUILLPOST_KEY", Kind: "secret", Value: "x", Details: &wire.Details{Owner: text("Tomasz Lindqvist"), Tags: &[]string{"Mail", "third-party"}}},
		wire.Edit{Name: "PAGE_SIZE", Kind: "setting", Value: "25", Details: &wire.Details{Owner: text("Priya")}},
		wire.Edit{Name: "HIDDEN", Kind: "nothing"}, wire.Edit{Name: "LATER_KEY", Kind: "secret", Value: "x", ActiveFrom: &soon})
	for _, c := range []struct {
		query client.Query
		want  string
	}{
		{client.Query{}, "HIDDEN LATER_KEY PAGE_SIZE QUILLPOST_KEY"}, {client.Query{Search: "key"}, "LATER_KEY QUILLPOST_KEY"}, {client.Query{Tag: "MAIL"}, "QUILLPOST_KEY"},
		{client.Query{Owner: "tomasz"}, "QUILLPOST_KEY"}, {client.Query{Kind: "setting"}, "PAGE_SIZE"}, {client.Query{State: "waiting"}, "LATER_KEY"},
		{client.Query{State: "nothing"}, "HIDDEN"}, {client.Query{State: "active", Kind: "secret"}, "QUILLPOST_KEY"}, {client.Query{Search: "key", Owner: "priya"}, ""},
	} {
		found, err := owner.Find(ctx, live, c.query)
		require.NoError(t, err)
		var names []string
		for _, e := range found.Entries {
			names = append(names, e.Name)
		}
		assert.Equal(t, c.want, strings.Join(names, " "), "%+v", c.query)
	}
}

func TestHeadersAndQueriesOfAChange(t *testing.T) {
	s, owner := kept(t, wire.Edit{Name: "A", Kind: "setting", Value: "1"})
	const body = `{"edits":[{"name":"A","kind":"setting","value":"2"}]}`
	send := func(query string, header map[string]string) (*http.Response, wire.Change) {
		t.Helper()
		r, err := http.NewRequest(http.MethodPost, s.URL+livePath+"/changes"+query, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+owner.Token())
		r.Header.Set("Content-Type", "application/json")
		for name, value := range header {
			r.Header.Set(name, value)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var change wire.Change
		if answer.StatusCode < 300 {
			require.NoError(t, json.NewDecoder(answer.Body).Decode(&change))
		}
		return answer, change
	}
	answer, change := send("?dryRun=true", nil)
	assert.Equal(t, http.StatusCreated, answer.StatusCode)
	assert.True(t, change.DryRun)
	v, err := owner.Value(ctx, live, "A")
	require.NoError(t, err)
	assert.Equal(t, "1", v.Value)
	answer, _ = send("", map[string]string{"If-Match": `"7"`})
	assert.Equal(t, http.StatusConflict, answer.StatusCode)
	answer, _ = send("", map[string]string{"If-Match": `"nonsense"`})
	assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode)
	answer, first := send("", map[string]string{"If-Match": `"1"`, "Idempotency-Key": "k"})
	assert.Equal(t, `"2"`, answer.Header.Get("ETag"))
	_, again := send("", map[string]string{"If-Match": `"1"`, "Idempotency-Key": "k"})
	assert.Equal(t, first, again, "though the layer has moved on since")
	answer, _ = send("", map[string]string{"Idempotency-Key": strings.Repeat("k", 201)})
	assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode)
}

// Whatever is wrong with an edit is told in words, without its value.
func TestWhatIsWrongWithEditsIsToldAtOnceAndWithoutValues(t *testing.T) {
	s, owner := kept(t, wire.Edit{Name: "A", Kind: "setting", Value: "1"})
	for says, edit := range map[string]string{
		"the value is not base64":                      `{"name":"X","kind":"secret","value":"hunter2!","encoding":"base64"}`,
		"a setting is UTF-8 text without NUL":          `{"name":"X","kind":"setting","value":"aHVudGVyMgD/","encoding":"base64"}`,
		"a value, a kind or a time comes with an edit": `{"act":"remove","name":"A","value":"hunter2"}`,
		"it is set to nothing, and a value comes":      `{"name":"X","kind":"nothing","value":"hunter2"}`,
		"a value is either given or generated":         `{"name":"X","kind":"secret","value":"hunter2","generate":{"what":"uuid"}}`,
		"to revert takes the number":                   `{"act":"revert","name":"A"}`,
		"to describe takes the details":                `{"act":"describe","name":"A"}`,
		"it would expire before it counts":             `{"name":"X","kind":"secret","value":"hunter2","expires":"2001-01-01T00:00:00Z"}`,
		"cannot be generated as a certificate without": `{"name":"X","generate":{"what":"certificate"}}`,
		"cannot be generated with 9999 characters":     `{"name":"X","generate":{"what":"text","length":9999}}`,
		"character 9": `{"name":"X","kind":"setting","value":"{adytum:hunter2!}"}`,
	} {
		body := `{"edits":[{"name":"9","kind":"setting","value":"hunter2"},` + edit + `]}`
		answer, text := ask(t, http.MethodPost, s.URL+livePath+"/changes", owner.Token(), body)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, says)
		if says != "character 9" {
			assert.Contains(t, text, says)
		}
		assert.Contains(t, text, `\"9\" is not a name`, "%s: all at once", says)
		assert.NotContains(t, strings.ReplaceAll(text, "adytum:hunter2", ""), "hunter2")
	}
	for _, body := range []string{`{}`, `{"change":1,"revision":0}`} {
		answer, text := ask(t, http.MethodPost, s.URL+livePath+"/reversions", owner.Token(), body)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode)
		assert.Contains(t, text, "either which change to undo or which revision")
	}
	entries, err := owner.Entries(ctx, live)
	require.NoError(t, err)
	assert.Len(t, entries.Entries, 1, "nothing was kept of any of these")
}

func TestAnArchiveIsALineForEachEntry(t *testing.T) {
	s, owner := kept(t, wire.Edit{Name: "KEY", Kind: "secret", Value: "a glass owl"}, wire.Edit{Name: "ZONE", Kind: "setting", Value: "Europe/Dublin"})
	answer, text := ask(t, http.MethodGet, s.URL+"/api/v1/projects/loans/archive", owner.Token(), "")
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Equal(t, "application/jsonl", answer.Header.Get("Content-Type"))
	lines := strings.Split(strings.TrimSpace(text), "\n")
	require.Len(t, lines, 4)
	assert.Equal(t, `{"end":2}`, lines[3], "whoever reads it knows that none is missing")
	var project wire.ArchivedProject
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &project))
	assert.Equal(t, "loans", project.Project)
	assert.Contains(t, text, "a glass owl")
}
