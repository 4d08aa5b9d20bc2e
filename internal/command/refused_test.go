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

// What cannot be done is said in words that name what, where and what to do, on
// standard error, with the code that tells scripts the same; and it changes nothing.
func TestWhatCannotBeDoneSaysWhatAndWhereAndWhatToDo(t *testing.T) {
	_, sh := loans(t)
	const value = "Zk3vQ9sLw2Xc7Bn5fR8d"
	sh.OK(t, value, "keep", "KEY", "--stdin")
	sh.OK(t, "", "keep", "-s", "PAGE=25", "--type", "integer")
	testkit.Write(t, sh.Folder, "utf16.env", "\xff\xfeA\x00=\x001\x00\n\x00")
	testkit.Write(t, sh.Folder, "half.env", "GOOD=1\nno equals sign\n9BAD=2\nALSO_GOOD=3\n")
	testkit.Write(t, sh.Folder, "broken.json", `{"A": "1", "B": `)
	testkit.Write(t, sh.Folder, "large", strings.Repeat("x", 1<<20+1))
	testkit.Write(t, sh.Folder, "text", "not an archive at all")
	require.NoError(t, os.Mkdir(filepath.Join(sh.Folder, "folder"), 0o755))
	before := sh.OK(t, "", "changes", "-o", "json").Stdout

	for _, c := range []struct {
		args  string
		stdin string
		code  int
		says  []string
	}{
		{"value KYE", "", 1, []string{"KYE is not set in loans/live", "did you mean KEY?"}},
		{"value key", "", 1, []string{"key is not set in loans/live", "did you mean KEY?"}},
		{"value KEY@9", "", 1, []string{"only a reference that names its project"}},
		{"show 9", "", 1, []string{"9"}},
		{"history NOPE", "", 1, []string{"NOPE is not set in loans/live"}},
		{"list -e lvie", "", 1, []string{`no environment "lvie"`, "did you mean live?"}},
		{"list -p laons", "", 1, []string{`no project "laons"`, "did you mean loans?"}},
		{"list --state asleep", "", 2, []string{"asleep"}},
		{"keep KEY=" + value, "", 2, []string{"--stdin"}},
		{"keep", "", 2, []string{"adytum keep"}},
		{"keep --setting PAGE", "", 2, []string{"NAME=VALUE"}},
		{"keep --setting PAGE=many", "", 1, []string{"PAGE is not an integer"}},
		{"keep --setting ADYTUM_URL=x", "", 1, []string{"ADYTUM_URL is reserved"}},
		{"keep --setting =x", "", 1, []string{"name is empty"}},
		{"list --kind password", "", 2, []string{"password"}},
		{"keep --setting " + strings.Repeat("N", 201) + "=x", "", 1, []string{"at most"}},
		{"keep OTHER --from-file nowhere", "", 1, []string{"nowhere"}},
		{"keep OTHER --from-file folder", "", 1, []string{"folder"}},
		{"keep OTHER --from-file large", "", 1, []string{"1 MiB"}},
		{"keep OTHER --random --length 99999", "", 1, []string{"OTHER cannot be generated"}},
		{"keep OTHER --generate rsa --bits 512", "", 1, []string{"OTHER cannot be generated"}},
		{"keep OTHER --generate certificate", "", 1, []string{"OTHER", "without a host"}},
		{"keep OTHER --stdin --expires yesterday", "x", 2, []string{"yesterday"}},
		{"keep OTHER --stdin --expires 2020-01-01", "x", 1, []string{"OTHER"}},
		{"keep OTHER --stdin --active-from 2099-02-01 --expires 2099-01-01", "x", 1, []string{"OTHER"}},
		{"keep -s OTHER={adytum:KEY", "", 1, []string{"OTHER"}},
		{"keep -s OTHER={adytum:OTHER}", "", 1, []string{"circle"}},
		{"remove NOPE", "", 1, []string{"NOPE"}},
		{"restore KEY", "", 1, []string{"KEY"}},
		{"destroy KEY", "no\n", 2, []string{"--yes"}},
		{"destroy KEY --version 7 --yes", "", 1, []string{"KEY", "7"}},
		{"rename KEY PAGE", "", 1, []string{"PAGE"}},
		{"rename KEY 1ST", "", 1, []string{`"1ST" is not a name`}},
		{"rename KEY", "", 2, []string{"adytum rename"}},
		{"revert KEY --version 9", "", 1, []string{"KEY", "9"}},
		{"revert --to 99", "", 1, []string{"99"}},
		{"revert --change 99", "", 1, []string{"99"}},
		{"compare live moon", "", 1, []string{`no environment "moon"`}},
		{"compare live", "", 2, []string{"adytum compare"}},
		{"copy --from local --to live NOPE", "", 1, []string{"NOPE"}},
		{"copy --from live --to live KEY", "", 1, []string{"live"}},
		{"import nowhere.env", "", 1, []string{"nowhere.env"}},
		{"import utf16.env", "", 1, []string{"utf16.env", "UTF-8"}},
		{"import half.env", "", 1, []string{"half.env:2", "half.env:3"}},
		{"import broken.json", "", 1, []string{"broken.json:1"}},
		{"export --format xml", "", 2, []string{"xml"}},
		{"export", "", 2, []string{"to"}},
		{"private KEY -e moon --stdin", "x", 1, []string{`no environment "moon"`}},
		{"environment add -p loans live", "", 1, []string{"already"}},
		{"environment add -p loans preview --follows moon", "", 1, []string{"moon"}},
		{"environment edit -p loans live --follows live", "", 1, []string{"live"}},
		{"environment remove -p loans moon --yes", "", 1, []string{`no environment "moon"`}},
		{"project restore loans", "", 1, []string{"loans"}},
		{"project edit loans --keep-removed 0", "", 2, []string{"0 days", "from 1 to 3650"}},
		{"project take-in text --passphrase-stdin", "a passphrase of several words\n", 1, []string{"text", "archive"}},
		{"trail verify now", "", 2, []string{"adytum trail verify"}},
	} {
		r := sh.Run(t, c.stdin, strings.Fields(c.args)...)
		assert.Equal(t, c.code, r.Code, "%s: %s", c.args, r.Stderr)
		for _, text := range c.says {
			assert.Contains(t, r.Stderr, text, c.args)
		}
		assert.Empty(t, r.Stdout, c.args)
		assert.NotContains(t, r.Stderr, value, c.args)
		assert.True(t, strings.HasPrefix(r.Stderr, "adytum: ") || strings.Contains(r.Stderr, "half.env"), "%s: %s", c.args, r.Stderr)
		assert.NotContains(t, r.Stderr, "%!", c.args)
		assert.NotContains(t, strings.ToLower(r.Stderr), "panic", c.args)
	}
	assert.Equal(t, before, sh.OK(t, "", "changes", "-o", "json").Stdout, "nothing was changed")
	assert.Equal(t, value, sh.OK(t, "", "value", "KEY").Stdout)
}
