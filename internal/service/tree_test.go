package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/daemon"
	"adytum.example/internal/testkit"
)

// filledTree is a service whose trail has some hundred events in its tree, and a
// checkpoint of before the last of them, with its key.
func filledTree(t *testing.T) (s *testkit.Service, owner *client.Client, kept wire.Checkpoint) {
	t.Helper()
	s, owner = loans(t)
	for i := range 40 {
		keep(t, owner, live, setting(fmt.Sprint("N", i), "value"))
	}
	kept, err := owner.Checkpoint(ctx)
	require.NoError(t, err)
	for i := range 20 {
		keep(t, owner, live, setting(fmt.Sprint("M", i), "value"))
		_, err := owner.Value(ctx, live, "M0")
		require.NoError(t, err)
	}
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	require.True(t, v.Whole, "%v", v.Problems)
	return s, owner, kept
}

// What is done to the tree as the database's owner is reported with its place.
func TestAnAlteredTreeDoesNotVerify(t *testing.T) {
	const last = "index > (SELECT max(size) / 2 FROM checkpoints)"
	for name, c := range map[string]struct {
		statements []string
		says       string
	}{
		"two batches that change their places": {[]string{"UPDATE trail_order SET index = -index WHERE index IN (5, 6)", "UPDATE trail_order SET index = 11 + index WHERE index < 0"}, "something is not what the checkpoint"},
		"an event out of the order":            {[]string{"DELETE FROM trail_order WHERE index = 7"}, "the order of the tree is broken"},
		"a batch that is in the tree":          {[]string{"DELETE FROM trail_batches WHERE lane LIKE 'layer-%' AND first = 5 AND n = 1"}, "1 events are missing"},
		"a checkpoint rewritten":               {[]string{"UPDATE checkpoints SET note = replace(encode(note, 'escape'), 'time 2', 'time 1')::bytea WHERE size = (SELECT max(size) FROM checkpoints)"}, "altered"},
		"where a lane ends":                    {[]string{"UPDATE trail_heads SET seq = seq - 1 WHERE lane = 'organization'"}, "where the lanes end"},
		"the tail, and the layer set back with it": {[]string{"DELETE FROM trail_batches b USING trail_order o WHERE o.lane = b.lane AND o.first = b.first AND o." + last, "DELETE FROM trail_order WHERE " + last},
			"the last"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, owner, _ := filledTree(t)
			for _, statement := range c.statements {
				require.Positive(t, s.SQL(t, statement), statement)
			}
			v, err := owner.VerifyTrail(ctx, 0)
			if err != nil {
				require.GreaterOrEqual(t, status(err), 500, "%v", err)
				assert.Contains(t, s.Log.String(), "altered in the database")
				return
			}
			require.False(t, v.Whole)
			var says []string
			for _, p := range v.Problems {
				says = append(says, trail.Problem{Lane: p.Lane, Seq: p.Seq, What: p.What}.String())
			}
			assert.Contains(t, joined(says), c.says)
		})
	}
}

// setBack takes the newest events out of the database together with everything
// that speaks of them, as its owner could.
func setBack(t *testing.T, s *testkit.Service, size int64) {
	t.Helper()
	for _, statement := range []string{
		"DELETE FROM trail_batches b USING trail_order o WHERE o.lane = b.lane AND o.first = b.first AND o.index >= %d",
		"DELETE FROM trail_batches b WHERE NOT EXISTS (SELECT FROM trail_order o WHERE o.lane = b.lane AND o.first = b.first)",
		"DELETE FROM trail_order WHERE index >= %d", "DELETE FROM checkpoints WHERE size > %d",
		"INSERT INTO trail_heads (lane, seq) SELECT lane, max(first + n - 1) FROM trail_order GROUP BY lane ON CONFLICT (lane) DO UPDATE SET seq = excluded.seq",
		"DELETE FROM trail_heads h WHERE NOT EXISTS (SELECT FROM trail_order o WHERE o.lane = h.lane)",
		// The tiles hold a little more than the shorter tree needs, which is no matter.
	} {
		if strings.Contains(statement, "%d") {
			statement = fmt.Sprintf(statement, size)
		}
		s.SQL(t, statement)
	}
}

// The newest events are cut off with every checkpoint that covers them: whoever
// kept one notices, and so does an instance that runs, or that kept one in a file.
func TestACutTailIsNoticedByWhoeverKeptACheckpoint(t *testing.T) {
	s, owner, kept := filledTree(t)
	_, err := owner.CheckGrowth(ctx, kept.Checkpoint, kept.Key)
	require.NoError(t, err, "the trail has grown")
	newest, err := owner.Checkpoint(ctx)
	require.NoError(t, err)
	require.Greater(t, newest.Size, kept.Size)
	assert.NotEmpty(t, owner.SeenCheckpoint())

	setBack(t, s, kept.Size)
	require.Eventually(t, func() bool {
		_, err := owner.Entries(ctx, live)
		return status(err) == http.StatusServiceUnavailable
	}, 10*time.Second, 50*time.Millisecond, "the instance that runs stops answering")
	_, err = owner.Value(ctx, live, "M0")
	require.ErrorIs(t, err, client.ErrUnreachable)
	assert.Contains(t, s.Log.String(), "shorter than it was")

	// A new process knows nothing of the newer checkpoint, unless it kept one.
	s.Stop()
	file := filepath.Join(t.TempDir(), "checkpoint")
	require.NoError(t, os.WriteFile(file, []byte(newest.Checkpoint), 0o600))
	s.Config.Checkpoint = file
	require.ErrorContains(t, s.TryServe(t), "accept-trail")
	s.Config.Checkpoint = ""
	// Here the layer is ahead of its trail, which a start does not notice and a
	// verification does; who kept the newest checkpoint notices either way.
	s.Serve(t)
	again := moved(t, owner, s.URL)
	_, err = again.CheckGrowth(ctx, newest.Checkpoint, newest.Key)
	var grown client.GrowthError
	require.ErrorAs(t, err, &grown)
	assert.Regexp(t, "shorter than it was|was rewritten", err.Error())
	_, err = again.CheckGrowth(ctx, kept.Checkpoint, kept.Key)
	require.NoError(t, err, "the events before that checkpoint are all there")
	v, err := again.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.False(t, v.Whole, "changes are in the store whose events are gone")

	// An operator accepts it, which stands in the trail.
	s.Stop()
	s.Config.Checkpoint = file
	log := &testkit.Log{}
	require.NoError(t, daemon.AcceptTrail(ctx, s.Config, "recovered from last night's backup", testkit.Logger(log)))
	s.Serve(t)
	again = moved(t, owner, s.URL)
	page, err := again.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "trail.accept"}, "", 10)
	require.NoError(t, err)
	require.Len(t, page.Events, 1)
	assert.Equal(t, "recovered from last night's backup", page.Events[0].Reason)
}

func TestADatabaseWhoseLayersAreBehindTheirTrailIsNotServed(t *testing.T) {
	for name, statement := range map[string]string{
		"a layer":          "UPDATE layers SET revision = revision - 1 WHERE revision > 5",
		"the organization": "UPDATE organization SET revision = revision - 1",
	} {
		s, _, _ := filledTree(t)
		s.Stop()
		require.Positive(t, s.SQL(t, statement))
		assert.ErrorContains(t, s.TryServe(t), "the database was set back", name)
	}
}

func TestTheTrailIsVerifiedFromACheckpointAndWithoutTheService(t *testing.T) {
	s, owner, kept := filledTree(t)
	v, err := owner.VerifyTrail(ctx, kept.Size)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
	whole, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.Less(t, v.Events, whole.Events)
	assert.Equal(t, kept.Size, v.From)
	_, err = owner.VerifyTrail(ctx, 1_000_000)
	assert.Equal(t, http.StatusConflict, status(err), "a checkpoint that covers more than there is")

	var records bytes.Buffer
	require.NoError(t, owner.Records(ctx, &records))
	point, err := trail.OpenCheckpoint([]byte(kept.Checkpoint), kept.Key)
	require.NoError(t, err)
	r, end, err := trail.ReadRecords(bytes.NewReader(records.Bytes()), kept.Key, point)
	require.NoError(t, err)
	assert.Empty(t, r.Problems)
	assert.Equal(t, end.Size, r.Events)
	assert.NotContains(t, records.String(), "value of", "records hold no values")

	// What was altered in the database before the export is noticed by who has
	// nothing but the records and a checkpoint.
	require.Positive(t, s.SQL(t, "UPDATE trail_batches SET body = replace(encode(body, 'escape'), 'N7', 'N8')::bytea WHERE position('N7'::bytea IN body) > 0"))
	records.Reset()
	require.NoError(t, owner.Records(ctx, &records))
	r, _, err = trail.ReadRecords(bytes.NewReader(records.Bytes()), kept.Key, point)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(r.Problems), "are not those of the checkpoint")
}

func TestOneEventIsProvenWithoutTheOthers(t *testing.T) {
	_, owner, kept := filledTree(t)
	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "project.add"}, "", 10)
	require.NoError(t, err)
	require.Len(t, page.Events, 1)
	e := page.Events[0]
	proof, err := owner.ProveEvent(ctx, e.Lane, e.Seq)
	require.NoError(t, err)
	hashes, err := trail.ParseHashes(proof.Proof)
	require.NoError(t, err)
	proven, point, err := trail.CheckProof([]byte(proof.Event), proof.Index, hashes, []byte(proof.Checkpoint), kept.Key)
	require.NoError(t, err)
	assert.Equal(t, "project.add", proven.Action)
	assert.GreaterOrEqual(t, point.Size, kept.Size)
	assert.Less(t, len(proof.Proof), 12, "a handful of hashes, however many events")
	_, _, err = trail.CheckProof([]byte(strings.Replace(proof.Event, "loans", "notices", 1)), proof.Index, hashes, []byte(proof.Checkpoint), kept.Key)
	assert.Error(t, err)
	_, err = owner.ProveEvent(ctx, "organization", 999)
	assert.Equal(t, http.StatusNotFound, status(err))
}

// An instance that dies leaves its lane open: another closes it. One that was
// silent for too long and comes back goes on in a lane of its own, and loses no
// event.
func TestTheLaneOfASilentInstanceIsClosed(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	_, err := owner.Value(ctx, live, "KEY")
	require.NoError(t, err)
	other := second(t, s)
	there := moved(t, owner, other.URL)
	_, err = there.Value(ctx, live, "KEY")
	require.NoError(t, err)
	// It is made to look silent; its next beat shows that it lives, too late.
	require.Eventually(t, func() bool {
		s.SQL(t, "UPDATE instances SET seen_at = seen_at - interval '1 minute'")
		return s.SQL(t, "SELECT FROM trail_heads WHERE closed") > 0
	}, 30*time.Second, 50*time.Millisecond, "somebody closes a lane")
	for range 3 {
		for _, c := range []*client.Client{owner, there} {
			v, err := c.Value(ctx, live, "KEY")
			require.NoError(t, err)
			require.Equal(t, "value", v.Value)
		}
	}
	require.Eventually(t, func() bool { return strings.Contains(s.Log.String()+other.Log.String(), "a new one is begun") }, 10*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "entry.value"}, "", 100)
		require.NoError(t, err)
		return len(page.Events) == 8
	}, 10*time.Second, 50*time.Millisecond, "each answer has its event, once")
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}

// Two instances, one with a clock that stands still, one with a clock that is two
// hours ahead: the database's time is gone by, and nothing is dated wrongly.
func TestWrongClocksDateNothingWrongly(t *testing.T) {
	s, owner := loans(t)
	still := time.Now().Add(-26 * time.Hour)
	frozen, ahead := *s, *s
	frozen.Config.Now, frozen.Config.Clock, frozen.Log = nil, func() time.Time { return still }, &testkit.Log{}
	ahead.Config.Now, ahead.Config.Clock, ahead.Log = nil, func() time.Time { return time.Now().Add(2 * time.Hour) }, &testkit.Log{}
	frozen.Serve(t)
	ahead.Serve(t)
	began := time.Now().Add(-5 * time.Second)
	for i := range 6 {
		for j, address := range []string{frozen.URL, ahead.URL, s.URL} {
			c := moved(t, owner, address)
			keep(t, c, live, secretEdit("KEY", fmt.Sprint("value ", i, j)))
			v, err := c.Value(ctx, live, "KEY")
			require.NoError(t, err)
			require.Equal(t, fmt.Sprint("value ", i, j), v.Value)
		}
		time.Sleep(300 * time.Millisecond)
	}
	assert.Contains(t, ahead.Log.String(), "clock differs from the database's")
	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Since: began}, "", 500)
	require.NoError(t, err)
	n := 0
	for _, e := range page.Events {
		assert.WithinDuration(t, time.Now(), e.At, time.Minute, "%s", e.Action)
		if e.Action == "entry.value" {
			n++
		}
	}
	assert.Equal(t, 18, n)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
}

// Events are given up after their time, and what is left can be proven all the same.
func TestOldEventsAreGivenUpAndTheRestStaysProvable(t *testing.T) {
	s, owner, kept := filledTree(t)
	before, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	// Nothing is as old as that: nothing may be given up, not even as the service's role.
	s.Stop()
	s.Config.KeepTrail = "90"
	s.Serve(t)
	owner = moved(t, owner, s.URL)
	time.Sleep(500 * time.Millisecond)
	require.Zero(t, s.SQL(t, "SELECT FROM trail_forgotten"))
	_, err = s.TrySQL(t, "SELECT forget_trail(10, '{}', '', '')")
	require.ErrorContains(t, err, "90 days")

	// The first events grow old.
	s.Stop()
	old := fmt.Sprintf("(SELECT index FROM trail_order WHERE index >= %d ORDER BY index LIMIT 1)", kept.Size/2)
	s.SQL(t, "UPDATE trail_batches b SET written_at = b.written_at - interval '100 days' FROM trail_order o WHERE o.lane = b.lane AND o.first = b.first AND o.index < "+old)
	require.Positive(t, s.SQL(t, "UPDATE trail_order SET latest = latest - interval '100 days', earliest = earliest - interval '100 days' WHERE index < "+old))
	s.SQL(t, "DELETE FROM "+"adytum_jobs.river_job")
	s.Serve(t)
	owner = moved(t, owner, s.URL)
	require.Eventually(t, func() bool { return s.SQL(t, "SELECT FROM trail_forgotten") == 1 }, 20*time.Second, 50*time.Millisecond, "the hourly work runs with the start")

	after, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, after.Whole, "%v", after.Problems)
	assert.Positive(t, after.From)
	assert.Less(t, after.Events, before.Events)
	_, err = owner.CheckGrowth(ctx, kept.Checkpoint, kept.Key)
	require.NoError(t, err)
	var records bytes.Buffer
	require.NoError(t, owner.Records(ctx, &records))
	r, _, err := trail.ReadRecords(&records, kept.Key)
	require.NoError(t, err)
	assert.Empty(t, r.Problems)
	require.Eventually(t, func() bool {
		page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "trail.forget"}, "", 10)
		require.NoError(t, err)
		return len(page.Events) == 1 && page.Events[0].Count == after.From
	}, 5*time.Second, 50*time.Millisecond)
	_, err = owner.ProveEvent(ctx, "organization", 1)
	assert.Equal(t, http.StatusNotFound, status(err))
	keep(t, owner, live, setting("M0", "goes on"))

	require.Positive(t, s.SQL(t, "UPDATE trail_forgotten SET heads = replace(heads, 'organization', 'organisation')"))
	_, err = owner.VerifyTrail(ctx, 0)
	assert.Equal(t, http.StatusInternalServerError, status(err), "what was given up is signed")
}

// A database of before there was a tree, or one that nobody put in order for long:
// all of it comes into the tree, however much there is.
func TestWhatWasNotPutInOrderForLongIsPutInOrderAltogether(t *testing.T) {
	s, owner := loans(t)
	for i := range 1300 { // more than are taken at once
		keep(t, owner, live, setting("N", fmt.Sprint(i)))
	}
	s.Stop()
	s.SQL(t, "UPDATE trail_batches SET written_at = written_at - interval '3 days'")
	for _, table := range []string{"trail_order", "trail_tiles", "trail_heads", "checkpoints"} {
		require.Positive(t, s.SQL(t, "DELETE FROM "+table))
	}
	s.Serve(t)
	owner = moved(t, owner, s.URL)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.Greater(t, v.Events, int64(1300))
	assert.Zero(t, s.SQL(t, "SELECT FROM trail_batches b WHERE b.lane LIKE 'layer-%' AND NOT EXISTS (SELECT FROM trail_order o WHERE o.lane = b.lane AND o.first = b.first)"), "nothing is left out")
}
