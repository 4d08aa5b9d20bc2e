package source_test

import (
	"bytes"
	"compress/zlib"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/sample"
	"adytum.example/internal/core/sweep"
	"adytum.example/internal/source"
	"adytum.example/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var (
	ctx    = context.Background()
	engine = sweep.NewEngine(sweep.Catalogue())
)

func token() string { return sample.Expand("ghp_<base62:30><crc62>", rand.Reader) }

// repository is a git repository with one file that leaks.
func repository(t *testing.T) (folder, leaked string) {
	t.Helper()
	folder, leaked = testkit.Folder(t), token()
	testkit.Git(t, folder, "init", "-q", "-b", "main")
	testkit.Write(t, folder, "src/app.js", "// a program\nconst t = '"+leaked+"'\n")
	commit(t, folder, "first")
	return folder, leaked
}

func commit(t *testing.T, folder, message string) string {
	t.Helper()
	testkit.Git(t, folder, "add", "-A")
	testkit.Git(t, folder, "commit", "-q", "-m", message, "--allow-empty")
	return testkit.Git(t, folder, "rev-parse", "HEAD")
}

// places are a report's places, a line each.
func places(r *sweep.Report) []string {
	var all []string
	for _, f := range r.Findings {
		for _, p := range f.Places {
			all = append(all, fmt.Sprintf("%s:%d:%d", p.Path, p.Line, p.Column))
		}
	}
	return all
}

func text(t *testing.T, r *sweep.Report) string {
	t.Helper()
	var all bytes.Buffer
	require.NoError(t, r.WriteText(&all, func(_ sweep.Severity, w string) string { return w }))
	require.NoError(t, r.WriteJSON(&all))
	require.NoError(t, r.WriteSARIF(&all))
	return all.String()
}

func TestATreeIsWhatGitTracksAndDoesNotIgnore(t *testing.T) {
	folder, leaked := repository(t)
	testkit.Write(t, folder, ".gitignore", "ignored/\n")
	testkit.Write(t, folder, "ignored/x.js", leaked)
	testkit.Write(t, folder, "new file.js", "\n\n  "+leaked)
	r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
	require.NoError(t, err)
	require.Len(t, r.Findings, 1, "one value is one finding")
	assert.Equal(t, []string{"new file.js:3:3", "src/app.js:2:12"}, places(r))
	assert.NotContains(t, text(t, r), leaked)
	r, err = source.Tree(ctx, engine, folder, source.TreeOptions{Everything: true})
	require.NoError(t, err)
	assert.Contains(t, places(r), "ignored/x.js:1:1")
	r, err = source.Tree(ctx, engine, filepath.Join(folder, "src"), source.TreeOptions{})
	require.NoError(t, err)
	assert.Equal(t, []string{"app.js:2:12"}, places(r), "paths are relative to what was swept")
}

func TestAHistoryTellsWhatBroughtAValueInAndWhatTookItOut(t *testing.T) {
	folder, leaked := repository(t)
	first := testkit.Git(t, folder, "rev-parse", "HEAD")
	testkit.Write(t, folder, "copy.js", "const t = '"+leaked+"'\n")
	second := commit(t, folder, "second")
	require.NoError(t, os.Remove(filepath.Join(folder, "src/app.js")))
	third := commit(t, folder, "third")
	side := token()
	testkit.Git(t, folder, "checkout", "-q", "-b", "side", first)
	testkit.Write(t, folder, "side.js", side)
	fourth := commit(t, folder, "on a side branch")
	testkit.Git(t, folder, "checkout", "-q", "main")
	testkit.Git(t, folder, "merge", "-q", "--no-ff", "-m", "merge", "side")
	testkit.Git(t, folder, "branch", "-q", "-D", "side")
	inMessage := token()
	fifth := commit(t, folder, "the key is "+inMessage)

	r, err := source.History(ctx, engine, folder)
	require.NoError(t, err)
	assert.Empty(t, r.Unsearched)
	var got []string
	for _, f := range r.Findings {
		for _, p := range f.Places {
			got = append(got, fmt.Sprintf("%s in %.7s out %.7s tip %v", p.Path, p.Commit, p.RemovedBy, *p.AtTip))
		}
	}
	assert.ElementsMatch(t, []string{
		fmt.Sprintf("src/app.js in %.7s out %.7s tip false", first, third), fmt.Sprintf("copy.js in %.7s out  tip true", second),
		fmt.Sprintf("side.js in %.7s out  tip true", fourth), fmt.Sprintf("(message of commit %.12s) in %.7s out  tip true", fifth, fifth)}, got)
	assert.Len(t, r.Findings, 3)
	assert.NotContains(t, text(t, r), leaked)
	assert.Equal(t, "Tomasz Lindqvist", r.Findings[0].Places[0].Author)
}

func TestFindingsKeepTheirIdsWhenLinesMove(t *testing.T) {
	folder, leaked := repository(t)
	id := func() string {
		r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
		require.NoError(t, err)
		require.Len(t, r.Findings, 1)
		return r.Findings[0].ID
	}
	before := id()
	testkit.Write(t, folder, "src/app.js", "\n\n\n// moved\nconst t = '"+leaked+"'\n")
	assert.Equal(t, before, id())
	h, err := source.History(ctx, engine, folder)
	require.NoError(t, err)
	assert.Equal(t, before, h.Findings[0].ID, "and in the history")
}

func TestRepositoriesOfEveryShape(t *testing.T) {
	folder, _ := repository(t)
	testkit.Write(t, folder, "more", "x")
	commit(t, folder, "second")
	clone := func(args ...string) string {
		to := filepath.Join(testkit.Folder(t), "clone")
		testkit.Git(t, folder, append(append([]string{"clone", "-q"}, args...), "file://"+folder, to)...)
		return to
	}
	bare := clone("--bare")
	r, err := source.History(ctx, engine, bare)
	require.NoError(t, err)
	assert.Equal(t, []string{"src/app.js:2:12"}, places(r), "bare")
	r, err = source.Tree(ctx, engine, bare, source.TreeOptions{})
	require.NoError(t, err)
	assert.Empty(t, r.Unsearched)

	r, err = source.History(ctx, engine, clone("--depth=1"))
	require.NoError(t, err)
	require.Len(t, r.Unsearched, 1, "shallow")
	assert.Contains(t, r.Unsearched[0].Why, "git fetch --unshallow")
	assert.Equal(t, []string{"src/app.js:2:12"}, places(r))

	worktree := filepath.Join(testkit.Folder(t), "worktree")
	testkit.Git(t, folder, "worktree", "add", "-q", worktree, "HEAD~1")
	r, err = source.History(ctx, engine, worktree)
	require.NoError(t, err)
	assert.Len(t, r.Findings, 1)

	empty := testkit.Folder(t)
	testkit.Git(t, empty, "init", "-q")
	r, err = source.History(ctx, engine, empty)
	require.NoError(t, err)
	assert.Empty(t, r.Findings)

	none := testkit.Folder(t)
	_, err = source.History(ctx, engine, none)
	assert.ErrorIs(t, err, source.ErrNoRepository)
	_, err = source.History(ctx, engine, filepath.Join(none, "absent"))
	assert.ErrorContains(t, err, "there is no folder")
	_, err = source.Tree(ctx, engine, filepath.Join(folder, "more"), source.TreeOptions{})
	assert.ErrorContains(t, err, "is a file")
}

func TestABrokenObjectIsNamedAndTheRestIsSearched(t *testing.T) {
	folder, _ := repository(t)
	testkit.Write(t, folder, "broken.txt", "to be broken")
	commit(t, folder, "second")
	testkit.Write(t, folder, "later.js", token())
	commit(t, folder, "third")
	id := testkit.Git(t, folder, "rev-parse", "HEAD:broken.txt")
	object := filepath.Join(folder, ".git/objects", id[:2], id[2:])
	for name, content := range map[string][]byte{"cut": {}, "garbage": []byte("garbage"), "not what it says": deflated("blob 12\x00to be brokeN"), "gone": nil} {
		require.NoError(t, os.RemoveAll(object))
		if content != nil {
			require.NoError(t, os.WriteFile(object, content, 0o644))
		}
		r, err := source.History(ctx, engine, folder)
		require.NoError(t, err, name)
		assert.ElementsMatch(t, []string{"src/app.js:2:12", "later.js:1:1"}, places(r), name)
		if name != "not what it says" { // git checks names when it walks a graph, not when it reads a blob
			assert.NotEmpty(t, r.Unsearched, name)
			assert.Contains(t, fmt.Sprint(r.Unsearched), id[:12], name)
		}
	}
}

func deflated(s string) []byte {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	_, _ = w.Write([]byte(s))
	_ = w.Close()
	return b.Bytes()
}

func TestNothingOfARepositoryIsExecuted(t *testing.T) {
	folder, _ := repository(t)
	mark := filepath.Join(testkit.Folder(t), "executed")
	script := filepath.Join(folder, "evil.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\ntouch "+mark+"\ncat\n"), 0o755))
	testkit.Write(t, folder, ".gitattributes", "* diff=evil filter=evil\n")
	commit(t, folder, "attributes")
	for key, value := range map[string]string{"core.fsmonitor": script, "core.pager": script, "diff.evil.textconv": script, "diff.evil.command": script, "diff.external": script,
		"filter.evil.clean": script, "filter.evil.smudge": script, "core.hooksPath": folder, "alias.cat-file": "!" + script, "alias.ls-files": "!" + script, "core.sshCommand": script,
		"uploadpack.packObjectsHook": script, "log.showSignature": "true", "gpg.program": script, "core.alternateRefsCommand": script, "core.editor": script} {
		testkit.Git(t, folder, "config", key, value)
	}
	for _, hook := range []string{"post-index-change", "post-checkout", "pre-auto-gc", "reference-transaction"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, ".git/hooks", hook), []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, hook), []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755))
	}
	_ = os.Remove(mark)
	r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
	require.NoError(t, err)
	assert.NotEmpty(t, r.Findings)
	r, err = source.History(ctx, engine, folder)
	require.NoError(t, err)
	assert.NotEmpty(t, r.Findings)
	assert.NoFileExists(t, mark)
}

func TestFilesOfEveryKind(t *testing.T) {
	folder, leaked := testkit.Folder(t), token()
	testkit.Write(t, folder, "binary.bin", "\x7fELF\x00\x00\x01"+leaked+"\x00\x00")
	testkit.Write(t, folder, "crlf.txt", "one\r\ntwo "+leaked+"\r\n")
	testkit.Write(t, folder, "ünï \"q\".txt", "é "+leaked)
	testkit.Write(t, folder, "line\nbreak\x1b[31m.txt", leaked)
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "link")))
	require.NoError(t, os.Symlink(".", filepath.Join(folder, "circle")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(folder, "pipe"), 0o644))
	r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"binary.bin:1:8", "crlf.txt:2:5", "ünï \"q\".txt:1:3", "line\nbreak\x1b[31m.txt:1:1"}, places(r))
	var out bytes.Buffer
	require.NoError(t, r.WriteText(&out, func(_ sweep.Severity, w string) string { return w }))
	assert.NotContains(t, out.String(), "\x1b", "names from outside never steer a terminal")
	assert.Contains(t, out.String(), `line\u000abreak`)

	// The same names in a git repository, where git quotes them.
	testkit.Git(t, folder, "init", "-q")
	require.NoError(t, os.Remove(filepath.Join(folder, "pipe")))
	commit(t, folder, "first")
	h, err := source.History(ctx, engine, folder)
	require.NoError(t, err)
	assert.ElementsMatch(t, places(r), places(h))
}

func TestAFileOf100MBOnOneLine(t *testing.T) {
	if testing.Short() {
		t.Skip("writes 100 MB")
	}
	folder, leaked := testkit.Folder(t), token()
	f, err := os.Create(filepath.Join(folder, "one-line.js"))
	require.NoError(t, err)
	filler := []byte(strings.Repeat("var a=1;", 1<<17)) // 1 MiB
	for i := range 100 {
		_, err = f.Write(filler)
		require.NoError(t, err)
		if i == 3 || i == 77 { // one of them lies across the windows that are searched at once
			_, err = f.WriteString("'" + leaked + "';")
			require.NoError(t, err)
		}
	}
	require.NoError(t, f.Close())
	r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
	require.NoError(t, err)
	width := len(filler)
	assert.Equal(t, []string{fmt.Sprintf("one-line.js:1:%d", 4*width+2), fmt.Sprintf("one-line.js:1:%d", 78*width+len(leaked)+3+2)}, places(r))
	assert.Less(t, len(r.Findings[0].Places[0].Excerpt), 400, "an excerpt of such a line is short")
	assert.Less(t, maxRSS(), int64(600<<20), "memory is bounded")

	testkit.Git(t, folder, "init", "-q")
	commit(t, folder, "first")
	h, err := source.History(ctx, engine, folder)
	require.NoError(t, err)
	assert.Equal(t, places(r), places(h))
}

func maxRSS() int64 {
	var usage syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &usage)
	return usage.Maxrss << 10
}

func TestSARIFHoldsWhatTheStandardAsks(t *testing.T) {
	folder, leaked := testkit.Folder(t), token()
	testkit.Write(t, folder, "a b/ü.txt", "x\n  "+leaked+"\n")
	r, err := source.Tree(ctx, engine, folder, source.TreeOptions{})
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, r.WriteSARIF(&out))
	var sarif struct {
		Schema  string `json:"$schema"`
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct{ ID string }
				}
			}
			ColumnKind string
			Results    []struct {
				RuleID, Level       string
				Message             struct{ Text string }
				PartialFingerprints map[string]string
				Locations           []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndLine, EndColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &sarif))
	assert.Equal(t, "2.1.0", sarif.Version)
	result := sarif.Runs[0].Results[0]
	assert.Equal(t, sarif.Runs[0].Tool.Driver.Rules[0].ID, result.RuleID)
	assert.Equal(t, "error", result.Level)
	location := result.Locations[0].PhysicalLocation
	assert.Equal(t, "a%20b/%C3%BC.txt", location.ArtifactLocation.URI)
	assert.Equal(t, [4]int{2, 3, 2, 3 + len(leaked)}, [4]int{location.Region.StartLine, location.Region.StartColumn, location.Region.EndLine, location.Region.EndColumn})
	assert.Equal(t, r.Findings[0].ID, result.PartialFingerprints["finding/v1"])
	assert.NotContains(t, out.String(), leaked)
	assert.NotContains(t, out.String(), base64.StdEncoding.EncodeToString([]byte(leaked)))
}
