package command_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/needs"
	"adytum.example/internal/testkit"
)

const needsYAML = `project: loans
needs:
  DATABASE_URL:
    value: postgres://loans:{adytum:DB_PASSWORD?as=url}@{adytum:DB_HOST}/loans
  QUILLPOST_KEY: {secret: true}
  PAGE_SIZE: {type: integer, range: 1..200, default: 25}
  SHOW_TRACEBACKS: {type: boolean, default: false, allowed-in: {live: [false]}}
  OPTIONAL: {required: false}
`

func TestSupplyGivesAProgramWhatItNeedsAndNothingOfItsOwn(t *testing.T) {
	s, sh := loans(t)
	testkit.Write(t, sh.Folder, needs.FileName, needsYAML)
	testkit.Write(t, sh.Folder, ".env", "GREETING='hello there'\nFROM_DOTENV=adytum:DB_HOST\nPAGE_SIZE=99\n")
	sh.OK(t, "p@ss/word", "keep", "DB_PASSWORD", "--stdin", "--setting", "DB_HOST=db", "--setting", "SHOW_TRACEBACKS=No")
	sh.OK(t, "line one\nline two", "keep", "QUILLPOST_KEY", "--stdin")
	sh.Env = append(sh.Env, "UNTOUCHED=adytum:DB_PASSWORD", "EXPANDED=x-{adytum:DB_HOST}", "QUILLPOST_KEY=older", "ADYTUM_URL="+s.URL)
	got := func(name string) string {
		return sh.OK(t, "", "supply", "--expand", "EXPANDED", "--", "sh", "-c", "printf %s \"$"+name+"\"").Stdout
	}
	assert.Equal(t, "postgres://loans:p%40ss%2Fword@db/loans", got("DATABASE_URL"))
	assert.Equal(t, "line one\nline two", got("QUILLPOST_KEY"), "supplied values replace those of the same name")
	assert.Equal(t, "99", got("PAGE_SIZE"), "a setting that the dotenv file has and the store has not")
	assert.Equal(t, "false", got("SHOW_TRACEBACKS"), "a boolean has one form")
	assert.Equal(t, "", got("OPTIONAL"))
	assert.Equal(t, "hello there", got("GREETING"))
	assert.Equal(t, "db", got("FROM_DOTENV"))
	assert.Equal(t, "adytum:DB_PASSWORD", got("UNTOUCHED"), "what an outsider can put into the environment asks for nothing")
	assert.Equal(t, "x-db", got("EXPANDED"))
	assert.Empty(t, sh.OK(t, "", "supply", "--expand", "EXPANDED", "--", "sh", "-c", "env | grep ^ADYTUM_ || true").Stdout)
	assert.Contains(t, sh.OK(t, "", "check").Stderr, "All 5 needs are ready in loans/live.")
}

func TestSupplyEndsAsItsProgramEnds(t *testing.T) {
	_, sh := loans(t)
	testkit.Write(t, sh.Folder, ".env", "A=1\n")
	testkit.Write(t, sh.Folder, "plain", "not a program")
	for command, code := range map[string]int{"exit 0": 0, "exit 7": 7, "kill -TERM $$": 143, "kill -KILL $$": 137} {
		assert.Equal(t, code, sh.Run(t, "", "supply", "--", "sh", "-c", command).Code, command)
	}
	r := sh.Run(t, "", "supply", "--", "no-such-program")
	assert.Equal(t, 127, r.Code)
	assert.Contains(t, r.Stderr, "there is no program no-such-program in PATH")
	assert.Equal(t, 127, sh.Run(t, "", "supply", "--", "./none").Code)
	assert.Equal(t, 126, sh.Run(t, "", "supply", "--", "./plain").Code)
	assert.Equal(t, "from standard input", sh.Run(t, "from standard input", "supply", "--", "cat").Stdout)
	// Signals reach the program, and its own answer to them counts.
	script := "adytum() { " + testkit.Program(t, "adytum") + ` "$@"; }; adytum supply -- sh -c 'trap "echo heard; exit 9" TERM; echo ready >&2; while :; do sleep 0.05; done' & sleep 1; kill -TERM $(pgrep -P $!) 2>/dev/null || kill -TERM $!; wait $!; echo $?`
	r = sh.Exec(t, "", "bash", "-c", script)
	assert.Equal(t, "heard\n9\n", r.Stdout)
}

func TestAProgramIsNotStartedUnlessAllIsWell(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "value-of-the-key", "keep", "QUILLPOST_KEY", "--stdin", "--setting", "PAGE_SIZE=1000", "--setting", "SHOW_TRACEBACKS=on", "--setting", "DB_HOST=db")
	notStarted := func(code int, says ...string) {
		t.Helper()
		r := sh.Run(t, "", "supply", "--", "echo", "started anyway")
		assert.Equal(t, code, r.Code, r.Stderr)
		assert.Empty(t, r.Stdout)
		for _, text := range says {
			assert.Contains(t, r.Stderr, text)
		}
		assert.NotContains(t, r.Stderr, "value-of-the-key")
	}
	notStarted(2, "nothing says what the program needs")
	testkit.Write(t, sh.Folder, needs.FileName, needsYAML+"  QUILPOST_KEY: {}\n")
	notStarted(125, "DB_PASSWORD is not set in loans/live", "QUILPOST_KEY is not set in loans/live; did you mean QUILLPOST_KEY?")
	testkit.Write(t, sh.Folder, needs.FileName, strings.Replace(needsYAML, "{adytum:DB_PASSWORD?as=url}", "x", 1))
	notStarted(125, "PAGE_SIZE (adytum-needs.yaml:6) is outside its range 1..200", "SHOW_TRACEBACKS (adytum-needs.yaml:7) has a value that is not allowed in live")
	r := sh.Run(t, "", "check")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Stdout, "PAGE_SIZE (adytum-needs.yaml:6) is outside its range")
	assert.Contains(t, r.Stderr, "2 of 5 needs are not ready in loans/live")
	testkit.Write(t, sh.Folder, needs.FileName, "project: loans\nneeds:\n  A: {value: 'x{adytum:9}'}\n  B: {typ: integer}\n")
	notStarted(125, needs.FileName+":3:14: A: the reference has '9' at character 10", "did you mean type?")
	testkit.Write(t, sh.Folder, needs.FileName, "project: loans\nneeds: {}\n")
	testkit.Write(t, sh.Folder, ".env", "GOOD=1\nOPEN=\"never\n")
	notStarted(125, ".env:2:6: the value of OPEN opens with")
	testkit.Write(t, sh.Folder, ".env", "LD_PRELOAD=./evil.so\nADYTUM_URL=http://127.0.0.1:1\nA=adytum:loans/live/DB_HOST/x\n")
	notStarted(125, "LD_PRELOAD steers", "ADYTUM_URL steers", ".env:3: A: the reference has '/' at character")
	testkit.Write(t, sh.Folder, ".env", "A=adytum:other/live/KEY\n")
	notStarted(125, `there is no project "other"`)
	assert.Equal(t, 125, sh.Run(t, "", "supply", "--expand", "UNSET", "--", "true").Code)
}

func TestAdoptMovesSecretsAndLeavesReferences(t *testing.T) {
	_, sh := loans(t)
	const before = "# ours\r\nDB_PASSWORD=\"Zk3vQ9sLw2Xc7Bn5\" # keep\r\nexport PAGE_SIZE=25\r\nQUILLPOST_KEY='qpst_0a1b2c3d4e5f6g7h8i9j0k1l2m3n4o5p'\r\n"
	testkit.Write(t, sh.Folder, "app.env", before)
	require.NoError(t, os.Chmod(filepath.Join(sh.Folder, "app.env"), 0o640))
	r := sh.OK(t, "", "adopt", "app.env", "--dry-run")
	assert.Contains(t, r.Stderr, "DB_PASSWORD=[withheld] is kept and becomes DB_PASSWORD=adytum:DB_PASSWORD")
	assert.Contains(t, r.Stderr, "PAGE_SIZE stays")
	read := func() string {
		content, err := os.ReadFile(filepath.Join(sh.Folder, "app.env"))
		require.NoError(t, err)
		return string(content)
	}
	assert.Equal(t, before, read(), "a dry run does nothing")
	r = sh.OK(t, "", "adopt", "app.env")
	assert.NotContains(t, r.Stdout+r.Stderr, "Zk3vQ9sLw2Xc7Bn5")
	assert.Equal(t, "# ours\r\nDB_PASSWORD=\"adytum:DB_PASSWORD\" # keep\r\nexport PAGE_SIZE=25\r\nQUILLPOST_KEY='adytum:QUILLPOST_KEY'\r\n", read())
	info, err := os.Stat(filepath.Join(sh.Folder, "app.env"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.Equal(t, "Zk3vQ9sLw2Xc7Bn5", sh.OK(t, "", "value", "DB_PASSWORD").Stdout)
	assert.Contains(t, sh.OK(t, "", "adopt", "app.env").Stderr, "nothing is to be done")

	testkit.Write(t, sh.Folder, "same.env", "DB_PASSWORD=Zk3vQ9sLw2Xc7Bn5\n")
	assert.Contains(t, sh.OK(t, "", "adopt", "same.env").Stderr, "is in the store already")
	assert.NotContains(t, sh.OK(t, "", "history", "DB_PASSWORD").Stdout, "\n2 ", "no new version of the same value")
	testkit.Write(t, sh.Folder, "other.env", "DB_PASSWORD=Another9Value3Here\n")
	r = sh.Run(t, "", "adopt", "other.env")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "DB_PASSWORD has another value in loans/live than in the file")
	sh.OK(t, "", "adopt", "other.env", "--replace")
	assert.Equal(t, "Another9Value3Here", sh.OK(t, "", "value", "DB_PASSWORD").Stdout)

	require.NoError(t, os.Symlink("app.env", filepath.Join(sh.Folder, "link.env")))
	assert.Contains(t, sh.Run(t, "", "adopt", "link.env").Stderr, "not a regular file")
}

func TestSweepCodesAndReports(t *testing.T) {
	sh := testkit.NewShell(t, testkit.Folder(t))
	testkit.Write(t, sh.Folder, "app.conf", "db_password = Zk3vQ9sLw2Xc7Bn5\n")
	r := sh.Run(t, "", "sweep", "tree")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Stdout, "app.conf:1:15")
	assert.NotContains(t, r.Stdout, "Zk3vQ9sLw2Xc7Bn5")
	for _, output := range []string{"json", "sarif", "text"} {
		r = sh.Run(t, "", "sweep", "tree", ".", "--output", output, "--to", filepath.Join("..", filepath.Base(sh.Folder)+"."+output))
		assert.Equal(t, 3, r.Code)
		assert.Empty(t, r.Stdout)
		path := sh.Folder + "." + output
		t.Cleanup(func() { _ = os.Remove(path) })
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.NotContains(t, string(content), "Zk3vQ9sLw2Xc7Bn5")
		assert.Contains(t, string(content), "app.conf")
	}
	testkit.Write(t, sh.Folder, "app.conf", "db_password = adytum:DB_PASSWORD\n")
	assert.Equal(t, 0, sh.Run(t, "", "sweep", "tree").Code)
	r = sh.Run(t, "", "sweep", "history")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "not a git repository")
	assert.Equal(t, 1, sh.Run(t, "", "sweep", "tree", "none").Code)
	assert.Contains(t, sh.Run(t, "", "rules").Stdout, "private-key")
	assert.Contains(t, sh.Run(t, "", "rules", "private-key").Stdout, "what to do")
	assert.Contains(t, sh.Run(t, "", "rules", "private-kay").Stderr, "did you mean private-key?")
}
