package layers_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/layers"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func layer(project int64, place layers.Place, entries ...*layers.Entry) *layers.Layer {
	l := &layers.Layer{Project: project, Place: place, Entries: map[string]*layers.Entry{}}
	for i, e := range entries {
		e.ID = int64(i + 1)
		if e.Removed.IsZero() {
			l.Entries[e.Name] = e
		} else {
			l.Removed = append(l.Removed, e)
		}
	}
	return l
}

func entry(name string, kind layers.Kind, versions ...layers.Version) *layers.Entry {
	if len(versions) == 0 {
		versions = []layers.Version{{}}
	}
	for i := range versions {
		versions[i].Number, versions[i].Kind = int64(i+1), kind
	}
	return &layers.Entry{Name: name, Live: versions}
}

func secretEntry(name string) *layers.Entry { return entry(name, layers.Secret) }

func removedEntry(name string, at time.Time) *layers.Entry {
	e := secretEntry(name)
	e.Removed = at
	return e
}

var live = layers.Place{Project: "loans", Environment: "live"}

func TestTheNearestLayerAnswers(t *testing.T) {
	chain := []*layers.Layer{
		layer(1, layers.Place{Project: "loans", Environment: "preview"}, secretEntry("A"), entry("HIDDEN", layers.Nothing)),
		layer(1, layers.Place{Project: "loans", Environment: "staging"}, secretEntry("A"), secretEntry("B")),
		layer(1, layers.Place{Project: "loans"}, secretEntry("B"), secretEntry("C"), secretEntry("HIDDEN")),
		layer(0, layers.Place{}, secretEntry("C"), secretEntry("D")),
	}
	for name, want := range map[string]layers.Origin{"A": layers.Here, "B": layers.Followed, "C": layers.FromProject, "D": layers.FromOrganization} {
		a, found := layers.Lookup(chain, name, now)
		assert.True(t, found, name)
		assert.Equal(t, want, a.Origin, name)
	}
	a, found := layers.Lookup(chain, "HIDDEN", now)
	assert.False(t, found, "set to nothing nearer by")
	assert.Equal(t, layers.Here, a.Origin)
	_, found = layers.Lookup(chain, "E", now)
	assert.False(t, found)
	assert.Equal(t, []string{"A", "B", "C", "D", "HIDDEN"}, layers.Names(chain))
	assert.Len(t, layers.All(chain, "A", now), 2)

	a, _ = layers.Lookup([]*layers.Layer{layer(0, layers.Place{}, secretEntry("D"))}, "D", now)
	assert.Equal(t, layers.Here, a.Origin, "the organization's own layer")

	private := layer(1, layers.Place{Project: "loans", Environment: "preview"}, secretEntry("C"))
	private.Private = true
	chain = append([]*layers.Layer{private}, chain...)
	for name, want := range map[string]layers.Origin{"A": layers.Here, "B": layers.Followed, "C": layers.Private, "D": layers.FromOrganization} {
		a, _ := layers.Lookup(chain, name, now)
		assert.Equal(t, want, a.Origin, name)
	}
}

func TestWhatCountsAtAMoment(t *testing.T) {
	later, sooner, past := now.Add(2*time.Hour), now.Add(time.Hour), now.Add(-time.Hour)
	e := entry("KEY", layers.Secret, layers.Version{Expires: later}, layers.Version{ActiveFrom: sooner})
	for at, want := range map[time.Time]struct {
		number int64
		state  layers.State
	}{now: {1, layers.Active}, sooner: {2, layers.Active}, later.Add(time.Hour): {2, layers.Active}} {
		v, state := e.At(at)
		assert.Equal(t, want.number, v.Number, at)
		assert.Equal(t, want.state, state, at)
	}
	v, state := entry("KEY", layers.Secret, layers.Version{ActiveFrom: sooner}, layers.Version{ActiveFrom: later}).At(now)
	assert.Equal(t, layers.Waiting, state)
	assert.EqualValues(t, 2, v.Number)
	_, state = entry("KEY", layers.Secret, layers.Version{Expires: now}).At(now)
	assert.Equal(t, layers.Expired, state, "the end is the first moment that does not count")
	_, state = entry("KEY", layers.Secret, layers.Version{Destroyed: past}).At(now)
	assert.Equal(t, layers.Destroyed, state)

	l := layer(1, live, entry("A", layers.Secret, layers.Version{Expires: later}), entry("B", layers.Secret, layers.Version{ActiveFrom: sooner}))
	assert.Equal(t, sooner, l.NextMoment(now))
	assert.Equal(t, later, l.NextMoment(sooner))
	assert.Zero(t, l.NextMoment(later))

	all := []layers.Version{{Number: 3}, {Number: 4, ActiveFrom: sooner}, {Number: 5, ActiveFrom: later}}
	assert.EqualValues(t, 3, layers.Settled(all, now))
	assert.EqualValues(t, 4, layers.Settled(all, sooner))
	assert.EqualValues(t, 4, layers.Settled(all[1:], now), "all are waiting")

	states := entry("KEY", layers.Secret, layers.Version{}, layers.Version{Destroyed: past}, layers.Version{}, layers.Version{ActiveFrom: sooner})
	for i, want := range []layers.State{layers.Superseded, layers.Destroyed, layers.Active, layers.Waiting} {
		assert.Equal(t, want, states.StateOf(states.Live[i], now), i+1)
	}
}

func TestAWaitingEntryHidesNothingYetAndAnExpiredOneDoes(t *testing.T) {
	far := layer(1, layers.Place{Project: "loans"}, secretEntry("KEY"))
	waiting := layer(1, live, entry("KEY", layers.Secret, layers.Version{ActiveFrom: now.Add(time.Hour)}))
	expired := layer(1, live, entry("KEY", layers.Secret, layers.Version{Expires: now}))
	a, usable := layers.Lookup([]*layers.Layer{waiting, far}, "KEY", now)
	assert.True(t, usable)
	assert.Equal(t, layers.FromProject, a.Origin)
	a, usable = layers.Lookup([]*layers.Layer{waiting}, "KEY", now)
	assert.False(t, usable)
	assert.Equal(t, layers.Waiting, a.State)
	a, usable = layers.Lookup([]*layers.Layer{expired, far}, "KEY", now)
	assert.False(t, usable, "no older value takes its place in silence")
	assert.Equal(t, layers.Expired, a.State)
}

func TestPlanSaysWhatAChangeDoes(t *testing.T) {
	l := layer(1, live, secretEntry("A"), secretEntry("B"), secretEntry("C"), secretEntry("D"), removedEntry("E", now), entry("F", layers.Secret, layers.Version{}, layers.Version{}))
	effects, problems := layers.Plan(l, []layers.Edit{
		{Act: layers.Keep, Name: "A", Kind: layers.Setting}, {Act: layers.Remove, Name: "B"}, {Act: layers.Rename, Name: "C", To: "B2"}, {Act: layers.Describe, Name: "D"},
		{Act: layers.Restore, Name: "E"}, {Act: layers.Revert, Name: "F", Version: 1}, {Act: layers.Keep, Name: "NEW", Kind: layers.Secret},
	}, now)
	require.Empty(t, problems)
	var did []string
	for _, e := range effects {
		did = append(did, e.Edit.Name+" "+e.Did)
	}
	assert.Equal(t, []string{"A replaced", "B removed", "C renamed", "D described", "E restored", "F replaced", "NEW added"}, did)

	effects, problems = layers.Plan(l, []layers.Edit{{Act: layers.Destroy, Name: "E"}}, now)
	require.Empty(t, problems)
	assert.EqualValues(t, 5, effects[0].Entry.ID, "what was removed can be destroyed")
}

func TestPlanNamesEveryProblemAtOnce(t *testing.T) {
	l := layer(1, live, secretEntry("TOKEN"), secretEntry("OTHER"), removedEntry("TOKEN", now), removedEntry("token2", now))
	keep := func(name string) layers.Edit { return layers.Edit{Act: layers.Keep, Name: name, Kind: layers.Secret} }
	for says, edits := range map[string][]layers.Edit{
		"is empty":                 {keep("")},
		`"9A" is not a name`:       {keep("9A")},
		"has 200 characters":       {keep(strings.Repeat("N", 200))},
		"ADYTUM_TOKEN is reserved": {keep("ADYTUM_TOKEN")},
		"Token differs from TOKEN": {keep("Token")},
		"GONE is not set in loans/live and cannot be removed": {{Act: layers.Remove, Name: "GONE"}},
		"did you mean TOKEN?":                     {{Act: layers.Describe, Name: "TOKEM"}},
		`the kind "secrit"`:                       {{Act: layers.Keep, Name: "X", Kind: "secrit"}},
		"Y is named twice":                        {keep("Y"), keep("Y")},
		"y differs from Y":                        {keep("Y"), keep("y")},
		"TOKEN is set in loans/live, so what was": {{Act: layers.Restore, Name: "TOKEN"}},
		"there is no removed NONE":                {{Act: layers.Restore, Name: "NONE"}},
		"has no version 7":                        {{Act: layers.Revert, Name: "TOKEN", Version: 7}},
		"has no version 8":                        {{Act: layers.Destroy, Name: "TOKEN", Version: 8}},
		"TOKEN has that name already":             {{Act: layers.Rename, Name: "TOKEN", To: "TOKEN"}},
		"cannot be renamed to OTHER":              {{Act: layers.Rename, Name: "TOKEN", To: "OTHER"}},
		"Other differs from OTHER":                {{Act: layers.Rename, Name: "TOKEN", To: "Other"}},
		"adytum_x is reserved":                    {{Act: layers.Rename, Name: "TOKEN", To: "adytum_x"}},
		`there is no act "keeep"`:                 {{Act: "keeep", Name: "TOKEN"}},
	} {
		_, problems := layers.Plan(l, append(edits, layers.Edit{Act: layers.Remove, Name: "ALSO_GONE"}), now)
		text := errors.Join(problems...).Error()
		assert.Contains(t, text, says)
		assert.Contains(t, text, "ALSO_GONE", "%s: all at once", says)
	}
	_, problems := layers.Plan(l, nil, now)
	assert.Len(t, problems, 1)
	_, problems = layers.Plan(l, make([]layers.Edit, layers.MaxEdits+1), now)
	assert.Len(t, problems, 1)
	effects, problems := layers.Plan(l, []layers.Edit{{Act: layers.Remove, Name: "TOKEN"}, keep("Token")}, now)
	assert.Empty(t, problems, "a name that the change itself frees")
	assert.Len(t, effects, 2)
}

func TestDetailsHaveOneForm(t *testing.T) {
	d, wrong := layers.Details{Owner: "Tomasz", Tags: []string{"Mail", "mail", " b "}, Link: "https://accounts.quillpost.example/keys", MaxAgeDays: 90}.Check("KEY")
	assert.Empty(t, wrong)
	assert.Equal(t, []string{"b", "mail"}, d.Tags)
	back, err := layers.ParseDetails(d.Text())
	require.NoError(t, err)
	assert.Equal(t, d, back)
	assert.True(t, layers.Details{}.Empty())
	_, err = layers.ParseDetails("{")
	assert.Error(t, err)
	for says, d := range map[string]layers.Details{
		"the owner has 501 characters": {Owner: strings.Repeat("x", 501)}, "the link is not an address": {Link: "javascript:alert(1)"},
		"a tag is one word": {Tags: []string{"two words"}}, "at most 20": {Tags: strings.Fields("a b c d e f g h i j k l m n o p q r s t u")}, "the greatest age is 9999 days": {MaxAgeDays: 9999},
	} {
		_, wrong := d.Check("KEY")
		assert.ErrorContains(t, errors.Join(wrong...), says)
	}
}

func TestSourcesAreToldToPeople(t *testing.T) {
	for want, s := range map[string]layers.Source{
		"":                                     {},
		"generated: a UUID, 122 bits":          {How: layers.Generated, What: "a UUID", Bits: 122},
		"copied from loans/staging, version 3": {How: layers.Copied, From: "loans/staging", Version: 3},
		"as version 2":                         {How: layers.Reverted, Version: 2},
		"imported from .env":                   {How: layers.Imported, What: ".env"},
		"belongs to TLS_KEY":                   {How: layers.Derived, Name: "TLS_KEY"},
	} {
		assert.Equal(t, want, s.String())
		back, err := layers.ParseSource(s.Text())
		require.NoError(t, err)
		assert.Equal(t, s, back)
	}
}

func TestAgingFollowsTheNearestPolicy(t *testing.T) {
	v := &layers.Version{Kind: layers.Secret, At: now.AddDate(0, 0, -40)}
	own := &layers.Entry{Details: layers.Details{MaxAgeDays: 30}}
	assert.Equal(t, now.AddDate(0, 0, -10), layers.Aging(own, v, now, 90, 10), "the entry's own")
	assert.Zero(t, layers.Aging(&layers.Entry{}, v, now, 90, 10), "the environment's before the project's")
	assert.NotZero(t, layers.Aging(&layers.Entry{}, v, now, 0, 10))
	assert.Zero(t, layers.Aging(&layers.Entry{}, v, now, 0, 0), "none")
	v.Kind = layers.Setting
	assert.Zero(t, layers.Aging(own, v, now, 0, 0), "settings do not age")
}

// did is what a change that brings an entry from one standing to another records.
func did(id int64, before, after layers.Standing) layers.Done {
	return layers.Done{Entry: id, Name: after.Name, Before: before, After: after}
}

func TestUndoingAChange(t *testing.T) {
	stands := func(name string, version int64) layers.Standing { return layers.Standing{Name: name, Version: version} }
	two := entry("B", layers.Secret, layers.Version{}, layers.Version{})
	l := layer(1, live, secretEntry("A"), two, removedEntry("C", now))
	edits, problems := layers.UndoChange(l, 5, []layers.Done{
		did(1, layers.Standing{}, stands("A", 1)), did(2, stands("OLD", 1), stands("B", 2)), did(3, stands("C", 1), layers.Standing{Name: "C", Version: 1, Removed: true}),
	})
	require.Empty(t, problems)
	assert.Equal(t, []layers.Edit{
		{Act: layers.Remove, Entry: 1, Name: "A"}, {Act: layers.Revert, Entry: 2, Name: "B", To: "OLD", Version: 1}, {Act: layers.Revert, Entry: 3, Name: "C"},
	}, edits, "what was added goes, what was replaced and renamed comes back, what was removed is restored")
	effects, problems := layers.Plan(l, edits, now)
	require.Empty(t, problems)
	assert.Equal(t, []string{layers.WasRemoved, layers.Renamed, layers.Restored}, []string{effects[0].Did, effects[1].Did, effects[2].Did})

	_, problems = layers.UndoChange(l, 4, []layers.Done{did(2, layers.Standing{}, stands("B", 1))})
	assert.ErrorContains(t, errors.Join(problems...), "B was changed again after revision 4")
	_, problems = layers.UndoChange(l, 4, []layers.Done{did(9, stands("X", 1), layers.Standing{Name: "X", Version: 1, Gone: true})})
	assert.ErrorContains(t, errors.Join(problems...), "X was destroyed and cannot come back")
}

func TestGoingBackToARevision(t *testing.T) {
	stands := func(name string, version int64) layers.Standing { return layers.Standing{Name: name, Version: version} }
	reverted := entry("B", layers.Secret, layers.Version{}, layers.Version{}, layers.Version{Source: layers.Source{How: layers.Reverted, Version: 1}})
	l := layer(1, live, secretEntry("A"), reverted)
	edits, problems := layers.UndoTo(l, [][]layers.Done{
		{did(2, stands("B", 2), stands("B", 3))}, {did(2, stands("B", 1), stands("B", 2)), did(1, layers.Standing{}, stands("A", 1))},
	})
	require.Empty(t, problems)
	assert.Equal(t, []layers.Edit{{Act: layers.Remove, Entry: 1, Name: "A"}}, edits, "B has its value of then already")
	stood := layers.AtRevision([][]layers.Done{{did(2, stands("B", 2), stands("B", 3))}, {did(2, stands("B", 1), stands("B", 2))}})
	assert.Equal(t, map[int64]layers.Standing{2: stands("B", 1)}, stood)
}

func TestNearest(t *testing.T) {
	known := []string{"DB_PASSWORD", "DB_HOST", "QUILLPOST_KEY", "A"}
	for misspelt, want := range map[string]string{
		"DB_PASWORD": "DB_PASSWORD", "db_password": "DB_PASSWORD", "DB_PASSWROD": "DB_PASSWORD", "DB_HOTS": "DB_HOST",
		"QUILLPOST": "", "QUILPOST_KEY": "QUILLPOST_KEY", "ZZZ": "", "": "",
	} {
		assert.Equal(t, want, layers.Nearest(misspelt, known), misspelt)
	}
}
