package command_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/needs"
	"adytum.example/internal/testkit"
)

func TestWhereACommandWorks(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "keep", "--setting", "WHERE=live")
	sh.OK(t, "", "keep", "--setting", "WHERE=local", "-e", "local")
	sh.OK(t, "", "keep", "--setting", "COMMON=project", "--layer", "project")
	sh.OK(t, "", "keep", "--setting", "WHOLE=organization", "--layer", "organization")
	assert.Equal(t, "live", sh.OK(t, "", "value", "WHERE").Stdout, "the environment's variable")
	assert.Equal(t, "local", sh.OK(t, "", "value", "WHERE", "-e", "local").Stdout, "an option is stronger")
	assert.Equal(t, "project", sh.OK(t, "", "value", "COMMON").Stdout)
	assert.Equal(t, "organization", sh.OK(t, "", "value", "WHOLE").Stdout)
	assert.Regexp(t, `COMMON +setting +project +here`, sh.OK(t, "", "list", "--layer", "project").Stdout)
	assert.Regexp(t, `WHOLE +setting +organization +here`, sh.OK(t, "", "list", "--layer", "organization").Stdout)
	sh.OK(t, "", "keep", "--nothing", "WHOLE")
	r := sh.Run(t, "", "value", "WHOLE")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "WHOLE is set to nothing in loans/live")
	assert.Contains(t, sh.OK(t, "", "changes", "--layer", "organization").Stdout, "WHOLE added")

	sh.Env = nil
	r = sh.Run(t, "", "list")
	assert.Equal(t, 2, r.Code)
	assert.Contains(t, r.Stderr, "adytum link PROJECT")
	testkit.Write(t, sh.Folder, needs.FileName, "project: loans\nneeds: {}\n")
	assert.Equal(t, "local", sh.OK(t, "", "value", "WHERE").Stdout, "the needs file's project, and local")
	require.NoError(t, os.MkdirAll(filepath.Join(sh.Folder, "a/b"), 0o755))
	top := sh.Folder
	sh.Folder = filepath.Join(top, "a/b")
	assert.Equal(t, "local", sh.OK(t, "", "value", "WHERE").Stdout, "from a folder below")
	testkit.Write(t, top, "a/"+needs.FileName, "project: none\nneeds: {}\n")
	assert.Contains(t, sh.Run(t, "", "value", "WHERE").Stderr, `no project "none"`, "the nearest counts")
	require.NoError(t, os.Remove(filepath.Join(top, "a", needs.FileName)))
	require.NoError(t, os.Mkdir(filepath.Join(top, "a", ".git"), 0o755))
	assert.Equal(t, 2, sh.Run(t, "", "value", "WHERE").Code, "not beyond the repository")
}

func TestTextFromOutsideNeverSteersATerminal(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "keep", "--setting", "EVIL=\x1b[2Jcleared\u202e", "-b", "\x1b]0;title\a")
	for _, args := range [][]string{{"list"}, {"show", "EVIL"}, {"history", "EVIL"}, {"changes"}, {"trail"}} {
		out := sh.OK(t, "", args...).Stdout
		assert.NotContains(t, out, "\x1b", args)
		assert.NotContains(t, out, "\a", args)
		assert.NotContains(t, out, "\u202e", args)
	}
	assert.Equal(t, "\x1b[2Jcleared\u202e", sh.OK(t, "", "value", "EVIL").Stdout, "the bare value is the bare value")
	r := sh.Run(t, "", "value", "\x1b[2J")
	assert.NotContains(t, r.Stderr, "\x1b")
	r = sh.Run(t, "", "\x1b[2J")
	assert.NotContains(t, r.Stderr, "\x1b")
}

func TestListsAsJSON(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "keep", "--setting", "A=1", "-b", "why")
	testkit.Write(t, sh.Folder, needs.FileName, "project: loans\nneeds:\n  A: {type: integer, about: how many}\n  B: {required: false}\n  C: {secret: true}\n")
	for _, args := range [][]string{{"list"}, {"changes"}, {"history", "A"}, {"needs"}, {"project", "list"}, {"environment", "list"}, {"person", "list"}, {"grant", "list"}, {"trail"}, {"rules"}} {
		var items []map[string]any
		require.NoError(t, json.Unmarshal([]byte(sh.OK(t, "", append(args, "-o", "json")...).Stdout), &items), args)
		assert.NotEmpty(t, items, args)
		lines := strings.Split(strings.TrimSpace(sh.OK(t, "", append(args, "-o", "jsonl")...).Stdout), "\n")
		for _, line := range lines {
			assert.True(t, json.Valid([]byte(line)), "%v: %s", args, line)
		}
	}
	for _, args := range [][]string{{"whoami"}, {"show", "A"}, {"trail", "verify"}} {
		assert.True(t, json.Valid([]byte(sh.OK(t, "", append(args, "-o", "json")...).Stdout)), args)
	}
	var states []struct {
		Name, State, From string
		Line              int
	}
	r := sh.Run(t, "", "check", "-o", "json")
	assert.Equal(t, 3, r.Code)
	require.NoError(t, json.Unmarshal([]byte(r.Stdout), &states))
	require.Len(t, states, 3)
	assert.Equal(t, "ready", states[0].State)
	assert.Equal(t, "loans/live", states[0].From)
	assert.Equal(t, "left out", states[1].State)
	assert.Equal(t, "missing", states[2].State)
	assert.Equal(t, 5, states[2].Line)
	trail := func() int { return strings.Count(sh.OK(t, "", "trail", "--limit", "500").Stdout, "entry.resolve") }
	before := trail()
	assert.Equal(t, 3, sh.Run(t, "", "check").Code)
	// What nobody waits for is durable within a second.
	require.Eventually(t, func() bool { return trail() == before+2 }, 5*time.Second, 100*time.Millisecond, "one request for all that is set, and one for the reason of what is not")
	sh.OK(t, "", "keep", "--setting", "C=plain")
	assert.Contains(t, sh.Run(t, "", "check").Stdout, "C is a secret by the needs file, and loans/live keeps it as a plain setting")
}

func TestLinkProposesNamesAndNoValues(t *testing.T) {
	_, sh := loans(t)
	testkit.Write(t, sh.Folder, ".env", "DB_PASSWORD=Zk3vQ9sLw2Xc7Bn5\nPAGE_SIZE=25\nPATH=/evil\n")
	assert.Contains(t, sh.OK(t, "", "link", "loans").Stderr, "with 2 needs from .env")
	content, err := os.ReadFile(filepath.Join(sh.Folder, needs.FileName))
	require.NoError(t, err)
	assert.NotContains(t, string(content), "Zk3vQ9sLw2Xc7Bn5")
	file, problems := needs.Read(needs.FileName, content)
	require.Empty(t, problems)
	assert.Equal(t, "loans", file.Project)
	assert.True(t, file.Needs[0].Secret)
	assert.False(t, file.Needs[1].Secret)
	assert.Contains(t, sh.Run(t, "", "link", "loans").Stderr, "is here already")
	require.NoError(t, os.Remove(filepath.Join(sh.Folder, needs.FileName)))
	assert.Contains(t, sh.Run(t, "", "link", "loan").Stderr, "did you mean loans?")
	assert.NoFileExists(t, filepath.Join(sh.Folder, needs.FileName))
}

// At a terminal a stop reaches the program and gives the shell back.
func TestSupplyAtATerminal(t *testing.T) {
	_, sh := loans(t)
	testkit.Write(t, sh.Folder, ".env", "A=supplied\n")
	// script gives the commands a terminal of their own.
	inner := "'" + testkit.Program(t, "adytum") + "' supply -- sh -c 'test -t 0 && echo terminal $A; trap \"echo interrupted; exit 6\" INT; kill -INT $$; sleep 5'; echo code $?"
	testkit.Write(t, sh.Folder, "inner.sh", inner+"\n")
	r := sh.Exec(t, "", "script", "--quiet", "--command", "sh inner.sh", "/dev/null")
	assert.Contains(t, r.Stdout, "terminal supplied")
	assert.Contains(t, r.Stdout, "interrupted")
	assert.Contains(t, r.Stdout, "code 6")
}
