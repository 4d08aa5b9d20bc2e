package archive_test

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/archive"
	"adytum.example/internal/core/secret"
)

var passphrase = secret.FromString("lantern-harbour-acorn-quiet")

func sealed(t testing.TB, content []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := archive.NewWriter(&out, passphrase)
	require.NoError(t, err)
	for start := 0; start < len(content); start += 1000 {
		_, err = w.Write(content[start:min(start+1000, len(content))])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func opened(content []byte, p secret.Value) ([]byte, error) {
	r, err := archive.NewReader(bytes.NewReader(content), p)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

func TestWhatWasArchivedComesBack(t *testing.T) {
	for _, n := range []int{0, 1, 64<<10 - 1, 64 << 10, 64<<10 + 1, 200_000} {
		content := bytes.Repeat([]byte("a glass owl "), n/12+1)[:n]
		got, err := opened(sealed(t, content), passphrase)
		require.NoError(t, err, n)
		assert.True(t, bytes.Equal(content, got), n)
	}
	a, b := sealed(t, []byte("same")), sealed(t, []byte("same"))
	assert.NotEqual(t, a, b, "a salt of its own each time")
}

func TestAnArchiveThatWasAlteredIsRefused(t *testing.T) {
	content := bytes.Repeat([]byte("a glass owl sings at noon. "), 6000) // three chunks
	whole := sealed(t, content)
	const head = 17 + 16 + 9
	_, err := opened(whole, secret.FromString("another passphrase"))
	assert.ErrorIs(t, err, archive.ErrPassphrase)
	refused := func(what string, altered []byte) {
		t.Helper()
		got, err := opened(altered, passphrase)
		assert.Error(t, err, what)
		assert.True(t, len(got) == 0 || bytes.HasPrefix(content, got), "%s: what came out was authentic", what)
	}
	for what, at := range map[string]int{"the magic": 3, "the salt": 20, "the commitment": head + 1, "a length": head + 32, "a chunk": head + 40, "the last chunk": len(whole) - 3} {
		altered := bytes.Clone(whole)
		altered[at] ^= 1
		refused(what, altered)
	}
	chunk := 4 + 64<<10 + 16
	first := head + 32
	refused("cut within a chunk", whole[:len(whole)-5])
	refused("cut behind a chunk", whole[:first+chunk])
	refused("without any chunk", whole[:first])
	refused("a chunk left out", append(bytes.Clone(whole[:first]), whole[first+chunk:]...))
	swapped := append(bytes.Clone(whole[:first]), whole[first+chunk:first+2*chunk]...)
	refused("chunks exchanged", append(append(swapped, whole[first:first+chunk]...), whole[first+2*chunk:]...))
	refused("something behind the end", append(bytes.Clone(whole), 0))
	refused("nothing", nil)
	costly := bytes.Clone(whole)
	costly[33] = 0xff // passes
	_, err = opened(costly, passphrase)
	assert.ErrorIs(t, err, archive.ErrNotArchive, "a header that asks for too much is refused before it is paid for")
}

func FuzzReader(f *testing.F) {
	f.Add(sealed(f, []byte("x")))
	f.Add([]byte("ADYTUM-ARCHIVE-1\n"))
	f.Fuzz(func(t *testing.T, content []byte) {
		// Nothing that costs: the header's memory is bounded by what a test can pay.
		if len(content) > 41 {
			copy(content[33:42], []byte{0, 0, 0, 1, 0, 0, 0, 8, 1})
		}
		_, _ = opened(content, passphrase)
	})
}
