package service_test

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/outside/httpsign"
	"adytum.example/internal/testkit"
)

// raised waits for the open alerts of a kind.
func raised(t *testing.T, c *client.Client, kind string, n int) (all []wire.Alert) {
	t.Helper()
	require.Eventually(t, func() bool {
		page, err := c.Alerts(ctx, true, "")
		require.NoError(t, err)
		all = nil
		for _, a := range page.Alerts {
			if a.Kind == kind {
				all = append(all, a)
			}
		}
		return len(all) >= n
	}, 10*time.Second, 50*time.Millisecond, "%d alerts: %s", n, kind)
	require.Len(t, all, n)
	return all
}

func TestWhatIsOutOfTheOrdinaryIsAnAlert(t *testing.T) {
	s, owner := loans(t)
	var edits []wire.Edit
	for i := range 60 {
		edits = append(edits, secretEdit(fmt.Sprint("N", i), "hunter2-value"))
	}
	keep(t, owner, live, edits...)
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", live)

	// Refused bursts, of one who signed in and of one who did not.
	for range 12 {
		_, err := reader.Value(ctx, staging, "N1")
		require.Error(t, err)
	}
	a := raised(t, owner, "refusals", 1)[0]
	assert.Equal(t, "priya@fernhollow.example", a.Who)
	assert.Equal(t, "127.0.0.1", a.From)
	assert.Contains(t, a.What, "10 requests were refused")

	// The event that gave rise to it stands in the trail, and can be proven.
	lane, seq, ok := trail.ParsePlace(a.Event)
	require.True(t, ok)
	_, err := owner.ProveEvent(ctx, lane, seq)
	require.NoError(t, err)

	// Everything at once.
	for i := range 55 {
		_, err := reader.Value(ctx, live, fmt.Sprint("N", i))
		require.NoError(t, err)
	}
	a = raised(t, owner, "everything", 1)[0]
	assert.Equal(t, "loans/live", a.Place)
	content, err := json.Marshal(a)
	require.NoError(t, err)
	assert.NotContains(t, string(content), "hunter2")
	assert.Contains(t, s.Log.String(), `"kind":"everything"`)

	// Looked at by an auditor, once; and by nobody else.
	_, err = reader.Alerts(ctx, true, "")
	assert.Equal(t, http.StatusForbidden, status(err))
	require.NoError(t, owner.SeeAlert(ctx, a.ID, "it was me, for the move"))
	assert.Equal(t, http.StatusNotFound, status(owner.SeeAlert(ctx, a.ID, "")))
	page, err := owner.Alerts(ctx, false, "")
	require.NoError(t, err)
	require.Len(t, page.Alerts, 2)
	assert.Equal(t, "Ines Okafor", page.Alerts[0].SeenBy)
}

// What was ordinary is remembered when another instance goes on.
func TestABaselineOutlivesTheInstance(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"))
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", live)
	_, err := reader.Value(ctx, live, "KEY")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return s.SQL(t, "SELECT FROM baselines WHERE actor = 'person:2'") == 1 }, 10*time.Second, 50*time.Millisecond)
	s.Stop()
	s.Config.Proxies = "127.0.0.1/32"
	s.Later(30 * time.Hour)
	s.Serve(t)
	owner = s.Owner(t)
	again := s.Client(t, "priya@fernhollow.example", "a password for priya@fernhollow.example")
	r, err := http.NewRequest(http.MethodGet, s.URL+"/api/v1/projects/loans/environments/live/entries/KEY/value", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+again.Token())
	r.Header.Set("X-Forwarded-For", "198.51.100.7")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	a := raised(t, owner, "new-network", 1)[0]
	assert.Equal(t, "198.51.100.7", a.From)
	assert.Contains(t, a.What, "198.51.100.0/24")
}

func TestDecoys(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"), secretEdit("OLD_MASTER_KEY", "bait"))
	keep(t, owner, client.Place{Project: "loans"}, secretEdit("ROOT_TOKEN", "bait"))
	w, err := owner.AddWorkload(ctx, "old-deployer")
	require.NoError(t, err)
	for _, d := range []wire.NewDecoy{{Name: "OLD_MASTER_KEY", Project: "loans", Environment: "live"}, {Name: "ROOT_TOKEN", Project: "loans"}, {Workload: "old-deployer"}} {
		_, err := owner.AddDecoy(ctx, d)
		require.NoError(t, err)
	}
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", client.Place{Project: "loans"})
	steward := person(t, s, owner, "tomasz@fernhollow.example", "steward", client.Place{Project: "loans"})
	for c, want := range map[*client.Client]int{owner: 3, steward: 2, reader: 0} {
		all, err := c.Decoys(ctx)
		require.NoError(t, err)
		assert.Len(t, all, want, "marked as such to those who manage there alone")
	}
	entry, err := reader.Entry(ctx, live, "OLD_MASTER_KEY")
	require.NoError(t, err)
	content, err := json.Marshal(entry)
	require.NoError(t, err)
	assert.NotContains(t, strings.ToLower(string(content)), "decoy")

	_, err = reader.Value(ctx, live, "KEY")
	require.NoError(t, err)
	_, err = reader.Resolve(ctx, live, []string{"adytum:KEY"}, nil)
	require.NoError(t, err)
	_, err = reader.Value(ctx, live, "OLD_MASTER_KEY")
	require.NoError(t, err)
	a := raised(t, owner, "decoy", 1)[0]
	assert.Equal(t, "the decoy OLD_MASTER_KEY was obtained", a.What)
	assert.Equal(t, "priya@fernhollow.example", a.Who)
	_, err = reader.Resolve(ctx, staging, []string{"adytum:ROOT_TOKEN"}, nil)
	require.NoError(t, err)
	assert.Equal(t, "the decoy ROOT_TOKEN was obtained", raised(t, owner, "decoy", 2)[0].What)
	_, err = steward.Resolve(ctx, staging, []string{"adytum:loans/live/OLD_MASTER_KEY"}, nil)
	require.NoError(t, err)
	raised(t, owner, "decoy", 3)
	c, err := client.New(s.URL)
	require.NoError(t, err)
	_, err = c.SignInWorkload(ctx, w.ClientID, w.ClientSecret)
	require.NoError(t, err)
	assert.Equal(t, "the decoy workload old-deployer was used", raised(t, owner, "decoy", 4)[0].What)
	// Who may not have it is told of as well.
	observer := person(t, s, owner, "abel@fernhollow.example", "observer", live)
	_, err = observer.Value(ctx, live, "OLD_MASTER_KEY")
	require.Error(t, err)
	assert.Equal(t, "the decoy OLD_MASTER_KEY was asked for", raised(t, owner, "decoy", 5)[0].What)

	// The trail does not tell which they are, and only who manages there changes them.
	page, err := owner.FindEvents(ctx, client.TrailQuery{Kind: "person", Action: "decoy"}, "", 50)
	require.NoError(t, err)
	for _, e := range page.Events {
		assert.Empty(t, e.Names)
	}
	_, err = reader.AddDecoy(ctx, wire.NewDecoy{Name: "KEY", Project: "loans", Environment: "live"})
	assert.Equal(t, http.StatusForbidden, status(err))
	assert.Equal(t, http.StatusNotFound, status(reader.RemoveDecoy(ctx, 1)), "that it exists is not told")
	_, err = steward.AddDecoy(ctx, wire.NewDecoy{Workload: "old-deployer"})
	assert.Equal(t, http.StatusForbidden, status(err))
	_, err = steward.AddDecoy(ctx, wire.NewDecoy{Name: "ROOT_TOKEN", Project: "loans"})
	assert.Equal(t, http.StatusConflict, status(err))
	_, err = steward.AddDecoy(ctx, wire.NewDecoy{})
	assert.Equal(t, http.StatusUnprocessableEntity, status(err))
	require.NoError(t, steward.RemoveDecoy(ctx, 1))
	_, err = reader.Value(ctx, live, "OLD_MASTER_KEY")
	require.NoError(t, err)
	_, err = owner.Checkpoint(ctx) // everything is in the tree
	require.NoError(t, err)
	raised(t, owner, "decoy", 5)

	// As the database's owner: unmarking is noticed.
	s.Stop()
	require.Positive(t, s.SQL(t, "DELETE FROM decoys"))
	if err := s.TryServe(t); err == nil {
		_, err = moved(t, owner, s.URL).Decoys(ctx)
		assert.Equal(t, http.StatusInternalServerError, status(err))
	}
}

// hook takes what is posted to it, and fails at first as often as asked for.
type hook struct {
	mu     sync.Mutex
	fails  int
	bodies []string
	heads  []http.Header
	uri    string
}

func (h *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.fails > 0 {
		h.fails--
		http.Error(w, "not now", http.StatusBadGateway)
		return
	}
	body, _ := io.ReadAll(r.Body)
	h.bodies, h.heads = append(h.bodies, string(body)), append(h.heads, r.Header.Clone())
}

func (h *hook) got() ([]string, []http.Header) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string{}, h.bodies...), append([]http.Header{}, h.heads...)
}

func TestAlertsAreSentSignedAndAgainUntilTheyArrive(t *testing.T) {
	s, owner := loans(t)
	mailbox := testkit.NewMailbox(t, 1)
	s.Stop()
	s.Config.MailServer, s.Config.MailFrom = mailbox.Address, "adytum@fernhollow.example"
	s.Serve(t)
	owner = moved(t, owner, s.URL)
	h := &hook{fails: 1}
	receiver := httptest.NewServer(h)
	defer receiver.Close()
	channel, err := owner.AddChannel(ctx, wire.NewChannel{Kind: "webhook", Target: receiver.URL + "/hook"})
	require.NoError(t, err)
	_, err = owner.AddChannel(ctx, wire.NewChannel{Kind: "mail", Target: "desk@fernhollow.example"})
	require.NoError(t, err)

	keep(t, owner, live, secretEdit("BAIT", "hunter2-bait"))
	_, err = owner.AddDecoy(ctx, wire.NewDecoy{Name: "BAIT", Project: "loans", Environment: "live"})
	require.NoError(t, err)
	_, err = owner.Value(ctx, live, "BAIT")
	require.NoError(t, err)

	// Both fail at first, and are tried again.
	require.Eventually(t, func() bool {
		channels, err := owner.Channels(ctx)
		require.NoError(t, err)
		return channels[0].Problem == "it answers 502" && channels[1].Problem == "the mail server did not take it"
	}, 15*time.Second, 50*time.Millisecond)
	s.Later(time.Minute)
	require.Eventually(t, func() bool {
		bodies, _ := h.got()
		return len(bodies) == 1 && len(mailbox.Mails()) == 1
	}, 20*time.Second, 50*time.Millisecond)

	bodies, heads := h.got()
	var sent wire.SentAlert
	require.NoError(t, json.Unmarshal([]byte(bodies[0]), &sent))
	assert.Equal(t, "the decoy BAIT was obtained", sent.What)
	assert.Equal(t, "Fernhollow Libraries", sent.Organization)
	assert.NotContains(t, bodies[0], "hunter2")
	key, err := owner.Checkpoint(ctx)
	require.NoError(t, err)
	_, err = trail.OpenCheckpoint([]byte(sent.Checkpoint), key.Key)
	assert.NoError(t, err, "the newest checkpoint goes out with it")

	// The signature, with the key that was shown, as any receiver would check it.
	public, err := base64.StdEncoding.DecodeString(channel.Key)
	require.NoError(t, err)
	request, err := http.NewRequest(http.MethodPost, receiver.URL+"/hook", nil)
	require.NoError(t, err)
	request.Header = heads[0]
	var created int64
	_, err = fmt.Sscanf(heads[0].Get("Signature-Input"), `adytum=("@method" "@target-uri" "content-type" "content-digest");created=%d`, &created)
	require.NoError(t, err)
	parameters, base, err := httpsign.Base(request, []string{"@method", "@target-uri", "content-type", "content-digest"}, time.Unix(created, 0), channel.KeyID)
	require.NoError(t, err)
	assert.Equal(t, "adytum="+parameters, heads[0].Get("Signature-Input"))
	signature, err := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(heads[0].Get("Signature"), "adytum="), ":"))
	require.NoError(t, err)
	assert.True(t, ed25519.Verify(public, []byte(base), signature))
	assert.Equal(t, httpsign.ContentDigest([]byte(bodies[0])), heads[0].Get("Content-Digest"))

	letter := mailbox.Mails()[0]
	assert.Equal(t, "desk@fernhollow.example", letter.To)
	assert.Equal(t, "Adytum: Ines Okafor: the decoy BAIT was obtained", letter.Subject)
	assert.NotContains(t, letter.Text, "hunter2")
	assert.Contains(t, letter.Text, "loans/live")

	// Each once, and no more.
	time.Sleep(1500 * time.Millisecond)
	bodies, _ = h.got()
	assert.Len(t, bodies, 1)
	channels, err := owner.Channels(ctx)
	require.NoError(t, err)
	for _, c := range channels {
		assert.Empty(t, c.Problem)
		assert.False(t, c.Last.IsZero())
		require.NoError(t, owner.TestChannel(ctx, c.ID))
		require.NoError(t, owner.RemoveChannel(ctx, c.ID))
	}
	assert.Len(t, mailbox.Mails(), 2)
}

func TestWhatIsNoChannel(t *testing.T) {
	s, owner := loans(t)
	for target, says := range map[string]string{"webhook ftp://x": "the webhook's address", "webhook http://pager.fernhollow.example/": "https", "mail desk": "the mail address", "mail Desk <desk@fernhollow.example>": "the mail address", "pigeon x": ""} {
		kind, where, _ := strings.Cut(target, " ")
		_, err := owner.AddChannel(ctx, wire.NewChannel{Kind: kind, Target: where})
		assert.Equal(t, http.StatusUnprocessableEntity, status(err), target)
		assert.ErrorContains(t, err, says)
	}
	c, err := owner.AddChannel(ctx, wire.NewChannel{Kind: "mail", Target: "desk@fernhollow.example"})
	require.NoError(t, err)
	assert.ErrorContains(t, owner.TestChannel(ctx, c.ID), "no mail server is configured")
	c, err = owner.AddChannel(ctx, wire.NewChannel{Kind: "webhook", Target: "http://127.0.0.1:1/x"})
	require.NoError(t, err)
	assert.ErrorContains(t, owner.TestChannel(ctx, c.ID), "it does not answer")
	assert.Equal(t, "http://127.0.0.1:1", c.Target, "the rest of the address may be a credential")
	_, err = owner.AddChannel(ctx, wire.NewChannel{Kind: "mail", Target: "desk@fernhollow.example"})
	assert.Equal(t, http.StatusConflict, status(err))
	other, err := owner.AddChannel(ctx, wire.NewChannel{Kind: "webhook", Target: "http://127.0.0.1:1/hook-hunter2"})
	require.NoError(t, err, "another one on the same host")
	assert.Zero(t, s.SQL(t, "SELECT FROM channels WHERE target LIKE '%hunter2%' OR position('hunter2'::bytea IN sealed) > 0"))
	assert.Zero(t, s.SQL(t, "SELECT FROM trail_batches WHERE position('hunter2'::bytea IN body) > 0"))
	require.NoError(t, owner.RemoveChannel(ctx, other.ID))
	steward := person(t, s, owner, "abel@fernhollow.example", "auditor", client.Place{})
	assert.Equal(t, http.StatusForbidden, status(steward.RemoveChannel(ctx, c.ID)), "an auditor sees channels and does not change them")
	all, err := steward.Channels(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 2)
}
