package deliver

import (
	"os"
	"path/filepath"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheEnvironmentHoldsWhatIsSuppliedAndNothingOfOurOwn(t *testing.T) {
	present := []string{"PATH=/bin", "ADYTUM_TOKEN=x", "ADYTUM_CLIENT_SECRET=y", "A=old", "EMPTY=", "ODD"}
	got := Environment(present, map[string]string{"A": "new", "B": "a=b\nc"})
	sort.Strings(got)
	assert.Equal(t, []string{"A=new", "B=a=b\nc", "EMPTY=", "ODD", "PATH=/bin"}, got)
}

func TestProgramsAreFoundInTheirOwnPath(t *testing.T) {
	folder := t.TempDir()
	put := func(name string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\nexit 5\n"), mode))
	}
	put("runs", 0o755)
	put("plain", 0o644)
	require.NoError(t, os.Mkdir(filepath.Join(folder, "folder"), 0o755))
	environment := []string{"PATH=/nonexistent:" + folder}

	path, err := look("runs", environment)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(folder, "runs"), path)
	for name, code := range map[string]int{"none": NotFound, "folder": NotFound, "plain": NotExecutable} {
		_, err := look(name, environment)
		var start *StartError
		require.ErrorAs(t, err, &start, name)
		assert.Equal(t, code, start.Code, name)
	}
	// The present folder is no place to find programs in.
	t.Chdir(folder)
	_, err = look("runs", []string{"PATH=:/nonexistent"})
	assert.Error(t, err)
	path, err = look("./runs", nil)
	require.NoError(t, err)
	assert.Equal(t, "./runs", path)
}

func TestRunReturnsTheProgramsCode(t *testing.T) {
	for command, want := range map[string]int{"exit 0": 0, "exit 3": 3, "kill -KILL $$": 137, "kill -SEGV $$": 139} {
		code, err := Run([]string{"sh", "-c", command}, []string{"PATH=/usr/bin:/bin"})
		require.NoError(t, err)
		assert.Equal(t, want, code, command)
	}
	_, err := Run([]string{"/nonexistent/program"}, nil)
	var start *StartError
	require.ErrorAs(t, err, &start)
	assert.Equal(t, NotFound, start.Code)
	large := make([]byte, 200<<10)
	for i := range large {
		large[i] = 'x'
	}
	_, err = Run([]string{"/bin/true"}, []string{"A=" + string(large)})
	require.ErrorAs(t, err, &start)
	assert.ErrorContains(t, err, "environment is too large")
}
