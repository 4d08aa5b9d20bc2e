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

var place = envelope.Identity{Organization: "org", Project: 1, Layer: 2, Entry: 3, Version: 4, Kind: "secret"}

func TestSealedValuesComeBackAsTheyWere(t *testing.T) {
	k := key(t)
	round := func(value []byte) bool {
		sealed, err := envelope.Seal(k, place, secret.New(bytes.Clone(value)))
		if err != nil {
			return false
		}
		back, err := envelope.Open(k, place, sealed)
		return err == nil && bytes.Equal(back.Expose(), value)
	}
	require.NoError(t, quick.Check(round, nil))
	for _, n := range []int{0, 1, 59, 60, 61, 64, envelope.MaxValue} {
		assert.True(t, round(make([]byte, n)), "%d bytes", n)
	}
}

func TestLengthsAreHiddenInStepsOf64(t *testing.T) {
	k := key(t)
	lengths := map[int]bool{}
	for n := range 61 {
		sealed, err := envelope.Seal(k, place, secret.New(make([]byte, n)))
		require.NoError(t, err)
		lengths[len(sealed)] = true
	}
	assert.Len(t, lengths, 1)
}

func TestAnythingElseThanThePlaceOrKeyOrBytesIsRefused(t *testing.T) {
	k := key(t)
	sealed, err := envelope.Seal(k, place, secret.FromString("value"))
	require.NoError(t, err)

	elsewhere := map[string]func(*envelope.Identity){
		"organization": func(i *envelope.Identity) { i.Organization = "other" },
		"project":      func(i *envelope.Identity) { i.Project++ },
		"layer":        func(i *envelope.Identity) { i.Layer++ },
		"entry":        func(i *envelope.Identity) { i.Entry++ },
		"version":      func(i *envelope.Identity) { i.Version++ },
		"kind":         func(i *envelope.Identity) { i.Kind = "setting" },
	}
	for name, change := range elsewhere {
		id := place
		change(&id)
		_, err := envelope.Open(k, id, sealed)
		assert.ErrorIs(t, err, envelope.ErrOpen, name)
	}
	_, err = envelope.Open(key(t), place, sealed)
	assert.ErrorIs(t, err, envelope.ErrOpen, "another key")
	for i := range sealed {
		altered := bytes.Clone(sealed)
		altered[i] ^= 1
		_, err := envelope.Open(k, place, altered)
		require.ErrorIs(t, err, envelope.ErrOpen, "byte %d", i)
	}
	for i := range sealed {
		_, err := envelope.Open(k, place, sealed[:i])
		require.ErrorIs(t, err, envelope.ErrOpen, "cut at %d", i)
	}
}

func TestAWrappedKeyIsNoValueAndTheReverse(t *testing.T) {
	k, inner := key(t), key(t)
	wrapped, err := envelope.WrapVersionKey(k, place, inner)
	require.NoError(t, err)
	back, err := envelope.UnwrapVersionKey(k, place, wrapped)
	require.NoError(t, err)
	assert.Equal(t, inner.Bytes(), back.Bytes())

	_, err = envelope.Open(k, place, wrapped)
	assert.ErrorIs(t, err, envelope.ErrOpen)
	_, err = envelope.UnwrapProjectKey(k, "org", 1, 1, wrapped)
	assert.ErrorIs(t, err, envelope.ErrOpen)

	project, err := envelope.WrapProjectKey(k, "org", 1, 7, inner)
	require.NoError(t, err)
	_, err = envelope.UnwrapProjectKey(k, "org", 2, 7, project)
	assert.ErrorIs(t, err, envelope.ErrOpen, "another project's")
	_, err = envelope.UnwrapProjectKey(k, "org", 1, 8, project)
	assert.ErrorIs(t, err, envelope.ErrOpen, "another key's")
}

func TestPurposesGiveDifferentKeys(t *testing.T) {
	root := key(t)
	seen := map[string]bool{}
	for _, p := range []envelope.Purpose{envelope.WrapProjectKeys, envelope.WrapVersionKeys, envelope.SignManifests, envelope.SignTokens, envelope.SignTrail, envelope.RootCheck} {
		k, err := envelope.Derive(root, p)
		require.NoError(t, err)
		seen[string(k.Bytes())] = true
	}
	assert.Len(t, seen, 6)
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
	k, err := secret.RandomKey()
	require.NoError(f, err)
	sealed, err := envelope.Seal(k, place, secret.FromString("value"))
	require.NoError(f, err)
	f.Add(sealed)
	f.Add([]byte{})
	f.Add([]byte{1})
	f.Fuzz(func(t *testing.T, b []byte) {
		v, err := envelope.Open(k, place, b)
		if bytes.Equal(b, sealed) {
			require.NoError(t, err)
			require.Equal(t, "value", string(v.Expose()))
			return
		}
		require.ErrorIs(t, err, envelope.ErrOpen)
		_, err = envelope.UnwrapVersionKey(k, place, b)
		require.ErrorIs(t, err, envelope.ErrOpen)
	})
}

func TestAKeyOfAnotherLengthOrAValueTooLargeIsRefused(t *testing.T) {
	k := key(t)
	_, err := envelope.Seal(k, place, secret.New(make([]byte, envelope.MaxValue+1)))
	assert.ErrorContains(t, err, "at most")
	// What was sealed as a key is no key where its length is another.
	sealed, err := envelope.Seal(k, place, secret.FromString("short"))
	require.NoError(t, err)
	_, err = envelope.UnwrapVersionKey(k, place, sealed)
	assert.ErrorIs(t, err, envelope.ErrOpen)
}

func TestTheSameValueNeverSealsToTheSameBytes(t *testing.T) {
	k := key(t)
	seen := map[string]bool{}
	for range 100 {
		sealed, err := envelope.Seal(k, place, secret.FromString("value"))
		require.NoError(t, err)
		assert.False(t, seen[string(sealed)])
		seen[string(sealed)] = true
	}
}
