package command_test

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

// receive takes one connection's octet-counted messages (RFC 6587, section 3.4.1).
func receive(t *testing.T, listener net.Listener) (messages func() []string) {
	t.Helper()
	t.Cleanup(func() { _ = listener.Close() })
	done := make(chan []string, 1)
	go func() {
		var all []string
		defer func() { done <- all }()
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		r := bufio.NewReader(conn)
		for {
			length, err := r.ReadString(' ')
			n, convErr := strconv.Atoi(strings.TrimSpace(length))
			if err != nil || convErr != nil {
				return
			}
			text := make([]byte, n)
			if _, err := io.ReadFull(r, text); err != nil {
				return
			}
			all = append(all, string(text))
		}
	}()
	return func() []string { return <-done }
}

func listening(t *testing.T) net.Listener {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return listener
}

func TestTheTrailIsFilteredFollowedAndExported(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "one two three four", "keep", "KEY", "--stdin", "--because", "a start")
	sh.OK(t, "", "keep", "-s", "PAGE=9", "-e", "local")
	sh.OK(t, "", "workload", "add", "mailer")
	sh.OK(t, "", "value", "KEY")
	sh.OK(t, "", "value", "PAGE", "-e", "local")
	sh.Run(t, "", "value", "NOPE")
	lines := func(args ...string) []string {
		out := strings.TrimSpace(sh.OK(t, "", append([]string{"trail", "-o", "jsonl"}, args...)...).Stdout)
		if out == "" {
			return nil
		}
		return strings.Split(out, "\n")
	}
	require.Eventually(t, func() bool { return len(lines("--action", "entry.value")) == 3 }, 5*time.Second, 50*time.Millisecond)
	for _, c := range []struct {
		args string
		want int
	}{
		{"--action entry.value --outcome failed", 1}, {"--action entry.value --outcome allowed", 2}, {"--action entry.value --outcome refused", 0},
		{"--action change", 2}, {"--action change -e local", 1}, {"--action change -p elsewhere", 0}, {"--action entry.value --name KEY", 1},
		{"--action change --person ines@fernhollow.example", 2}, {"--action change --workload mailer", 0}, {"--action change --from 127.0.0.1", 2}, {"--action change --from 192.0.2.1", 0},
		{"--action change --since 1h", 2}, {"--action change --until 1h", 0}, {"--action change --since 2099-01-01", 0}, {"--action change --limit 1", 1},
	} {
		assert.Len(t, lines(strings.Fields(c.args)...), c.want, c.args)
	}
	says(t, sh.OK(t, "", "trail", "--action", "entry.value", "--outcome", "refused"), 0, "There are no such events.")
	says(t, sh.Run(t, "", "trail", "--outcome", "maybe"), 2, `there is no outcome "maybe"; there are allowed, refused, failed`)
	says(t, sh.Run(t, "", "trail", "--since", "whenever"), 2, `"whenever" is no time`)
	says(t, sh.Run(t, "", "trail", "--person", "nobody@fernhollow.example"), 1, `there is no person "nobody@fernhollow.example"`)
	says(t, sh.Run(t, "", "trail", "--person", "x", "--workload", "y"), 2, "name one")

	exported := sh.OK(t, "", "trail", "export", "--action", "change", "--to", "trail.jsonl")
	assert.Contains(t, exported.Stderr, "2 events were written.")
	content, err := os.ReadFile(filepath.Join(sh.Folder, "trail.jsonl"))
	require.NoError(t, err)
	var first wire.Event
	require.NoError(t, json.Unmarshal([]byte(strings.Split(string(content), "\n")[0]), &first))
	assert.Equal(t, "a start", first.Reason, "the oldest is first")
	assert.Equal(t, "person:1", first.Actor)

	listener := listening(t)
	messages := receive(t, listener)
	sh.OK(t, "", "trail", "export", "--format", "syslog", "--action", "change", "--send", "tcp://"+listener.Addr().String())
	got := messages()
	require.Len(t, got, 2)
	assert.Regexp(t, `^<109>1 \d{4}-\d\d-\d\dT[0-9:.]+Z \S+ adytum - change.commit \[event@32473 lane="layer-\d+" seq="1" outcome="allowed" actor="person:1" who="Ines Okafor" from="127.0.0.1" place="loans/live" names="KEY" grant="1" revision="1" reason="a start"\] Ines Okafor change.commit allowed in loans/live$`, got[0])
	plain := sh.OK(t, "", "trail", "export", "--format", "syslog", "--action", "change").Stdout
	assert.Len(t, strings.Split(strings.TrimSpace(plain), "\n"), 2)
	assert.NotContains(t, plain, "one two three four")
	says(t, sh.Run(t, "", "trail", "export", "--send", "udp://127.0.0.1:1"), 2, "tls://HOST:PORT or tcp://HOST:PORT")
	says(t, sh.Run(t, "", "trail", "export", "--send", "tcp://127.0.0.1:1"), 5, "cannot be reached")
	says(t, sh.Run(t, "", "trail", "export", "--send", "tcp://127.0.0.1:1", "--to", "x"), 2, "either --to FILE or --send ADDRESS")
	says(t, sh.Run(t, "", "trail", "export", "--format", "xml"), 2, `there is no format "xml"`)
	says(t, sh.OK(t, "", "trail", "verify"), 0, "The trail is whole")
}

func TestTheTrailIsProvenToWhoKeepsACheckpoint(t *testing.T) {
	s, sh := loans(t)
	sh.OK(t, "", "keep", "-s", "PAGE=9")
	says(t, sh.OK(t, "", "trail", "verify"), 0, "The trail is whole", "It goes on from the checkpoint of", "that was kept here")
	point := sh.OK(t, "", "trail", "checkpoint", "--to", "point")
	key := regexp.MustCompile(`Its public key: (\S+)`).FindStringSubmatch(point.Stderr)
	require.Len(t, key, 2)
	assert.Equal(t, sh.OK(t, "", "trail", "checkpoint").Stdout[:7], "adytum/")
	says(t, sh.OK(t, "", "trail", "verify", "--checkpoint", "point"), 0, "The trail is whole", "since the first")

	sh.OK(t, "", "trail", "export", "--format", "records", "--to", "records")
	says(t, sh.OK(t, "", "trail", "verify", "--records", "records"), 0, "The records are whole")
	says(t, sh.OK(t, "", "trail", "verify", "--records", "records", "--checkpoint", "point", "--key", key[1]), 0, "The records are whole")
	assert.Contains(t, sh.OK(t, "", "trail", "verify", "--records", "records", "-o", "json").Stdout, `"whole": true`)
	content, err := os.ReadFile(filepath.Join(sh.Folder, "records"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(sh.Folder, "altered"), bytes.Replace(content, []byte("allowed"), []byte("refused"), 1), 0o600))
	altered := sh.Run(t, "", "trail", "verify", "--records", "altered", "--checkpoint", "point")
	says(t, altered, 3, "the records are not whole")
	assert.Contains(t, altered.Stdout, "are not those of the checkpoint")

	var events []wire.Event
	require.NoError(t, json.Unmarshal([]byte(sh.OK(t, "", "trail", "--action", "project.add", "-o", "json").Stdout), &events))
	sh.OK(t, "", "trail", "prove", fmt.Sprintf("%s:%d", events[0].Lane, events[0].Seq), "--to", "proof")
	says(t, sh.OK(t, "", "trail", "verify", "--proof", "proof"), 0, "This event stands in the trail: project.add allowed")
	content, err = os.ReadFile(filepath.Join(sh.Folder, "proof"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(sh.Folder, "forged"), bytes.Replace(content, []byte("project.add"), []byte("project.bad"), 1), 0o600))
	says(t, sh.Run(t, "", "trail", "verify", "--proof", "forged"), 3, "the event is not the one that stands at")

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"trail", "verify", "--proof", "records"}, 1, "is no proof of an event"},
		{[]string{"trail", "verify", "--records", "proof"}, 1, "these are no records of a trail"},
		{[]string{"trail", "verify", "--records", "nowhere"}, 1, "no such file"},
		{[]string{"trail", "verify", "--records", "records", "--key", "nonsense"}, 3, "the key is none"},
		{[]string{"trail", "verify", "--checkpoint", "proof"}, 2, "it is not signed with the trail's key"},
		{[]string{"trail", "verify", "--records", "x", "--proof", "y"}, 2, "either --records FILE or --proof FILE"},
		{[]string{"trail", "prove", "layer-3"}, 2, "an event is named by its lane and its number"},
		{[]string{"trail", "prove", "layer-3:99999"}, 1, "the trail has no event layer-3:99999"},
		{[]string{"trail", "export", "--format", "records", "--action", "change"}, 2, "records are all events"},
	} {
		says(t, sh.Run(t, "", c.args...), c.code, c.says)
	}
	other := testkit.NewShell(t, testkit.Folder(t))
	says(t, other.Run(t, "", "trail", "verify", "--records", filepath.Join(sh.Folder, "records")), 2, "which trail? name its public key")
	assert.NotContains(t, s.Log.String(), "cannot be put in order")
}

// Somebody takes the newest events out of the database: the device that has seen
// them says so with the next command, and refuses to call the trail whole.
func TestAShorterTrailIsNoticedByADeviceThatSawALongerOne(t *testing.T) {
	s, sh := loans(t)
	kept := sh.OK(t, "", "trail", "checkpoint").Stdout
	size, err := strconv.Atoi(strings.Split(kept, "\n")[1])
	require.NoError(t, err)
	for i := range 3 {
		sh.OK(t, "", "keep", "-s", "PAGE="+strconv.Itoa(i))
	}
	sh.OK(t, "", "trail", "verify")
	s.Stop()
	for _, statement := range []string{
		"DELETE FROM trail_batches b USING trail_order o WHERE o.lane = b.lane AND o.first = b.first AND o.index >= $1",
		"DELETE FROM trail_order WHERE index >= $1", "DELETE FROM checkpoints WHERE size > $1"} {
		s.SQL(t, statement, size)
	}
	s.SQL(t, "DELETE FROM trail_heads")
	s.SQL(t, "INSERT INTO trail_heads (lane, seq) SELECT lane, max(first + n - 1) FROM trail_order GROUP BY lane")
	s.Config.Listen = strings.TrimPrefix(s.URL, "http://")
	s.Serve(t)
	says(t, sh.Run(t, "", "trail", "verify"), 3, "the trail", "nothing that is read from it can be trusted", "--forget-trail")
	sh.SignIn(t, s)
	assert.Equal(t, 3, sh.Run(t, "", "trail", "verify").Code, "another sign-in forgets nothing")
	says(t, sh.Run(t, testkit.OwnerPassword+"\n", "login", s.URL, "--login", testkit.OwnerLogin, "--password-stdin", "--forget-trail"), 0, "Signed in")
	assert.NotContains(t, sh.Run(t, "", "trail", "verify").Stderr, "nothing that is read from it can be trusted")
}

func TestTheTrailIsFollowed(t *testing.T) {
	_, sh := loans(t)
	follower := sh.Start(t, "trail", "--follow", "--limit", "1", "--action", "change")
	for i := range 3 {
		sh.OK(t, "", "keep", "-s", "PAGE="+strconv.Itoa(i))
	}
	times := func() int {
		return len(regexp.MustCompile(`change\.commit +allowed +loans/live +PAGE`).FindAllString(follower.Output(), -1))
	}
	require.Eventually(t, func() bool { return times() == 3 }, 15*time.Second, 100*time.Millisecond, "each once: %s", follower.Output())
	time.Sleep(2500 * time.Millisecond)
	assert.Equal(t, 3, times(), "and none again")
	follower.Interrupt(t)
}

func TestTheTrailIsSentOverTLSToWhomTheCertificateIsOf(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "keep", "-s", "PAGE=9")
	certFile, keyFile, _ := testkit.Certificate(t)
	certificate, err := tls.LoadX509KeyPair(certFile, keyFile)
	require.NoError(t, err)
	plain := listening(t)
	messages := receive(t, tls.NewListener(plain, &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}))
	args := []string{"trail", "export", "--format", "syslog", "--action", "change", "--send", "tls://" + plain.Addr().String()}
	sh.Env = append(sh.Env, "SSL_CERT_FILE="+certFile)
	sh.OK(t, "", args...)
	got := messages()
	require.Len(t, got, 1)
	assert.Contains(t, got[0], "change.commit")

	other := listening(t)
	unknown := receive(t, tls.NewListener(other, &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}))
	sh.Env = sh.Env[:len(sh.Env)-1]
	args[len(args)-1] = "tls://" + other.Addr().String()
	says(t, sh.Run(t, "", args...), 5, "cannot be reached", "certificate")
	assert.Empty(t, unknown(), "nothing is sent to one whom nobody vouches for")
}
