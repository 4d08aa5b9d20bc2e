package envelope_test

import (
	"bytes"
	"testing"
	"testing/quick"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
)

func key(t *testing.T) *secret.Key {
	t.Helper()
	k, err := secret.RandomKey()
	require.NoError(t, err)
	t.Cleanup(k.Destroy)
	return k
}

func wrapping(t testing.TB) *envelope.Wrapping {
	t.Helper()
	k, err := secret.RandomKey()
	require.NoError(t, err)
	defer k.Destroy()
	w, err := envelope.NewWrapping(k)
	require.NoError(t, err)
	return w
}

var place = envelope.Identity{Organization: "org", Project: 1, Layer: 2, Entry: 3, Version: 4, Kind: "secret"}

func seal(t testing.TB, k *envelope.Wrapping, value string) envelope.Stored {
	t.Helper()
	stored, err := envelope.SealVersion(k, place, secret.FromString(value), []byte("print of "+value))
	require.NoError(t, err)
	return stored
}

func TestSealedValuesComeBackAsTheyWere(t *testing.T) {
	k := wrapping(t)
	round := func(value []byte) bool {
		stored, err := envelope.SealVersion(k, place, secret.New(bytes.Clone(value)), value[:min(16, len(value))])
		if err != nil {
			return false
		}
		back, err := envelope.OpenVersion(k, place, stored)
		mark, markErr := envelope.OpenFingerprint(k, place, stored)
		return err == nil && markErr == nil && bytes.Equal(back.Expose(), value) && bytes.Equal(mark, value[:min(16, len(value))])
	}
	require.NoError(t, quick.Check(round, nil))
	for _, n := range []int{0, 1, 59, 60, 61, 64, envelope.MaxValue} {
		assert.True(t, round(make([]byte, n)), "%d bytes", n)
	}
}

func TestLengthsAreHiddenInStepsOf64(t *testing.T) {
	k := wrapping(t)
	lengths := map[int]bool{}
	for n := range 61 {
		stored, err := envelope.SealVersion(k, place, secret.New(make([]byte, n)), nil)
		require.NoError(t, err)
		lengths[len(stored.Sealed)] = true
	}
	assert.Len(t, lengths, 1)
}

func TestAnythingElseThanThePlaceOrKeyOrBytesIsRefused(t *testing.T) {
	k := wrapping(t)
	stored := seal(t, k, "value")
	elsewhere := map[string]func(*envelope.Identity){
		"organization": func(i *envelope.Identity) { i.Organization = "other" },
		"project":      func(i *envelope.Identity) { i.Project++ },
		"layer":        func(i *envelope.Identity) { i.Layer++ },
		"entry":        func(i *envelope.Identity) { i.Entry++ },
		"version":      func(i *envelope.Identity) { i.Version++ },
		"kind":         func(i *envelope.Identity) { i.Kind = "setting" },
	}
	refused := func(k *envelope.Wrapping, id envelope.Identity, stored envelope.Stored, what string, args ...any) {
		t.Helper()
		_, err := envelope.OpenVersion(k, id, stored)
		assert.ErrorIs(t, err, envelope.ErrOpen, append([]any{what}, args...)...)
	}
	for name, change := range elsewhere {
		id := place
		change(&id)
		refused(k, id, stored, name)
	}
	refused(wrapping(t), place, stored, "another key")
	other := seal(t, k, "other")
	refused(k, place, envelope.Stored{Sealed: stored.Sealed, Wrapped: other.Wrapped}, "another version's key")
	refused(k, place, envelope.Stored{Sealed: stored.Fingerprint, Wrapped: stored.Wrapped}, "a fingerprint is no value")
	for i := range stored.Sealed {
		altered := bytes.Clone(stored.Sealed)
		altered[i] ^= 1
		refused(k, place, envelope.Stored{Sealed: altered, Wrapped: stored.Wrapped}, "byte %d", i)
		refused(k, place, envelope.Stored{Sealed: stored.Sealed[:i], Wrapped: stored.Wrapped}, "cut at %d", i)
	}
	for i := range stored.Wrapped {
		altered := bytes.Clone(stored.Wrapped)
		altered[i] ^= 1
		refused(k, place, envelope.Stored{Sealed: stored.Sealed, Wrapped: altered}, "byte %d of the key", i)
	}
}

func TestARewrappedVersionOpensUnderTheNewKeyAlone(t *testing.T) {
	from, to := wrapping(t), wrapping(t)
	stored := seal(t, from, "value")
	wrapped, err := envelope.RewrapVersionKey(from, to, place, stored.Wrapped)
	require.NoError(t, err)
	stored.Wrapped = wrapped
	back, err := envelope.OpenVersion(to, place, stored)
	require.NoError(t, err)
	assert.Equal(t, "value", string(back.Expose()))
	_, err = envelope.OpenVersion(from, place, stored)
	assert.ErrorIs(t, err, envelope.ErrOpen)
	_, err = envelope.RewrapVersionKey(from, to, place, stored.Wrapped)
	assert.ErrorIs(t, err, envelope.ErrOpen)
}

func TestAProjectKeyIsBoundToItsPlaceAndPurpose(t *testing.T) {
	k, inner := key(t), key(t)
	wrapped, err := envelope.WrapProjectKey(k, "org", "values", 1, 7, inner)
	require.NoError(t, err)
	back, err := envelope.UnwrapProjectKey(k, "org", "values", 1, 7, wrapped)
	require.NoError(t, err)
	assert.Equal(t, inner.Bytes(), back.Bytes())
	for name, open := range map[string]func() (*secret.Key, error){
		"another project's":    func() (*secret.Key, error) { return envelope.UnwrapProjectKey(k, "org", "values", 2, 7, wrapped) },
		"another key's":        func() (*secret.Key, error) { return envelope.UnwrapProjectKey(k, "org", "values", 1, 8, wrapped) },
		"another purpose":      func() (*secret.Key, error) { return envelope.UnwrapProjectKey(k, "org", "signing", 1, 7, wrapped) },
		"another organization": func() (*secret.Key, error) { return envelope.UnwrapProjectKey(k, "gro", "values", 1, 7, wrapped) },
		"a version's key": func() (*secret.Key, error) {
			return envelope.UnwrapProjectKey(k, "org", "values", 1, 7, seal(t, wrapping(t), "v").Wrapped)
		},
	} {
		_, err := open()
		assert.ErrorIs(t, err, envelope.ErrOpen, name)
	}
}

func TestFingerprintsTellSamenessToWhoHasTheKey(t *testing.T) {
	k, other := key(t), key(t)
	of := func(k *secret.Key, v string) string { return string(envelope.Fingerprint(k, secret.FromString(v))) }
	assert.Equal(t, of(k, "value"), of(k, "value"))
	assert.NotEqual(t, of(k, "value"), of(k, "valuf"))
	assert.NotEqual(t, of(k, "value"), of(other, "value"))
}

func TestAChainNoticesEveryRowAndItsOrder(t *testing.T) {
	rows := []envelope.Row{{Key: "1", Parts: []string{"a", "b"}}, {Key: "2", Parts: []string{"c"}}}
	chain := func(rows ...envelope.Row) string {
		var end []byte
		for _, r := range rows {
			end = envelope.Chain(end, r)
		}
		return string(end)
	}
	whole := chain(rows...)
	for name, other := range map[string]string{
		"swapped": chain(rows[1], rows[0]), "the first left out": chain(rows[1]), "the last left out": chain(rows[0]),
		"joined parts": chain(envelope.Row{Key: "1", Parts: []string{"ab"}}, rows[1]), "doubled": chain(rows[0], rows[1], rows[1]),
	} {
		assert.NotEqual(t, whole, other, name)
	}
}

func TestPurposesGiveDifferentKeys(t *testing.T) {
	root := key(t)
	seen := map[string]bool{}
	for _, p := range []envelope.Purpose{envelope.WrapProjectKeys, envelope.WrapVersionKeys, envelope.SignManifests, envelope.SignTokens, envelope.SignTrail, envelope.RootProof, envelope.Fingerprints, envelope.SignRequests, envelope.SealFactors, envelope.SignCheckpoints, envelope.SealRecords, envelope.SignAlerts} {
		k, err := envelope.Derive(root, p)
		require.NoError(t, err)
		seen[string(k.Bytes())] = true
	}
	assert.Len(t, seen, 12)
}

func TestManifestNoticesEveryChangeButOrder(t *testing.T) {
	k := key(t)
	rows := []envelope.Row{{Key: "a", Parts: []string{"1", "2"}}, {Key: "b", Parts: []string{"3"}}}
	mac := envelope.Manifest(k, "layer 1", 5, rows)
	same := func(scope string, revision int64, rows ...envelope.Row) bool {
		return envelope.Same(mac, envelope.Manifest(k, scope, revision, rows))
	}
	assert.True(t, same("layer 1", 5, rows[1], rows[0]), "order does not count")
	assert.False(t, same("layer 2", 5, rows...), "another layer")
	assert.False(t, same("layer 1", 4, rows...), "rolled back")
	assert.False(t, same("layer 1", 5, rows[0]), "hidden")
	assert.False(t, same("layer 1", 5, rows[0], rows[1], rows[1]), "doubled")
	assert.False(t, same("layer 1", 5, envelope.Row{Key: "a", Parts: []string{"12"}}, rows[1]), "joined parts")
	assert.False(t, same("layer 1", 5, envelope.Row{Key: "a", Parts: []string{"1", "2", "b"}}, envelope.Row{Parts: []string{"3"}}), "shifted")
	assert.False(t, same("layer 1", 5, envelope.Row{Key: "b", Parts: []string{"1", "2"}}, envelope.Row{Key: "a", Parts: []string{"3"}}), "swapped")
}

func FuzzOpen(f *testing.F) {
	k := wrapping(f)
	stored := seal(f, k, "value")
	f.Add(stored.Sealed, stored.Wrapped)
	f.Add([]byte{}, []byte{})
	f.Add([]byte{1}, stored.Wrapped)
	f.Fuzz(func(t *testing.T, sealed, wrapped []byte) {
		v, err := envelope.OpenVersion(k, place, envelope.Stored{Sealed: sealed, Wrapped: wrapped})
		if bytes.Equal(sealed, stored.Sealed) && bytes.Equal(wrapped, stored.Wrapped) {
			require.NoError(t, err)
			require.Equal(t, "value", string(v.Expose()))
			return
		}
		require.ErrorIs(t, err, envelope.ErrOpen)
	})
}

func TestAValueTooLargeIsRefused(t *testing.T) {
	_, err := envelope.SealVersion(wrapping(t), place, secret.New(make([]byte, envelope.MaxValue+1)), nil)
	assert.ErrorContains(t, err, "at most")
}

func TestTheSameValueNeverSealsToTheSameBytes(t *testing.T) {
	k := wrapping(t)
	seen := map[string]bool{}
	for range 100 {
		stored := seal(t, k, "value")
		for _, b := range [][]byte{stored.Sealed, stored.Fingerprint, stored.Wrapped} {
			assert.False(t, seen[string(b)])
			seen[string(b)] = true
		}
	}
}
