package needs_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/needs"
)

const sample = `# what the loans service needs
project: loans
needs:
  DATABASE_URL:
    about: where requests between branches are kept
    value: postgres://loans:{adytum:DB_PASSWORD?as=url}@{adytum:DB_HOST}/loans
  QUILLPOST_KEY:
    secret: true
    pattern: ^qpst_[a-z0-9]{32}$
  PAGE_SIZE:
    type: integer
    range: 1..200
    default: 25
  SHOW_TRACEBACKS:
    type: boolean
    default: false
    allowed-in: {live: [false]}
  TLS_KEY:
    secret: true
    into: file
  PLAIN:
`

func TestReadASample(t *testing.T) {
	f, problems := needs.Read(needs.FileName, []byte(sample))
	require.Empty(t, problems)
	assert.Equal(t, "loans", f.Project)
	require.Len(t, f.Needs, 6)
	assert.Equal(t, "DATABASE_URL", f.Needs[0].Name)
	assert.Len(t, f.Needs[0].Text().References(), 2)
	assert.Equal(t, "QUILLPOST_KEY", f.Needs[1].Text().References()[0].Name)
	assert.True(t, f.Needs[1].Secret && f.Needs[1].Required)
	assert.Equal(t, "25", *f.Needs[2].Default)
	assert.False(t, f.Needs[2].Required)
	assert.Equal(t, 14, f.Needs[3].Line)
	assert.True(t, f.Needs[5].Required)
}

func TestEveryProblemOfAFileAtOnceWithItsPlace(t *testing.T) {
	_, problems := needs.Read("n.yaml", []byte(`project: Loans
colour: red
needs:
  A: {type: intger}
  B: {patern: x}
  C: {pattern: "("}
  D: {range: 5..1}
  A: {}
  E: {secret: true, browser: true}
  F: {secret: true, default: hunter2}
  G: {type: integer, default: many}
  H: {value: "x{adytum:9}"}
  I: {secret: perhaps}
  LD_PRELOAD: {}
  9J: {}
  K: [1]
  L: {type: choice}
  M: {into: memory}
  N: {renamed-from: B}
  ADYTUM_URL: {}
`))
	var all []string
	for _, p := range problems {
		all = append(all, p.Error())
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{
		`n.yaml:1:10: "Loans" is not a project's name`,
		`n.yaml:2:1: the file has the key "colour"`,
		`n.yaml:4:13: A has the type "intger"; did you mean integer?`,
		`n.yaml:5:7: B has the key "patern", which a needs file does not know; did you mean pattern?`,
		"n.yaml:6:16: C has a pattern that is not a regular expression",
		"n.yaml:7:14: D: range has the form 1..200",
		"n.yaml:8:3: A stands twice in needs, first in line 4",
		"n.yaml:9:3: E is a secret and may not go to the browser",
		"n.yaml:10:30: F is a secret and has a default here",
		"n.yaml:11:31: the default of G is not an integer",
		"n.yaml:12:14: H: the reference has '9' at character 10",
		`n.yaml:13:15: secret says "perhaps"`,
		"n.yaml:14:3: LD_PRELOAD steers",
		`n.yaml:15:3: "9J" is not a name`,
		"n.yaml:16:6: K holds a list",
		"n.yaml:17:3: L is a choice and says no choices",
		`n.yaml:18:13: M says "into: memory"`,
		"n.yaml:19:1: N says that it was B before",
		"n.yaml:20:3: ADYTUM_URL is reserved",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "hunter2")
	assert.Len(t, problems, 19)
}

func TestFilesThatAreNone(t *testing.T) {
	for source, want := range map[string]string{
		"":                                   "empty",
		"project: loans\n\tneeds:":           "n.yaml:2:1: a tab",
		"project: [":                         "not YAML",
		"- a":                                "holds a list",
		"needs: {}":                          "does not say",
		strings.Repeat("#", needs.MaxFile+1): "more than 1 MiB",
	} {
		_, problems := needs.Read("n.yaml", []byte(source))
		require.NotEmpty(t, problems, want)
		assert.Contains(t, problems[0].Error(), want)
	}
}

func check(t *testing.T, yaml, environment, value string) (string, error) {
	t.Helper()
	f, problems := needs.Read("n.yaml", []byte("project: p\nneeds:\n  A: {"+yaml+"}\n"))
	require.Empty(t, problems)
	got, err := f.Needs[0].Rules.Check(environment, []byte(value))
	return string(got), err
}

func TestTypes(t *testing.T) {
	good := map[string][]string{
		"integer": {"0", "-12", "+7"}, "number": {"1", "-0.5", "1e6"}, "duration": {"30s", "1h30m"},
		"url": {"https://a.example/x?y", "postgres://a@b/c"}, "email": {"ines@fernhollow.example"},
		"host": {"db.example", "10.0.0.1", "[::1]:80", "db:5432"}, "json": {`{"a":1}`, "1"}, "base64": {"YQ==", ""},
		"pem": {"-----BEGIN X-----\nYQ==\n-----END X-----\n"}, "text": {"", "anything"},
	}
	bad := map[string][]string{
		"integer": {"", "1.5", "x", " 1", "99999999999999999999"}, "number": {"", "NaN", "Inf", "0x1p3", "1_0"}, "duration": {"5", "soon"},
		"url": {"", "a.example", "://x"}, "email": {"ines", "Ines <i@f.example>"}, "host": {"", "a b", "-a", "db:0", "db:99999", "a_b"},
		"json": {"", "{"}, "base64": {"YQ", "%"}, "pem": {"", "BEGIN"}, "boolean": {"", "2", "ja", "tru"},
	}
	for typ, values := range good {
		for _, v := range values {
			got, err := check(t, "type: "+typ, "", v)
			assert.NoError(t, err, "%s %q", typ, v)
			assert.Equal(t, v, got)
		}
	}
	for typ, values := range bad {
		for _, v := range values {
			_, err := check(t, "type: "+typ, "", v)
			assert.Error(t, err, "%s %q", typ, v)
		}
	}
}

func TestFalseIsFalseHoweverItIsWritten(t *testing.T) {
	for value, want := range map[string]string{"true": "true", "YES": "true", "On": "true", "1": "true", "False": "false", "no": "false", "OFF": "false", "0": "false"} {
		got, err := check(t, "type: boolean", "", value)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func TestRulesSayWhatIsWrongAndNeverTheValue(t *testing.T) {
	cases := []struct{ yaml, environment, value, says string }{
		{"type: integer, range: 1..200", "", "201", "is outside its range 1..200"},
		{"type: duration, range: ..60", "", "2m", "is outside its range ..60"},
		{"pattern: ^qpst_", "", "s3cr3t-value", "does not match its pattern ^qpst_"},
		{"length: 20..", "", "s3cr3t-value", "has 12 characters; its length is 20.."},
		{"type: choice, choices: [red, green]", "", "s3cr3t-value", "is none of its choices: red, green"},
		{"type: boolean, allowed-in: {live: [no]}", "live", "on", "not allowed in live"},
	}
	for _, c := range cases {
		_, err := check(t, c.yaml, c.environment, c.value)
		require.ErrorContains(t, err, c.says)
		assert.NotContains(t, err.Error(), "s3cr3t-value")
	}
	_, err := check(t, "type: boolean, allowed-in: {live: [no]}", "live", "off")
	assert.NoError(t, err)
	_, err = check(t, "type: boolean, allowed-in: {live: [no]}", "staging", "on")
	assert.NoError(t, err)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("project: a\nneeds: {A: {type: [1]}}"))
	f.Fuzz(func(t *testing.T, source []byte) {
		file, problems := needs.Read("n", source)
		if len(problems) == 0 {
			for _, n := range file.Needs {
				n.Text()
			}
		}
	})
}
