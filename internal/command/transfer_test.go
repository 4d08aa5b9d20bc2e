package command_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

func TestImport(t *testing.T) {
	_, sh := loans(t)
	testkit.Write(t, sh.Folder, "settings.env", "DB_PASSWORD='Zk3vQ9sLw2Xc7Bn5'\nPAGE_SIZE=25\nDATABASE_URL=postgres://a:Zk3vQ9sLw2@db/x\n")
	r := sh.OK(t, "", "import", "settings.env", "--dry-run")
	assert.Equal(t, "NAME          KIND     IN loans/live\nDB_PASSWORD   secret   new\nPAGE_SIZE     setting  new\nDATABASE_URL  secret   new\n", r.Stdout)
	assert.Contains(t, r.Stderr, "Nothing was done; 3 of 3 would be kept.")
	assert.Contains(t, sh.Run(t, "", "list").Stderr, "no entries yet")
	sh.OK(t, "", "import", "settings.env", "--because", "moved")
	assert.Equal(t, "Zk3vQ9sLw2Xc7Bn5", sh.OK(t, "", "value", "DB_PASSWORD").Stdout)
	assert.Contains(t, sh.OK(t, "", "show", "DB_PASSWORD").Stdout, "imported from settings.env")

	assert.Contains(t, sh.OK(t, "", "import", "settings.env").Stderr, "has all of it already")
	testkit.Write(t, sh.Folder, "more.json", `{"PAGE_SIZE": 30, "DB_PASSWORD": "Zk3vQ9sLw2Xc7Bn5", "smtp": {"host": "m.example"}}`)
	r = sh.Run(t, "", "import", "more.json")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stdout, "PAGE_SIZE    setting  set there with another value")
	assert.Contains(t, r.Stdout, "DB_PASSWORD  secret   has this value already")
	assert.Contains(t, r.Stderr, "1 of these names are set in loans/live already; nothing was kept")
	assert.NotContains(t, sh.OK(t, "", "list").Stdout, "SMTP_HOST")
	sh.OK(t, "", "import", "more.json", "--leave")
	assert.Equal(t, "25", sh.OK(t, "", "value", "PAGE_SIZE").Stdout)
	assert.Equal(t, "m.example", sh.OK(t, "", "value", "SMTP_HOST").Stdout)
	sh.OK(t, "", "import", "more.json", "--replace")
	assert.Equal(t, "30", sh.OK(t, "", "value", "PAGE_SIZE").Stdout)
	assert.NotContains(t, sh.OK(t, "", "history", "DB_PASSWORD").Stdout, "\n2 ", "what is the same gets no new version")

	sh.OK(t, "TOKEN: abc\nPLAIN: s3cretXk29Zq81LmN\n", "import", "-", "--format", "yaml", "--secret", "TOKEN", "--setting", "PLAIN")
	assert.Contains(t, sh.OK(t, "", "show", "PLAIN").Stdout, "s3cretXk29Zq81LmN")
	assert.NotContains(t, sh.OK(t, "", "show", "TOKEN").Stdout, "abc")
}

func TestAnImportOfWhichHalfIsInvalidKeepsNothing(t *testing.T) {
	_, sh := loans(t)
	sh.OK(t, "", "keep", "-s", "PAGE_SIZE=25", "--type", "integer", "--range", "1..200")
	for content, says := range map[string]string{
		"A=1\nB\n":                      `broken:2:2: "=" was expected behind B`,
		"GOOD=1\nPAGE_SIZE=hunter2\n":   "PAGE_SIZE is not an integer",
		"GOOD=1\nADYTUM_TOKEN=x\n":      "ADYTUM_TOKEN is reserved",
		"GOOD=1\ngood=2\n":              "would both be the entry",
		"A=\xff\xfe\n":                  "the file is not UTF-8 text",
		"\xff\xfeA\x00=\x001\x00":       "the file is UTF-16",
		"GOOD: 1\nL: &a [*a]\nM: 1\n":   "broken:",
		"{\"GOOD\": 1, \"A\": hunter2}": "this is not JSON from here on",
	} {
		testkit.Write(t, sh.Folder, "broken", content)
		r := sh.Run(t, "", "import", "broken", "--replace")
		assert.Equal(t, 1, r.Code, content)
		assert.Contains(t, r.Stderr, says)
		assert.NotContains(t, r.Stderr+r.Stdout, "hunter2", "no value in a message")
	}
	assert.NotContains(t, sh.OK(t, "", "list").Stdout, "GOOD")
	assert.Equal(t, 1, sh.Run(t, "", "import", "none.env").Code)
	assert.Equal(t, 2, sh.Run(t, "", "import", "broken", "--format", "ini").Code)
	testkit.Write(t, sh.Folder, "empty", "# nothing\n")
	assert.Contains(t, sh.Run(t, "", "import", "empty").Stderr, "holds no names with values")
}

func TestExportWritesWhatImportReads(t *testing.T) {
	_, sh := loans(t)
	const awkward = "a b\"c'd$e\\f\n# g\n"
	sh.OK(t, awkward+"\n", "keep", "AWKWARD", "--stdin")
	sh.OK(t, "", "keep", "-s", "PAGE_SIZE=25", "-s", "URL=https://x.example/{adytum:AWKWARD?as=url}", "--nothing", "HIDDEN")
	for _, format := range []string{"dotenv", "json", "yaml", "toml", "properties", "kubernetes"} {
		r := sh.Run(t, "", "export", "--to", "out", "--format", format)
		assert.Equal(t, 2, r.Code, "it asks")
		assert.Contains(t, r.Stderr, "1 secrets in plain")
		sh.OK(t, "", "export", "--to", "out", "--format", format, "--yes")
		info, err := os.Stat(filepath.Join(sh.Folder, "out"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), format)
		sh.OK(t, "", "environment", "add", "from-"+format)
		sh.OK(t, "", "import", "out", "--environment", "from-"+format, "--format", format, "--secret", "AWKWARD")
		assert.Equal(t, awkward, sh.OK(t, "", "value", "AWKWARD", "-e", "from-"+format).Stdout, format)
		assert.Equal(t, "https://x.example/a%20b%22c%27d%24e%5Cf%0A%23%20g%0A", sh.OK(t, "", "value", "URL", "-e", "from-"+format).Stdout, "%s: what is written is what it resolves to", format)
	}
	assert.Equal(t, "PAGE_SIZE=25\n", sh.OK(t, "", "export", "PAGE_SIZE", "--to", "-").Stdout, "settings need no question")
	r := sh.Run(t, "", "export", "PAGE_SIZE", "NONE", "ALSO_NONE", "--to", "-")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "ALSO_NONE, NONE: not set in loans/live; nothing was written")
	assert.Contains(t, sh.OK(t, "", "trail", "--limit", "30").Stdout, "entry.resolve", "an export leaves its trail")
}

func TestValuesComeBackByteForByte(t *testing.T) {
	_, sh := loans(t)
	for name, content := range map[string]string{
		"NEWLINES": "a\n\n", "CRLF": "a\r\nb\r\n", "NUL": "a\x00b", "INVALID": "\xff\xfe\x80", "LARGE": strings.Repeat("x", 1<<20), "SPACES": "  a  ", "ONE": "\n",
	} {
		testkit.Write(t, sh.Folder, "value", content)
		sh.OK(t, "", "keep", name, "--from-file", "value")
		require.Equal(t, content, sh.OK(t, "", "value", name).Stdout, name)
		sh.OK(t, content, "keep", name, "--from-file", "-")
		require.Equal(t, content, sh.OK(t, "", "value", name).Stdout, "%s from standard input", name)
	}
	testkit.Write(t, sh.Folder, "value", strings.Repeat("x", 1<<20+1))
	r := sh.Run(t, "", "keep", "TOO_LARGE", "--from-file", "value")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "at most 1 MiB")
	r = sh.Run(t, "", "export", "--to", "out", "--yes")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Stderr, "INVALID cannot stand in dotenv: its value is not text")
	assert.Contains(t, r.Stderr, "NUL cannot stand in dotenv: its value has a NUL character", "all at once")
	assert.NoFileExists(t, filepath.Join(sh.Folder, "out"))
}
