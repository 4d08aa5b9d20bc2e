package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// answers is what a client is told of some references, in one line.
func answers(c *client.Client, p client.Place, references ...string) string {
	out, err := c.Resolve(ctx, p, references, nil)
	if err != nil {
		if all := err.(*client.Error).Details; len(all) > 1 {
			return fmt.Sprintf("%d %s", status(err), strings.Join(all, "; "))
		}
		return fmt.Sprintf("%d %s", status(err), err)
	}
	var all []string
	for _, v := range out.Values {
		all = append(all, v.Value+" from "+v.Layer)
	}
	return strings.Join(all, ", ")
}

// A question is asked twice, so that how it was answered is in memory. Then
// something happens, and both instances answer what is true.
func TestAQuestionThatIsAskedAgainIsAnsweredByWhatIsTrue(t *testing.T) {
	first, owner := loans(t)
	other := moved(t, owner, second(t, first).URL)
	_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "preview", Follows: "staging"})
	require.NoError(t, err)
	preview := client.Place{Project: "loans", Environment: "preview"}
	keep(t, owner, whole, setting("ZONE", "Dublin"))
	keep(t, owner, common, setting("HOST", "db"))
	keep(t, owner, staging, secretEdit("KEY", "one"), setting("LEVEL", "low"))
	text := func(s string) *string { return &s }
	soon := time.Now().Add(1500 * time.Millisecond)

	for _, c := range []struct {
		what   string
		happen func() error
		want   string
	}{
		{"nothing", func() error { return nil }, "one from loans/staging, low from loans/staging, db from loans, Dublin from organization"},
		{"a new version", func() error { keep(t, other, staging, secretEdit("KEY", "two")); return nil },
			"two from loans/staging, low from loans/staging, db from loans, Dublin from organization"},
		{"a nearer value", func() error { keep(t, owner, preview, setting("HOST", "near")); return nil },
			"two from loans/staging, low from loans/staging, near from loans/preview, Dublin from organization"},
		{"nothing in a nearer layer", func() error { keep(t, other, preview, wire.Edit{Name: "ZONE", Kind: "nothing"}); return nil },
			"404 ZONE is set to nothing in loans/preview"},
		{"that removed", func() error { keep(t, owner, preview, wire.Edit{Name: "ZONE", Act: "remove"}); return nil },
			"two from loans/staging, low from loans/staging, near from loans/preview, Dublin from organization"},
		{"a private value", func() error {
			_, err := other.CommitPrivate(ctx, preview, client.Commit{Base: client.AnyRevision}, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "mine")}})
			return err
		}, "mine from loans/preview, low from loans/staging, near from loans/preview, Dublin from organization"},
		{"protection, under which none counts", func() error {
			protected := true
			_, err := owner.EditEnvironment(ctx, preview, wire.EnvironmentEdit{Protected: &protected})
			return err
		}, "two from loans/staging, low from loans/staging, near from loans/preview, Dublin from organization"},
		{"another name", func() error {
			keep(t, other, staging, wire.Edit{Name: "LEVEL", Act: "rename", To: "LOUDNESS"})
			return nil
		},
			"404 LEVEL is not set in loans/preview"},
		{"the old name back", func() error { keep(t, owner, staging, setting("LEVEL", "{adytum:HOST} low")); return nil },
			"two from loans/staging, near low from loans/staging, near from loans/preview, Dublin from organization"},
		{"what a setting refers to", func() error { keep(t, other, preview, setting("HOST", "nearer")); return nil },
			"two from loans/staging, nearer low from loans/staging, nearer from loans/preview, Dublin from organization"},
		{"a value that ends soon", func() error {
			keep(t, owner, staging, wire.Edit{Name: "KEY", Kind: "secret", Value: "short", Expires: &soon}, setting("LEVEL", "low"))
			return nil
		}, "short from loans/staging, low from loans/staging, nearer from loans/preview, Dublin from organization"},
		{"its end", func() error { time.Sleep(time.Until(soon) + 50*time.Millisecond); return nil },
			"404 KEY in loans/staging expired: version 3 counted until " + soon.UTC().Format("2006-01-02 15:04") + " UTC; keep a new value"},
		{"going back", func() error { keep(t, other, staging, wire.Edit{Name: "KEY", Act: "revert", Version: 1}); return nil }, "one from loans/staging, low from loans/staging, nearer from loans/preview, Dublin from organization"},
		{"following nothing any more", func() error {
			_, err := owner.EditEnvironment(ctx, preview, wire.EnvironmentEdit{Follows: text("")})
			return err
		}, "404 KEY is not set in loans/preview; LEVEL is not set in loans/preview"},
		{"following again", func() error {
			_, err := other.EditEnvironment(ctx, preview, wire.EnvironmentEdit{Follows: text("staging")})
			return err
		}, "one from loans/staging, low from loans/staging, nearer from loans/preview, Dublin from organization"},
		{"destruction", func() error { keep(t, owner, staging, wire.Edit{Name: "KEY", Act: "destroy"}); return nil }, "404 KEY is not set in loans/preview"},
		{"removal of the project", func() error { _, err := other.RemovePlace(ctx, common); return err }, `404 there is no project "loans"`},
		{"its return", func() error {
			require.NoError(t, owner.RestorePlace(ctx, common))
			keep(t, other, staging, secretEdit("KEY", "new"))
			return nil
		},
			"new from loans/staging, low from loans/staging, nearer from loans/preview, Dublin from organization"},
	} {
		require.NoError(t, c.happen(), c.what)
		for range 3 {
			for i, on := range []*client.Client{owner, other} {
				assert.Equal(t, c.want, answers(on, preview, "adytum:KEY", "adytum:LEVEL", "adytum:HOST", "adytum:ZONE"), "after %s, instance %d", c.what, i)
			}
		}
	}
}

// What is in memory of one's question is of no use to another, nor to oneself
// once the grant is gone.
func TestWhatWasAnsweredToOneIsNotAnsweredToAnother(t *testing.T) {
	s, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "the value"))
	reader := person(t, s, owner, "priya@fernhollow.example", "consumer", live)
	lister := person(t, s, owner, "abel@fernhollow.example", "observer", live)
	nobody := person(t, s, owner, "tomasz@fernhollow.example", "", whole)
	for range 3 {
		assert.Equal(t, "the value from loans/live", answers(reader, live, "adytum:KEY"))
		assert.Regexp(t, "^403 .*may not read KEY in loans/live", answers(lister, live, "adytum:KEY"))
		assert.Equal(t, `404 there is no project "loans"`, answers(nobody, live, "adytum:KEY"))
	}
	grants, err := owner.Grants(ctx)
	require.NoError(t, err)
	for _, g := range grants {
		if g.Role == "consumer" {
			require.NoError(t, owner.RemoveGrant(ctx, g.ID))
		}
	}
	assert.Equal(t, `404 there is no project "loans"`, answers(reader, live, "adytum:KEY"))
	token := lister.Token()
	require.NoError(t, lister.SignOut(ctx))
	lister.UseToken(token)
	_, err = lister.Resolve(ctx, live, []string{"adytum:KEY"}, nil)
	assert.Equal(t, http.StatusUnauthorized, status(err))
}

// Every answer leaves its own event with the names that were asked for, however
// often it is given.
func TestEveryAnswerFromMemoryLeavesItsEvent(t *testing.T) {
	_, owner := loans(t)
	keep(t, owner, live, secretEdit("KEY", "value"), setting("PAGE", "9"))
	for range 5 {
		answers(owner, live, "adytum:KEY", "adytum:PAGE")
	}
	page, err := owner.Trail(ctx, "", 100)
	require.NoError(t, err)
	n := 0
	for _, e := range page.Events {
		if e.Action == "entry.resolve" {
			n++
			assert.Equal(t, []string{"adytum:KEY", "adytum:PAGE"}, e.Names)
			assert.Equal(t, "allowed", string(e.Outcome))
			assert.NotEmpty(t, e.Who)
		}
	}
	assert.Equal(t, 5, n)
}
