package service_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func yes() *bool { b := true; return &b }
func no() *bool  { b := false; return &b }

// approved is a service whose live environment takes changes that a second person
// approves, with a steward and an editor there.
func approved(t *testing.T) (s *testkit.Service, owner, steward, editor *client.Client) {
	t.Helper()
	s, owner = loans(t)
	keep(t, owner, live, secretEdit("KEY", "first"), setting("HOST", "here"))
	steward = person(t, s, owner, "tomasz@fernhollow.example", "steward", client.Place{Project: "loans"})
	editor = person(t, s, owner, "priya@fernhollow.example", "editor", client.Place{Project: "loans"})
	_, err := owner.EditEnvironment(ctx, live, wire.EnvironmentEdit{Approval: yes()})
	require.NoError(t, err)
	return s, owner, steward, editor
}

func proposeChange(t *testing.T, c *client.Client, place client.Place, edits ...wire.Edit) wire.Change {
	t.Helper()
	out, err := c.Change(ctx, place, client.AnyRevision, wire.ChangeRequest{Edits: edits, Reason: "a new key"})
	require.NoError(t, err)
	require.NotZero(t, out.Proposal, "it is proposed")
	return out
}

func valueOf(t *testing.T, c *client.Client, name string) string {
	t.Helper()
	v, err := c.Value(ctx, live, name)
	require.NoError(t, err)
	return v.Value
}

func TestAChangeWaitsForASecondPersonsApproval(t *testing.T) {
	s, owner, steward, editor := approved(t)
	out := proposeChange(t, editor, live, secretEdit("KEY", "second-hunter2"), secretEdit("NEW", "made"))
	assert.Equal(t, "first", valueOf(t, owner, "KEY"), "nothing is changed yet")
	assert.Zero(t, s.SQL(t, "SELECT FROM proposals WHERE position('hunter2'::bytea IN sealed) > 0"), "what is proposed is sealed")

	all, err := steward.Proposals(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "priya@fernhollow.example", all[0].Who)
	assert.Equal(t, "a new key", all[0].Reason)
	require.Len(t, all[0].Effects, 2)
	assert.Equal(t, "replaced", all[0].Effects[0].Act)
	observer := person(t, s, owner, "abel@fernhollow.example", "observer", staging)
	hidden, err := observer.Proposals(ctx)
	require.NoError(t, err)
	assert.Empty(t, hidden)

	_, err = editor.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusForbidden, status(err), "nobody approves their own")
	_, err = observer.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusNotFound, status(err))
	consumer := person(t, s, owner, "consumer@fernhollow.example", "consumer", live)
	_, err = consumer.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusForbidden, status(err), "who could not make the change does not approve it")
	_, err = consumer.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{})
	assert.Equal(t, http.StatusForbidden, status(err))

	done, err := steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true, Reason: "looked at it"})
	require.NoError(t, err)
	assert.Equal(t, "priya@fernhollow.example", done.Author)
	assert.Equal(t, "tomasz@fernhollow.example", done.Approver)
	assert.Equal(t, "second-hunter2", valueOf(t, owner, "KEY"))
	assert.Equal(t, "made", valueOf(t, owner, "NEW"))
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusNotFound, status(err), "it is done once")
	changes, err := owner.Changes(ctx, live)
	require.NoError(t, err)
	assert.Equal(t, "a new key (approved: looked at it)", changes[0].Reason)

	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Who: "tomasz@fernhollow.example", Action: "proposal.approve", Outcome: "allowed"}, "", 10)
	require.NoError(t, err)
	require.Len(t, page.Events, 1)
	assert.Equal(t, []string{"priya@fernhollow.example", "KEY", "NEW"}, page.Events[0].Names)
	assert.Equal(t, "loans/live", page.Events[0].Place)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}

// Every way to change what an environment resolves to is a proposal, or refused.
func TestThereIsNoWayRoundTheApproval(t *testing.T) {
	_, owner, steward, editor := approved(t)
	keep(t, owner, staging, secretEdit("KEY", "of staging"))
	stands := func() string { return valueOf(t, owner, "KEY") + " " + valueOf(t, owner, "HOST") }
	before := stands()
	for what, act := range map[string]func() (wire.Change, error){
		"a change": func() (wire.Change, error) {
			return editor.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "x")}})
		},
		"an owner's change": func() (wire.Change, error) {
			return owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "x")}})
		},
		"a removal": func() (wire.Change, error) {
			return editor.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "remove", Name: "KEY"}}})
		},
		"a destruction": func() (wire.Change, error) {
			return steward.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "destroy", Name: "KEY"}}})
		},
		"a going back": func() (wire.Change, error) {
			return editor.Revert(ctx, live, client.Commit{Base: client.AnyRevision}, wire.RevertRequest{Change: 1})
		},
		"a copy": func() (wire.Change, error) {
			return steward.Copy(ctx, live, client.Commit{Base: client.AnyRevision}, wire.CopyRequest{From: wire.PlaceID(staging), Names: []string{"KEY"}})
		},
		"the project's common layer": func() (wire.Change, error) {
			return editor.Change(ctx, client.Place{Project: "loans"}, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "x")}})
		},
		"the organization's layer": func() (wire.Change, error) {
			return owner.Change(ctx, client.Place{}, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "x")}})
		},
	} {
		out, err := act()
		require.NoError(t, err, what)
		assert.NotZero(t, out.Proposal, what)
		assert.Equal(t, before, stands(), what)
	}
	for what, act := range map[string]func() error{
		"a move away": func() error {
			_, err := owner.Move(ctx, live, client.Commit{Base: client.AnyRevision}, wire.MoveRequest{To: wire.PlaceID(staging), Names: []string{"HOST"}})
			return err
		},
		"a move there": func() error {
			_, err := owner.Move(ctx, staging, client.Commit{Base: client.AnyRevision}, wire.MoveRequest{To: wire.PlaceID{Project: "loans"}, Names: []string{"KEY"}})
			return err
		},
		"removing the environment": func() error { _, err := owner.RemovePlace(ctx, live); return err },
		"removing the project":     func() error { _, err := owner.RemovePlace(ctx, client.Place{Project: "loans"}); return err },
	} {
		err := act()
		assert.Equal(t, http.StatusConflict, status(err), "%s: %v", what, err)
		assert.Equal(t, before, stands(), what)
	}
	// The policy itself, and what the environment follows.
	for what, edit := range map[string]wire.EnvironmentEdit{"lifting it": {Approval: no()}, "following another": {Follows: &staging.Environment}} {
		out, err := owner.EditEnvironment(ctx, live, edit)
		require.NoError(t, err)
		assert.NotZero(t, out.Proposal, what)
	}
	environments, err := owner.Environments(ctx, "loans")
	require.NoError(t, err)
	for _, e := range environments {
		assert.Equal(t, e.Name == "live", e.Approval)
		assert.Empty(t, e.Follows)
	}
	// Other environments go on as before; one's own private values too.
	keep(t, editor, staging, secretEdit("OTHER", "x"))
	all, err := owner.Proposals(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 10)
}

func TestALayerBeneathThroughFollowing(t *testing.T) {
	_, owner, steward, _ := approved(t)
	out, err := owner.EditEnvironment(ctx, live, wire.EnvironmentEdit{Follows: &staging.Environment})
	require.NoError(t, err)
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	require.NoError(t, err)
	change, err := owner.Change(ctx, staging, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("BENEATH", "x")}})
	require.NoError(t, err)
	assert.NotZero(t, change.Proposal, "what live follows reaches live")
	_, err = steward.AnswerProposal(ctx, change.Proposal, wire.ProposalAnswer{Approved: true})
	require.NoError(t, err)
	assert.Equal(t, "x", valueOf(t, owner, "BENEATH"))

	out, err = owner.EditEnvironment(ctx, live, wire.EnvironmentEdit{Approval: no()})
	require.NoError(t, err)
	_, err = owner.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	require.NoError(t, err)
	keep(t, owner, live, secretEdit("KEY", "at once"))
	assert.Equal(t, "at once", valueOf(t, owner, "KEY"))
}

func TestAProposalHoldsForWhatItWasMadeFor(t *testing.T) {
	s, owner, steward, editor := approved(t)
	first, second := proposeChange(t, editor, live, secretEdit("KEY", "second")), proposeChange(t, editor, live, secretEdit("KEY", "third"))
	_, err := steward.AnswerProposal(ctx, first.Proposal, wire.ProposalAnswer{Approved: true})
	require.NoError(t, err)
	_, err = steward.AnswerProposal(ctx, second.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusConflict, status(err), "its base has moved")
	assert.Equal(t, "second", valueOf(t, owner, "KEY"))
	_, err = editor.AnswerProposal(ctx, second.Proposal, wire.ProposalAnswer{})
	require.NoError(t, err, "its proposer takes it back")

	// Two who approve at once do it once.
	out := proposeChange(t, editor, live, secretEdit("KEY", "fourth"))
	results := make(chan error, 2)
	for _, c := range []*client.Client{owner, steward} {
		go func() {
			_, err := c.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
			results <- err
		}()
	}
	failed := 0
	for range 2 {
		if err := <-results; err != nil {
			failed++
			assert.Contains(t, []int{http.StatusNotFound, http.StatusConflict}, status(err))
		}
	}
	assert.Equal(t, 1, failed)

	// Who proposed it may no longer do it.
	out = proposeChange(t, editor, live, secretEdit("KEY", "fifth"))
	require.NoError(t, owner.RemovePerson(ctx, "priya@fernhollow.example"))
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusConflict, status(err))
	assert.Contains(t, err.Error(), "not allowed to do it any more")
	assert.Equal(t, "fourth", valueOf(t, owner, "KEY"))

	// An altered row is noticed.
	for _, statement := range []string{"UPDATE proposals SET proposer_id = 1", "UPDATE proposals SET base = base + 1", "UPDATE proposals SET reason = 'fine'", "UPDATE proposals SET sealed = set_byte(sealed, 20, get_byte(sealed, 20) # 1)"} {
		require.Positive(t, s.SQL(t, statement))
		_, err = steward.Proposals(ctx)
		assert.Equal(t, http.StatusInternalServerError, status(err), statement)
	}
	assert.Contains(t, s.Log.String(), "was altered in the database")
	s.SQL(t, "DELETE FROM proposals")

	// Times that have passed, and an age at which nobody answers any more.
	soon := time.Now().Add(time.Hour)
	out = proposeChange(t, owner, live, wire.Edit{Name: "KEY", Kind: "secret", Value: "sixth", Expires: &soon})
	s.Later(2 * time.Hour)
	steward = s.Client(t, "tomasz@fernhollow.example", "a password for tomasz@fernhollow.example")
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Equal(t, http.StatusUnprocessableEntity, status(err))
	assert.Contains(t, fmt.Sprint(err, err.(*client.Error).Details), "it would have expired meanwhile")
	s.Later(15 * 24 * time.Hour)
	all, err := s.Owner(t).Proposals(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}

// A setting that refers to what its proposer may not read is no way round read,
// neither when it is proposed nor when it is approved.
func TestAProposedSettingRefersToWhatItsProposerMayRead(t *testing.T) {
	s, owner, steward, _ := approved(t)
	depositor := person(t, s, owner, "depositor@fernhollow.example", "depositor", client.Place{Project: "loans"})
	_, err := depositor.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("LEAK", "{adytum:KEY}")}})
	require.Error(t, err)
	assert.Contains(t, []int{http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusNotFound}, status(err), "%v", err)

	reader := person(t, s, owner, "reader@fernhollow.example", "editor", client.Place{Project: "loans"})
	out := proposeChange(t, reader, live, setting("LINK", "{adytum:KEY}"))
	grants, err := owner.Grants(ctx)
	require.NoError(t, err)
	for _, g := range grants {
		if g.Who == "reader@fernhollow.example" {
			require.NoError(t, owner.RemoveGrant(ctx, g.ID))
		}
	}
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "reader@fernhollow.example", Role: "depositor", Project: "loans"})
	require.NoError(t, err)
	_, err = steward.AnswerProposal(ctx, out.Proposal, wire.ProposalAnswer{Approved: true})
	assert.Error(t, err, "the proposer may no longer read what the setting would show")
}
