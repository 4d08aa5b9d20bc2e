package jobs_test

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

var live = client.Place{Project: "loans", Environment: "live"}

// What was removed is destroyed when its time has passed, by the service itself,
// and what is left can still be used.
func TestWhatWasRemovedLongAgoIsPurged(t *testing.T) {
	s := testkit.Start(t)
	owner := s.Owner(t)
	for _, project := range []string{"loans", "notices"} {
		_, err := owner.AddProject(ctx, project)
		require.NoError(t, err)
	}
	for _, e := range []string{"live", "old"} {
		_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: e})
		require.NoError(t, err)
		_, err = owner.Change(ctx, client.Place{Project: "loans", Environment: e}, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{
			{Name: "KEPT", Kind: "secret", Value: "kept"}, {Name: "GONE", Kind: "secret", Value: "gone"}}})
		require.NoError(t, err)
	}
	_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "remove", Name: "GONE"}}})
	require.NoError(t, err)
	_, err = owner.RemovePlace(ctx, client.Place{Project: "loans", Environment: "old"})
	require.NoError(t, err)
	_, err = owner.RemovePlace(ctx, client.Place{Project: "notices"})
	require.NoError(t, err)
	require.EqualValues(t, 4, s.SQL(t, "SELECT FROM version_keys"))

	s.Stop()
	s.Later(31 * 24 * time.Hour)
	s.Serve(t)
	require.Eventually(t, func() bool { return s.SQL(t, "SELECT FROM version_keys") == 1 }, 30*time.Second, 100*time.Millisecond, "the keys are gone")
	require.Eventually(t, func() bool {
		return s.SQL(t, "SELECT FROM projects WHERE destroyed_at IS NOT NULL") == 1 && s.SQL(t, "SELECT FROM environments WHERE destroyed_at IS NOT NULL") == 1
	}, 30*time.Second, 100*time.Millisecond)
	owner = s.Owner(t)
	v, err := owner.Value(ctx, live, "KEPT")
	require.NoError(t, err)
	assert.Equal(t, "kept", v.Value)
	gone, err := owner.Find(ctx, live, client.Query{State: "destroyed"})
	require.NoError(t, err)
	require.Len(t, gone.Entries, 1)
	assert.Equal(t, "GONE", gone.Entries[0].Name)
	changes, err := owner.Changes(ctx, live)
	require.NoError(t, err)
	assert.Equal(t, "the service itself", changes[0].Author)
	assert.ErrorContains(t, owner.RestorePlace(ctx, client.Place{Project: "notices"}), "there is no removed project")
	verified, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	for _, p := range verified.Problems {
		assert.Contains(t, p.What, "later than the checkpoint", "the clock was put forward, which is told; nothing else is wrong")
	}
}

func TestTheRoleForJobsSeesNothingOfTheStore(t *testing.T) {
	s := testkit.Start(t)
	conn, err := pgx.Connect(ctx, s.Config.Jobs)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, statement := range []string{"SELECT FROM adytum.entries", "SELECT FROM adytum.organization", "CREATE TABLE adytum_jobs.x ()", "SET ROLE adytum_owner"} {
		_, err := conn.Exec(ctx, statement)
		assert.ErrorContains(t, err, "permission denied", statement)
	}
}
