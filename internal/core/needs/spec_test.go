package needs_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/needs"
)

func TestASpecIsKeptInOneFormAndMakesRules(t *testing.T) {
	spec := needs.Spec{Type: "integer", Range: "1..200", AllowedIn: map[string][]string{"live": {"25"}}}
	back, err := needs.ParseSpec(spec.Text())
	require.NoError(t, err)
	assert.Equal(t, spec, back)
	assert.Empty(t, needs.Spec{}.Text())
	_, err = needs.ParseSpec("{")
	assert.Error(t, err)

	rules, wrong := spec.Rules()
	require.Empty(t, wrong)
	for value, right := range map[string]bool{"25": true, "26": false, "201": false, "x": false} {
		_, err := rules.Check("live", []byte(value))
		assert.Equal(t, right, err == nil, value)
	}
	_, err = rules.Check("staging", []byte("26"))
	assert.NoError(t, err)
}

func TestEverythingThatIsWrongWithASpecIsTold(t *testing.T) {
	_, wrong := needs.Spec{Type: "integr", Pattern: "(", Range: "9..1", Length: "x"}.Rules()
	text := errors.Join(wrong...).Error()
	for _, want := range []string{`the type "integr"; did you mean integer?`, "not a regular expression", "has a range that is none", "has a length that is none"} {
		assert.Contains(t, text, want)
	}
	for says, spec := range map[string]needs.Spec{
		"is a choice and says no choices":   {Type: "choice"},
		"has a range, which is for integer": {Range: "1..2"},
		"has rules of more than":            {Pattern: strings.Repeat("a", 1001)},
	} {
		_, wrong := spec.Rules()
		assert.ErrorContains(t, errors.Join(wrong...), says)
	}
}
