package daemon_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/daemon"
	"adytum.example/internal/storage"
	"adytum.example/internal/testkit"
)

var (
	ctx  = context.Background()
	live = client.Place{Project: "loans", Environment: "live"}
)

// kept is an installation with some values, and what they are.
func kept(t *testing.T) (*testkit.Service, *client.Client, map[string]string) {
	t.Helper()
	s := testkit.Start(t)
	owner := s.Owner(t)
	_, err := owner.AddProject(ctx, "loans")
	require.NoError(t, err)
	_, err = owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "live"})
	require.NoError(t, err)
	values := map[string]string{}
	for round := range 3 {
		request := wire.ChangeRequest{Reason: "round"}
		for i := range 20 {
			name := fmt.Sprintf("KEY_%d", i)
			values[name] = fmt.Sprintf("the %d. value of number %d is a glass owl", round, i)
			request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "secret", Value: values[name]})
		}
		_, err = owner.Change(ctx, live, client.AnyRevision, request)
		require.NoError(t, err)
	}
	return s, owner, values
}

func assertValues(t *testing.T, c *client.Client, values map[string]string) {
	t.Helper()
	for name, want := range values {
		v, err := c.Value(ctx, live, name)
		require.NoError(t, err, name)
		require.Equal(t, want, v.Value, name)
	}
}

// another is a configuration for an empty, migrated database.
func another(t *testing.T, s *testkit.Service) daemon.Config {
	t.Helper()
	urls, _ := testkit.Database(t)
	c := s.Config
	c.Database, c.Flush, c.Migrate, c.Jobs = urls.Service, urls.Flush, urls.Migrate, urls.Jobs
	return c
}

func TestABackupIsRecoveredIntoAnEmptyDatabase(t *testing.T) {
	s, owner, values := kept(t)
	_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "remove", Name: "KEY_0"}, {Act: "destroy", Name: "KEY_1", Version: 1}, {Name: "ZONE", Kind: "setting", Value: "Europe/Dublin"}}})
	require.NoError(t, err)
	folder := t.TempDir()
	b, err := daemon.MakeBackup(ctx, s.Config, folder, testkit.Quiet())
	require.NoError(t, err)
	for _, file := range []string{b.Data, b.Keys} {
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		content := unpacked(t, file)
		for _, value := range values {
			for _, form := range []string{value, hex.EncodeToString([]byte(value)), base64.StdEncoding.EncodeToString([]byte(value))} {
				require.NotContains(t, content, form, "no secret stands in a backup")
			}
		}
	}
	// What comes later is not in it.
	_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "LATER", Kind: "secret", Value: "later"}}})
	require.NoError(t, err)

	config := another(t, s)
	checked, err := daemon.Recover(ctx, config, b.Data, b.Keys, testkit.Quiet())
	require.NoError(t, err)
	assert.Equal(t, 21, checked.Entries)
	assert.Equal(t, 59, checked.Secrets, "all that were not destroyed")
	assert.Equal(t, 4, checked.Changes)
	_, err = daemon.Recover(ctx, config, b.Data, b.Keys, testkit.Quiet())
	assert.ErrorIs(t, err, storage.ErrNotEmpty)

	recovered := &testkit.Service{Config: config, Log: &testkit.Log{}}
	recovered.Serve(t)
	old, err := client.New(recovered.URL)
	require.NoError(t, err)
	old.UseToken(owner.Token())
	_, err = old.Who(ctx)
	assert.ErrorIs(t, err, client.ErrNotSignedIn, "tokens are not recovered")
	c := recovered.Owner(t)
	delete(values, "KEY_0")
	assertValues(t, c, values)
	_, err = c.Value(ctx, live, "LATER")
	assert.Error(t, err)
	_, err = c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "restore", Name: "KEY_0"}, {Name: "NEW", Kind: "secret", Value: "new"}}})
	require.NoError(t, err, "it goes on from there")
	_, err = c.AddProject(ctx, "notices")
	require.NoError(t, err)
	v, err := c.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
	page, err := c.Trail(ctx, "", 100)
	require.NoError(t, err)
	var actions []string
	for _, e := range page.Events {
		actions = append(actions, e.Action)
	}
	assert.Contains(t, actions, "organization.backup")
	assert.Contains(t, actions, "organization.recover")
}

// unpacked is everything in a part.
func unpacked(t *testing.T, file string) string {
	t.Helper()
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer z.Close()
	var all bytes.Buffer
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		_, err = io.Copy(&all, r)
		require.NoError(t, err)
	}
	return all.String()
}

func TestADestroyedVersionCannotBeOpenedFromWhatWasBackedUpAfterIt(t *testing.T) {
	s, owner, _ := kept(t)
	_, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "destroy", Name: "KEY_1", Version: 2}, {Act: "destroy", Name: "KEY_2"}}})
	require.NoError(t, err)
	b, err := daemon.MakeBackup(ctx, s.Config, t.TempDir(), testkit.Quiet())
	require.NoError(t, err)
	config := another(t, s)
	checked, err := daemon.Recover(ctx, config, b.Data, b.Keys, testkit.Quiet())
	require.NoError(t, err)
	assert.Equal(t, 60-1-3, checked.Secrets)
	recovered := &testkit.Service{Config: config, Log: &testkit.Log{}}
	recovered.Serve(t)
	c := recovered.Owner(t)
	_, err = c.Resolve(ctx, live, []string{"adytum:loans/live/KEY_1@2"}, nil)
	assert.ErrorContains(t, err, "version 2 of KEY_1 in loans/live was destroyed")
	// Neither the ciphertext nor the key is in either part.
	assert.EqualValues(t, 4, s.SQL(t, "SELECT FROM versions WHERE destroyed_at IS NOT NULL"))
	assert.Zero(t, s.SQL(t, "SELECT FROM versions WHERE destroyed_at IS NOT NULL AND (sealed IS NOT NULL OR fingerprint IS NOT NULL)"))
	assert.Zero(t, s.SQL(t, "SELECT FROM version_keys k JOIN versions v USING (project_id, entry_id, version) WHERE v.destroyed_at IS NOT NULL"))
}

func TestPartsWithKeysAreKeptForTheShredHorizonAlone(t *testing.T) {
	s, _, _ := kept(t)
	folder := t.TempDir()
	stamp := func(age time.Duration) string { return time.Now().UTC().Add(-age).Format("20060102T150405Z") }
	old, young, other := "adytum-"+stamp(8*24*time.Hour)+"-abcdef", "adytum-"+stamp(6*24*time.Hour)+"-abcdef", "notes.keys.zip"
	for _, name := range []string{old + ".keys.zip", old + ".data.zip", young + ".keys.zip", other} {
		testkit.Write(t, folder, name, "x")
	}
	b, err := daemon.MakeBackup(ctx, s.Config, folder, testkit.Quiet())
	require.NoError(t, err)
	assert.Equal(t, []string{old + ".keys.zip"}, b.Dropped)
	for _, name := range []string{old + ".data.zip", young + ".keys.zip", other, filepath.Base(b.Keys)} {
		assert.FileExists(t, filepath.Join(folder, name))
	}
}

// An altered, damaged or mixed backup leaves the database empty.
func TestABackupThatIsNotWhatWasMadeIsRefused(t *testing.T) {
	s, owner, _ := kept(t)
	folder := t.TempDir()
	b, err := daemon.MakeBackup(ctx, s.Config, folder, testkit.Quiet())
	require.NoError(t, err)
	_, err = owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY_0", Kind: "secret", Value: "newer"}}})
	require.NoError(t, err)
	later, err := daemon.MakeBackup(ctx, s.Config, folder, testkit.Quiet())
	require.NoError(t, err)
	config := another(t, s)
	n := 0
	rewritten := func(file string, change func(name string, content []byte) []byte) string {
		n++
		path := filepath.Join(folder, fmt.Sprintf("rewritten-%d-%s", n, filepath.Base(file)))
		z, err := zip.OpenReader(file)
		require.NoError(t, err)
		defer z.Close()
		out, err := os.Create(path)
		require.NoError(t, err)
		w := zip.NewWriter(out)
		for _, f := range z.File {
			r, err := f.Open()
			require.NoError(t, err)
			content, err := io.ReadAll(r)
			require.NoError(t, err)
			if content = change(f.Name, content); content != nil {
				to, err := w.Create(f.Name)
				require.NoError(t, err)
				_, err = to.Write(content)
				require.NoError(t, err)
			}
		}
		require.NoError(t, errors.Join(w.Close(), out.Close()))
		return path
	}
	flipped := func(table string) func(string, []byte) []byte {
		return func(name string, content []byte) []byte {
			if name == table {
				content[len(content)/2] ^= 1
			}
			return content
		}
	}
	testkit.Write(t, folder, "nonsense", "nonsense")
	for what, c := range map[string]struct{ data, keys, says string }{
		"another backup's keys": {b.Data, later.Keys, "of different backups"},
		"the parts exchanged":   {b.Keys, b.Data, "where data.zip was expected"},
		"nonsense":              {filepath.Join(folder, "nonsense"), b.Keys, "it is no part of a backup"},
		"an altered table":      {rewritten(b.Data, flipped("versions.copy")), b.Keys, ""},
		"altered keys":          {b.Data, rewritten(b.Keys, flipped("version_keys.copy")), ""},
		"a table left out":      {rewritten(b.Data, func(name string, c []byte) []byte { return map[bool][]byte{false: c}[name == "grants.copy"] }), b.Keys, "lacks the table grants"},
		"an altered index": {rewritten(b.Data, func(name string, c []byte) []byte {
			if name == "index.json" {
				return append(c, '\n')
			}
			return c
		}), b.Keys, "not what was signed when it was made"},
	} {
		_, err := daemon.Recover(ctx, config, c.data, c.keys, testkit.Quiet())
		require.Error(t, err, what)
		assert.ErrorContains(t, err, c.says, what)
	}
	other := testkit.Start(t)
	config.RootKeyFile = other.Config.RootKeyFile
	_, err = daemon.Recover(ctx, config, b.Data, b.Keys, testkit.Quiet())
	assert.ErrorContains(t, err, "not the key that the database was set up with")
	config.RootKeyFile = s.Config.RootKeyFile
	_, err = daemon.Recover(ctx, config, b.Data, b.Keys, testkit.Quiet())
	assert.NoError(t, err, "after all of these the database was empty still")
}

// using resolves and keeps through two instances until it is stopped; every
// answer must be right.
func using(t *testing.T, s *testkit.Service, values map[string]string) (stop func()) {
	t.Helper()
	other := &testkit.Service{Config: s.Config, Log: &testkit.Log{}}
	other.Serve(t)
	var group sync.WaitGroup
	var ended atomic.Bool
	for i, url := range []string{s.URL, other.URL} {
		c, err := client.New(url)
		require.NoError(t, err)
		_, err = c.SignIn(ctx, testkit.OwnerLogin, testkit.OwnerPassword)
		require.NoError(t, err)
		own := fmt.Sprintf("OWN_%d", i)
		group.Go(func() {
			for n := 0; !ended.Load(); n++ {
				name := fmt.Sprintf("KEY_%d", n%20)
				v, err := c.Value(ctx, live, name)
				if !assert.NoError(t, err) || !assert.Equal(t, values[name], v.Value) {
					return
				}
				want := fmt.Sprint("number ", n)
				_, err = c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: own, Kind: "secret", Value: want}}})
				if !assert.NoError(t, err) {
					return
				}
				if v, err := c.Value(ctx, live, own); !assert.NoError(t, err) || !assert.Equal(t, want, v.Value) {
					return
				}
			}
		})
	}
	return func() {
		ended.Store(true)
		group.Wait()
	}
}

var errInterrupted = errors.New("interrupted here")

func TestTheRootKeyIsRenewedWhileTwoInstancesServe(t *testing.T) {
	s, _, values := kept(t)
	before, err := os.ReadFile(s.Config.RootKeyFile)
	require.NoError(t, err)
	stop := using(t, s, values)
	// Interrupted at every step, one after the other, and run again each time.
	for _, step := range []string{"root-key.announce", "root-key.wait", "root-key.activate", "root-key.rewrap", "root-key.retire", "root-key.files"} {
		_, err := daemon.Rekey(ctx, s.Config, testkit.Quiet(), func(at string) error {
			if at == step {
				return errInterrupted
			}
			return nil
		})
		require.ErrorIs(t, err, errInterrupted, step)
		if step == "root-key.files" {
			break
		}
	}
	stop()
	assert.NoFileExists(t, s.Config.RootKeyFile, "interrupted between the files")
	s.Stop()
	s.Serve(t)
	assertValues(t, s.Owner(t), values)
	assert.EqualValues(t, 1, s.SQL(t, "SELECT FROM root_keys WHERE state = 'retired'"))
	assert.Zero(t, s.SQL(t, "SELECT FROM project_keys WHERE root_key_id <> (SELECT id FROM root_keys WHERE state = 'active')"))
	require.NoError(t, os.Rename(daemon.NextRootKey(s.Config.RootKeyFile), s.Config.RootKeyFile))

	// From now on the new key alone opens it, and the old one does not.
	s.Stop()
	s.Serve(t)
	owner := s.Owner(t)
	assertValues(t, owner, values)
	v, err := owner.VerifyTrail(ctx, 0)
	require.NoError(t, err)
	assert.True(t, v.Whole, "%v", v.Problems)
	s.Stop()
	now, err := os.ReadFile(s.Config.RootKeyFile)
	require.NoError(t, err)
	require.NotEqual(t, before, now)
	old := filepath.Join(t.TempDir(), "old.key")
	require.NoError(t, os.WriteFile(old, before, 0o400))
	config := *s
	config.Config.RootKeyFile = old
	assert.ErrorContains(t, config.TryServe(t), "not the key that the database was set up with")

	// And once more, without an interruption.
	s.Serve(t)
	kept, err := daemon.Rekey(ctx, s.Config, testkit.Quiet(), nil)
	require.NoError(t, err)
	assert.FileExists(t, kept)
	assertValues(t, s.Owner(t), values)
}

func TestAnInstanceWithoutTheNewRootKeyHoldsTheRenewalUp(t *testing.T) {
	s, _, values := kept(t)
	// Another machine, to which nobody has copied the next key.
	elsewhere := *s
	elsewhere.Config.RootKeyFile = filepath.Join(t.TempDir(), "root.key")
	content, err := os.ReadFile(s.Config.RootKeyFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(elsewhere.Config.RootKeyFile, content, 0o400))
	elsewhere.Serve(t)
	waiting := make(chan error, 1)
	go func() {
		_, err := daemon.Rekey(ctx, s.Config, testkit.Quiet(), nil)
		waiting <- err
	}()
	require.Eventually(t, func() bool { return s.SQL(t, "SELECT FROM root_keys WHERE state = 'pending'") == 1 }, 10*time.Second, 50*time.Millisecond)
	select {
	case err := <-waiting:
		require.Fail(t, "it did not wait", "%v", err)
	case <-time.After(3 * time.Second):
	}
	next, err := os.ReadFile(daemon.NextRootKey(s.Config.RootKeyFile))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(daemon.NextRootKey(elsewhere.Config.RootKeyFile), next, 0o400))
	require.NoError(t, <-waiting)
	assertValues(t, elsewhere.Owner(t), values)
}

func TestProjectKeysAreRenewedWhileTwoInstancesServe(t *testing.T) {
	s, _, values := kept(t)
	ids := func() (n int64) {
		return s.SQL(t, "SELECT FROM project_keys WHERE purpose = 'values' AND project_id = (SELECT id FROM projects WHERE name = 'loans')")
	}
	require.EqualValues(t, 1, ids())
	stop := using(t, s, values)
	for _, step := range []string{"project-key.renew", "project-key.rewrap", "project-key.retire"} {
		err := daemon.RekeyProjects(ctx, s.Config, "loans", testkit.Quiet(), func(at string) error {
			if at == step {
				return errInterrupted
			}
			return nil
		})
		require.ErrorIs(t, err, errInterrupted, step)
	}
	require.EqualValues(t, 2, ids(), "begun, and one new key however often it was begun")
	// A value that is kept under the old key at that very moment makes it run once more.
	require.Eventually(t, func() bool { return daemon.RekeyProjects(ctx, s.Config, "loans", testkit.Quiet(), nil) == nil }, 20*time.Second, 100*time.Millisecond)
	stop()
	assert.EqualValues(t, 1, ids())
	s.Stop()
	s.Serve(t)
	assertValues(t, s.Owner(t), values)
	require.NoError(t, daemon.RekeyProjects(ctx, s.Config, "", testkit.Quiet(), nil))
	assertValues(t, s.Owner(t), values)
	assert.ErrorContains(t, daemon.RekeyProjects(ctx, s.Config, "none", testkit.Quiet(), nil), `there is no project "none"`)
}
