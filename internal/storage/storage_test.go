package storage_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/storage"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

// filled is an installation with two projects that have entries.
func filled(t *testing.T) *testkit.Service {
	s := testkit.Start(t)
	owner := s.Owner(t)
	for _, project := range []string{"loans", "notices"} {
		_, err := owner.AddProject(ctx, project)
		require.NoError(t, err)
		_, err = owner.AddEnvironment(ctx, project, wire.NewEnvironment{Name: "live"})
		require.NoError(t, err)
		_, err = owner.Change(ctx, client.Place{Project: project, Environment: "live"}, client.AnyRevision,
			wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY", Kind: "secret", Value: "value of " + project}}})
		require.NoError(t, err)
	}
	return s
}

func connect(t *testing.T, url string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(ctx) })
	_, err = conn.Exec(ctx, "SET search_path = adytum")
	require.NoError(t, err)
	return conn
}

// tables are all tables of the schema but goose's own, with whether they hold
// the organization's rows.
func tables(t *testing.T, conn *pgx.Conn) map[string]bool {
	t.Helper()
	rows, err := conn.Query(ctx, `SELECT relname, relrowsecurity, relforcerowsecurity FROM pg_class
		WHERE relnamespace = 'adytum'::regnamespace AND relkind IN ('r', 'p') AND relname <> 'goose_db_version'`)
	require.NoError(t, err)
	all := map[string]bool{}
	for rows.Next() {
		var name string
		var enabled, forced bool
		require.NoError(t, rows.Scan(&name, &enabled, &forced))
		assert.True(t, enabled && forced, "%s has row-level security enabled and forced", name)
		all[name] = true
	}
	require.NoError(t, rows.Err())
	for name := range all {
		var reading, writing int
		require.NoError(t, conn.QueryRow(ctx, `SELECT count(*) FILTER (WHERE polcmd IN ('r', '*')), count(*) FILTER (WHERE polcmd IN ('a', '*'))
			FROM pg_policy WHERE polrelid = ('adytum.' || $1)::regclass`, name).Scan(&reading, &writing))
		assert.Positive(t, reading, "%s has a policy for reading", name)
		assert.Positive(t, writing, "%s has a policy for writing", name)
		var organization bool
		require.NoError(t, conn.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_constraint WHERE conrelid = ('adytum.' || $1)::regclass AND pg_get_constraintdef(oid) LIKE '%project_id = 0%')`, name).Scan(&organization))
		all[name] = organization
	}
	return all
}

// unchanging are the tables of the trail, and what can be done to them in no scope.
var unchanging = map[string][]string{
	"trail_batches": {"UPDATE %s SET n = 9", "DELETE FROM %s"}, "trail_order": {"UPDATE %s SET n = 9", "DELETE FROM %s"},
	"checkpoints": {"UPDATE %s SET size = 9", "DELETE FROM %s"}, "trail_forgotten": {"UPDATE %s SET before = 9", "DELETE FROM %s"},
	"trail_tiles": {"DELETE FROM %s"}, "trail_heads": {"DELETE FROM %s"},
}

func TestEveryTableIsClosedToForeignScopes(t *testing.T) {
	s := filled(t)
	conn := connect(t, s.Config.Database)
	all := tables(t, conn)
	require.Greater(t, len(all), 15)

	within := func(scope string, f func(tx pgx.Tx)) {
		tx, err := conn.Begin(ctx)
		require.NoError(t, err)
		defer func() { require.NoError(t, tx.Rollback(ctx)) }()
		if scope != "unset" {
			_, err = tx.Exec(ctx, "SELECT set_config('adytum.scope', $1, true)", scope)
			require.NoError(t, err)
		}
		f(tx)
	}
	count := func(tx pgx.Tx, table, where string) (n int) {
		require.NoError(t, tx.QueryRow(ctx, "SELECT count(*) FROM "+table+" WHERE "+where).Scan(&n), table)
		return n
	}
	for table, organization := range all {
		for _, scope := range []string{"unset", ""} {
			within(scope, func(tx pgx.Tx) { assert.Zero(t, count(tx, table, "true"), "%s without a scope (%q)", table, scope) })
		}
		// Project 999 does not exist: the scope is foreign to every row of a project.
		within("{999}", func(tx pgx.Tx) { assert.Zero(t, count(tx, table, "project_id <> 0"), "%s from a foreign scope", table) })
		if never := unchanging[table]; len(never) > 0 {
			for _, statement := range never {
				within("{0,1,2}", func(tx pgx.Tx) {
					_, err := tx.Exec(ctx, fmt.Sprintf(statement, table))
					assert.ErrorContains(t, err, "permission denied", "the trail is never changed: %s", table)
				})
			}
			// What may grow grows in its own scope alone.
			within("{999}", func(tx pgx.Tx) {
				if tag, err := tx.Exec(ctx, fmt.Sprintf("UPDATE %s SET project_id = project_id", table)); err == nil {
					assert.Zero(t, tag.RowsAffected(), table)
				} else {
					assert.ErrorContains(t, err, "permission denied", table)
				}
			})
			if table != "trail_batches" { // which a change writes in the scope of its project
				within("{1}", func(tx pgx.Tx) {
					_, err := tx.Exec(ctx, fmt.Sprintf("INSERT INTO %s (project_id) VALUES (0)", table))
					assert.ErrorContains(t, err, "row-level security", "%s takes no row in a foreign scope", table)
				})
			}
			continue
		}
		for _, statement := range []string{"UPDATE %s SET project_id = project_id", "DELETE FROM %s"} {
			within("{999}", func(tx pgx.Tx) {
				tag, err := tx.Exec(ctx, fmt.Sprintf(statement, table))
				require.NoError(t, err, table)
				assert.Zero(t, tag.RowsAffected(), statement, table)
			})
		}
		within("{1}", func(tx pgx.Tx) {
			project := 2
			if organization {
				project = 0
			}
			// Row-level security is asked before any other constraint.
			_, err := tx.Exec(ctx, fmt.Sprintf("INSERT INTO %s (project_id) VALUES (%d)", table, project))
			assert.ErrorContains(t, err, "row-level security", "%s takes no row of a foreign project", table)
		})
	}
}

func TestOneProjectsScopeShowsNothingOfAnother(t *testing.T) {
	s := filled(t)
	conn := connect(t, s.Config.Database)
	for _, project := range []int{1, 2} {
		tx, err := conn.Begin(ctx)
		require.NoError(t, err)
		_, err = tx.Exec(ctx, "SELECT set_config('adytum.scope', $1, true)", fmt.Sprintf("{%d}", project))
		require.NoError(t, err)
		var mine, others int
		require.NoError(t, tx.QueryRow(ctx, "SELECT count(*) FILTER (WHERE project_id = $1), count(*) FILTER (WHERE project_id <> $1) FROM version_keys", project).Scan(&mine, &others))
		assert.Equal(t, 1, mine)
		assert.Zero(t, others)
		require.NoError(t, tx.Rollback(ctx))
	}
	// After the transaction the setting reads as empty, which is no scope either.
	var n int
	require.NoError(t, conn.QueryRow(ctx, "SELECT count(*) FROM versions").Scan(&n))
	assert.Zero(t, n)
}

func TestTheFlushRoleSeesRevisionsAndNothingElse(t *testing.T) {
	s := filled(t)
	conn := connect(t, s.Config.Flush)
	var n int
	require.NoError(t, conn.QueryRow(ctx, "SELECT count(revision) FROM layers").Scan(&n))
	assert.Positive(t, n)
	for _, statement := range []string{"SELECT manifest FROM layers", "SELECT * FROM versions", "SELECT * FROM version_keys", "SELECT * FROM tokens", "SELECT * FROM people",
		"UPDATE layers SET revision = 1", "DELETE FROM trail_batches", "UPDATE trail_batches SET n = 1"} {
		_, err := conn.Exec(ctx, statement)
		assert.ErrorContains(t, err, "permission denied", statement)
	}
}

func TestServingAsAPowerfulRoleIsRefused(t *testing.T) {
	urls, admin := testkit.Database(t)
	for name, url := range map[string]string{"superuser": admin, "member of the owner": urls.Migrate} {
		store, err := storage.Open(url, testkit.Quiet())
		require.NoError(t, err)
		assert.ErrorIs(t, store.CheckRole(ctx), storage.ErrUnsafeRole, name)
		require.NoError(t, store.Close())
	}
	store, err := storage.Open(urls.Service, testkit.Quiet())
	require.NoError(t, err)
	assert.NoError(t, store.CheckRole(ctx))
	require.NoError(t, store.Close())
}

func TestBrokenURLsAreNotRepeated(t *testing.T) {
	_, err := storage.Open("postgres://a:hunter2@[::1:5432/x", testkit.Quiet())
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "hunter2")
	_, err = storage.Bootstrap(ctx, "postgres://a:hunter2@[::1:5432/x", "x")
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "hunter2")
}

func TestMigratingAgainChangesNothing(t *testing.T) {
	urls, _ := testkit.Database(t)
	require.NoError(t, storage.Migrate(ctx, urls.Migrate))
	store, err := storage.Open(urls.Service, testkit.Quiet())
	require.NoError(t, err)
	defer store.Close()
	assert.NoError(t, store.CheckVersion(ctx))
}

// A table that is added is backed up, or said not to be.
func TestEveryTableIsBackedUpOrLeftOutOnPurpose(t *testing.T) {
	s := filled(t)
	var all, known []string
	for table := range tables(t, connect(t, s.Config.Database)) {
		all = append(all, table)
	}
	known = slices.Concat(storage.DataTables, storage.KeyTables, storage.NotBackedUp)
	slices.Sort(all)
	slices.Sort(known)
	assert.Equal(t, all, known)
}
