// Package layers decides which layer answers for a name, and what a change does
// to a layer. It sees names, kinds, numbers and times, never a secret's value.
package layers

import (
	"sort"
	"time"
)

// Revision counts the changes of one layer, from 1; 0 is the empty layer.
type Revision int64

// Kind is what a version is.
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

// State is what a version is at a moment.
type State string

// The states that there are.
const (
	Active     State = "active"
	Waiting    State = "waiting"    // its time has not come yet
	Expired    State = "expired"    // its time has passed
	Superseded State = "superseded" // a later one took its place
	Destroyed  State = "destroyed"  // its key is deleted
)

// Version is one value that an entry has had, without the value of a secret. It
// is not changed any more, but that it can be destroyed.
type Version struct {
	Number     int64
	Kind       Kind
	Setting    string // the text of a setting, empty otherwise
	At         time.Time
	Author     string // who made it
	Revision   Revision
	ActiveFrom time.Time // zero: at once
	Expires    time.Time // the first moment at which it counts no more; zero: never
	Destroyed  time.Time // zero: not
	Source     Source
}

// Entry is a name that one layer sets.
type Entry struct {
	ID      int64
	Name    string
	Details Details
	// Live are the versions that count now or later, oldest first: never empty,
	// and all but the first may be waiting still.
	Live    []Version
	Removed time.Time // zero: not
	Purge   time.Time // until when it can be restored, where it was removed
}

// Newest is the entry's last version, whatever its state.
func (e *Entry) Newest() Version { return e.Live[len(e.Live)-1] }

// At is the version that counts at a moment with its state: the newest whose
// time has come, or the newest of all where none has. It is not to be changed.
func (e *Entry) At(now time.Time) (*Version, State) {
	for i := len(e.Live) - 1; i >= 0; i-- {
		if v := &e.Live[i]; v.ActiveFrom.IsZero() || !v.ActiveFrom.After(now) {
			return v, v.state(now)
		}
	}
	return &e.Live[len(e.Live)-1], Waiting
}

func (v *Version) state(now time.Time) State {
	switch {
	case !v.Destroyed.IsZero():
		return Destroyed
	case !v.Expires.IsZero() && !now.Before(v.Expires):
		return Expired
	case v.ActiveFrom.After(now):
		return Waiting
	}
	return Active
}

// StateOf is the state of any of the entry's versions at a moment.
func (e *Entry) StateOf(v Version, now time.Time) State {
	counting, state := e.At(now)
	switch {
	case v.Number == counting.Number:
		return state
	case !v.Destroyed.IsZero():
		return Destroyed
	case v.Number < counting.Number && state != Waiting:
		return Superseded
	}
	return v.state(now)
}

// Settled is the number of the oldest version that counts at a moment or later.
func Settled(versions []Version, now time.Time) int64 {
	for i := len(versions) - 1; i >= 0; i-- {
		if !versions[i].ActiveFrom.After(now) {
			return versions[i].Number
		}
	}
	return versions[0].Number
}

// Layer is one layer at one revision. A Layer that was loaded is not changed
// any more and may be shared.
type Layer struct {
	ID       int64
	Project  int64 // 0 for the organization's layer
	Place    Place
	Private  bool // one person's own values in the place
	Revision Revision
	Entries  map[string]*Entry
	Removed  []*Entry // those that can be restored, the latest removed last
	// Tells says which of its names problems may name; nil: all.
	Tells func(name string) bool
}

// NextMoment is the first moment after now at which something in the layer
// begins or ceases to count, or zero.
func (l *Layer) NextMoment(now time.Time) time.Time {
	var next time.Time
	for _, e := range l.Entries {
		for _, v := range e.Live {
			for _, at := range []time.Time{v.ActiveFrom, v.Expires} {
				if at.After(now) && (next.IsZero() || at.Before(next)) {
					next = at
				}
			}
		}
	}
	return next
}

// Origin says from where an environment has an entry.
type Origin string

// The origins that there are, nearest first.
const (
	Private          Origin = "private"
	Here             Origin = "here"
	Followed         Origin = "followed"
	FromProject      Origin = "project"
	FromOrganization Origin = "organization"
)

// Answer is what a chain of layers says for a name at a moment.
type Answer struct {
	Entry   *Entry   // nil, as all that follows: no layer sets it
	Version *Version // that counts
	State   State
	Layer   *Layer
	Origin  Origin
}

// Usable tells whether the answer has a value to give.
func (a Answer) Usable() bool {
	return a.Layer != nil && a.State == Active && a.Version.Kind != Nothing
}

// Lookup finds the nearest layer of the chain, which runs from near to far, that
// sets name at a moment. What is not usable is answered as well: set to nothing,
// expired, destroyed. An entry whose time has not come hides nothing yet; it is
// the answer only where no farther layer has one.
func Lookup(chain []*Layer, name string, now time.Time) (Answer, bool) {
	var waiting Answer
	for i, layer := range chain {
		e := layer.Entries[name]
		if e == nil {
			continue
		}
		version, state := e.At(now)
		if state != Waiting {
			a := Answer{e, version, state, layer, origin(chain, i)}
			return a, a.Usable()
		}
		if waiting.Layer == nil {
			waiting = Answer{e, version, state, layer, origin(chain, i)}
		}
	}
	return waiting, false
}

// All are the answers of every layer of the chain that sets name, from near to far.
func All(chain []*Layer, name string, now time.Time) []Answer {
	var all []Answer
	for i, layer := range chain {
		if e := layer.Entries[name]; e != nil {
			version, state := e.At(now)
			all = append(all, Answer{e, version, state, layer, origin(chain, i)})
		}
	}
	return all
}

func origin(chain []*Layer, index int) Origin {
	layer, nearest := chain[index], chain[0]
	if nearest.Private && len(chain) > 1 && index > 0 {
		nearest, index = chain[1], index-1
	}
	switch {
	case layer.Private:
		return Private
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
