// Package access decides whether someone may do something somewhere. It is a
// pure function of the grants: deny unless one allows, and no grant takes away.
package access

import (
	"sort"
	"strconv"
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

// roles are the built-in roles.
var roles = map[string][]Verb{
	"observer":  {List},
	"consumer":  {List, Read},
	"depositor": {List, Write},
	"editor":    {List, Read, Write, Remove},
	"steward":   {List, Read, Write, Remove, Destroy, Manage},
	"auditor":   {Audit, List},
	"sweeper":   {Sweep},
	"owner":     {List, Read, Write, Remove, Destroy, Manage, People, Audit, Sweep, Keys},
}

// Verbs are the verbs of a role, nil where there is no such role.
func Verbs(role string) []Verb { return roles[role] }

// Roles are the names of all roles, sorted.
func Roles() []string {
	names := make([]string, 0, len(roles))
	for name := range roles {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// SubjectKind tells people from workloads.
type SubjectKind string

// The kinds of subject.
const (
	Person   SubjectKind = "person"
	Workload SubjectKind = "workload"
)

// Subject is someone who asks.
type Subject struct {
	Kind SubjectKind
	ID   int64
}

// Where is a place in ids: the whole organization (zeros), a project, or an
// environment of a project.
type Where struct{ Project, Environment int64 }

// covers tells whether what holds at w holds at the place other as well.
func (w Where) covers(other Where) bool {
	if w.Project == 0 {
		return true
	}
	return w.Project == other.Project && (w.Environment == 0 || w.Environment == other.Environment)
}

// String is the form in which the trail knows a subject: person:3.
func (s Subject) String() string { return string(s.Kind) + ":" + strconv.FormatInt(s.ID, 10) }

// ParseSubject reads what String wrote.
func ParseSubject(text string) (Subject, bool) {
	kind, id, found := strings.Cut(text, ":")
	n, err := strconv.ParseInt(id, 10, 64)
	s := Subject{SubjectKind(kind), n}
	return s, found && err == nil && (s.Kind == Person || s.Kind == Workload)
}

// Grant gives a subject a role somewhere.
type Grant struct {
	ID    int64
	Who   Subject
	Role  string
	Where Where
}

// Grants answers questions about a fixed set of grants. It is not changed after
// [NewGrants] and safe for concurrent use.
type Grants struct{ bySubject map[Subject][]Grant }

// NewGrants prepares grants for questions. Grants of unknown roles allow nothing.
func NewGrants(all []Grant) *Grants {
	g := &Grants{bySubject: map[Subject][]Grant{}}
	for _, grant := range all {
		g.bySubject[grant.Who] = append(g.bySubject[grant.Who], grant)
	}
	return g
}

// Decide tells whether who may do verb at a place, and through which grant: the
// oldest that allows it.
func (g *Grants) Decide(who Subject, verb Verb, where Where) (Grant, bool) {
	for _, grant := range g.bySubject[who] {
		if grant.Where.covers(where) && allows(grant.Role, verb) {
			return grant, true
		}
	}
	return Grant{}, false
}

// KnowsProject tells whether who may know that a project exists: whether any
// grant of theirs reaches something in it.
func (g *Grants) KnowsProject(who Subject, project int64) bool {
	for _, grant := range g.bySubject[who] {
		if (grant.Where.Project == 0 || grant.Where.Project == project) && onEntries(grant.Role) {
			return true
		}
	}
	return false
}

// KnowsEnvironment tells whether who may know that an environment exists.
func (g *Grants) KnowsEnvironment(who Subject, where Where) bool {
	for _, grant := range g.bySubject[who] {
		if grant.Where.covers(where) && onEntries(grant.Role) {
			return true
		}
	}
	return false
}

// MayGrant tells whether who may give a role at a place: who may manage there
// and holds every verb of the role there. Owners may give anything.
func (g *Grants) MayGrant(who Subject, role string, where Where) bool {
	if _, manages := g.Decide(who, Manage, where); !manages {
		return false
	}
	for _, verb := range roles[role] {
		if _, holds := g.Decide(who, verb, where); !holds {
			return false
		}
	}
	return len(roles[role]) > 0
}

func allows(role string, verb Verb) bool {
	for _, v := range roles[role] {
		if v == verb {
			return true
		}
	}
	return false
}

// onEntries tells whether a role allows anything on entries at all.
func onEntries(role string) bool {
	for _, verb := range []Verb{List, Read, Write, Remove, Destroy, Manage} {
		if allows(role, verb) {
			return true
		}
	}
	return false
}
