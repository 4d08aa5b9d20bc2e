package layers_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"adytum.example/internal/core/layers"
)

func layer(project int64, place layers.Place, entries ...layers.Entry) *layers.Layer {
	l := &layers.Layer{Project: project, Place: place, Entries: map[string]layers.Entry{}}
	for _, e := range entries {
		l.Entries[e.Name] = e
	}
	return l
}

func secretEntry(name string) layers.Entry { return layers.Entry{Name: name, Kind: layers.Secret} }

func TestTheNearestLayerAnswers(t *testing.T) {
	chain := []*layers.Layer{
		layer(1, layers.Place{Project: "loans", Environment: "preview"}, secretEntry("A"), layers.Entry{Name: "HIDDEN", Kind: layers.Nothing}),
		layer(1, layers.Place{Project: "loans", Environment: "staging"}, secretEntry("A"), secretEntry("B")),
		layer(1, layers.Place{Project: "loans"}, secretEntry("B"), secretEntry("C"), secretEntry("HIDDEN")),
		layer(0, layers.Place{}, secretEntry("C"), secretEntry("D")),
	}
	for name, want := range map[string]layers.Origin{"A": layers.Here, "B": layers.Followed, "C": layers.FromProject, "D": layers.FromOrganization} {
		a, found := layers.Lookup(chain, name)
		assert.True(t, found, name)
		assert.Equal(t, want, a.Origin, name)
	}
	a, found := layers.Lookup(chain, "HIDDEN")
	assert.False(t, found, "set to nothing nearer by")
	assert.Equal(t, layers.Here, a.Origin)
	_, found = layers.Lookup(chain, "E")
	assert.False(t, found)
	assert.Equal(t, []string{"A", "B", "C", "D", "HIDDEN"}, layers.Names(chain))

	a, _ = layers.Lookup([]*layers.Layer{layer(0, layers.Place{}, secretEntry("D"))}, "D")
	assert.Equal(t, layers.Here, a.Origin, "the organization's own layer")
}

func TestPlanSaysWhatAChangeDoes(t *testing.T) {
	l := layer(1, layers.Place{Project: "loans", Environment: "live"}, secretEntry("A"), secretEntry("B"))
	effects, problems := layers.Plan(l, []layers.Edit{{Name: "A", Kind: layers.Setting}, {Name: "B", Remove: true}, {Name: "C", Kind: layers.Secret}})
	assert.Empty(t, problems)
	assert.Equal(t, []layers.Effect{{"A", layers.Replaced, layers.Setting}, {"B", layers.Removed, layers.Secret}, {"C", layers.Added, layers.Secret}}, effects)
}

func TestPlanNamesEveryProblemAtOnce(t *testing.T) {
	l := layer(1, layers.Place{Project: "loans", Environment: "live"}, secretEntry("TOKEN"))
	_, problems := layers.Plan(l, []layers.Edit{
		{Name: ""}, {Name: "9A", Kind: layers.Secret}, {Name: strings.Repeat("N", 200), Kind: layers.Secret},
		{Name: "ADYTUM_TOKEN", Kind: layers.Secret}, {Name: "Token", Kind: layers.Secret}, {Name: "GONE", Remove: true},
		{Name: "X", Kind: "secrit"}, {Name: "Y", Kind: layers.Secret}, {Name: "Y", Kind: layers.Secret}, {Name: "y", Kind: layers.Secret},
	})
	text := errors.Join(problems...).Error()
	for _, want := range []string{"is empty", `"9A" is not a name`, "has 200 characters", "ADYTUM_TOKEN is reserved", "Token differs from TOKEN", "GONE is not set in loans/live", `the kind "secrit"`, "Y is named twice", "y differs from Y"} {
		assert.Contains(t, text, want)
	}
	_, problems = layers.Plan(l, nil)
	assert.Len(t, problems, 1)
	_, problems = layers.Plan(l, make([]layers.Edit, layers.MaxEdits+1))
	assert.Len(t, problems, 1)
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
