// Package layers decides which layer answers for a name, and what a change does
// to a layer. It sees names, kinds and numbers, never a value.
package layers

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"adytum.example/internal/core/reference"
)

// Revision counts the changes of one layer, from 1; 0 is the empty layer.
type Revision int64

// Kind is what an entry is.
type Kind string

// The kinds that there are.
const (
	Secret  Kind = "secret"  // encrypted, listed without its value
	Setting Kind = "setting" // plain, readable with the listing
	Nothing Kind = "nothing" // hides what lies farther away
)

// ValidKind tells whether k is one of the kinds.
func ValidKind(k Kind) bool { return k == Secret || k == Setting || k == Nothing }

// Place names a layer: an environment, a project's common layer (no
// Environment), or the organization's layer (neither).
type Place struct{ Project, Environment string }

// String is the place as people write it: loans/live, loans, or organization.
func (p Place) String() string {
	switch {
	case p.Project == "":
		return "organization"
	case p.Environment == "":
		return p.Project
	}
	return p.Project + "/" + p.Environment
}

// Entry is a name that one layer sets, with its newest version.
type Entry struct {
	ID      int64
	Name    string
	Kind    Kind
	Version int64
	Since   time.Time // of that version
	Author  string    // who made it
	Setting string    // the text of a setting, empty otherwise
}

// Layer is one layer at one revision. A Layer that was loaded is not changed
// any more and may be shared.
type Layer struct {
	ID       int64
	Project  int64 // 0 for the organization's layer
	Place    Place
	Revision Revision
	Entries  map[string]Entry
}

// Origin says from where an environment has an entry.
type Origin string

// The origins that there are, nearest first.
const (
	Here             Origin = "here"
	Followed         Origin = "followed"
	FromProject      Origin = "project"
	FromOrganization Origin = "organization"
)

// Answer is what a chain of layers says for a name.
type Answer struct {
	Entry  Entry
	Layer  *Layer
	Origin Origin
}

// Lookup finds the nearest layer of the chain, which runs from near to far, that
// sets name. Not found is also what a nearer layer has set to nothing; the
// answer then says where.
func Lookup(chain []*Layer, name string) (Answer, bool) {
	for i, layer := range chain {
		if e, set := layer.Entries[name]; set {
			return Answer{Entry: e, Layer: layer, Origin: origin(chain[0], layer, i)}, e.Kind != Nothing
		}
	}
	return Answer{}, false
}

func origin(nearest, layer *Layer, index int) Origin {
	switch {
	case index == 0:
		return Here
	case layer.Place.Environment != "":
		return Followed
	case layer.Project == nearest.Project && layer.Project != 0:
		return FromProject
	}
	return FromOrganization
}

// Names are all names that the chain sets, sorted, those set to nothing too.
func Names(chain []*Layer) []string {
	seen := map[string]bool{}
	for _, layer := range chain {
		for name := range layer.Entries {
			seen[name] = true
		}
	}
	names := make([]string, 0, len(seen))
	for name := range seen {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// MaxFollow is how many environments may follow one another.
const MaxFollow = 8

// Edit is one step of a change.
type Edit struct {
	Name   string
	Kind   Kind // of the new version; unused where Remove is set
	Remove bool
}

// Act is what an edit does to an entry.
type Act string

// The acts that there are.
const (
	Added    Act = "added"
	Replaced Act = "replaced"
	Removed  Act = "removed"
)

// Effect is what one edit of a change does.
type Effect struct {
	Name string
	Act  Act
	Kind Kind
}

// MaxEdits is how many entries one change may touch.
const MaxEdits = 1000

// Plan says what a change would do to a layer, or everything that is wrong with
// it. A change without an effect is wrong as well.
func Plan(layer *Layer, edits []Edit) ([]Effect, []error) {
	var problems []error
	effects := make([]Effect, 0, len(edits))
	if len(edits) == 0 {
		problems = append(problems, fmt.Errorf("the change names no entry; name at least one"))
	}
	if len(edits) > MaxEdits {
		return nil, []error{fmt.Errorf("the change names %d entries; one change has at most %d", len(edits), MaxEdits)}
	}
	folded := map[string]string{}
	for name := range layer.Entries {
		folded[strings.ToUpper(name)] = name
	}
	named := map[string]bool{}
	for _, e := range edits {
		if err := CheckName(e.Name); err != nil {
			problems = append(problems, err)
			continue
		}
		if named[e.Name] {
			problems = append(problems, fmt.Errorf("%s is named twice in one change; name it once", e.Name))
			continue
		}
		named[e.Name] = true
		if other, taken := folded[strings.ToUpper(e.Name)]; taken && other != e.Name {
			problems = append(problems, fmt.Errorf("%s differs from %s, which is set in %s, in upper and lower case alone; use that name", e.Name, other, layer.Place))
			continue
		}
		folded[strings.ToUpper(e.Name)] = e.Name
		_, set := layer.Entries[e.Name]
		switch {
		case e.Remove && !set:
			problems = append(problems, fmt.Errorf("%s is not set in %s and cannot be removed there", e.Name, layer.Place))
		case e.Remove:
			effects = append(effects, Effect{e.Name, Removed, layer.Entries[e.Name].Kind})
		case !ValidKind(e.Kind):
			problems = append(problems, fmt.Errorf("%s has the kind %q; there are secret, setting and nothing", e.Name, e.Kind))
		case set:
			effects = append(effects, Effect{e.Name, Replaced, e.Kind})
		default:
			effects = append(effects, Effect{e.Name, Added, e.Kind})
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return effects, nil
}

// CheckName says what is wrong with the name of an entry.
func CheckName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("an entry's name is empty; it is a letter or \"_\", then letters, digits and \"_\"")
	case len(name) > reference.MaxName:
		return fmt.Errorf("the name %.20s… has %d characters; at most %d are allowed", name, len(name), reference.MaxName)
	case !reference.ValidName(name):
		return fmt.Errorf("%q is not a name; a name is a letter or \"_\", then letters, digits and \"_\"", name)
	case strings.HasPrefix(strings.ToUpper(name), "ADYTUM_"):
		return fmt.Errorf("%s is reserved: names that begin with ADYTUM_ are the client's own settings", name)
	}
	return nil
}
