package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

func TestTour(t *testing.T) {
	bin := filepath.Dir(testkit.Program(t, "adytumd"))
	testkit.Program(t, "adytum")
	var out strings.Builder
	err := run(&out, bin)
	if err != nil {
		t.Log(out.String())
	}
	require.NoError(t, err)
	assert.Contains(t, out.String(), "every result as it should be")
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "adytum-tour-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
}
