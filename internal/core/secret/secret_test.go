package secret_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/secret"
)

const plain = "correct-horse-battery"

func TestNoWayOfPrintingShowsAValue(t *testing.T) {
	v := secret.FromString(plain)
	k, err := secret.NewKey([]byte("0123456789abcdef0123456789abcdef"))
	require.NoError(t, err)
	defer k.Destroy()

	type holder struct {
		V secret.Value
		P *secret.Value
		K *secret.Key
		M map[string]secret.Value
	}
	h := holder{V: v, P: &v, K: k, M: map[string]secret.Value{"x": v}}

	var out bytes.Buffer
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%t", "%p", "%10.3s"} {
		fmt.Fprintf(&out, verb+"\n", v)
		fmt.Fprintf(&out, verb+"\n", k)
		fmt.Fprintf(&out, verb+"\n", h)
	}
	fmt.Fprintln(&out, v, h, fmt.Errorf("with %w", fmt.Errorf("inner %v", v)))
	slog.New(slog.NewJSONHandler(&out, nil)).Info("m", "v", v, "h", h, "k", k)
	slog.New(slog.NewTextHandler(&out, nil)).Info("m", "v", v, "h", h, "k", k)
	j, err := json.Marshal(h)
	require.NoError(t, err)
	out.Write(j)

	assert.NotContains(t, out.String(), plain)
	assert.NotContains(t, out.String(), fmt.Sprintf("%x", plain))
	assert.NotContains(t, out.String(), "0123456789abcdef")
	assert.Contains(t, out.String(), secret.Withheld)
}

func TestWipeReachesCopies(t *testing.T) {
	v := secret.FromString(plain)
	w := v
	v.Wipe()
	assert.Equal(t, make([]byte, len(plain)), w.Expose())
}

func TestEqual(t *testing.T) {
	assert.True(t, secret.FromString("a").Equal(secret.FromString("a")))
	assert.False(t, secret.FromString("a").Equal(secret.FromString("b")))
	assert.False(t, secret.FromString("a").Equal(secret.FromString("ab")))
}

func TestNewKeyTakesOverAndChecksItsLength(t *testing.T) {
	raw := bytes.Repeat([]byte{7}, secret.KeySize)
	k, err := secret.NewKey(raw)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, secret.KeySize), raw, "the source is overwritten")
	assert.Equal(t, bytes.Repeat([]byte{7}, secret.KeySize), k.Bytes())
	k.Destroy()
	k.Destroy()

	_, err = secret.NewKey(make([]byte, 16))
	assert.ErrorIs(t, err, secret.ErrKeySize)
}
