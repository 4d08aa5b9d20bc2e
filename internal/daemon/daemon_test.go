package daemon_test

import (
	"bytes"
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
	"adytum.example/internal/service"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// serve tries to serve for a moment and returns the error.
func serve(t *testing.T, c daemon.Config) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	return daemon.Serve(ctx, c, testkit.Quiet(), func(string) { cancel() })
}

func TestARootKeyThatCannotBeUsedStopsTheService(t *testing.T) {
	s := testkit.Start(t)
	s.Stop()
	require.NoError(t, serve(t, s.Config), "as it should be")
	right, err := os.ReadFile(s.Config.RootKeyFile)
	require.NoError(t, err)
	info, err := os.Stat(s.Config.RootKeyFile)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o400), info.Mode().Perm(), "made with mode 0400")
	revision := s.SQL(t, "SELECT * FROM trail_batches")

	folder := t.TempDir()
	put := func(name, content string, mode os.FileMode) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(content), mode))
		require.NoError(t, os.Chmod(path, mode))
		return path
	}
	wrong := bytes.Repeat([]byte("ab"), 32)
	for name, c := range map[string]struct{ path, says string }{
		"missing":         {filepath.Join(folder, "none"), "there is no file"},
		"open to others":  {put("open", string(right), 0o444), "so others can read it; run \"chmod 0400"},
		"open to a group": {put("group", string(right), 0o440), "others can read it"},
		"another's":       {put("wrong", string(wrong), 0o400), "not the key that the database was set up with; nothing was changed"},
		"too short":       {put("short", "abcd", 0o400), "64 hexadecimal digits"},
		"not hexadecimal": {put("text", string(bytes.Repeat([]byte("xy"), 32)), 0o400), "64 hexadecimal digits"},
		"a folder":        {folder, "others can read it"},
	} {
		config := s.Config
		config.RootKeyFile = c.path
		if name == "a folder" {
			c.says = "not a regular file"
		}
		err := serve(t, config)
		require.ErrorIs(t, err, service.ErrRootKey, name)
		assert.ErrorContains(t, err, c.says, name)
		assert.NotContains(t, err.Error(), string(bytes.TrimSpace(right)), "no key in a message")
	}
	assert.Equal(t, revision, s.SQL(t, "SELECT * FROM trail_batches"), "nothing was touched")
	require.NoError(t, serve(t, s.Config), "and the right key still serves")
}

func TestSettingUpAgainChangesNothing(t *testing.T) {
	s := testkit.Start(t)
	owner := service.Owner{Login: "other@fernhollow.example", Name: "Other", Password: secret.FromString("a long enough password")}
	err := daemon.SetUp(context.Background(), s.Config, "Another", owner, testkit.Quiet())
	assert.ErrorIs(t, err, service.ErrSetUp)
	_, err = s.TryOwner(t)
	assert.NoError(t, err)

	urls, _ := testkit.Database(t)
	c := s.Config
	c.Database, c.Flush, c.Migrate, c.RootKeyFile = urls.Service, urls.Flush, urls.Migrate, filepath.Join(t.TempDir(), "root.key")
	assert.ErrorContains(t, serve(t, c), "there is no file", "no key yet")
	owner.Password = secret.FromString("short")
	assert.ErrorContains(t, daemon.SetUp(context.Background(), c, "Another", owner, testkit.Quiet()), "shorter than 15 characters")
	assert.NoFileExists(t, c.RootKeyFile, "a set-up that failed leaves no key")
	key, err := service.CreateRootKey(c.RootKeyFile)
	require.NoError(t, err)
	key.Destroy()
	assert.ErrorContains(t, serve(t, c), "not set up")
	_, err = service.CreateRootKey(c.RootKeyFile)
	assert.ErrorIs(t, err, service.ErrRootKey, "a key is never overwritten")
}

func TestAPortInUseAndOtherThingsThatAreWrong(t *testing.T) {
	s := testkit.Start(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	c := s.Config
	c.Listen = taken.Addr().String()
	assert.ErrorContains(t, serve(t, c), c.Listen+" is in use by another program; end that or choose another address with --listen")

	c = daemon.Config{Listen: "0.0.0.0:8743", Certificate: "", PrivateKey: "key.pem", LogLevel: "loud", LogFormat: "json", Proxies: "10.0.0.0/24 everywhere"}
	err = c.Check()
	for _, want := range []string{"database is missing", "ADYTUMD_DATABASE_FLUSH", "root-key-file is missing", "plain HTTP is served on loopback alone", "set together", "log-level is \"loud\"", "trusted-proxies has \"everywhere\""} {
		assert.ErrorContains(t, err, want)
	}
	c = s.Config
	c.Database = s.Config.Migrate
	assert.ErrorContains(t, serve(t, c), "more rights than the service may have")
	c.Database = "postgres://adytum_service:x@127.0.0.1:1/none"
	assert.ErrorContains(t, serve(t, c), "the database cannot be reached")
}

func TestLaterSettingsWin(t *testing.T) {
	path := filepath.Join(t.TempDir(), "adytumd.yaml")
	require.NoError(t, os.WriteFile(path, []byte("listen: 127.0.0.1:1\nlog-level: warn\n"), 0o600))
	c, err := daemon.Load(path, true, func(name string) (string, bool) {
		return map[string]string{"ADYTUMD_LISTEN": "127.0.0.1:2"}[name], name == "ADYTUMD_LISTEN"
	})
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:2", c.Listen)
	assert.Equal(t, "warn", c.LogLevel)
	assert.Equal(t, "json", c.LogFormat)

	require.NoError(t, os.WriteFile(path, []byte("lisen: x\nrot-key-file: y\n"), 0o600))
	_, err = daemon.Load(path, true, func(string) (string, bool) { return "", false })
	assert.ErrorContains(t, err, "did you mean listen?")
	assert.ErrorContains(t, err, "did you mean root-key-file?")
	_, err = daemon.Load(filepath.Join(t.TempDir(), "none"), true, os.LookupEnv)
	assert.Error(t, err, "a file that was named must exist")
	_, err = daemon.Load(filepath.Join(t.TempDir(), "none"), false, os.LookupEnv)
	assert.NoError(t, err)
}
