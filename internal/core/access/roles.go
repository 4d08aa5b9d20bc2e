package access

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Verb is one thing that a grant can allow. No verb contains another.
type Verb string

// Verbs on entries.
const (
	List    Verb = "list"    // names and what is known about them
	Read    Verb = "read"    // obtain a value
	Write   Verb = "write"   // add and replace
	Remove  Verb = "remove"  // remove and restore
	Destroy Verb = "destroy" // irrevocably
	Manage  Verb = "manage"  // grants and policies there
)

// Verbs on the organization.
const (
	People Verb = "people" // people, teams and workloads
	Audit  Verb = "audit"  // read and verify the trail
	Sweep  Verb = "sweep"
	Keys   Verb = "keys"
)

// AllVerbs are the verbs there are, those on entries first.
var AllVerbs = []Verb{List, Read, Write, Remove, Destroy, Manage, People, Audit, Sweep, Keys}

const entryVerbs = 6 // of AllVerbs

// EntryVerbs are the verbs on entries.
func EntryVerbs() []Verb { return AllVerbs[:entryVerbs:entryVerbs] }

// set is a set of verbs, a bit for each.
type set uint16

const onEntries set = 1<<entryVerbs - 1

func bit(v Verb) set {
	if i := slices.Index(AllVerbs, v); i >= 0 {
		return 1 << i
	}
	return 0
}

func setOf(verbs []Verb) (s set) {
	for _, v := range verbs {
		s |= bit(v)
	}
	return s
}

// roles are the built-in roles.
var roles = map[string][]Verb{
	"observer":  {List},
	"consumer":  {List, Read},
	"depositor": {List, Write},
	"editor":    {List, Read, Write, Remove},
	"steward":   {List, Read, Write, Remove, Destroy, Manage},
	"auditor":   {List, Audit},
	"sweeper":   {Sweep},
	"owner":     AllVerbs,
}

// Roles are named sets of verbs: the built-in ones, and those that an
// organization has defined.
type Roles map[string][]Verb

// BuiltIn are the roles that every organization has.
func BuiltIn() Roles { return maps.Clone(Roles(roles)) }

// IsBuiltIn tells whether a role is one that cannot be defined otherwise.
func IsBuiltIn(name string) bool { return roles[name] != nil }

// Names are the names of all roles, sorted.
func (r Roles) Names() []string { return slices.Sorted(maps.Keys(r)) }

// ParseVerbs reads the verbs of a role and puts them into their order. The error
// names every word that is none.
func ParseVerbs(words []string) ([]Verb, error) {
	var wrong []string
	for _, w := range words {
		if !slices.Contains(AllVerbs, Verb(w)) {
			wrong = append(wrong, fmt.Sprintf("%q", w))
		}
	}
	if len(wrong) > 0 {
		return nil, fmt.Errorf("%s is no verb; there are %s", strings.Join(wrong, " and "), Words(AllVerbs))
	}
	var verbs []Verb
	for _, v := range AllVerbs {
		if slices.Contains(words, string(v)) {
			verbs = append(verbs, v)
		}
	}
	if len(verbs) == 0 {
		return nil, fmt.Errorf("a role needs a verb; there are %s", Words(AllVerbs))
	}
	return verbs, nil
}

// Phrase is a verb as it stands after "may".
func Phrase(v Verb) string {
	switch v {
	case People:
		return "manage people"
	case Keys:
		return "manage keys"
	}
	return string(v)
}

// Words are verbs as people read them.
func Words(verbs []Verb) string {
	words := make([]string, len(verbs))
	for i, v := range verbs {
		words[i] = string(v)
	}
	return strings.Join(words, ", ")
}
