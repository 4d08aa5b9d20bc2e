package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/access"
)

func TestTokensCarryTheirKindAndAChecksum(t *testing.T) {
	seen := map[string]bool{}
	for _, kind := range []access.TokenKind{access.PersonToken, access.WorkloadToken, access.ClientSecret} {
		for range 50 {
			token := string(access.NewToken(kind).Expose())
			require.True(t, access.ValidToken(token), token)
			require.False(t, seen[token])
			seen[token] = true
			for i := len(kind); i < len(token); i++ {
				other := byte('a')
				if token[i] == 'a' {
					other = 'b'
				}
				assert.False(t, access.ValidToken(token[:i]+string(other)+token[i+1:]), "one character of the token changed")
			}
			assert.False(t, access.ValidToken(token[1:]))
			assert.False(t, access.ValidToken(token+"0"))
		}
	}
}

func FuzzValidToken(f *testing.F) {
	f.Add("adyt_p_x")
	f.Fuzz(func(t *testing.T, text string) {
		if access.ValidToken(text) {
			require.Len(t, text, 7+43+6)
		}
	})
}
