package formats_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/formats"
)

// agreed is what a POSIX shell and Node.js read alike.
const agreed = `# a comment
PLAIN=value
EMPTY=
SINGLE='single $HOME quotes # stay'
DOUBLE="double quotes # stay"
SPACES='  kept  '
URL=postgres://loans@db.fernhollow.example:5432/loans
export EXPORTED=yes
UNDER_SCORE_1=1
MULTI='first
second'
EQUALS=a=b=c
UNICODE='bücherei'
`

// names are asked for in the environment that each reader makes.
var names = []string{"PLAIN", "EMPTY", "SINGLE", "DOUBLE", "SPACES", "URL", "EXPORTED", "UNDER_SCORE_1", "MULTI", "EQUALS", "UNICODE"}

func TestDotenvReadsWhatAShellAndNodeReadAlike(t *testing.T) {
	file := filepath.Join(t.TempDir(), ".env")
	require.NoError(t, os.WriteFile(file, []byte(agreed), 0o600))
	d, problems := formats.ReadDotenv(file, []byte(agreed))
	require.Empty(t, problems)
	ours := map[string]string{}
	for _, v := range d.Variables {
		ours[v.Name] = v.Value
	}
	for _, name := range names {
		shell, err := exec.Command("sh", "-c", `. "$0"; printf %s "$`+name+`"`, file).Output()
		require.NoError(t, err)
		assert.Equal(t, string(shell), ours[name], "a POSIX shell reads %s", name)
	}
	node, err := exec.LookPath("node")
	require.NoError(t, err, "Node.js is needed to build the console, and here too")
	out, err := exec.Command(node, "--env-file="+file, "-e", "console.log(JSON.stringify(process.env))").Output()
	require.NoError(t, err)
	var read map[string]string
	require.NoError(t, json.Unmarshal(out, &read))
	for _, name := range names {
		assert.Equal(t, read[name], ours[name], "Node.js reads %s", name)
	}
}

// What is written in place of a value is read back by both as well.
func TestWhatIsWrittenIsReadBackByAShell(t *testing.T) {
	d, problems := formats.ReadDotenv("f", []byte("A=x\nB='y'\nC=\"z\"\n"))
	require.Empty(t, problems)
	for _, value := range []string{"plain", "two words", "it's", `say "so"`, "$HOME", `back\slash`, "a#b", "", "adytum:loans/live/KEY@3:field", "{adytum:KEY?as=url}"} {
		file := filepath.Join(t.TempDir(), ".env")
		require.NoError(t, os.WriteFile(file, d.Replace(map[string]string{"A": value, "B": value, "C": value}), 0o600))
		for _, name := range []string{"A", "B", "C"} {
			shell, err := exec.Command("sh", "-c", `. "$0"; printf %s "$`+name+`"`, file).Output()
			require.NoError(t, err)
			assert.Equal(t, value, string(shell), "%s in %s", value, name)
		}
	}
}
