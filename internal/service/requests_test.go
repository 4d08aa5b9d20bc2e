package service_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func TestARoleIsAskedForGrantedAndEndsByItself(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	const login = "priya@fernhollow.example"
	priya := person(t, s, owner, login, "observer", staging)
	tomasz := person(t, s, owner, "tomasz@fernhollow.example", "steward", common)
	abel := person(t, s, owner, "abel@fernhollow.example", "consumer", live)

	asked, err := priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Environment: "live", Hours: 4, Reason: "the night shift"})
	require.NoError(t, err)
	assert.True(t, asked.Mine)
	assert.Equal(t, `404 the project loans has no environment "live"`, answers(priya, live, "adytum:KEY"), "asking gives nothing")
	for i, c := range []struct {
		on   *client.Client
		sees int
	}{{priya, 1}, {tomasz, 1}, {owner, 1}, {abel, 0}} {
		all, err := c.on.RoleRequests(ctx)
		require.NoError(t, err)
		assert.Len(t, all, c.sees, "caller %d", i)
	}
	assert.Equal(t, http.StatusForbidden, status(priya.AnswerRequest(ctx, asked.ID, wire.RequestAnswer{Granted: true})), "nobody answers their own")
	assert.Equal(t, http.StatusNotFound, status(abel.AnswerRequest(ctx, asked.ID, wire.RequestAnswer{Granted: true})), "who may not grant it does not know of it")
	assert.Equal(t, http.StatusNotFound, status(abel.TakeBackRequest(ctx, asked.ID)))
	require.NoError(t, tomasz.AnswerRequest(ctx, asked.ID, wire.RequestAnswer{Granted: true, Reason: "until the morning"}))
	assert.Equal(t, "value from loans/live", answers(priya, live, "adytum:KEY"))
	assert.Equal(t, http.StatusNotFound, status(tomasz.AnswerRequest(ctx, asked.ID, wire.RequestAnswer{Granted: true})), "once")
	s.Later(4*time.Hour + time.Minute)
	assert.Equal(t, `404 the project loans has no environment "live"`, answers(priya, live, "adytum:KEY"))

	again, err := priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Environment: "live", Hours: 1})
	require.NoError(t, err)
	require.NoError(t, tomasz.AnswerRequest(ctx, again.ID, wire.RequestAnswer{Granted: true}), "over the one that has ended")
	assert.Equal(t, "value from loans/live", answers(priya, live, "adytum:KEY"))
	declined, err := priya.AskForRole(ctx, wire.NewRoleRequest{Role: "editor", Project: "loans", Hours: 1})
	require.NoError(t, err)
	require.NoError(t, owner.AnswerRequest(ctx, declined.ID, wire.RequestAnswer{}))
	_, err = priya.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "y")}})
	assert.Equal(t, http.StatusForbidden, status(err), "what was declined is not there")
}

func TestRequestsThatCannotBeMade(t *testing.T) {
	s, owner := loans(t)
	priya := person(t, s, owner, "priya@fernhollow.example", "observer", staging)
	stranger := person(t, s, owner, "abel@fernhollow.example", "", whole)
	tomasz := person(t, s, owner, "tomasz@fernhollow.example", "steward", common)
	_, err := priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consmer", Project: "", Hours: 5})
	require.Error(t, err)
	assert.Len(t, err.(*client.Error).Details, 2, "everything at once")
	_, err = priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 100})
	assert.Equal(t, http.StatusUnprocessableEntity, status(err))
	_, err = priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Environment: "moon", Hours: 1})
	assert.ErrorContains(t, err, `has no environment "moon"`)
	_, err = stranger.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 1})
	assert.EqualError(t, err, `there is no project "loans"`)

	over, err := priya.AskForRole(ctx, wire.NewRoleRequest{Role: "owner", Project: "loans", Hours: 1})
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, status(tomasz.AnswerRequest(ctx, over.ID, wire.RequestAnswer{Granted: true})), "a steward holds less")
	for range 9 {
		_, err = priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 1})
		require.NoError(t, err)
	}
	_, err = priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 1})
	assert.ErrorContains(t, err, "10 of your requests wait already")
	require.NoError(t, priya.TakeBackRequest(ctx, over.ID))
	_, err = priya.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 1})
	require.NoError(t, err)
	w, err := owner.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	grant(t, owner, wire.NewGrant{Kind: "workload", Who: "mailer", Role: "observer", Project: "loans"})
	c := anonymous(t, s)
	_, err = c.SignInWorkload(ctx, w.ClientID, w.ClientSecret)
	require.NoError(t, err)
	_, err = c.AskForRole(ctx, wire.NewRoleRequest{Role: "consumer", Project: "loans", Hours: 1})
	assert.Equal(t, http.StatusForbidden, status(err), "a workload does not ask")
}
