package command_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

func TestTeamsRolesAndLimits(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "one two three four", "keep", "DB_PASSWORD", "--stdin")
	sh.OK(t, "", "person", "add", "priya@fernhollow.example", "Priya Vantongeren", "--invite")
	says(t, sh.OK(t, "", "team", "list"), 0, "There are no teams yet")
	sh.OK(t, "", "team", "add", "desk")
	sh.OK(t, "", "team", "join", "desk", "priya@fernhollow.example")
	assert.Regexp(t, `desk +priya@fernhollow.example`, sh.OK(t, "", "team", "list").Stdout)
	says(t, sh.Run(t, "", "team", "join", "desk", "priya@fernhollow.example"), 1, "is in the team desk already")
	says(t, sh.Run(t, "", "team", "join", "dsk", "priya@fernhollow.example"), 1, `there is no team "dsk"; did you mean desk?`)
	says(t, sh.OK(t, "", "role", "define", "rotator", "write", "list"), 0, "The role rotator may list, write.")
	says(t, sh.Run(t, "", "role", "define", "rotator", "rite"), 1, `"rite" is no verb; there are list, read`)
	assert.Regexp(t, `rotator +list, write +your organization`, sh.OK(t, "", "role", "list").Stdout)

	args := []string{"grant", "add", "rotator", "--team", "desk", "-p", "loans", "-e", "live", "--names", "DB_*", "--until", "30d", "--from", "192.0.2.0/24"}
	says(t, sh.OK(t, "", append(args, "--dry-run")...), 0, "It would newly allow:", "Priya Vantongeren", "loans/live", "list, write", "Nothing was granted.")
	assert.NotContains(t, sh.OK(t, "", "grant", "list").Stdout, "rotator")
	says(t, sh.OK(t, "", args...), 0, "desk is rotator in loans/live", "names DB_*; from 192.0.2.0/24; until ")
	assert.Regexp(t, `desk +team +rotator +loans/live +names DB_\*`, sh.OK(t, "", "grant", "list").Stdout)
	says(t, sh.Run(t, "", "grant", "add", "rotator", "--team", "desk", "--person", "x", "-p", "loans"), 2, "name one: --person LOGIN or --workload NAME or --team NAME")
	says(t, sh.Run(t, "", "grant", "add", "consumer", "--team", "desk", "-p", "loans", "--until", "soon"), 2, `"soon" is no time`)
	says(t, sh.Run(t, "", "grant", "add", "consumer", "--team", "desk", "-p", "loans", "--from", "10.0.0.1/8", "--names", "a-b"), 1, "10.0.0.0/8 was probably meant", "pattern of names is none")

	assert.Regexp(t, `Priya Vantongeren +list, write +rotator in loans/live, through the team desk \(grant \d+\) +names DB_\*`, sh.OK(t, "", "explain", "DB_PASSWORD").Stdout)
	assert.NotContains(t, sh.OK(t, "", "explain", "KEY").Stdout, "Priya")
	assert.Regexp(t, `loans/live +list, write`, sh.OK(t, "", "explain", "--person", "priya@fernhollow.example").Stdout)
	says(t, sh.OK(t, "", "explain", "--person", "priya@fernhollow.example", "--obtained"), 0, "has obtained 0 secrets")
	sh.OK(t, "", "value", "DB_PASSWORD")
	require.Eventually(t, func() bool {
		return strings.Contains(sh.OK(t, "", "explain", "--person", testkit.OwnerLogin, "--obtained").Stdout, "in force  DB_PASSWORD  loans/live  1")
	}, 5*time.Second, 50*time.Millisecond)
	says(t, sh.Run(t, "", "explain", "--obtained"), 2, "who obtained it?")
	says(t, sh.Run(t, "", "team", "remove", "desk"), 2, "--yes")
	sh.OK(t, "", "team", "remove", "desk", "--yes")
	assert.NotContains(t, sh.OK(t, "", "grant", "list").Stdout, "rotator")
	sh.OK(t, "", "role", "remove", "rotator")
}

func TestFreezing(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "one two three four", "keep", "KEY", "--stdin")
	says(t, sh.OK(t, "", "freeze"), 0, "Nothing is frozen.")
	says(t, sh.OK(t, "", "freeze", "--project", "loans", "--because", "an incident"), 0, "The project loans is frozen", "adytum thaw")
	says(t, sh.Run(t, "", "value", "KEY"), 4, "the project loans is frozen, so that nobody may read there")
	assert.Regexp(t, `project +loans`, sh.OK(t, "", "freeze").Stdout)
	says(t, sh.Run(t, "", "freeze", "--project", "loans"), 1, "is frozen already")
	says(t, sh.Run(t, "", "freeze", "--project", "loans", "--all"), 2, "name one thing")
	says(t, sh.Run(t, "", "thaw"), 2, "name one thing")
	sh.OK(t, "", "thaw", "--project", "loans")
	assert.Equal(t, "one two three four", sh.OK(t, "", "value", "KEY").Stdout)
	sh.OK(t, "", "freeze", "--all")
	says(t, sh.Run(t, "x", "keep", "KEY", "--stdin"), 4, "the organization is frozen")
	sh.OK(t, "", "thaw", "--all")
	says(t, sh.Run(t, "", "freeze", "--person", testkit.OwnerLogin), 1, "last owner")
}

func TestAPersonsWayInAndOut(t *testing.T) {
	s, sh := loans(t)
	const login, password = "priya@fernhollow.example", "a lantern above the harbour"
	invited := sh.OK(t, "", "person", "add", login, "Priya Vantongeren", "--invite")
	assert.Regexp(t, `^http://127\.0\.0\.1:\d+/welcome#adyt_i_`, invited.Stdout)
	assert.Regexp(t, `Priya Vantongeren +\d{4}-`, sh.OK(t, "", "person", "list").Stdout)
	hers := testkit.NewShell(t, testkit.Folder(t))
	says(t, hers.Run(t, invited.Stdout+"passwordpassword\n", "welcome", s.URL, "--stdin"), 1, "many people choose")
	says(t, hers.OK(t, invited.Stdout+password+"\n", "welcome", s.URL, "--stdin"), 0, "Welcome, Priya Vantongeren.", "--login "+login)
	says(t, hers.Run(t, invited.Stdout+password+"\n", "welcome", s.URL, "--stdin"), 4, "not valid, or not any more")
	signIn := func(password string, more ...string) testkit.Result {
		return hers.Run(t, password+"\n", append([]string{"login", s.URL, "--login", login, "--password-stdin"}, more...)...)
	}
	require.Equal(t, 0, signIn(password).Code)

	seed := strings.Split(hers.OK(t, "", "code", "add").Stdout, "\n")[0]
	at := time.Now()
	code := func(at time.Time) string {
		out, err := totp.GenerateCode(seed, at)
		require.NoError(t, err)
		return out
	}
	says(t, hers.Run(t, "", "code", "confirm", "000000"), 1, "clock")
	recovery := strings.Fields(hers.OK(t, "", "code", "confirm", code(at)).Stdout)
	require.Len(t, recovery, 10)
	says(t, signIn(password), 4, "the password or the code is wrong")
	require.Equal(t, 0, signIn(password, "--code", code(at.Add(30*time.Second))).Code)
	require.Equal(t, 0, signIn(password, "--code", recovery[0]).Code)
	says(t, signIn(password, "--code", recovery[0]), 4, "the code is wrong")

	assert.Len(t, strings.Split(strings.TrimSpace(hers.OK(t, "", "session", "list").Stdout), "\n"), 4)
	says(t, hers.Run(t, "", "session", "end"), 2, "which?")
	hers.OK(t, "", "session", "end", "--all")
	assert.Regexp(t, `127\.0\.0\.1 +this one`, hers.OK(t, "", "session", "list").Stdout)
	says(t, hers.Run(t, password+"\nfirst try\n", "password", "--stdin"), 1, "shorter than 15")
	hers.OK(t, password+"\ngravel teacup eleven moth\n", "password", "--stdin")

	reset := sh.OK(t, "", "person", "reset", login, "--yes")
	assert.Contains(t, reset.Stdout, "/welcome#adyt_i_")
	says(t, hers.Run(t, "", "whoami"), 4, "")
	hers.OK(t, reset.Stdout+password+"\n", "welcome", s.URL, "--stdin")
	require.Equal(t, 0, signIn(password).Code, "a reset takes the codes away too")
	says(t, sh.Run(t, "", "person", "remove", login), 2, "--yes")
	sh.OK(t, "", "person", "remove", login, "--yes")
	says(t, hers.Run(t, "", "whoami"), 4, "")
	assert.NotContains(t, sh.OK(t, "", "person", "list").Stdout, "Priya")
}

func TestClientSecretsOfAWorkload(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "workload", "add", "mailer")
	assert.Regexp(t, `^ADYTUM_CLIENT_SECRET=adyt_c_\w+\n$`, sh.OK(t, "", "workload", "add-secret", "mailer", "--days", "30").Stdout)
	r := sh.OK(t, "", "workload", "secrets", "mailer")
	assert.Len(t, strings.Split(strings.TrimSpace(r.Stdout), "\n"), 3)
	assert.NotContains(t, r.Stdout, "adyt_c_")
	says(t, sh.Run(t, "", "workload", "remove-secret", "mailer", "x"), 2, "no client secret's number")
	says(t, sh.Run(t, "", "workload", "remove-secret", "mailer", "99"), 1, "mailer has no client secret 99")
	says(t, sh.Run(t, "", "workload", "add-secret", "mailer", "--days", "0"), 2, "0 days cannot be asked for")
	says(t, sh.Run(t, "", "workload", "secrets", "mialer"), 1, "did you mean mailer?")
}

func TestAPipelineSignsInWithItsSignedToken(t *testing.T) {
	s, sh := loans(t)
	issuer := testkit.NewIssuer(t)
	sh.OK(t, "one two three four", "keep", "KEY", "--stdin")
	sh.OK(t, "", "workload", "add", "pipeline")
	sh.OK(t, "", "grant", "add", "consumer", "--workload", "pipeline", "-p", "loans", "-e", "live")
	says(t, sh.Run(t, "", "issuer", "add", "runner", issuer.URL+"/elsewhere"), 1, "is the address exactly what stands in its tokens")
	says(t, sh.Run(t, "", "issuer", "add", "runner", "http://runner.fernhollow.example"), 1, "it is not an https address")
	added := sh.OK(t, "", "issuer", "add", "runner", issuer.URL)
	audience := regexp.MustCompile(`adytum:\w+`).FindString(added.Stderr)
	require.NotEmpty(t, audience)
	assert.Contains(t, sh.OK(t, "", "issuer", "list").Stdout, audience)
	says(t, sh.Run(t, "", "workload", "trust", "pipeline", "--issuer", "runner", "--subject", "*"), 1, "would be everybody whom the issuer knows")
	says(t, sh.Run(t, "", "workload", "trust", "pipeline", "--issuer", "runner", "--subject", "repo:x", "--claim", "y"), 2, "NAME=VALUE")
	sh.OK(t, "", "workload", "trust", "pipeline", "--issuer", "runner", "--subject", "repo:fernhollow/loans:ref:*/*/*", "--claim", "repository_id=42")
	assert.Regexp(t, `runner +repo:fernhollow/loans:ref:\*/\*/\* +repository_id=42`, sh.OK(t, "", "workload", "trusts", "pipeline").Stdout)

	job := testkit.NewShell(t, testkit.Folder(t))
	write := func(subject string) {
		testkit.Write(t, job.Folder, "token", issuer.Sign(t, issuer.Claims(subject, audience), map[string]any{"repository_id": "42"})+"\n")
	}
	job.Env = []string{"ADYTUM_URL=" + s.URL, "ADYTUM_SIGNED_TOKEN_FILE=token", "ADYTUM_PROJECT=loans", "ADYTUM_ENVIRONMENT=live"}
	says(t, job.Run(t, "", "value", "KEY"), 1, "read ADYTUM_SIGNED_TOKEN_FILE")
	write("repo:fernhollow/notices:ref:refs/heads/main")
	says(t, job.Run(t, "", "value", "KEY"), 4, "the signed token is not accepted")
	write("repo:fernhollow/loans:ref:refs/heads/main")
	for range 3 { // a signed token is good once, and the commands of a job are many
		assert.Equal(t, "one two three four", job.OK(t, "", "value", "KEY").Stdout)
	}
	content, err := filepath.Glob(filepath.Join(homeOf(t, job), ".local/state/adytum/signed-*.json"))
	require.NoError(t, err)
	require.Len(t, content, 1)
	info, err := os.Stat(content[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	sh.OK(t, "", "issuer", "remove", "runner", "--yes")
	write("repo:fernhollow/loans:ref:refs/heads/main")
	says(t, job.Run(t, "", "value", "KEY"), 4, "is not accepted")
}

func TestAskingForARole(t *testing.T) {
	s, sh := loans(t)
	sh.OK(t, "one two three four", "keep", "KEY", "--stdin")
	invited := sh.OK(t, "", "person", "add", "priya@fernhollow.example", "Priya Vantongeren", "--invite")
	sh.OK(t, "", "grant", "add", "observer", "--person", "priya@fernhollow.example", "-p", "loans", "-e", "live")
	hers := testkit.NewShell(t, testkit.Folder(t))
	hers.Env = sh.Env
	hers.OK(t, invited.Stdout+"a lantern above the harbour\n", "welcome", s.URL, "--stdin")
	hers.OK(t, "a lantern above the harbour\n", "login", s.URL, "--login", "priya@fernhollow.example", "--password-stdin")
	says(t, hers.OK(t, "", "request", "list"), 0, "Nothing is asked for.")
	says(t, hers.OK(t, "", "request", "add", "consumer", "-p", "loans", "-e", "live", "--hours", "2", "--because", "the night shift"), 0, "Asked for (request 1)")
	says(t, hers.Run(t, "", "request", "add", "consumer", "-p", "loans", "--hours", "99"), 1, "hours")
	assert.Regexp(t, `1 +you +consumer +loans/live +2 +the night shift`, hers.OK(t, "", "request", "list").Stdout)
	says(t, hers.Run(t, "", "request", "grant", "1"), 4, "somebody else answers")
	says(t, hers.Run(t, "", "request", "grant", "one"), 2, "no request's number")
	assert.Regexp(t, `1 +Priya Vantongeren +consumer +loans/live`, sh.OK(t, "", "request", "list").Stdout)
	sh.OK(t, "", "request", "grant", "1")
	assert.Equal(t, "one two three four", hers.OK(t, "", "value", "KEY").Stdout)
	assert.Regexp(t, `consumer +loans/live +until`, sh.OK(t, "", "grant", "list").Stdout)
	hers.OK(t, "", "request", "add", "editor", "-p", "loans")
	sh.OK(t, "", "request", "decline", "2", "--because", "ask Tomasz")
	hers.OK(t, "", "request", "add", "editor", "-p", "loans")
	hers.OK(t, "", "request", "remove", "3")
	says(t, hers.Run(t, "", "request", "remove", "3"), 1, "you have no request 3")
}
