package command_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func TestASecondPersonApproves(t *testing.T) {
	s, sh := loans(t)
	owner := s.Owner(t)
	_, err := owner.AddPerson(ctx, wire.NewPerson{Login: "tomasz@fernhollow.example", Name: "Tomasz Lindqvist", Password: "gravel teacup eleven moth"})
	require.NoError(t, err)
	_, err = owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "tomasz@fernhollow.example", Role: "steward", Project: "loans"})
	require.NoError(t, err)
	tomasz := testkit.NewShell(t, testkit.Folder(t))
	tomasz.Env = []string{"ADYTUM_PROJECT=loans", "ADYTUM_ENVIRONMENT=live"}
	says(t, tomasz.Run(t, "gravel teacup eleven moth\n", "login", s.URL, "--login", "tomasz@fernhollow.example", "--password-stdin"), 0, "Signed in")

	says(t, sh.OK(t, "", "proposal", "list"), 0, "Nothing waits for approval.")
	sh.OK(t, "", "environment", "edit", "live", "--approval")
	assert.Contains(t, sh.OK(t, "", "environment", "list").Stdout, "by another")
	says(t, sh.OK(t, "one two three four", "keep", "KEY", "--stdin", "--because", "a start"), 0, "changes of loans/live need another person's approval. Proposed as 1", "KEY to be added", "adytum proposal approve 1")
	says(t, sh.Run(t, "", "value", "KEY"), 1)
	says(t, sh.Run(t, "", "proposal", "approve", "1"), 4, "somebody else approves what you have proposed")
	assert.Regexp(t, `1\s+Ines Okafor\s+loans/live\s+KEY added \(secret\)\s+a start`, tomasz.OK(t, "", "proposal", "list").Stdout)
	shown := tomasz.OK(t, "", "proposal", "show", "1")
	assert.Contains(t, shown.Stdout, "Proposal 1 of Ines Okafor for loans/live, on revision 0")
	assert.NotContains(t, shown.Stdout, "one two three four")
	says(t, tomasz.OK(t, "", "proposal", "approve", "1", "--because", "fine"), 0, "loans/live is now at revision 1", "KEY added")
	assert.Equal(t, "one two three four", sh.OK(t, "", "value", "KEY").Stdout)

	says(t, sh.OK(t, "", "environment", "edit", "live", "--approval=false"), 0, "Proposed as 2")
	assert.Contains(t, tomasz.OK(t, "", "proposal", "show", "2").Stdout, "changes need approval: no, was yes")
	says(t, tomasz.OK(t, "", "proposal", "decline", "2"), 0, "Declined; nothing was changed.")
	says(t, tomasz.Run(t, "", "proposal", "approve", "2"), 1, "there is no proposal 2 that waits for you")
	says(t, tomasz.Run(t, "", "proposal", "approve", "two"), 2, `"two" is no proposal's number`)
	says(t, sh.Run(t, "", "environment", "remove", "live", "--yes"), 1, "propose to lift that first")

	// A file is not adopted on the word of a proposal.
	const content = "DB_PASSWORD=gravel-Teacup-7-eleven-moth\n"
	testkit.Write(t, sh.Folder, ".env", content)
	r := sh.Run(t, "", "adopt", ".env")
	assert.NotEqual(t, 0, r.Code, r.Stderr)
	says(t, r, r.Code, "is as it was")
	assert.Equal(t, content, sh.Exec(t, "", "cat", ".env").Stdout)
}
