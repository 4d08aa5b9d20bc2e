package command_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var ctx = context.Background()

// loans is a service with a project, and a shell that is signed in to it.
func loans(t *testing.T) (*testkit.Service, *testkit.Shell) {
	t.Helper()
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	for _, e := range []string{"local", "live"} {
		_, err = owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: e})
		require.NoError(t, err)
	}
	sh := testkit.NewShell(t, testkit.Folder(t))
	sh.SignIn(t, s)
	sh.Env = []string{"ADYTUM_PROJECT=loans", "ADYTUM_ENVIRONMENT=live"}
	return s, sh
}

func TestSigningInAndOut(t *testing.T) {
	s := testkit.Start(t)
	sh := testkit.NewShell(t, testkit.Folder(t))
	r := sh.Run(t, "", "whoami")
	assert.Equal(t, 4, r.Code)
	assert.Equal(t, "adytum: not signed in; run \"adytum login URL\"\n", r.Stderr)

	r = sh.Run(t, "not the password\n", "login", s.URL, "--login", testkit.OwnerLogin, "--password-stdin")
	assert.Equal(t, 4, r.Code)
	assert.Equal(t, "adytum: the name, the password or the code is wrong\n", r.Stderr)
	r = sh.Run(t, testkit.OwnerPassword+"\n", "login", s.URL, "--login", testkit.OwnerLogin)
	assert.Equal(t, 2, r.Code, "a prompt needs a terminal")
	assert.Contains(t, r.Stderr, "--password-stdin")

	sh.SignIn(t, s)
	session := filepath.Join(homeOf(t, sh), ".local/state/adytum/session.json")
	info, err := os.Stat(session)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, sh.OK(t, "", "whoami").Stdout, "Ines Okafor (person ines@fernhollow.example) at "+s.URL)

	sh.Env = []string{"ADYTUM_URL=http://127.0.0.1:1"}
	r = sh.Run(t, "", "whoami")
	assert.Equal(t, 4, r.Code, "a token goes to the origin that issued it alone")
	assert.Contains(t, r.Stderr, "adytum login http://127.0.0.1:1")
	sh.Env = nil

	require.NoError(t, os.Chmod(session, 0o644))
	assert.Contains(t, sh.Run(t, "", "whoami").Stderr, "can be read by others")
	require.NoError(t, os.Chmod(session, 0o600))

	sh.OK(t, "", "logout")
	assert.NoFileExists(t, session)
	assert.Equal(t, 4, sh.Run(t, "", "whoami").Code)
}

func homeOf(t *testing.T, sh *testkit.Shell) string {
	t.Helper()
	return strings.TrimSpace(sh.Exec(t, "", "sh", "-c", "echo $HOME").Stdout)
}

func TestATokenThatEndedAndAServiceThatIsAway(t *testing.T) {
	s, sh := loans(t)
	var kept struct{ Token string }
	content, err := os.ReadFile(filepath.Join(homeOf(t, sh), ".local/state/adytum/session.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(content, &kept))
	c, err := client.New(s.URL)
	require.NoError(t, err)
	c.UseToken(kept.Token)
	require.NoError(t, c.SignOut(ctx))
	r := sh.Run(t, "", "list")
	assert.Equal(t, 4, r.Code)
	assert.Contains(t, r.Stderr, "not signed in, or no longer")
	r = sh.Run(t, "", "supply", "--expand", "X", "--", "true")
	assert.Equal(t, 125, r.Code)

	sh.SignIn(t, s)
	s.Stop()
	r = sh.Run(t, "", "list")
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Stderr, "cannot be reached at "+s.URL)
	testkit.Write(t, sh.Folder, ".env", "A=adytum:KEY\n")
	r = sh.Run(t, "", "supply", "--", "echo", "started")
	assert.Equal(t, 5, r.Code)
	assert.NotContains(t, r.Stdout, "started")
}

func TestKeepTakesNoValueAsAnArgument(t *testing.T) {
	_, sh := loans(t)
	for _, args := range [][]string{{"keep", "KEY=hunter2-value"}, {"keep", "A", "KEY=hunter2-value"}} {
		r := sh.Run(t, "", args...)
		assert.Equal(t, 2, r.Code)
		assert.Contains(t, r.Stderr, "--stdin or --from-file")
		assert.NotContains(t, r.Stderr, "hunter2", "the message does not repeat it")
	}
	assert.Contains(t, sh.Run(t, "", "list").Stderr, "no entries yet", "nothing was kept")
	r := sh.Run(t, "", "keep", "KEY")
	assert.Equal(t, 2, r.Code)
	assert.Contains(t, r.Stderr, "the value of KEY is asked for on a terminal")
	assert.Equal(t, 1, sh.Run(t, "", "keep", "KEY", "--stdin").Code, "an empty value")
	assert.Equal(t, 2, sh.Run(t, "x", "keep", "A", "B", "--stdin").Code, "two names, one value")
	assert.Equal(t, 2, sh.Run(t, "", "keep").Code)
	assert.Equal(t, 2, sh.Run(t, "", "keep", "--setting", "NOVALUE").Code)
}

func TestKeepListShowValueHistory(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "first\n", "keep", "KEY", "--stdin", "--because", "a start", "--setting", "HOST=db=1,2", "-s", "PORT=5432")
	testkit.Write(t, sh.Folder, "binary", "\x00\xffbytes\n")
	sh.OK(t, "", "keep", "BINARY", "--from-file", "binary")
	sh.OK(t, "second", "keep", "KEY", "--stdin", "--because", "it leaked")
	assert.Equal(t, "second", sh.OK(t, "", "value", "KEY").Stdout)
	assert.Equal(t, "\x00\xffbytes\n", sh.OK(t, "", "value", "BINARY").Stdout, "byte for byte")
	assert.Equal(t, "db=1,2", sh.OK(t, "", "value", "HOST").Stdout)

	r := sh.OK(t, "", "list")
	assert.Contains(t, r.Stdout, "KEY     secret   (withheld)  here  2")
	assert.Contains(t, r.Stdout, "HOST    setting  db=1,2")
	assert.NotContains(t, r.Stdout, "second")
	var entries []wire.Entry
	require.NoError(t, json.Unmarshal([]byte(sh.OK(t, "", "list", "-o", "json").Stdout), &entries))
	assert.Len(t, entries, 4)
	assert.Len(t, strings.Split(strings.TrimSpace(sh.OK(t, "", "list", "-o", "jsonl").Stdout), "\n"), 4)
	assert.Contains(t, sh.OK(t, "", "show", "KEY").Stdout, "adytum:loans/live/KEY")
	h := sh.OK(t, "", "history", "KEY").Stdout
	assert.Regexp(t, `2 +active +secret .* it leaked\n1 +superseded +secret .* a start`, h)
	assert.Contains(t, sh.OK(t, "", "changes").Stdout, "KEY replaced")
	sh.OK(t, "", "remove", "PORT")
	r = sh.Run(t, "", "value", "PORT")
	assert.Equal(t, 1, r.Code)
	r = sh.Run(t, "", "show", "KEYS")
	assert.Equal(t, 1, r.Code)
	assert.Equal(t, "adytum: KEYS is not set in loans/live; did you mean KEY?\n", r.Stderr)
	r = sh.Run(t, "", "keep", "--setting", "9=x", "--setting", "ADYTUM_X=y", "--setting", "key=z")
	assert.Equal(t, 1, r.Code)
	for _, want := range []string{"3 things are wrong", `"9" is not a name`, "ADYTUM_X is reserved", "key differs from KEY"} {
		assert.Contains(t, r.Stderr, want)
	}
}

func TestWrongUsageSaysWhatToDo(t *testing.T) {
	_, sh := loans(t)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"kep"}, "there is no command \"kep\""}, {[]string{"list", "--colour"}, "--help"}, {[]string{"show"}, "adytum show NAME"},
		{[]string{"list", "-o", "xml"}, `there is no output "xml"; there are table, json, jsonl`}, {[]string{"grant", "add", "editor"}, "--person LOGIN or --workload NAME"},
		{[]string{"supply"}, "adytum supply -- COMMAND"}, {[]string{"login", "ftp://x"}, "is not a service's address"}, {[]string{"login", "http://store.fernhollow.example"}, "plain HTTP is accepted on loopback alone"},
		{[]string{"list", "--layer", "moon"}, "there are environment, project and organization"}, {[]string{"project", "ad"}, `there is no command "project ad"`},
	} {
		r := sh.Run(t, "", c.args...)
		assert.Equal(t, 2, r.Code, "%v: %s", c.args, r.Stderr)
		assert.Contains(t, r.Stderr, c.says, "%v", c.args)
		assert.Len(t, strings.Split(strings.TrimSpace(r.Stderr), "\n"), 1, "one sentence: %s", r.Stderr)
	}
}

func TestManaging(t *testing.T) {
	s, sh := loans(t)
	sh.OK(t, "", "project", "add", "notices")
	sh.OK(t, "", "environment", "add", "-p", "notices", "staging")
	sh.OK(t, "", "environment", "add", "-p", "notices", "preview", "--follows", "staging")
	assert.Regexp(t, `preview +staging`, sh.OK(t, "", "environment", "list", "-p", "notices").Stdout)
	assert.Regexp(t, `notices +staging, preview`, sh.OK(t, "", "project", "list").Stdout)
	assert.Contains(t, sh.Run(t, "", "project", "add", "notices").Stderr, "already")
	assert.Contains(t, sh.Run(t, "", "project", "add", "Bad Name").Stderr, "lower-case letters")
	sh.OK(t, "a long enough password\n", "person", "add", "priya@fernhollow.example", "Priya Vantongeren", "--password-stdin")
	assert.Contains(t, sh.Run(t, "short\n", "person", "add", "abel@fernhollow.example", "Abel", "--password-stdin").Stderr, "shorter than 15")
	assert.Contains(t, sh.OK(t, "", "person", "list").Stdout, "Priya Vantongeren")
	sh.OK(t, "", "grant", "add", "consumer", "--person", "priya@fernhollow.example", "-p", "loans", "-e", "live")
	assert.Contains(t, sh.Run(t, "", "grant", "add", "consumr", "--person", "priya@fernhollow.example", "-p", "loans").Stderr, "did you mean consumer?")
	assert.Contains(t, sh.OK(t, "", "grant", "list").Stdout, "priya@fernhollow.example")
	assert.Contains(t, sh.Run(t, "", "grant", "remove", "1").Stderr, "last owner")
	sh.OK(t, "", "grant", "remove", "2")

	var w wire.Workload
	require.NoError(t, json.Unmarshal([]byte(sh.OK(t, "", "workload", "add", "loans-server", "-o", "json").Stdout), &w))
	sh.OK(t, "", "grant", "add", "consumer", "--workload", "loans-server", "-p", "loans", "-e", "live")
	sh.OK(t, "", "keep", "--setting", "HOST=db")
	program := testkit.NewShell(t, sh.Folder)
	testkit.Write(t, sh.Folder, "client-secret", w.ClientSecret+"\n")
	program.Env = []string{"ADYTUM_URL=" + s.URL, "ADYTUM_CLIENT_ID=" + w.ClientID, "ADYTUM_CLIENT_SECRET_FILE=client-secret", "ADYTUM_PROJECT=loans", "ADYTUM_ENVIRONMENT=live"}
	assert.Equal(t, "db", program.OK(t, "", "value", "HOST").Stdout)
	assert.Equal(t, 4, program.Run(t, "", "workload", "list").Code)
	program.Env[2] = "ADYTUM_CLIENT_SECRET=wrong"
	r := program.Run(t, "", "value", "HOST")
	assert.Equal(t, 4, r.Code)
	assert.Contains(t, r.Stderr, "the client id or the client secret is wrong")
	assert.Contains(t, sh.OK(t, "", "trail").Stdout, "loans-server")
	assert.Contains(t, sh.OK(t, "", "trail", "verify").Stderr, "The trail is whole")
}
