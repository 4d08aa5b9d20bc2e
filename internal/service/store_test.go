package service_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/sample"
	"adytum.example/internal/testkit"
)

var preview = client.Place{Project: "loans", Environment: "preview"}

// mind is the simplest thing that behaves like a layer: names with values, a
// stack of what was removed under each name, and what every value has been.
type mind struct {
	set     map[string]*thing
	removed map[string][]*thing
}

type thing struct{ values []string }

func (m *mind) value(name string) (string, bool) {
	if t := m.set[name]; t != nil {
		return t.values[len(t.values)-1], true
	}
	return "", false
}

// Any interleaving of keep, revert, remove, restore, rename, follow and resolve
// agrees with a simple model in memory, on two instances.
func TestTheStoreAgreesWithASimpleModel(t *testing.T) {
	for seed := range uint64(4) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			s, owner := loans(t)
			_, err := owner.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "preview", Follows: "staging"})
			require.NoError(t, err)
			instances := []*client.Client{owner, moved(t, owner, second(t, s).URL)}
			places := []client.Place{preview, staging, live, common, whole}
			minds := map[client.Place]*mind{}
			for _, p := range places {
				minds[p] = &mind{map[string]*thing{}, map[string][]*thing{}}
			}
			follows := "staging"
			random := rand.New(rand.NewPCG(seed, 9))
			for step := range 250 {
				c := instances[random.IntN(2)]
				place := places[random.IntN(len(places))]
				m := minds[place]
				name, other := fmt.Sprintf("N%d", random.IntN(6)), fmt.Sprintf("N%d", random.IntN(6))
				had := m.set[name]
				var edit wire.Edit
				right := true
				var then func()
				switch act := random.IntN(12); {
				case act < 4:
					value := fmt.Sprintf("value %d", step)
					edit = wire.Edit{Name: name, Kind: []string{"secret", "setting"}[random.IntN(2)], Value: value}
					then = func() {
						if had == nil {
							had = &thing{}
							m.set[name] = had
						}
						had.values = append(had.values, value)
					}
				case act < 6:
					edit, right = wire.Edit{Act: "remove", Name: name}, had != nil
					then = func() {
						delete(m.set, name)
						m.removed[name] = append(m.removed[name], had)
					}
				case act < 8:
					stack := m.removed[name]
					edit, right = wire.Edit{Act: "restore", Name: name}, had == nil && len(stack) > 0
					then = func() {
						m.set[name] = stack[len(stack)-1]
						m.removed[name] = stack[:len(stack)-1]
					}
				case act < 9:
					edit, right = wire.Edit{Act: "rename", Name: name, To: other}, had != nil && m.set[other] == nil && name != other
					then = func() {
						delete(m.set, name)
						m.set[other] = had
					}
				case act < 11:
					version := int64(1 + random.IntN(3))
					edit, right = wire.Edit{Act: "revert", Name: name, Version: version}, had != nil && int(version) <= len(had.values)
					then = func() { had.values = append(had.values, had.values[version-1]) }
				default:
					follows = []string{"", "staging", "live"}[random.IntN(3)]
					_, err := c.EditEnvironment(ctx, preview, wire.EnvironmentEdit{Follows: &follows})
					require.NoError(t, err)
					edit.Name = ""
				}
				if edit.Name != "" {
					_, err := c.Change(ctx, place, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{edit}})
					require.Equal(t, right, err == nil, "step %d: %+v in %v: %v", step, edit, place, err)
					if right {
						then()
					}
				}
				// What any instance answers now, in any environment.
				asked := []client.Place{preview, staging, live}[random.IntN(3)]
				chain := []*mind{minds[asked]}
				if asked == preview && follows != "" {
					chain = append(chain, minds[client.Place{Project: "loans", Environment: follows}])
				}
				chain = append(chain, minds[common], minds[whole])
				want, set := "", false
				for _, m := range chain {
					if want, set = m.value(name); set {
						break
					}
				}
				got, err := instances[random.IntN(2)].Value(ctx, asked, name)
				require.Equal(t, set, err == nil, "step %d: %s in %v: %v", step, name, asked, err)
				require.Equal(t, want, got.Value, "step %d: %s in %v", step, name, asked)
			}
			v, err := owner.VerifyTrail(ctx, 0)
			require.NoError(t, err)
			assert.True(t, v.Whole, "%v", v.Problems)
		})
	}
}

// Going back to a revision gives what stood there, whatever was done since.
func TestGoingBackToARevisionGivesWhatStoodThere(t *testing.T) {
	_, owner := loans(t)
	random := rand.New(rand.NewPCG(1, 2))
	stood := []map[string]string{{}}
	present := func() map[string]string {
		entries, err := owner.Entries(ctx, live)
		require.NoError(t, err)
		all := map[string]string{}
		for _, e := range entries.Entries {
			v, err := owner.Value(ctx, live, e.Name)
			require.NoError(t, err)
			all[e.Name] = v.Value
		}
		return all
	}
	for step := range 60 {
		name, other := fmt.Sprintf("N%d", random.IntN(5)), fmt.Sprintf("N%d", random.IntN(5))
		edits := []wire.Edit{
			{Name: name, Kind: "secret", Value: fmt.Sprint("value ", step)}, {Act: "remove", Name: name}, {Act: "rename", Name: name, To: other}, {Act: "restore", Name: name},
		}
		if _, err := owner.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{edits[random.IntN(len(edits))]}}); err == nil {
			stood = append(stood, present())
		}
		if step%6 == 5 {
			to := int64(random.IntN(len(stood)))
			change, err := owner.Revert(ctx, live, client.Commit{Base: client.AnyRevision}, wire.RevertRequest{Revision: &to})
			if err != nil {
				require.Equal(t, stood[to], stood[len(stood)-1], "nothing was to be done: %v", err)
				continue
			}
			require.Equal(t, stood[to], present(), "revision %d", to)
			require.EqualValues(t, len(stood), change.Revision)
			stood = append(stood, present())
		}
	}
	require.Greater(t, len(stood), 30)
}

func TestARepeatedWriteIsOneWrite(t *testing.T) {
	_, owner := loans(t)
	commit := client.Commit{Base: client.AnyRevision, Key: "one-write"}
	request := wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEY", Generate: &wire.Generate{What: "text"}}}}
	first, err := owner.Commit(ctx, live, commit, request)
	require.NoError(t, err)
	value, err := owner.Value(ctx, live, "KEY")
	require.NoError(t, err)
	keep(t, owner, live, setting("OTHER", "1"))
	again, err := owner.Commit(ctx, live, commit, request)
	require.NoError(t, err)
	assert.Equal(t, first, again, "the same answer")
	same, err := owner.Value(ctx, live, "KEY")
	require.NoError(t, err)
	assert.Equal(t, value, same, "and nothing was generated anew")
	_, err = owner.Commit(ctx, live, commit, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "y")}})
	assert.Equal(t, http.StatusConflict, status(err))
	assert.ErrorContains(t, err, "was used for another request")

	// What the rules withhold of a request does not make its repetition another one.
	pasted := []string{sample.Expand("npm_<base62:30><crc62>", rand.NewChaCha8([32]byte{3}))}
	tagged := wire.ChangeRequest{Edits: []wire.Edit{{Act: "describe", Name: "KEY", Details: &wire.Details{Tags: &pasted}}}}
	commit.Key = "tagged"
	first, err = owner.Commit(ctx, live, commit, tagged)
	require.NoError(t, err)
	again, err = owner.Commit(ctx, live, commit, tagged)
	require.NoError(t, err)
	assert.Equal(t, first, again)
	described, err := owner.Entry(ctx, live, "KEY")
	require.NoError(t, err)
	assert.Equal(t, []string{"[withheld]"}, *described.Details.Tags, "a value that was pasted as a tag is not kept")

	// Many at once under one key: one of them does it, all get its answer.
	var group sync.WaitGroup
	revisions := make([]int64, 12)
	for i := range revisions {
		group.Go(func() {
			change, err := owner.Commit(ctx, live, client.Commit{Base: client.AnyRevision, Key: "many"}, wire.ChangeRequest{Edits: []wire.Edit{setting("MANY", "1")}})
			assert.NoError(t, err)
			revisions[i] = change.Revision
		})
	}
	group.Wait()
	for _, r := range revisions {
		assert.Equal(t, revisions[0], r)
	}
	_, err = owner.Commit(ctx, live, client.Commit{Base: client.AnyRevision, Key: strings.Repeat("x", 201)}, request)
	assert.Error(t, err)
}

// No way round read: each thing that could bring a value to one who may not read
// it, tried by an editor of staging who sees live and may not read it.
func TestNoWayRoundRead(t *testing.T) {
	s, owner := loans(t)
	const value = "the-glass-owl-sings-at-noon"
	keep(t, owner, live, secretEdit("KEY", value), secretEdit("TWIN", value))
	keep(t, owner, staging, secretEdit("OWN", "own"))
	c := person(t, s, owner, "priya@fernhollow.example", "steward", staging)
	_, err := owner.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "depositor", Project: "loans", Environment: "live"})
	require.NoError(t, err)
	any := client.Commit{Base: client.AnyRevision}
	for way, try := range map[string]func() error{
		"a value":   func() error { _, err := c.Value(ctx, live, "KEY"); return err },
		"a resolve": func() error { _, err := c.Resolve(ctx, staging, []string{"adytum:loans/live/KEY"}, nil); return err },
		"a pin":     func() error { _, err := c.Resolve(ctx, staging, []string{"adytum:loans/live/KEY@1"}, nil); return err },
		"a copy": func() error {
			_, err := c.Copy(ctx, staging, any, wire.CopyRequest{From: wire.PlaceID(live), Names: []string{"KEY"}})
			return err
		},
		"copying what is missing": func() error {
			_, err := c.Copy(ctx, staging, any, wire.CopyRequest{From: wire.PlaceID(live), Missing: true})
			return err
		},
		"a move": func() error {
			_, err := c.Move(ctx, live, any, wire.MoveRequest{To: wire.PlaceID(staging), Names: []string{"KEY"}})
			return err
		},
		"a setting that refers": func() error {
			_, err := c.Change(ctx, staging, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "{adytum:loans/live/KEY}")}})
			return err
		},
		"a setting there": func() error {
			_, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{setting("X", "{adytum:KEY}")}})
			return err
		},
		"following": func() error {
			f := "live"
			_, err := c.EditEnvironment(ctx, staging, wire.EnvironmentEdit{Follows: &f})
			return err
		},
		"where it is used": func() error { _, err := c.Same(ctx, live, "KEY"); return err },
		"a grant": func() error {
			_, err := c.AddGrant(ctx, wire.NewGrant{Kind: "person", Who: "priya@fernhollow.example", Role: "consumer", Project: "loans", Environment: "live"})
			return err
		},
		"a private value that refers": func() error {
			_, err := c.CommitPrivate(ctx, live, any, wire.ChangeRequest{Edits: []wire.Edit{setting("KEY", "{adytum:loans/live/TWIN}")}})
			return err
		},
	} {
		err := try()
		require.Error(t, err, way)
		assert.Contains(t, []int{403, 404}, status(err), "%s: %v", way, err)
		assert.NotContains(t, err.Error(), value)
	}
	// Sameness is no oracle: neither a comparison nor a dry run tells it.
	keep(t, owner, staging, secretEdit("KEY", value))
	compared, err := c.Compare(ctx, staging, client.NewestRevision, live, client.NewestRevision)
	require.NoError(t, err)
	for _, row := range compared.Rows {
		if row.Name == "KEY" {
			assert.Equal(t, "unknown", row.State)
		}
	}
	dry, err := c.Commit(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", value)}})
	require.NoError(t, err)
	assert.False(t, dry.Effects[0].Same)
	// Nor do rules tell a value bit by bit to one who chooses them.
	for _, pattern := range []string{"^the-glass", "^something else"} {
		for _, act := range []wire.Edit{{Act: "describe", Name: "KEY"}, {Act: "revert", Name: "KEY", Version: 1}} {
			act.Details = &wire.Details{Rules: &wire.Rules{Pattern: pattern}}
			_, err := c.Commit(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.ChangeRequest{Edits: []wire.Edit{act}})
			assert.NoError(t, err, "%s %s", act.Act, pattern)
		}
	}
	same, err := c.Same(ctx, staging, "KEY")
	require.NoError(t, err)
	assert.Empty(t, same.Same, "what is the same in live is not told")
	// One may replace and go back without being able to read.
	keep(t, c, live, secretEdit("KEY", "another"))
	_, err = c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Act: "revert", Name: "KEY", Version: 1}}})
	require.NoError(t, err)
	// And who may do all, may all of this.
	dry, err = owner.Commit(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", value)}})
	require.NoError(t, err)
	assert.True(t, dry.Effects[0].Same)
	found, err := owner.Same(ctx, live, "KEY")
	require.NoError(t, err)
	assert.Len(t, found.Same, 2)
}

func TestVerbsOfTheStoresOperations(t *testing.T) {
	s, owner := loans(t)
	any := client.Commit{Base: client.AnyRevision}
	one := int64(1)
	edit := func(e wire.Edit) func(c *client.Client) error {
		return func(c *client.Client) error {
			_, err := c.Commit(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.ChangeRequest{Edits: []wire.Edit{e}})
			return err
		}
	}
	acts := map[string]func(c *client.Client) error{
		"describe": edit(wire.Edit{Act: "describe", Name: "KEY", Details: &wire.Details{Owner: &testkitOwner}}), "revert one": edit(wire.Edit{Act: "revert", Name: "KEY", Version: 1}),
		"remove": edit(wire.Edit{Act: "remove", Name: "KEY"}), "restore": edit(wire.Edit{Act: "restore", Name: "GONE"}), "rename": edit(wire.Edit{Act: "rename", Name: "KEY", To: "OTHER"}),
		"destroy": edit(wire.Edit{Act: "destroy", Name: "KEY", Version: 1}),
		"revert to": func(c *client.Client) error {
			_, err := c.Revert(ctx, live, client.Commit{Base: client.AnyRevision, DryRun: true}, wire.RevertRequest{Revision: &one})
			return err
		},
		"layers": func(c *client.Client) error { _, err := c.Layers(ctx, live, "KEY"); return err },
		"same":   func(c *client.Client) error { _, err := c.Same(ctx, live, "KEY"); return err },
		"private": func(c *client.Client) error {
			_, err := c.CommitPrivate(ctx, live, any, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("KEY", "x")}})
			return err
		},
		"edit environment": func(c *client.Client) error {
			days := 9
			_, err := c.EditEnvironment(ctx, live, wire.EnvironmentEdit{MaxAgeDays: &days})
			return err
		},
		"remove environment": func(c *client.Client) error { _, err := c.RemovePlace(ctx, live); return err },
	}
	may := map[string]string{
		"observer": "layers private", "consumer": "layers same private", "depositor": "describe revert_one layers private",
		"editor": "describe revert_one remove restore rename revert_to layers same private", "steward": "describe revert_one remove restore rename destroy revert_to layers same private edit_environment",
	}
	keep(t, owner, live, secretEdit("KEY", "1"), secretEdit("GONE", "1"))
	keep(t, owner, live, secretEdit("KEY", "2"), wire.Edit{Act: "remove", Name: "GONE"}, setting("ADDED", "1"))
	for role, allowed := range may {
		c := person(t, s, owner, role+"@fernhollow.example", role, live)
		for act, try := range acts {
			err := try(c)
			if strings.Contains(" "+allowed+" ", " "+strings.ReplaceAll(act, " ", "_")+" ") {
				assert.NoError(t, err, "%s: %s", role, act)
			} else {
				assert.Equal(t, http.StatusForbidden, status(err), "%s: %s: %v", role, act, err)
			}
		}
	}
}

var testkitOwner = testkit.OwnerName

// 200 changes at once while the layer's readers look on: none is lost, none is
// seen in part.
func TestManyChangesAtOnce(t *testing.T) {
	s, owner := loans(t)
	instances := []*client.Client{owner, moved(t, owner, second(t, s).URL)}
	var group sync.WaitGroup
	for i := range 200 {
		group.Go(func() {
			pair := fmt.Sprintf("pair %d", i)
			_, err := instances[i%2].Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{secretEdit("LEFT", pair), secretEdit("RIGHT", pair), secretEdit(fmt.Sprintf("OWN_%d", i), pair)}})
			assert.NoError(t, err)
		})
	}
	for range 100 {
		out, err := instances[1].Resolve(ctx, live, nil, []string{"adytum:LEFT", "adytum:RIGHT"})
		require.NoError(t, err)
		if len(out.Values) > 0 {
			require.Len(t, out.Values, 2)
			require.Equal(t, out.Values[0].Value, out.Values[1].Value, "one moment, not two")
		}
	}
	group.Wait()
	entries, err := owner.Entries(ctx, live)
	require.NoError(t, err)
	assert.Len(t, entries.Entries, 202)
	assert.EqualValues(t, 200, entries.Revision)
	h, err := owner.History(ctx, live, "LEFT")
	require.NoError(t, err)
	assert.Len(t, h.Versions, 200)
	for _, v := range h.Versions[:10] {
		out, err := owner.Resolve(ctx, live, []string{fmt.Sprintf("adytum:loans/live/LEFT@%d", v.Version)}, nil)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(out.Values[0].Value, "pair "))
	}
}

func TestTimesAreThoseOfTheDatabase(t *testing.T) {
	s, owner := loans(t)
	from := time.Now().Add(3 * time.Second)
	keep(t, owner, live, secretEdit("KEY", "before"))
	keep(t, owner, live, wire.Edit{Name: "KEY", Kind: "secret", Value: "after", ActiveFrom: &from})
	there := moved(t, owner, second(t, s).URL)
	// Answers come from memory, and change at the moment all the same.
	for time.Now().Before(from.Add(2 * time.Second)) {
		asked := time.Now()
		v, err := there.Value(ctx, live, "KEY")
		require.NoError(t, err)
		answered := time.Now()
		if answered.Before(from) {
			require.Equal(t, "before", v.Value)
		} else if !asked.Before(from) {
			require.Equal(t, "after", v.Value)
		}
	}
}
