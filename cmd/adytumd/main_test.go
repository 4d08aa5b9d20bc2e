package main

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/cluster"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// An installation as an operator makes it: from an administrator's URL to a
// service that people sign in to.
func TestSettingUpAndServing(t *testing.T) {
	folder := testkit.Folder(t)
	c, err := cluster.Start(t.Context(), filepath.Join(folder, "postgres"), cluster.Options{Unsafe: true})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, c.Stop()) })
	testkit.Write(t, folder, "database-url", c.URL("postgres")+"\n")
	sh := testkit.NewShell(t, folder)
	program := testkit.Program(t, "adytumd")
	setup := []string{"--config", "adytumd.yaml", "--root-key-file", filepath.Join(folder, "root.key"), "--listen", "127.0.0.1:0", "setup", "--organization", "Fernhollow Libraries",
		"--owner-login", testkit.OwnerLogin, "--owner-name", testkit.OwnerName, "--password-stdin", "--admin-database-file", "database-url"}
	r := sh.Exec(t, testkit.OwnerPassword+"\n", program, setup...)
	require.Equal(t, 0, r.Code, r.Stderr)
	assert.Contains(t, r.Stderr, "keep a copy of it somewhere safe")
	for file, mode := range map[string]os.FileMode{"adytumd.yaml": 0o600, "root.key": 0o400} {
		info, err := os.Stat(filepath.Join(folder, file))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), file)
	}
	r = sh.Exec(t, testkit.OwnerPassword+"\n", program, setup...)
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "adytumd.yaml exists already")
	r = sh.Exec(t, testkit.OwnerPassword+"\n", program, setup[:len(setup)-2]...)
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "already set up; nothing was changed")
	assert.Equal(t, 0, sh.Exec(t, "", program, "--config", "adytumd.yaml", "migrate").Code)

	serve := exec.Command(program, "--config", "adytumd.yaml", "serve")
	serve.Dir = folder
	log, err := serve.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, serve.Start())
	address := make(chan string, 1)
	go func() {
		for lines := bufio.NewScanner(log); lines.Scan(); {
			var line struct{ Msg, Address string }
			if json.Unmarshal(lines.Bytes(), &line) == nil && line.Msg == "serving" {
				address <- line.Address
			}
		}
	}()
	select {
	case url := <-address:
		sh.OK(t, testkit.OwnerPassword+"\n", "login", url, "--login", testkit.OwnerLogin, "--password-stdin")
		assert.Contains(t, sh.OK(t, "", "whoami").Stdout, "owner in the whole organization")
	case <-time.After(20 * time.Second):
		assert.Fail(t, "the service did not start")
	}
	require.NoError(t, serve.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, serve.Wait(), "a signal ends the service well")
	backUpAndRekey(t, sh, program, folder)
}

// backUpAndRekey backs an installation up, renews its keys, and recovers what was
// backed up into another database, as an operator does.
func backUpAndRekey(t *testing.T, sh *testkit.Shell, program, folder string) {
	t.Helper()
	ok := func(args ...string) testkit.Result {
		t.Helper()
		r := sh.Exec(t, "", program, append([]string{"--config", "adytumd.yaml"}, args...)...)
		require.Equal(t, 0, r.Code, r.Stderr)
		return r
	}
	old, err := os.ReadFile(filepath.Join(folder, "root.key"))
	require.NoError(t, err)
	assert.Contains(t, ok("rekey").Stderr, "The root key is renewed")
	assert.Contains(t, ok("rekey", "--all-projects").Stderr, "The keys are renewed")
	now, err := os.ReadFile(filepath.Join(folder, "root.key"))
	require.NoError(t, err)
	assert.NotEqual(t, old, now)
	kept, err := filepath.Glob(filepath.Join(folder, "root.key.retired-*"))
	require.NoError(t, err)
	assert.Len(t, kept, 1)

	parts := strings.Fields(ok("backup", "--to", folder).Stdout)
	require.Len(t, parts, 2)
	r := sh.Exec(t, "", program, "--config", "adytumd.yaml", "recover", "--data", parts[0], "--keys", parts[1])
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "holds an installation already")
}

func TestWrongUsage(t *testing.T) {
	sh := testkit.NewShell(t, testkit.Folder(t))
	program := testkit.Program(t, "adytumd")
	for says, args := range map[string][]string{
		"the setting database is missing":         {"serve"},
		"the setting database-migrate is missing": {"migrate"},
		"--help":                          {"serve", "--colour"},
		"read the configuration":          {"--config", "none.yaml", "serve"},
		"there are text and json":         {"demo", "--home", "x", "--output", "xml"},
		"demo needs --home":               {"demo"},
		"backup needs --to":               {"backup"},
		"recover needs --data, --keys":    {"recover"},
		"name one project with --project": {"rekey", "--project", "loans", "--all-projects"},
		"setup needs --organization, --owner-login, --owner-name": {"setup"},
		"there is no command \"sirve\"":                           {"sirve"},
	} {
		r := sh.Exec(t, "", program, args...)
		assert.Equal(t, 1, r.Code, "%v: %s", args, r.Stderr)
		assert.Contains(t, r.Stderr, says)
		assert.Empty(t, strings.TrimSpace(r.Stdout), "%v", args)
	}
}
