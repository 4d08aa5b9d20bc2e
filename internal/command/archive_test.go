package command_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

func TestAProjectIsTakenInByAnotherInstallation(t *testing.T) {
	from, sh := loans(t)
	const passphrase = "lantern-harbour-acorn-quiet\n"
	sh.OK(t, "one\n", "keep", "KEY", "--stdin", "--owner", "Tomasz", "--because", "the first")
	sh.OK(t, "two\n", "keep", "KEY", "--stdin")
	testkit.Write(t, sh.Folder, "binary", "\xff\x00\n")
	sh.OK(t, "", "keep", "BINARY", "--from-file", "binary")
	sh.OK(t, "", "keep", "--layer", "project", "-s", "PAGE_SIZE=25", "--type", "integer")
	sh.OK(t, "gone\n", "keep", "GONE", "--stdin")
	sh.OK(t, "", "remove", "GONE")
	sh.OK(t, "", "destroy", "KEY", "--version", "1", "--yes")
	sh.OK(t, "", "environment", "add", "preview", "--follows", "live")
	sh.OK(t, "", "project", "edit", "loans", "--max-age", "90")

	says(t, sh.Run(t, "short\n", "project", "archive", "loans", "--to", "loans.archive", "--passphrase-stdin"), 1, "a passphrase has 12 characters or more")
	says(t, sh.OK(t, passphrase, "project", "archive", "loans", "--to", "loans.archive", "--passphrase-stdin"), 0, "4 entries of loans are in loans.archive")
	path := filepath.Join(sh.Folder, "loans.archive")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(content), "PAGE_SIZE")

	s := testkit.Start(t)
	there := testkit.NewShell(t, sh.Folder)
	there.SignIn(t, s)
	there.Env = []string{"ADYTUM_PROJECT=lending", "ADYTUM_ENVIRONMENT=live"}
	says(t, there.Run(t, "another-passphrase\n", "project", "take-in", "loans.archive", "--passphrase-stdin"), 1, "loans.archive: the passphrase is wrong")
	require.NoError(t, os.WriteFile(path+".cut", content[:len(content)-40], 0o600))
	says(t, there.Run(t, passphrase, "project", "take-in", "loans.archive.cut", "--passphrase-stdin"), 1, "the archive is damaged")
	testkit.Write(t, sh.Folder, "nonsense", "nonsense")
	says(t, there.Run(t, passphrase, "project", "take-in", "nonsense", "--passphrase-stdin"), 1, "this is no archive of Adytum")
	assert.Empty(t, there.OK(t, "", "project", "list", "-o", "jsonl").Stdout, "nothing was made of any of these")

	says(t, there.OK(t, passphrase, "project", "take-in", "loans.archive", "--as", "lending", "--passphrase-stdin"), 0, "The project lending is there with 4 entries")
	assert.Equal(t, "two", there.OK(t, "", "value", "KEY").Stdout)
	assert.Equal(t, "two", there.OK(t, "", "value", "KEY", "-e", "preview").Stdout, "what follows what is kept")
	assert.Equal(t, "\xff\x00\n", there.OK(t, "", "value", "BINARY").Stdout)
	says(t, there.OK(t, "", "history", "KEY"), 0, "destroyed", "imported from an archive: by Ines Okafor")
	says(t, there.OK(t, "", "show", "KEY"), 0, "owner       Tomasz")
	says(t, there.OK(t, "", "list", "--removed"), 0, "GONE")
	says(t, there.Run(t, "", "keep", "-s", "PAGE_SIZE=x"), 1, "PAGE_SIZE is not an integer")
	says(t, there.OK(t, "", "project", "show", "lending"), 0, "max age        90 days")
	says(t, there.Run(t, passphrase, "project", "take-in", "loans.archive", "--as", "lending", "--passphrase-stdin"), 1, "there is already a project")
	says(t, sh.OK(t, "", "trail", "--limit", "10"), 0, "project.archive")

	// The service fails in the midst of it: there is no file, and no half of one.
	require.Positive(t, from.SQL(t, "UPDATE versions SET sealed = set_byte(sealed, 20, get_byte(sealed, 20) # 1) WHERE sealed IS NOT NULL"))
	from.Stop()
	from.Serve(t)
	sh.SignIn(t, from)
	says(t, sh.Run(t, passphrase, "project", "archive", "loans", "--to", "cut.archive", "--passphrase-stdin"), 1, "the service's answer was cut off; nothing was written")
	assert.NoFileExists(t, filepath.Join(sh.Folder, "cut.archive"))
}
