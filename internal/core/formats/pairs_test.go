package formats_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/formats"
)

// samples are one file of each format with the names that it holds.
var samples = map[formats.Format]struct{ file, content, want string }{
	formats.DotenvFormat:     {"a", "# how loans runs\nexport PGHOST=db.example\nPGPASSWORD='a b' # why\nKEY=\"one\\ntwo\"\n", "PGHOST=db.example PGPASSWORD=a b KEY=one\ntwo"},
	formats.JSONFormat:       {"a", `{"PGHOST": "db.example", "port": 5432, "debug": false, "smtp": {"host": "m.example", "tls": true}, "tags": ["a", 1]}`, `PGHOST=db.example port=5432 debug=false SMTP_HOST=m.example SMTP_TLS=true tags=["a",1]`},
	formats.YAMLFormat:       {"a", "base: &b\n  host: db.example\nother:\n  <<: *b\n  port: 05432\nempty: ''\nblock: |\n  one\n  two\n", "BASE_HOST=db.example OTHER_HOST=db.example OTHER_PORT=05432 empty= block=one\ntwo\n"},
	formats.TOMLFormat:       {"a", "# x\ntitle = \"t\"\n[db]\nhost = 'db.example'\nport = 5432\nflags = [1, 2]\ninline = {a = true}\n", "title=t DB_HOST=db.example DB_PORT=5432 DB_FLAGS=[1,2] DB_INLINE_A=true"},
	formats.PropertiesFormat: {"a", "# x\ndb.host = db.example\ndb.url: jdbc:x:y\nname.long=a\\\n  b\nkey\\ with=\\u00e9 ${db.host}\n", "DB_HOST=db.example DB_URL=jdbc:x:y NAME_LONG=ab KEY_WITH=é ${db.host}"},
	formats.Kubernetes: {"a", "apiVersion: v1\nkind: Secret\nmetadata: {name: x}\ndata:\n  PGPASSWORD: c2VjcmV0\nstringData:\n  tls.key: abc\n---\nkind: ConfigMap\ndata:\n  PGHOST: db.example\nbinaryData:\n  LOGO: AAH/\n---\nkind: Deployment\nspec: {}\n",
		"PGPASSWORD=secret(secret) TLS_KEY=abc(secret) PGHOST=db.example(setting) LOGO=\x00\x01\xff(secret)"},
}

func written(pairs []formats.Pair) string {
	var all []string
	for _, p := range pairs {
		kind := ""
		if p.Kind != "" {
			kind = "(" + p.Kind + ")"
		}
		all = append(all, p.Name+"="+string(p.Value)+kind)
	}
	return strings.Join(all, " ")
}

func TestEveryFormatIsToldByItsContentAndRead(t *testing.T) {
	for format, s := range samples {
		assert.Equal(t, format, formats.Detect(s.file, []byte(s.content)))
		pairs, problems := formats.ReadPairs(s.file, []byte(s.content), format)
		assert.Empty(t, problems, format)
		assert.Equal(t, s.want, written(pairs), format)
	}
	for content, want := range map[string]formats.Format{
		"A=1\nB=2\n": formats.DotenvFormat, "": formats.DotenvFormat, "\xEF\xBB\xBFA=1\n": formats.DotenvFormat, "A = \"x\"\nB = 'y'\n": formats.TOMLFormat,
		"a: 1\nb: x=y\n": formats.YAMLFormat, "---\nA: b\n": formats.YAMLFormat, `{"kind": "Secret", "data": {}}`: formats.Kubernetes, "{\n \"a\": 1}": formats.JSONFormat,
		"a.b=1\nC=2\n": formats.PropertiesFormat, "URL=https://a:b@c.example\n": formats.DotenvFormat,
	} {
		assert.Equal(t, want, formats.Detect("settings", []byte(content)), content)
	}
	assert.Equal(t, formats.PropertiesFormat, formats.Detect("app.properties", []byte("a=b\n")))
}

func TestWhatCannotBeReadSaysWhere(t *testing.T) {
	for _, c := range []struct {
		format  formats.Format
		content string
		says    []string
	}{
		{formats.JSONFormat, "{\n  \"a\": hunter2}", []string{"f:2:8: this is not JSON from here on"}},
		{formats.JSONFormat, `{"a": null, "a": 1, "b": 1, "b": 2}`, []string{"a has no value", "b stands twice"}},
		{formats.JSONFormat, `{"a-b": 1, "a_b": 2, "A_B": 3}`, []string{"would both be the entry"}},
		{formats.YAMLFormat, "a: 'hunter2\nb: x", []string{"this is not YAML"}},
		{formats.YAMLFormat, "- a\n- b\n", []string{"does not hold names with values"}},
		{formats.YAMLFormat, "a: !!binary '%%'\n", []string{"the value of a is not base64"}},
		{formats.TOMLFormat, "a = 1\nb = hunter2\n", []string{"f:2:5: this is not TOML from here on"}},
		{formats.TOMLFormat, "[[a]]\nb = 1\n", []string{"an array of tables"}},
		{formats.Kubernetes, "kind: Secret\ndata:\n  A: hunter2!\n  B: [1]\n", []string{"the value of A is not base64", "the value of B is not text"}},
		{formats.PropertiesFormat, "a=\\u12\n", []string{"not a properties file"}},
		{formats.DotenvFormat, "A=1\nA=2\nB='x\n", []string{"A", "B"}},
		{formats.DotenvFormat, "A=1\nB=\xff\n", []string{"f:2:3: the file is not UTF-8 text"}},
		{formats.YAMLFormat, "\xff\xfea\x00", []string{"the file is UTF-16; save it as UTF-8"}},
		{"ini", "a=b", []string{`there is no format "ini"`}},
	} {
		_, problems := formats.ReadPairs("f", []byte(c.content), c.format)
		var all []error
		for _, p := range problems {
			all = append(all, p)
		}
		require.NotEmpty(t, all, c.content)
		text := errors.Join(all...).Error()
		for _, want := range c.says {
			assert.Contains(t, text, want)
		}
		assert.NotContains(t, text, "hunter2", "no value in a message")
	}
}

func TestAliasesThatGrowWithoutBoundAreRefused(t *testing.T) {
	var b strings.Builder
	b.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [*a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d]\n", i, i, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1)
	}
	_, problems := formats.ReadPairs("f", []byte(b.String()), formats.YAMLFormat)
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].What, "aliases grow beyond all bounds")
	_, problems = formats.ReadPairs("f", []byte("a: &a\n  b: *a\n"), formats.YAMLFormat)
	assert.NotEmpty(t, problems, "an alias within itself ends")
}

// What was written comes back byte for byte, in every format.
func TestWrittenFilesComeBack(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	pieces := []string{"a", "Z", "7", " ", "'", "\"", "\\", "$", "#", "=", ":", "\n", "\t", "`", "{", "&", "*", "!", "%", "é", "漢", "🙂", "\r\n", "${X}", "true", "null", "0x1f", "-", "~", "<<", "\u2028", "\u0085"}
	for round := range 400 {
		var pairs []formats.Pair
		for i := range 1 + random.IntN(6) {
			var v strings.Builder
			for range random.IntN(12) {
				v.WriteString(pieces[random.IntN(len(pieces))])
			}
			pairs = append(pairs, formats.Pair{Name: fmt.Sprintf("N%d", i), Value: []byte(v.String()), Kind: []string{"secret", "setting"}[random.IntN(2)]})
		}
		for _, format := range formats.Formats {
			fits := pairs[:0:0]
			for _, p := range pairs {
				if format.CannotHold(p.Value) == "" {
					fits = append(fits, p)
				}
			}
			content, err := formats.WritePairs(format, "x", fits)
			require.NoError(t, err)
			back, problems := formats.ReadPairs("f", content, format)
			require.Empty(t, problems, "%s, round %d:\n%s", format, round, content)
			want := map[string]string{}
			for _, p := range fits {
				want[p.Name] = string(p.Value)
			}
			got := map[string]string{}
			for _, p := range back {
				got[p.Name] = string(p.Value)
			}
			require.Equal(t, want, got, "%s, round %d:\n%s", format, round, content)
		}
	}
	binary := []formats.Pair{{Name: "B", Value: []byte{0, 255}, Kind: "secret"}}
	content, err := formats.WritePairs(formats.Kubernetes, "x", binary)
	require.NoError(t, err)
	assert.Equal(t, formats.Kubernetes, formats.Detect("f", content))
	back, _ := formats.ReadPairs("f", content, formats.Kubernetes)
	assert.Equal(t, []byte{0, 255}, back[0].Value)
	for format, says := range map[formats.Format]string{formats.DotenvFormat: "not text", formats.JSONFormat: "not text"} {
		assert.Contains(t, format.CannotHold([]byte{255}), says)
	}
	assert.Contains(t, formats.TOMLFormat.CannotHold([]byte{0}), "NUL")
	assert.Contains(t, formats.YAMLFormat.CannotHold([]byte("a\x1b[31m")), "control")
	_, err = formats.WritePairs("ini", "x", nil)
	assert.Error(t, err)
}

func TestKeysBecomeNames(t *testing.T) {
	for key, want := range map[string]string{"PGHOST": "PGHOST", "log_level": "log_level", "db.host": "DB_HOST", "tls.key": "TLS_KEY", "2fa": "_2FA", "a--b": "A_B", "-": "", "é": ""} {
		assert.Equal(t, want, formats.NameOf(key), key)
	}
}

func FuzzReadPairs(f *testing.F) {
	for format, s := range samples {
		f.Add(s.content, string(format))
	}
	f.Fuzz(func(t *testing.T, content, format string) {
		formats.Detect("f", []byte(content))
		pairs, problems := formats.ReadPairs("f", []byte(content), formats.Format(format))
		if len(problems) > 0 {
			return
		}
		names := map[string]bool{}
		for _, p := range pairs {
			if names[p.Name] || p.Name == "" {
				t.Fatalf("the name %q twice, or empty", p.Name)
			}
			names[p.Name] = true
		}
	})
}
