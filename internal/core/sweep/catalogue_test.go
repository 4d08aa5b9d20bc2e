package sweep_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/sample"
	"adytum.example/internal/core/sweep"
)

// random is the same in every run: what is found must not be chance.
var random = rand.NewChaCha8([32]byte{1})

func names(matches []sweep.Match) []string {
	var all []string
	for _, m := range matches {
		all = append(all, m.Rule.Name)
	}
	return all
}

func TestEveryRuleFindsItsHitsAndNotItsMisses(t *testing.T) {
	rules := sweep.Catalogue()
	require.GreaterOrEqual(t, len(rules), 30)
	engine := sweep.NewEngine(rules)
	for _, r := range rules {
		t.Run(r.Name, func(t *testing.T) {
			assert.NotEmpty(t, r.Misses)
			for _, template := range r.Hits {
				for range 20 {
					text := sample.Expand(template, random)
					assert.Contains(t, names(engine.Find([]byte(text), sweep.Hint{Path: "app.conf"})), r.Name, "%s", template)
					inside := "first line\n" + text + "\nlast line\n"
					assert.Contains(t, names(engine.Find([]byte(inside), sweep.Hint{Path: "app.conf"})), r.Name, "within other lines: %s", template)
				}
			}
			for _, template := range r.Misses {
				for range 20 {
					text := sample.Expand(template, random)
					assert.NotContains(t, names(engine.Find([]byte(text), sweep.Hint{Path: "app.conf"})), r.Name, "%s", template)
				}
			}
		})
	}
}

func TestRulesWhoseExamplesNeedAChecksum(t *testing.T) {
	engine := sweep.NewEngine(sweep.Catalogue())
	token := string(access.NewToken(access.WorkloadToken).Expose())
	assert.Equal(t, []string{"adytum-token"}, names(engine.Find([]byte("TOKEN="+token), sweep.Hint{})))

	for _, r := range sweep.Catalogue() {
		if len(r.Hits) == 0 {
			assert.Contains(t, []string{"adytum-token", "age-secret-key"}, r.Name, "a rule without an example")
		}
	}
}

func TestRulesThatAreWrongAreAllNamed(t *testing.T) {
	_, err := sweep.ReadRules("rules.yaml", []byte(`
- name: Bad Name
  finds: x
  why: x
  remedy: x
  severity: terrible
  confidence: 2
  pattern: "("
  near: [ab]
  confirm: magic
- name: twice
  finds: x
  why: x
  remedy: x
  severity: low
  confidence: 0.5
  pattern: "abc"
  near: [abc]
- name: twice
  severity: low
`))
	require.Error(t, err)
	for _, want := range []string{"name is lower-case", "severity is", "confidence is", "missing closing )", "3 to 32", `"magic"`, "rule 3 (twice): finds, why and remedy", "stands twice"} {
		assert.ErrorContains(t, err, want)
	}
	_, err = sweep.ReadRules("rules.yaml", []byte("- name: x\n  colour: red\n"))
	assert.ErrorContains(t, err, "colour")
	_, err = sweep.ReadRules("rules.yaml", []byte(strings.Repeat("#", 2<<20)))
	assert.Error(t, err)
}
