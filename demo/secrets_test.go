package demo_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/internal/testkit"
)

// secrets are all values of secrets that the demo's store has or has had, and
// all that people and workloads sign in with.
func (r *running) secrets(t *testing.T) map[string]string {
	t.Helper()
	ctx := context.Background()
	c, err := client.New(r.URL)
	require.NoError(t, err)
	_, err = c.SignIn(ctx, r.People[0].Login, r.People[0].Password)
	require.NoError(t, err)
	all := map[string]string{}
	for _, p := range r.People {
		all["the password of "+p.Name] = p.Password
	}
	for _, w := range r.Workloads {
		all["the client secret of "+w.Name] = w.ClientSecret
	}
	all["a token"] = c.Token()
	projects, err := c.Projects(ctx)
	require.NoError(t, err)
	for _, p := range projects {
		for _, e := range p.Environments {
			place := client.Place{Project: p.Name, Environment: e.Name}
			entries, err := c.Entries(ctx, place)
			require.NoError(t, err)
			for _, entry := range entries.Entries {
				if entry.Kind != "secret" || entry.Origin != "here" {
					continue
				}
				for v := range entry.Version {
					reference := fmt.Sprintf("%s@%d", entry.Absolute, v+1)
					out, err := c.Resolve(ctx, place, []string{reference}, nil)
					require.NoError(t, err)
					all[reference] = out.Values[0].Value
				}
			}
		}
	}
	return all
}

// A copy of the database, of what it writes ahead, and of every log holds none of
// the demo's secrets, in no simple encoding.
func TestNoSecretOfTheDemoStandsInTheDatabaseOrALog(t *testing.T) {
	home := filepath.Join(testkit.Folder(t), "demo")
	r := start(t, home)
	secrets := r.secrets(t)
	require.Greater(t, len(secrets), 20)
	dump, err := exec.Command("pg_dump", "--dbname="+strings.Replace(r.Database, "/postgres", "/adytum", 1)).Output()
	require.NoError(t, err)
	require.Contains(t, string(dump), "COPY adytum.versions")
	searched := map[string][]byte{"the dump": dump}
	for _, pattern := range []string{"postgres/data/pg_wal/*", "postgres/data/base/*/*", "postgres/log", "log"} {
		files, err := filepath.Glob(filepath.Join(home, pattern))
		require.NoError(t, err)
		require.NotEmpty(t, files, pattern)
		for _, file := range files {
			if content, err := os.ReadFile(file); err == nil {
				searched[file] = content
			}
		}
	}
	require.Greater(t, len(searched), 100)
	for what, value := range secrets {
		for form, text := range map[string]string{"plain": value, "hex": hex.EncodeToString([]byte(value)), "base64": base64.StdEncoding.EncodeToString([]byte(value))[:len(value)/3*4]} {
			for file, content := range searched {
				if bytes.Contains(content, []byte(text)) {
					assert.Fail(t, "a secret stands where it must not", "%s, in %s, in %s", what, form, file)
				}
			}
		}
	}
	r.end(t, syscall.SIGTERM)
}
