package reference_test

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/reference"
)

func TestParseReadsEveryForm(t *testing.T) {
	cases := map[string]reference.Reference{
		"adytum:DB_PASSWORD":                       {Name: "DB_PASSWORD"},
		"adytum:_x9":                               {Name: "_x9"},
		"adytum:CONFIG:smtp.host":                  {Name: "CONFIG", Field: []string{"smtp", "host"}},
		"adytum:loans/live/DB_PASSWORD":            {Scope: reference.Environment, Project: "loans", Environment: "live", Name: "DB_PASSWORD"},
		"adytum:loans/live/DB_PASSWORD@12":         {Scope: reference.Environment, Project: "loans", Environment: "live", Name: "DB_PASSWORD", Version: 12},
		"adytum:loans/pr-17/CONFIG@3:keys.0.x-y_z": {Scope: reference.Environment, Project: "loans", Environment: "pr-17", Name: "CONFIG", Version: 3, Field: []string{"keys", "0", "x-y_z"}},
		"adytum:loans/DB_HOST":                     {Scope: reference.Project, Project: "loans", Name: "DB_HOST"},
		"adytum:loans/DB_HOST@1":                   {Scope: reference.Project, Project: "loans", Name: "DB_HOST", Version: 1},
		"adytum:/SMTP_HOST":                        {Scope: reference.Organization, Name: "SMTP_HOST"},
		"adytum:/SMTP@4:host":                      {Scope: reference.Organization, Name: "SMTP", Version: 4, Field: []string{"host"}},
	}
	for text, want := range cases {
		got, err := reference.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, text, got.String())
	}
}

func TestParsePointsAtTheCharacterAndSaysWhatWasExpected(t *testing.T) {
	cases := []struct {
		text     string
		offset   int
		expected string
	}{
		{"", 0, `"adytum:"`},
		{"env:X", 0, `"adytum:"`},
		{"adytum:", 7, "a name"},
		{"adytum:9LIVES", 7, "a name"},
		{"adytum:DB-PASSWORD", 9, `":" or the end`},
		{"adytum:DB PASSWORD", 9, `":" or the end`},
		{"adytum:DB_PASSWORD@3", 18, "can be pinned"},
		{"adytum:Loans/live/X", 7, "a project"},
		{"adytum:-a/X", 7, "a project"},
		{"adytum:a-/X", 7, "a project"},
		{"adytum:loans/Live/X", 13, "an environment"},
		{"adytum:loans/live/X/Y", 19, `"@" or ":" or the end`},
		{"adytum://X", 8, "a name"},
		{"adytum:/", 8, "a name"},
		{"adytum:loans/", 13, "a name"},
		{"adytum:loans/X@", 15, "a version"},
		{"adytum:loans/X@0", 15, "a version"},
		{"adytum:loans/X@01", 15, "a version"},
		{"adytum:loans/X@99999999999999999999", 15, "a version"},
		{"adytum:X:", 9, "a field"},
		{"adytum:X:a..b", 11, "a field"},
		{"adytum:X:a b", 10, `"." or the end`},
		{"adytum:X\x00", 8, `":" or the end`},
		{"adytum:" + strings.Repeat("A", 129), 7 + 128, "at most 128"},
		{"adytum:X:" + strings.Repeat("a.", 17) + "a", 9 + 33, "at most 16"},
	}
	for _, c := range cases {
		_, err := reference.Parse(c.text)
		var syntax *reference.SyntaxError
		require.True(t, errors.As(err, &syntax), "%q gives %v", c.text, err)
		assert.Equal(t, c.offset, syntax.Offset, "%q: %v", c.text, err)
		assert.Contains(t, syntax.Expected, c.expected, "%q", c.text)
	}
}

func TestASyntaxErrorQuotesNoMoreThanOneCharacter(t *testing.T) {
	_, err := reference.Parse("adytum:X hunter2-value")
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "hunter2")
}

func TestTextExpandsEveryEncoding(t *testing.T) {
	value := []byte(`p@ss "w'ord" <&>/%+ü`)
	lookup := func(reference.Reference) ([]byte, error) { return value, nil }
	cases := map[string]string{
		"plain {adytum:X} text":      "plain " + string(value) + " text",
		"u:{adytum:X?as=url}@h":      "u:p%40ss%20%22w%27ord%22%20%3C%26%3E%2F%25%2B%C3%BC@h",
		`{"p":"{adytum:X?as=json}"}`: `{"p":"p@ss \"w'ord\" \u003c\u0026\u003e/%+ü"}`,
		`p: "{adytum:X?as=yaml}"`:    `p: "p@ss \"w'ord\" \u003c\u0026\u003e/%+ü"`,
		"P={adytum:X?as=shell}":      `P='p@ss "w'\''ord" <&>/%+ü'`,
		"<p>{adytum:X?as=xml}</p>":   `<p>p@ss &#34;w&#39;ord&#34; &lt;&amp;&gt;/%+ü</p>`,
		"{adytum:X?as=base64}":       "cEBzcyAidydvcmQiIDwmPi8lK8O8",
		"adytum:X":                   string(value),
		"{adytum::X} {adytum:X:f}":   "{adytum:X} " + string(value),
		"no reference {at} all":      "no reference {at} all",
		"":                           "",
	}
	for text, want := range cases {
		parsed, err := reference.ParseText(text)
		require.NoError(t, err, text)
		got, err := parsed.Expand(lookup)
		require.NoError(t, err, text)
		assert.Equal(t, want, string(got), text)
	}
}

func TestTextPointsIntoTheLongerText(t *testing.T) {
	for text, offset := range map[string]int{
		"a{adytum:X?as=rot13}": 14, "a{adytum:X": 10, "a{adytum:X?b}": 10, "x {adytum:9}": 10, "{adytum:X} {adytum:X-Y}": 20, "{adytum:X@1}": 9,
	} {
		_, err := reference.ParseText(text)
		var syntax *reference.SyntaxError
		require.True(t, errors.As(err, &syntax), "%q gives %v", text, err)
		assert.Equal(t, offset, syntax.Offset, "%q: %v", text, err)
	}
}

func TestAShellReadsBackWhatTheShellEncodingWrote(t *testing.T) {
	for _, value := range []string{"", "plain", "it's", "$(id) `id` ${X} \\ \" ! # ~ *", "a\nb\tc", "''"} {
		word, err := reference.Encode(reference.Shell, []byte(value))
		require.NoError(t, err)
		out, err := exec.Command("sh", "-c", "printf %s "+string(word)).Output()
		require.NoError(t, err)
		assert.Equal(t, value, string(out))
	}
}

func TestEncodingsRefuseWhatCannotStandThere(t *testing.T) {
	for as, value := range map[reference.Encoding]string{reference.JSON: "\xff", reference.YAML: "\xff", reference.Shell: "a\x00", reference.XML: "a\x01", "rot13": "a"} {
		_, err := reference.Encode(as, []byte(value))
		assert.Error(t, err, as)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"adytum:X", "adytum:a/b/X@1:f.g", "adytum:/X", "adytum:a/X", "adytum:", "adytum:a//X"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := reference.Parse(text)
		if err != nil {
			var syntax *reference.SyntaxError
			require.ErrorAs(t, err, &syntax)
			require.LessOrEqual(t, syntax.Offset, len(text))
			return
		}
		require.Equal(t, text, r.String(), "what is valid has one form")
		require.True(t, reference.ValidName(r.Name))
	})
}

func FuzzParseText(f *testing.F) {
	for _, s := range []string{"a{adytum:X?as=url}b", "{adytum::", "{adytum:X", "adytum:X", "{adytum:a/X@2:f}{adytum:Y}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		parsed, err := reference.ParseText(text)
		if err != nil {
			var syntax *reference.SyntaxError
			require.ErrorAs(t, err, &syntax)
			require.LessOrEqual(t, syntax.Offset, len(text))
			return
		}
		out, err := parsed.Expand(func(reference.Reference) ([]byte, error) { return []byte("v"), nil })
		require.NoError(t, err)
		if len(parsed.References()) == 0 && !strings.Contains(text, "{adytum::") {
			require.Equal(t, text, string(out))
		}
	})
}
