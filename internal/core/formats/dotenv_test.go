package formats_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/formats"
)

const sample = `# settings of the loans service
export DB_HOST=db.fernhollow.example
DB_PASSWORD="two words # not a comment"  # a comment
EMPTY=
SPACED = padded value 	# comment
HASH=a#b
SINGLE='$HOME \n stays'
ESCAPED="line one\nline \"two\" \$5"
MULTI="first
second"
BACK=` + "`it's`" + `
URL=postgres://loans@db/loans?x=1
`

func TestReadDotenv(t *testing.T) {
	d, problems := formats.ReadDotenv(".env", []byte(sample))
	require.Empty(t, problems)
	got := map[string]string{}
	for _, v := range d.Variables {
		got[v.Name] = v.Value
	}
	assert.Equal(t, map[string]string{
		"DB_HOST": "db.fernhollow.example", "DB_PASSWORD": "two words # not a comment", "EMPTY": "", "SPACED": "padded value",
		"HASH": "a#b", "SINGLE": `$HOME \n stays`, "ESCAPED": "line one\nline \"two\" $5", "MULTI": "first\nsecond",
		"BACK": "it's", "URL": "postgres://loans@db/loans?x=1",
	}, got)
	assert.Equal(t, formats.Position{Line: 2, Column: 8}, d.Variables[0].Position)
}

func TestDotenvNamesEveryProblemWithItsPlace(t *testing.T) {
	_, problems := formats.ReadDotenv("app/.env", []byte("GOOD=1\n9BAD=x\nNOEQUALS\nA=\"x\" y\nGOOD=2\n  é=1\nOPEN=\"never\n"))
	var all []string
	for _, p := range problems {
		all = append(all, p.Error())
	}
	assert.Equal(t, []string{
		"app/.env:2:1: a name was expected here (a letter or \"_\", then letters, digits and \"_\")",
		"app/.env:3:9: \"=\" was expected behind NOEQUALS",
		"app/.env:4:7: the value of A has closed its quotes; a comment or the end of the line was expected here",
		"app/.env:5:1: GOOD was already set in line 1; keep one of the two",
		"app/.env:6:3: a name was expected here (a letter or \"_\", then letters, digits and \"_\")",
		"app/.env:7:6: the value of OPEN opens with \" and never closes",
	}, all)

	_, problems = formats.ReadDotenv(".env", []byte("A=1\nB=\xff\n"))
	require.Len(t, problems, 1)
	assert.Equal(t, ".env:2:3: the file is not UTF-8 text; save it as UTF-8", problems[0].Error())
}

func TestReplaceChangesTheValuesAndNothingElse(t *testing.T) {
	for _, ending := range []string{"\n", "\r\n"} {
		source := strings.ReplaceAll(sample, "\n", ending)
		d, problems := formats.ReadDotenv(".env", []byte(source))
		require.Empty(t, problems)
		assert.Equal(t, source, string(d.Replace(nil)))
		out := string(d.Replace(map[string]string{"DB_PASSWORD": "adytum:DB_PASSWORD", "DB_HOST": "adytum:DB_HOST", "SINGLE": "it's", "EMPTY": "a b"}))
		want := strings.NewReplacer(`"two words # not a comment"`, `"adytum:DB_PASSWORD"`, "db.fernhollow.example", "adytum:DB_HOST",
			`'$HOME \n stays'`, `"it's"`, "EMPTY=", "EMPTY='a b'").Replace(source)
		assert.Equal(t, want, out)
	}
}

func FuzzDotenv(f *testing.F) {
	f.Add([]byte(sample), "value")
	f.Add([]byte("A=\"\\"), "x\ny'\"$")
	f.Fuzz(func(t *testing.T, source []byte, value string) {
		d, problems := formats.ReadDotenv("f", source)
		if len(problems) > 0 {
			return
		}
		require.Equal(t, string(source), string(d.Replace(nil)))
		if len(d.Variables) == 0 || !validText(value) {
			return
		}
		name := d.Variables[0].Name
		again, problems := formats.ReadDotenv("f", d.Replace(map[string]string{name: value}))
		require.Empty(t, problems)
		require.Equal(t, value, again.Variables[0].Value, "a replaced value reads back")
		require.Len(t, again.Variables, len(d.Variables))
	})
}

func validText(s string) bool {
	return strings.ToValidUTF8(s, "") == s && !strings.ContainsRune(s, 0)
}
