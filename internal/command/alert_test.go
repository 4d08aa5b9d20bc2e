package command_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func TestAlertsChannelsAndDecoysAtTheTerminal(t *testing.T) {
	s, sh := loans(t)
	says(t, sh.OK(t, "", "alert", "list"), 0, "There are no alerts that nobody has looked at.")
	says(t, sh.OK(t, "", "channel", "list"), 0, "Alerts are kept and sent nowhere")
	says(t, sh.OK(t, "", "decoy", "list"), 0, "There are no decoys that you manage.")
	sh.OK(t, "one two three four", "keep", "OLD_KEY", "--stdin")
	says(t, sh.OK(t, "", "decoy", "add", "OLD_KEY"), 0, "It is decoy 1", "raises an alert")
	assert.Regexp(t, `1\s+OLD_KEY\s+loans/live`, sh.OK(t, "", "decoy", "list").Stdout)
	sh.OK(t, "", "value", "OLD_KEY")
	require.Eventually(t, func() bool {
		return s.SQL(t, "SELECT FROM alerts") == 1
	}, 10*time.Second, 50*time.Millisecond)
	assert.Regexp(t, `1\s+\S+ \S+\s+decoy\s+Ines Okafor\s+loans/live\s+the decoy OLD_KEY was obtained\s+127\.0\.0\.1`, sh.OK(t, "", "alert", "list").Stdout)
	says(t, sh.OK(t, "", "alert", "see", "1", "--because", "it was a drill"), 0, "Noted that you have looked at it.")
	says(t, sh.OK(t, "", "alert", "list"), 0, "There are no alerts that nobody has looked at.")
	assert.Contains(t, sh.OK(t, "", "alert", "list", "--all").Stdout, "Ines Okafor")
	says(t, sh.Run(t, "", "alert", "see", "1"), 1, "there is no alert 1 that is open")
	says(t, sh.Run(t, "", "alert", "see", "one"), 2, `"one" is no alert's number`)
	says(t, sh.OK(t, "", "channel", "add", "mail", "desk@fernhollow.example"), 0, "Alerts go to desk@fernhollow.example from now on")
	says(t, sh.Run(t, "", "channel", "test", "1"), 1, "no mail server is configured")
	assert.Contains(t, sh.OK(t, "", "channel", "list").Stdout, "desk@fernhollow.example")
	says(t, sh.OK(t, "", "channel", "remove", "1"), 0, "no more")
	hook := sh.Run(t, "", "channel", "add", "webhook", "http://127.0.0.1:1/hook-hunter2")
	says(t, hook, 2, "arguments show in process lists")
	assert.NotContains(t, hook.Stderr, "hunter2")
	says(t, sh.OK(t, "http://127.0.0.1:1/hook-hunter2\n", "channel", "add", "webhook", "--stdin"), 0, "Requests are signed (RFC 9421)", "Alerts go to http://127.0.0.1:1 from now on")
	assert.NotContains(t, sh.OK(t, "", "channel", "list").Stdout, "hunter2")
	says(t, sh.Run(t, "", "channel", "add", "mail"), 2, "name the mail address")
	says(t, sh.Run(t, "", "channel", "add", "mail", "desk"), 1, "the mail address is not one")
	says(t, sh.Run(t, "", "decoy", "add"), 2, "name either an entry, or a workload")
	says(t, sh.OK(t, "", "decoy", "remove", "1"), 0, "It is no decoy any more.")
	says(t, sh.Run(t, "", "decoy", "remove", "1"), 1, "there is no decoy 1")
}

func TestADeviceIsLetInFromTheTerminal(t *testing.T) {
	s := testkit.Start(t)
	sh := testkit.NewShell(t, testkit.Folder(t))
	r := sh.Start(t, "login", s.URL, "--device")
	code := ""
	require.Eventually(t, func() bool {
		code = deviceCode.FindString(r.Output())
		return code != ""
	}, 10*time.Second, 20*time.Millisecond)
	assert.Contains(t, r.Output(), s.URL+"/device")
	require.NoError(t, s.Owner(t).AnswerDevice(ctx, answerOf(code, true)))
	require.Eventually(t, func() bool { return sh.Run(t, "", "whoami").Code == 0 }, 20*time.Second, 200*time.Millisecond, "%s", r.Output())
	assert.Contains(t, r.Output(), "Signed in to "+s.URL+" as Ines Okafor")

	// The sign-in goes on by itself when its token ends.
	s.Later(50 * time.Minute)
	setSessionEnd(t, sh, time.Now().Add(-time.Minute))
	says(t, sh.OK(t, "", "whoami"), 0)
	before := sh.Exec(t, "", "sh", "-c", "cat $HOME/.local/state/adytum/session.json").Stdout
	says(t, sh.OK(t, "", "whoami"), 0)
	assert.Equal(t, before, sh.Exec(t, "", "sh", "-c", "cat $HOME/.local/state/adytum/session.json").Stdout, "not before it has to")
	sh.OK(t, "", "logout")
	assert.Equal(t, 4, sh.Run(t, "", "whoami").Code)

	denied := sh.Start(t, "login", s.URL, "--device")
	require.Eventually(t, func() bool {
		code = deviceCode.FindString(denied.Output())
		return code != ""
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, s.Owner(t).AnswerDevice(ctx, answerOf(code, false)))
	require.Eventually(t, func() bool { return denied.Ended() }, 20*time.Second, 100*time.Millisecond)
	assert.Contains(t, denied.Output(), "did not let this device in")
}

func TestProvidersAtTheTerminal(t *testing.T) {
	s, sh := loans(t)
	p := testkit.NewProvider(t)
	says(t, sh.OK(t, "", "provider", "list"), 0, "People sign in with passwords alone.")
	says(t, sh.OK(t, p.ClientSecret, "provider", "add", "fernhollow", "--url", p.URL, "--client-id", p.ClientID, "--client-secret-stdin"), 0, "People can sign in through fernhollow", s.URL+"/api/v1/console/callback")
	assert.Contains(t, sh.OK(t, "", "provider", "list").Stdout, p.URL)
	says(t, sh.OK(t, "", "person", "add", "noor@fernhollow.example", "Noor Castellane", "--provider", "fernhollow"), 0, "Noor Castellane can sign in through fernhollow")
	assert.Regexp(t, `noor@fernhollow.example\s+Noor Castellane\s+fernhollow`, sh.OK(t, "", "person", "list").Stdout)
	says(t, sh.Run(t, "", "person", "add", "x@fernhollow.example", "X", "--provider", "fernhollow", "--invite"), 2, "neither an invitation nor a password")
	says(t, sh.OK(t, "", "provider", "remove", "fernhollow"), 0, "who did is signed out")
	says(t, sh.Run(t, "", "provider", "remove", "fernhollow"), 1, `there is no provider "fernhollow"`)
}

var deviceCode = regexp.MustCompile(`[BCDFGHJKLMNPQRSTVWXZ]{4}-[BCDFGHJKLMNPQRSTVWXZ]{4}`)

func answerOf(code string, allowed bool) wire.DeviceAnswer {
	return wire.DeviceAnswer{Code: code, Allowed: allowed}
}

// setSessionEnd makes the device believe that its token ends at a moment.
func setSessionEnd(t *testing.T, sh *testkit.Shell, end time.Time) {
	t.Helper()
	path := filepath.Join(homeOf(t, sh), ".local/state/adytum/session.json")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	var session map[string]any
	require.NoError(t, json.Unmarshal(content, &session))
	session["expiresAt"] = end
	content, err = json.Marshal(session)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, content, 0o600))
}
