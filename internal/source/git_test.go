package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRawLines(t *testing.T) {
	before, after, path, ok := rawLine([]byte(":100644 100755 aaaa bbbb M\tsrc/a b.js"))
	require.True(t, ok)
	assert.Equal(t, []string{"aaaa", "bbbb", "src/a b.js"}, []string{before, after, path})
	for _, none := range []string{"", "commit", ":100644", ":1 2 3 4 M", "M\tpath"} {
		_, _, _, ok := rawLine([]byte(none))
		assert.False(t, ok, none)
	}
}

func TestQuotedPathsAreReadAsGitWritesThem(t *testing.T) {
	for quoted, path := range map[string]string{
		"plain":           "plain",
		`"a\tb\nc\"d\\e"`: "a\tb\nc\"d\\e",
		`"\303\274\033x"`: "ü\x1bx",
		`"cut`:            "cut",
		`"ends in \\"`:    `ends in \`,
		`"\"`:             `\`,
		`"a\rb\12"`:       "a\rb12",
	} {
		assert.Equal(t, path, unquote(quoted), quoted)
	}
}

func FuzzUnquote(f *testing.F) {
	f.Add(`"\303\274"`)
	f.Add(`"\`)
	f.Fuzz(func(t *testing.T, s string) {
		got := unquote(s)
		if !strings.HasPrefix(s, `"`) {
			require.Equal(t, s, got)
		}
		rawLine([]byte(":1 2 3 4 M\t" + s))
	})
}

func TestTheEnvironmentOfGitIsItsOwn(t *testing.T) {
	t.Setenv("GIT_DIR", "/elsewhere")
	t.Setenv("GIT_EXTERNAL_DIFF", "evil")
	cmd := repository{t.TempDir()}.command(t.Context(), "status")
	for _, v := range cmd.Env {
		assert.NotContains(t, v, "elsewhere")
		assert.NotContains(t, v, "evil")
	}
	assert.Contains(t, cmd.Env, "GIT_CONFIG_GLOBAL=/dev/null")
}
