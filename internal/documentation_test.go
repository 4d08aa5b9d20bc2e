package internal_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the documentation names as shown by a test is: the test is there. What it
// links to is there as well.
func TestWhatTheDocumentationNamesIsThere(t *testing.T) {
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	listed := exec.Command("git", "grep", "-hoE", "^func (Test|Fuzz)[A-Za-z0-9_]+", "--", "*_test.go")
	listed.Dir = root
	output, err := listed.Output()
	require.NoError(t, err)
	tests := map[string]bool{}
	for line := range strings.Lines(string(output)) {
		tests[strings.TrimPrefix(strings.TrimSpace(line), "func ")] = true
	}
	pages, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	require.NoError(t, err)
	pages = append(pages, filepath.Join(root, "README.md"))
	name, link := regexp.MustCompile("`((?:Test|Fuzz)[A-Z][A-Za-z0-9_]+)`"), regexp.MustCompile(`\]\(([^)#:]+)(?:#[^)]*)?\)`)
	named := 0
	for _, page := range pages {
		content, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range name.FindAllStringSubmatch(string(content), -1) {
			named++
			assert.True(t, tests[m[1]], "%s names %s", filepath.Base(page), m[1])
		}
		for _, m := range link.FindAllStringSubmatch(string(content), -1) {
			_, err := os.Stat(filepath.Join(filepath.Dir(page), m[1]))
			assert.NoError(t, err, "%s links to %s", filepath.Base(page), m[1])
		}
	}
	assert.Greater(t, named, 30)
}
