package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/testkit"
)

// Places of the table: where a role is granted, and where an operation needs its verbs.
const (
	everything  = "the organization"
	loans       = "loans"
	liveLoans   = "loans/live"
	stagedLoans = "loans/staging"
	notices     = "notices"
)

// holds tells whether what is granted at one place holds at another.
func holds(granted, at string) bool {
	return granted == everything || granted == at || granted == loans && strings.HasPrefix(at, loans+"/")
}

// rule is what an operation needs: each of its verbs at its place.
type rule struct {
	needs [][2]string // verb, place
	// anywhere is for what is told to who may do a verb in any of some places.
	anywhere []string
	verbs    []access.Verb
	path     string // what follows the operation's path
	body     string
	// organization is for operations whose refusal says so to everybody.
	organization bool
}

func at(place string, verbs ...access.Verb) rule {
	r := rule{organization: place == everything}
	for _, v := range verbs {
		r.needs = append(r.needs, [2]string{string(v), place})
	}
	return r
}

func (r rule) and(place string, verbs ...access.Verb) rule {
	r.needs = append(slices.Clone(r.needs), at(place, verbs...).needs...)
	return r
}

func (r rule) with(path, body string) rule {
	r.path, r.body = path, body
	return r
}

// allowed is decided from the table and from the words of the documentation, not
// by the code that is tested.
func (r rule) allowed(verbs []access.Verb, granted string) bool {
	for _, need := range r.needs {
		if !slices.Contains(verbs, access.Verb(need[0])) || !holds(granted, need[1]) {
			return false
		}
	}
	if len(r.anywhere) == 0 {
		return true
	}
	reaches := slices.ContainsFunc(r.anywhere, func(place string) bool { return holds(granted, place) })
	return reaches && slices.ContainsFunc(r.verbs, func(v access.Verb) bool { return slices.Contains(verbs, v) })
}

// layered are the operations at each kind of layer.
func layered(all map[string]rule, suffix, place, other, otherPlace string) {
	all["list-entries"+suffix], all["show-entry"+suffix], all["show-layers"+suffix] = at(place, access.List), at(place, access.List), at(place, access.List)
	all["history"+suffix], all["list-changes"+suffix] = at(place, access.List), at(place, access.List)
	all["same"+suffix], all["value"+suffix] = at(place, access.List, access.Read), at(place, access.Read)
	all["commit"+suffix] = at(place, access.Write).with("?dryRun=true", `{"edits":[{"name":"A","kind":"setting","value":"1"}]}`)
	all["revert"+suffix] = at(place, access.Write, access.Remove).with("?dryRun=true", `{"change":1}`)
	all["move"+suffix] = at(place, access.Read, access.Remove).and(otherPlace, access.Write).with("?dryRun=true", `{"to":`+other+`,"names":["KEY"]}`)
	if suffix != "-organization" {
		all["take-in"+suffix] = at(place, access.Manage, access.Write).with("?dryRun=true", `{"entries":[{"name":"A","versions":[{"kind":"setting","value":"1","at":"2026-11-23T12:00:00Z","by":"X"}]}]}`)
	}
	for id, r := range all {
		r.organization = false // what one may not know of answers like what is not there
		all[id] = r
	}
}

func operationRules() map[string]rule {
	all := map[string]rule{}
	layered(all, "", liveLoans, `{"project":"loans"}`, loans)
	layered(all, "-common", loans, `{"project":"loans","environment":"live"}`, liveLoans)
	layered(all, "-organization", everything, `{"project":"loans"}`, loans)
	all["resolve"] = at(liveLoans, access.Read).with("", `{"references":["adytum:KEY"]}`)
	all["compare"] = at(liveLoans, access.List).and(stagedLoans, access.List).with("?otherEnvironment=staging", "")
	all["copy"] = at(liveLoans, access.Write).and(stagedLoans, access.List, access.Read).with("?dryRun=true", `{"from":{"project":"loans","environment":"staging"},"names":["KEY"]}`)
	all["commit-private"] = at(liveLoans, access.List).with("?dryRun=true", `{"edits":[{"name":"KEY","kind":"secret","value":"1"}]}`)
	all["table"] = rule{anywhere: []string{liveLoans, stagedLoans}, verbs: []access.Verb{access.List}}
	for _, id := range []string{"show-project", "list-environments"} {
		all[id] = rule{anywhere: []string{loans, liveLoans, stagedLoans}, verbs: access.EntryVerbs()}
	}
	all["archive-project"] = at(loans, access.Read)
	all["edit-project"] = at(loans, access.Manage).with("", `{"maxAgeDays":90}`)
	all["add-environment"] = at(loans, access.Manage).with("", `{"name":"live"}`)
	all["edit-environment"] = at(liveLoans, access.Manage).with("", `{"maxAgeDays":90}`)
	all["explain-place"] = at(loans, access.Manage).with("?project=loans", "")
	for _, id := range []string{"add-grant", "preview-grant"} {
		all[id] = at(loans, access.Manage, access.List).with("", `{"kind":"person","who":"`+testkit.OwnerLogin+`","role":"observer","project":"loans"}`)
	}
	people, manage, audit := at(everything, access.People), at(everything, access.Manage), at(everything, access.Audit)
	for id, body := range map[string]string{"list-people": "", "list-workloads": "", "list-teams": "", "list-frozen": "", "list-issuers": "", "list-client-secrets": "", "list-trusts": "", "list-providers": "",
		"add-person": `{"login":"` + testkit.OwnerLogin + `","name":"X"}`, "remove-person": "", "reset-person": "", "add-workload": `{"name":"mailer"}`, "add-client-secret": `{}`,
		"remove-client-secret": "", "add-trust": `{"issuer":"nope","subject":"repo:x"}`, "remove-trust": "", "add-team": `{"name":"desk"}`, "remove-team": "", "add-member": `{"login":"x"}`, "remove-member": "",
		"freeze": `{"kind":"person","name":"nope"}`, "thaw": `{"kind":"person","name":"nope"}`} {
		all[id] = people.with("", body)
	}
	all["explain-subject"] = people.with("?kind=person&who="+testkit.OwnerLogin, "")
	all["add-issuer"] = people.and(everything, access.Manage).with("", `{"name":"runner","url":"nowhere"}`)
	all["edit-organization"] = people.and(everything, access.Manage).with("", `{}`)
	all["add-provider"] = people.and(everything, access.Manage).with("", `{"name":"x","url":"nowhere","clientId":"x","clientSecret":"x"}`)
	all["remove-provider"] = people.and(everything, access.Manage)
	all["remove-issuer"] = people.and(everything, access.Manage)
	all["add-project"] = manage.with("", `{"name":"loans"}`)
	all["define-role"] = manage.and(everything, access.List).with("", `{"name":"extra","verbs":["list"]}`)
	all["remove-role"] = manage
	all["list-trail"], all["verify-trail"], all["export-trail"] = audit, audit, audit.with("?since=2099-01-01T00:00:00Z", "")
	all["prove-event"], all["export-records"] = audit, audit
	all["list-alerts"], all["list-channels"] = audit, audit
	all["see-alert"] = audit.with("", `{}`)
	all["add-channel"] = audit.and(everything, access.Manage).with("", `{"kind":"webhook","target":"nowhere"}`)
	all["remove-channel"], all["test-channel"] = audit.and(everything, access.Manage), audit.and(everything, access.Manage)
	all["add-decoy"] = at(loans, access.Manage).with("", `{"name":"not a name","project":"loans"}`)
	all["exposure"] = audit.with("?kind=person&who="+testkit.OwnerLogin, "")
	return all
}

// ofOnesOwn are the operations that are about the caller, or answer by what the
// caller may know of, and those that end what the others of the table need; each
// has tests of its own.
var ofOnesOwn = map[string]bool{
	"who": true, "sign-out": true, "sign-out-console": true, "change-password": true, "begin-code": true, "confirm-code": true, "remove-code": true,
	"list-sessions": true, "end-session": true, "end-sessions": true, "list-projects": true, "list-grants": true, "remove-grant": true, "list-roles": true,
	"show-checkpoint": true, "prove-growth": true,
	"show-organization": true, "list-decoys": true, "remove-decoy": true, "show-device": true, "answer-device": true, "list-proposals": true, "answer-proposal": true, "list-requests": true, "ask-for-role": true, "answer-request": true, "take-back-request": true,
	"remove-project": true, "restore-project": true, "destroy-project": true, "remove-environment": true, "restore-environment": true, "destroy-environment": true,
}

// Every operation of the document, by every role granted at every place, answers
// as the table says: a new operation without a rule fails here.
func TestEveryOperationByEveryRoleAtEveryPlace(t *testing.T) {
	rules, all := operationRules(), operations(t)
	for id := range all {
		_, ruled := rules[id]
		assert.True(t, ruled != ofOnesOwn[id], "%s has a rule, or is about oneself", id)
	}
	s := testkit.Start(t)
	owner := s.Owner(t)
	for _, project := range []string{"loans", "notices"} {
		_, err := owner.AddProject(ctx, project)
		require.NoError(t, err)
	}
	for _, e := range []string{"live", "staging"} {
		_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: e})
		require.NoError(t, err)
	}
	_, err := owner.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	_, err = owner.AddTeam(ctx, "desk")
	require.NoError(t, err)
	for _, p := range []client.Place{{}, {Project: "loans"}, {Project: "loans", Environment: "live"}, {Project: "loans", Environment: "staging"}} {
		_, err := owner.Change(ctx, p, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY", Kind: "secret", Value: "value"}}})
		require.NoError(t, err)
	}
	path := strings.NewReplacer("{project}", "loans", "{environment}", "live", "{name}", "KEY", "{team}", "nope", "{login}", "nope", "{role}", "nope", "{workload}", "nope", "{secret}", "9", "{trust}", "9", "{issuer}", "nope", "{provider}", "nope", "{alert}", "9", "{channel}", "9", "{decoy}", "9", "{lane}", "organization", "{seq}", "1")
	allowed, refused := 0, 0
	for n, role := range access.BuiltIn().Names() {
		for m, granted := range []string{everything, loans, liveLoans, stagedLoans, notices} {
			login := fmt.Sprintf("p%d-%d@fernhollow.example", n, m)
			const password = "gravel teacup eleven moth"
			_, err := owner.AddPerson(ctx, wire.NewPerson{Login: login, Name: login, Password: password})
			require.NoError(t, err)
			project, environment, _ := strings.Cut(strings.TrimPrefix(granted, everything), "/")
			_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: login, Role: role, Project: project, Environment: environment})
			require.NoError(t, err)
			token := s.Client(t, login, password).Token()
			for id, r := range rules {
				answer, body := ask(t, all[id][0], s.URL+path.Replace(all[id][1])+r.path, token, r.body)
				hidden := answer.StatusCode == http.StatusForbidden || answer.StatusCode == http.StatusNotFound && !r.organization
				want := r.allowed(access.BuiltIn()[role], granted)
				assert.Equal(t, want, !hidden, "%s by %s in %s: %d %s", id, role, granted, answer.StatusCode, body)
				assert.Less(t, answer.StatusCode, 500, "%s by %s in %s: %s", id, role, granted, body)
				if want {
					allowed++
				} else {
					refused++
					assert.NotContains(t, body, `"value":"value"`)
				}
			}
		}
	}
	assert.Greater(t, allowed, 500)
	assert.Greater(t, refused, 1500)
}
