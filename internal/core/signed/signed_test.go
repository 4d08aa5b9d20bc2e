package signed_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/signed"
)

func TestSubjectsAreMatchedSegmentBySegment(t *testing.T) {
	for _, c := range []struct {
		pattern, subject string
		want             bool
	}{
		{"repo:fernhollow/loans:ref:refs/heads/main", "repo:fernhollow/loans:ref:refs/heads/main", true},
		{"repo:fernhollow/*:ref:refs/heads/main", "repo:fernhollow/notices:ref:refs/heads/main", true},
		{"repo:fernhollow/*:ref:refs/heads/main", "repo:fernhollow/loans/extra:ref:refs/heads/main", false},
		{"repo:fernhollow/*:ref:refs/heads/main", "repo:fernhollow/x:ref:refs/heads/main:ref:refs/heads/main", false},
		{"repo:fernhollow/*:ref:refs/heads/main", "repo:fernhollow/:ref:refs/heads/main", false},
		{"repo:fernhollow/loans:*", "repo:fernhollow/loans:environment", true},
		{"repo:fernhollow/loans:*", "repo:fernhollow/loans:environment:live", false},
		{"repo:fernhollow/loans:*", "repo:fernhollow-evil/loans:environment", false},
		{"system:serviceaccount:loans:*", "system:serviceaccount:loans:server", true},
		{"system:serviceaccount:loans:*", "system:serviceaccount:loans2:server", false},
		{"system:serviceaccount:*:server", "system/serviceaccount/loans/server", false},
		{"a", "A", false}, {"a", "a ", false}, {"*:a", ":a", false},
	} {
		assert.Equal(t, c.want, signed.MatchSubject(c.pattern, c.subject), "%s %s", c.pattern, c.subject)
	}
	for pattern, says := range map[string]string{"": "1 to 500", strings.Repeat("x", 501): "1 to 500", "*": "everybody", "*:*": "everybody", "*/*:*": "everybody", "repo:fern*": "whole segment", "repo:**": "whole segment"} {
		assert.ErrorContains(t, signed.CheckPattern(pattern), says, pattern)
	}
	assert.NoError(t, signed.CheckPattern("repo:fernhollow/*:ref:refs/heads/main"))
}

func TestPinnedClaims(t *testing.T) {
	c := &signed.Claims{Subject: "repo:x", All: map[string]any{"repository_id": "42", "protected": true, "run": float64(7), "list": []any{"a"}}}
	for _, trust := range []struct {
		claims map[string]string
		want   bool
	}{
		{nil, true}, {map[string]string{"repository_id": "42"}, true}, {map[string]string{"repository_id": "43"}, false}, {map[string]string{"protected": "true"}, true},
		{map[string]string{"run": "7"}, true}, {map[string]string{"list": "a"}, false}, {map[string]string{"none": ""}, false}, {map[string]string{"repository_id": "42", "protected": "false"}, false},
	} {
		assert.Equal(t, trust.want, signed.Trust{Subject: "repo:x", Claims: trust.claims}.Accepts(c), "%v", trust.claims)
	}
	assert.False(t, signed.Trust{Subject: "repo:y"}.Accepts(c))
}

func FuzzRead(f *testing.F) {
	f.Add("eyJhbGciOiJub25lIn0.eyJzdWIiOiJ4In0.")
	f.Add("a.b.c")
	f.Fuzz(func(t *testing.T, text string) {
		if token, err := signed.Read(text); err == nil {
			require.NotNil(t, token)
		} else {
			require.NotEmpty(t, err.Error())
			if len(text) > 20 {
				require.NotContains(t, err.Error(), text)
			}
		}
	})
}

func FuzzMatchSubject(f *testing.F) {
	f.Add("repo:a/*:b", "repo:a/c:b")
	f.Fuzz(func(t *testing.T, pattern, subject string) {
		if !strings.Contains(pattern, "*") {
			require.Equal(t, pattern == subject, signed.MatchSubject(pattern, subject))
		}
		if signed.MatchSubject(pattern, subject) {
			require.Equal(t, strings.Count(pattern, ":")+strings.Count(pattern, "/"), strings.Count(subject, ":")+strings.Count(subject, "/"))
		}
	})
}
