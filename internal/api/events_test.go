package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/api"
	"adytum.example/internal/testkit"
)

// operations are all operations of the document that need a sign-in.
func operations(t *testing.T) map[string][2]string {
	t.Helper()
	document, err := api.Document()
	require.NoError(t, err)
	var openapi struct {
		Paths map[string]map[string]struct {
			OperationID string
			Security    []map[string][]string
		}
	}
	require.NoError(t, json.Unmarshal(document, &openapi))
	all := map[string][2]string{}
	for path, methods := range openapi.Paths {
		for method, op := range methods {
			if len(op.Security) > 0 {
				all[op.OperationID] = [2]string{strings.ToUpper(method), path}
			}
		}
	}
	return all
}

// bodies are well-formed requests for the operations that take one. The forms at
// a project's common layer and at the organization's are those of an environment.
var bodies = map[string]string{
	"add-project": `{"name":"extra"}`, "edit-project": `{"maxAgeDays":90}`, "add-environment": `{"name":"extra"}`, "edit-environment": `{"protected":true}`,
	"add-person":    `{"login":"x@fernhollow.example","name":"X","password":"a long enough password"}`,
	"preview-grant": `{"kind":"person","who":"x@fernhollow.example","role":"observer"}`,
	"add-team":      `{"name":"extra"}`, "add-member": `{"login":"x@fernhollow.example"}`, "define-role": `{"name":"extra","verbs":["list"]}`,
	"change-password": `{"old":"x","new":"y"}`, "confirm-code": `{"code":"123456"}`, "remove-code": `{"code":"123456"}`,
	"add-issuer": `{"name":"runner","url":"https://runner.example"}`, "add-trust": `{"issuer":"runner","subject":"repo:x"}`,
	"ask-for-role": `{"role":"consumer","project":"loans","hours":4}`, "answer-request": `{"granted":true}`, "answer-proposal": `{"approved":true}`, "see-alert": `{}`, "edit-organization": `{}`, "add-channel": `{"kind":"mail","target":"desk@fernhollow.example"}`, "add-decoy": `{"name":"X","project":"loans"}`, "show-device": `{"code":"BBBB-BBBB"}`, "answer-device": `{"code":"BBBB-BBBB","allowed":true}`, "add-provider": `{"name":"x","url":"https://x.example","clientId":"x","clientSecret":"x"}`,
	"freeze": `{"kind":"project","name":"loans"}`, "thaw": `{"kind":"project","name":"loans"}`, "add-client-secret": `{"days":30}`,
	"add-workload": `{"name":"extra"}`, "add-grant": `{"kind":"person","who":"x@fernhollow.example","role":"observer"}`, "resolve": `{"references":["adytum:KEY"]}`,
	"commit": `{"edits":[{"name":"A","kind":"setting","value":"1"}]}`, "commit-private": `{"edits":[{"name":"KEY","kind":"secret","value":"1"}]}`,
	"take-in": `{"entries":[{"name":"A","versions":[{"kind":"setting","value":"1","at":"2026-11-23T12:00:00Z","by":"X"}]}]}`, "revert": `{"change":1}`, "move": `{"to":{"project":"loans"},"names":["KEY"]}`, "copy": `{"from":{"project":"loans","environment":"live"},"names":["KEY"]}`,
}

func bodyOf(id string) string {
	if body, own := bodies[id]; own {
		return body
	}
	return bodies[strings.TrimSuffix(strings.TrimSuffix(id, "-common"), "-organization")]
}

// mayAnyone are the operations that need no more than a sign-in, and answer by
// what the caller may know of.
var mayAnyone = map[string]bool{"who": true, "sign-out": true, "sign-out-console": true, "list-projects": true, "list-grants": true, "list-roles": true, "list-sessions": true, "list-requests": true, "list-proposals": true, "list-decoys": true, "show-organization": true, "begin-code": true, "end-sessions": true, "show-checkpoint": true, "prove-growth": true}

// aboutOneself are the operations that need no more than a sign-in either, and
// that the request made here fails for.
var aboutOneself = map[string]bool{"change-password": true, "confirm-code": true, "remove-code": true, "end-session": true, "show-device": true, "answer-device": true}

// A new operation without an access rule or an event fails here: each is called
// by somebody without a grant and by the owner, and both must be in the trail.
func TestEveryOperationHasItsAccessRuleAndItsEvent(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	_, err = owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "live"})
	require.NoError(t, err)
	_, err = owner.Change(ctx, client.Place{Project: "loans", Environment: "live"}, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY", Kind: "secret", Value: "value"}}})
	require.NoError(t, err)
	_, err = owner.AddPerson(ctx, wire.NewPerson{Login: "nobody@fernhollow.example", Name: "Nobody", Password: "a long enough password"})
	require.NoError(t, err)
	events := func(who, outcome string) (n int) {
		for cursor := ""; ; {
			page, err := owner.FindEvents(ctx, client.TrailQuery{Who: "nobody@fernhollow.example", Outcome: outcome}, cursor, 500)
			require.NoError(t, err)
			for _, e := range page.Events {
				if e.Who == who && e.Action != "session.begin" {
					n++
				}
			}
			if cursor = page.Next; cursor == "" {
				return n
			}
		}
	}
	for id, op := range operations(t) {
		path := strings.NewReplacer("{project}", "loans", "{environment}", "live", "{name}", "KEY", "{grant}", "99", "{team}", "desk", "{login}", "x", "{role}", "emperor", "{workload}", "mailer", "{secret}", "9", "{session}", "9", "{issuer}", "runner", "{trust}", "9", "{request}", "9", "{proposal}", "9", "{alert}", "9", "{channel}", "9", "{decoy}", "9", "{provider}", "nope", "{lane}", "organization", "{seq}", "1").Replace(op[1])
		path += map[string]string{"compare": "?otherEnvironment=staging", "explain-place": "?project=loans", "explain-subject": "?kind=person&who=ines@fernhollow.example",
			"exposure": "?kind=person&who=ines@fernhollow.example", "prove-growth": "?from=1"}[id]
		nobody := s.Client(t, "nobody@fernhollow.example", "a long enough password")
		refused, allowed := events("Nobody", "refused"), events("Nobody", "allowed")
		answer, body := ask(t, op[0], s.URL+path, nobody.Token(), bodyOf(id))
		if aboutOneself[id] {
			require.Eventually(t, func() bool { return events("Nobody", "refused")+events("Nobody", "failed") > 0 }, 5*time.Second, 20*time.Millisecond, "%s leaves an event", id)
			continue
		}
		if mayAnyone[id] {
			assert.Less(t, answer.StatusCode, 300, "%s: %s", id, body)
			require.Eventually(t, func() bool { return events("Nobody", "allowed") > allowed }, 5*time.Second, 20*time.Millisecond, "%s leaves an event", id)
			continue
		}
		assert.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, answer.StatusCode, "%s for somebody without a grant: %s", id, body)
		assert.NotContains(t, body, `"value":"value"`)
		require.Eventually(t, func() bool { return events("Nobody", "refused") > refused }, 5*time.Second, 20*time.Millisecond, "the refusal of %s leaves an event", id)
	}
}

func TestAMalformedRequestIsNotRepeatedAndLeavesAnEvent(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	for _, body := range []string{
		`{"edits":[{"name":"X","kind":"secret","value":["hunter2-in-a-list"]}]}`, `{"edits":[{"name":"X","kind":"hunter2-kind","value":"x"}]}`,
		`{"edits":"hunter2-edits"}`, `{"edits":[],"reason":{"a":"hunter2"}}`, `{"edits":[{"name":"X","kind":"secret","value":"x","encoding":"hunter2"}]}`, `{"edits": hunter2`,
	} {
		answer, text := ask(t, http.MethodPost, s.URL+"/api/v1/projects/loans/common/changes", owner.Token(), body)
		assert.Contains(t, []int{400, 422}, answer.StatusCode)
		assert.NotContains(t, text, "hunter2", body)
	}
	_, text := ask(t, http.MethodPost, s.URL+"/api/v1/sessions", "", `{"login":"x","password":["hunter2"]}`)
	assert.NotContains(t, text, "hunter2")
	require.Eventually(t, func() bool {
		page, err := owner.Trail(ctx, "", 50)
		require.NoError(t, err)
		n := 0
		for _, e := range page.Events {
			if e.Action == "request.malformed" {
				n++
			}
		}
		return n == 6
	}, 5*time.Second, 20*time.Millisecond)
}
