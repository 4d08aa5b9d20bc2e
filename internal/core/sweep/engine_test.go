package sweep

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/sample"
)

// random is the same in every run: what is found must not be chance.
var random = rand.NewChaCha8([32]byte{2})

func TestTheAutomatonFindsWhatANaiveSearchFinds(t *testing.T) {
	numbers := rand.New(rand.NewPCG(3, 4))
	text := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = "abAB_-"[numbers.IntN(6)]
		}
		return string(b)
	}
	for range 300 {
		var words []string
		seen := map[string]bool{}
		for range 1 + numbers.IntN(12) {
			if w := strings.ToLower(text(1 + numbers.IntN(5))); !seen[w] {
				seen[w] = true
				words = append(words, w)
			}
		}
		data := text(numbers.IntN(200))
		var want, got []string
		for k, w := range words {
			for i := 0; i+len(w) <= len(data); i++ {
				if strings.EqualFold(data[i:i+len(w)], w) {
					want = append(want, fmt.Sprint(k, " ", i))
				}
			}
		}
		newAutomaton(words).find([]byte(data), func(k int32, start int) { got = append(got, fmt.Sprint(k, " ", start)) })
		require.ElementsMatch(t, want, got, "%v in %q", words, data)
	}
}

func TestStrengthTellsRandomFromMade(t *testing.T) {
	for range 200 {
		for _, template := range []string{"<base62:24>", "<hex:40>", "<lower36:32>", "<base64:32>"} {
			value := sample.Expand(template, random)
			assert.Greater(t, Strength([]byte(value)), 70.0, value)
		}
	}
	for _, made := range []string{"password", "aaaaaaaaaaaaaaaaaaaaaaaaaaaa", "abcabcabcabcabcabcabcabc", "12345678901234567890", "qwertyuiopasdfghjkl", "correct-horse-battery", "authenticationProvider"} {
		assert.Less(t, Strength([]byte(made)), 60.0, made)
	}
}

func TestJudgementOfAssignments(t *testing.T) {
	engine := NewEngine(Catalogue())
	found := func(path, text string) bool { return len(engine.Find([]byte(text), Hint{Path: path})) > 0 }
	value := func(template string) string { return sample.Expand(template, random) }
	leaks := map[string]string{
		"app.py": "SECRET_KEY = '" + value("<base62:32>") + "'", "app.go": "var apiKey = \"" + value("<base62:32>") + "\"",
		"App.kt": "val clientSecret: String = \"" + value("<base62:32>") + "\"", "a.rb": ":auth_token => '" + value("<hex:40>") + "'",
		"a.php": "define('DB_PASSWORD', '" + value("<base62:16>") + "');", "c.properties": "db.password=" + value("<base62:16>"),
		"c.yaml": "  apiToken: " + value("<hex:40>"), "c.toml": "secret_key = \"" + value("<base62:32>") + "\"", "c.xml": "<password>" + value("<base62:16>") + "</password>",
		"Dockerfile": "ENV SERVICE_TOKEN=" + value("<hex:40>"), "run": "tool --password " + value("<base62:16>"), "x.json": `{"a":"{\"client_secret\":\"` + value("<base62:30>") + `\"}"}`,
		"q.sql": "-- password = '" + value("<base62:16>") + "'", "main.tf": "  secret_key = \"" + value("<base62:32>") + "\"",
	}
	for path, text := range leaks {
		assert.True(t, found(path, text), "%s: %s", path, text)
	}
	fine := map[string]string{
		"a.go": `password := os.Getenv("DB_PASSWORD")`, "a.js": "const token = await getToken(request.headers.authorization)", "a.ts": "password: string;",
		"b.py": "api_key=config['production']['api_key_9f8e7d6c5b4a']", "c.yaml": "password: ${DB_PASSWORD}", "d.yaml": "secretName: loans-database-credentials", "e.yaml": "password: adytum:DB_PASSWORD",
		"package-lock.json": `"token": "` + value("<base62:40>") + `"`, "f.js": "if (password === '" + value("<base62:20>") + "') {", "g.json": `{"password": "Wachtwoord vergeten?"}`,
		"h.html": `<input type="password" name="password" id="userPassword1">`, "i.go": `const TokenURL = "https://sign-in.fernhollow.example/oauth/token"`, "j.js": "publicKey: '" + value("<base62:40>") + "'",
		"k.css": ".token-keyword { color: #a63a2b99 }", "l.go": "tokenID := \"7d444840-9dc0-11d1-b245-5ffdce74fad2\"", "m.yml": "api_key: <your-api-key>", "n.md": "Set `API_KEY=xxxxxxxxxxxxxxxx` first.",
		"o.sh": "PASSWORD=$(cat /run/secrets/db)", "p.env": "SECRET_KEY=changeme-please-1234", "q.go": "sortKey = \"" + value("<base62:24>") + "\"", "r.ts": "const csrfToken = '" + value("<base62:24>") + "'",
	}
	for path, text := range fine {
		assert.False(t, found(path, text), "%s: %s", path, text)
	}
}

func TestWindowsMeetWithoutGapOrRepetition(t *testing.T) {
	// A token at every offset around the end of the first window.
	engine := NewEngine(Catalogue())
	filler := bytes.Repeat([]byte("some words, \n"), (window+2*overlap)/13)
	for _, offset := range []int{window - 50, window - 20, window, window + 7, window + overlap - 20, window + overlap} {
		token := sample.Expand("ghp_<base62:30><crc62>", random)
		data := bytes.Clone(filler)
		copy(data[offset:], " "+token+" ")
		hits, size, err := NewSearcher(engine).Search(bytes.NewReader(data), Hint{})
		require.NoError(t, err)
		assert.EqualValues(t, len(data), size)
		require.Len(t, hits, 1, "at %d", offset)
		assert.Equal(t, bytes.Count(data[:offset+1], []byte("\n"))+1, hits[0].Line)
		assert.Equal(t, offset+1-bytes.LastIndexByte(data[:offset+1], '\n'), hits[0].Column)
	}
}

// A file full of matches takes time by its length: 80,000 of them would take
// minutes if each were compared with each.
func TestAFileFullOfMatches(t *testing.T) {
	engine := NewEngine(Catalogue())
	line := []byte("k='" + sample.Expand("ghp_<base62:30><crc62>", random) + "' password = \"" + sample.Expand("<base62:20>", random) + "\"\n")
	for name, data := range map[string][]byte{"lines": bytes.Repeat(line, 40_000), "one line": bytes.Repeat(bytes.TrimSpace(line), 40_000)} {
		start := time.Now()
		hits, _, err := NewSearcher(engine).Search(bytes.NewReader(data), Hint{})
		require.NoError(t, err)
		assert.Len(t, hits, 80_000, name)
		assert.Less(t, time.Since(start), time.Minute, name)
	}
}

func TestBech32AsBIP173HasIt(t *testing.T) {
	for _, valid := range []string{"A12UEL5L", "a12uel5l", "an83characterlonghumanreadablepartthatcontainsthenumber1andtheexcludedcharactersbio1tt5tgs",
		"abcdef1qpzry9x8gf2tvdw0s3jn54khce6mua7lmqqqxw", "split1checkupstagehandshakeupstreamerranterredcaperred2y9e3w"} {
		assert.True(t, bech32([]byte(valid)), valid)
		assert.False(t, bech32([]byte(valid[:len(valid)-1]+"q")), "%s, its last character changed", valid)
	}
	for _, invalid := range []string{"", "1", "x1b4n0q5v", "li1dgmt3", "A1G7SGD8", "10a06t8", "pzry9x0s0muk"} {
		assert.False(t, bech32([]byte(invalid)), invalid)
	}
}

func TestAnExcerptShowsThePlaceAndNoValue(t *testing.T) {
	engine := NewEngine(Catalogue())
	first, second, unknown := sample.Expand("ghp_<base62:30><crc62>", random), sample.Expand("sk_live_<base62:40>", random), sample.Expand("<base62:40>", random)
	line := "deploy(" + unknown + ", '" + first + "', '" + second + "') \x1b[31m"
	hits, _, err := NewSearcher(engine).Search(strings.NewReader("x\n"+line+"\ny"), Hint{})
	require.NoError(t, err)
	require.Len(t, hits, 2)
	for _, h := range hits {
		for _, v := range []string{first, second, unknown, "\x1b"} {
			assert.NotContains(t, h.Excerpt, v)
		}
		assert.Contains(t, h.Excerpt, "[withheld, ")
	}
}

func TestOurOwnSourceIsClean(t *testing.T) {
	engine := NewEngine(Catalogue())
	root := filepath.Join("..", "..", "..")
	for _, folder := range []string{"cmd", "client", "internal", "demo", "docs", "web/src"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, folder), func(path string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/dist/") || strings.HasSuffix(path, ".png") {
				return err
			}
			data, err := os.ReadFile(path)
			for _, m := range engine.Find(data, Hint{Path: path}) {
				assert.Fail(t, "a finding in our own source", "%s: %s", path, m.Rule.Name)
			}
			return err
		}))
	}
}

func FuzzFind(f *testing.F) {
	for _, r := range Catalogue() {
		for _, h := range r.Hits {
			f.Add([]byte(sample.Expand(h, random)), "a.conf")
		}
	}
	f.Add([]byte("password=\x00\"\\"), "a.js")
	engine := NewEngine(Catalogue())
	f.Fuzz(func(t *testing.T, data []byte, path string) {
		end := 0
		for _, m := range engine.Find(data, Hint{Path: path}) {
			require.GreaterOrEqual(t, m.Start, end, "matches are in order and do not overlap")
			require.Less(t, m.Start, m.End)
			require.LessOrEqual(t, m.End, len(data))
			end = m.End
		}
		hits, _, err := NewSearcher(engine).Search(bytes.NewReader(data), Hint{Path: path})
		require.NoError(t, err)
		for _, h := range hits {
			require.Positive(t, h.Line)
			require.Positive(t, h.Column)
			require.NotContains(t, h.Excerpt, "\x1b")
		}
	})
}

func FuzzReadRules(f *testing.F) {
	f.Add([]byte("- name: x\n  finds: a\n  why: b\n  remedy: c\n  severity: low\n  confidence: 0.5\n  pattern: 'a+'\n  near: [abc]\n"))
	f.Fuzz(func(_ *testing.T, source []byte) {
		if rules, err := ReadRules("f", source); err == nil {
			NewEngine(rules).Find([]byte("abc aaa"), Hint{})
		}
	})
}
