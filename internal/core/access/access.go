// Package access decides whether someone may do something somewhere. It is a
// pure function of the grants: deny unless one allows, and no grant takes away.
// Only a freeze does, of a person, a workload, a project or the whole
// organization, until it is thawed.
package access

import (
	"net/netip"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
)

// SubjectKind tells people from workloads and from teams of people.
type SubjectKind string

// The kinds of subject. A team has grants and never asks.
const (
	Person   SubjectKind = "person"
	Workload SubjectKind = "workload"
	Team     SubjectKind = "team"
)

// Subject is someone who asks, or a team.
type Subject struct {
	Kind SubjectKind
	ID   int64
}

// Asker is a subject with the circumstances in which they ask.
type Asker struct {
	Subject
	From netip.Addr
	At   time.Time
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
	return s, found && err == nil && (s.Kind == Person || s.Kind == Workload || s.Kind == Team)
}

// Grant gives a subject a role somewhere, within limits.
type Grant struct {
	ID    int64
	Who   Subject
	Role  string
	Where Where
	Limits
}

// Limits narrow a grant. The zero value is none.
type Limits struct {
	Names    string         // a pattern of names, as [Matches] reads it; empty: all
	Until    time.Time      // when it ends; zero: never
	Networks []netip.Prefix // from which it holds; none: from everywhere
}

// within tells whether whoever has the limits l may hand on no more than other.
func (other Limits) within(l Limits) bool {
	if l.Names != "" && l.Names != other.Names {
		return false
	}
	if !l.Until.IsZero() && (other.Until.IsZero() || other.Until.After(l.Until)) {
		return false
	}
	if len(l.Networks) > 0 && len(other.Networks) == 0 {
		return false
	}
	for _, n := range other.Networks {
		inside := func(outer netip.Prefix) bool { return outer.Bits() <= n.Bits() && outer.Contains(n.Addr()) }
		if len(l.Networks) > 0 && !slices.ContainsFunc(l.Networks, inside) {
			return false
		}
	}
	return true
}

// holds tells whether a grant counts at a moment for one who asks from an address.
func (l Limits) holds(a Asker) bool {
	if !l.Until.IsZero() && !a.At.Before(l.Until) {
		return false
	}
	return len(l.Networks) == 0 || slices.ContainsFunc(l.Networks, func(n netip.Prefix) bool { return n.Contains(a.From.Unmap()) })
}

// Matches tells whether a name fits a pattern: a name in which each "*" stands
// for any characters. Names are told apart by case.
func Matches(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	if !strings.HasPrefix(name, parts[0]) {
		return false
	}
	rest, last := name[len(parts[0]):], parts[len(parts)-1]
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, part)
		if i < 0 {
			return false
		}
		rest = rest[i+len(part):]
	}
	return strings.HasSuffix(rest, last)
}

// Rules are what decisions are made from.
type Rules struct {
	Grants []Grant
	Roles  Roles             // nil: the built-in ones
	Teams  map[int64][]int64 // a team's id to the ids of its people
	Frozen []Frozen
}

// Frozen is something that is frozen: a subject, a project, or everything (the
// zero value).
type Frozen struct {
	Subject Subject
	Project int64
}

// Grants answers questions about fixed rules. It is not changed after
// [NewGrants] and safe for concurrent use.
type Grants struct {
	roles     Roles
	bySubject map[Subject]*held
	frozen    map[Frozen]bool
	ends      []time.Time // of grants, sorted
}

// held is what one subject was granted, teams included, oldest first.
type held struct {
	whole     []bound           // in the organization
	byProject map[int64][]bound // in a project, or environments of it
}

// bound is a grant with the verbs of its role.
type bound struct {
	Grant
	verbs set
}

// NewGrants prepares rules for questions. Grants of unknown roles allow nothing.
func NewGrants(r Rules) *Grants {
	if r.Roles == nil {
		r.Roles = BuiltIn()
	}
	g := &Grants{roles: r.Roles, bySubject: map[Subject]*held{}, frozen: map[Frozen]bool{}}
	sets := make(map[string]set, len(r.Roles))
	for name, verbs := range r.Roles {
		sets[name] = setOf(verbs)
	}
	for _, grant := range r.Grants {
		b := bound{grant, sets[grant.Role]}
		if grant.Who.Kind == Team {
			for _, person := range r.Teams[grant.Who.ID] {
				g.add(Subject{Person, person}, b)
			}
		}
		g.add(grant.Who, b)
		if !grant.Until.IsZero() {
			g.ends = append(g.ends, grant.Until)
		}
	}
	slices.SortFunc(g.ends, time.Time.Compare)
	for _, f := range r.Frozen {
		g.frozen[f] = true
	}
	return g
}

func (g *Grants) add(who Subject, b bound) {
	h := g.bySubject[who]
	if h == nil {
		h = &held{byProject: map[int64][]bound{}}
		g.bySubject[who] = h
	}
	if b.Where.Project == 0 {
		h.whole = append(h.whole, b)
	} else {
		h.byProject[b.Where.Project] = append(h.byProject[b.Where.Project], b)
	}
}

// reaching are the grants of a subject that hold now, and reach into a place.
func (g *Grants) reaching(a Asker, where Where, f func(bound) bool) (Grant, bool) {
	h := g.bySubject[a.Subject]
	if h == nil || g.frozen[Frozen{Subject: a.Subject}] {
		return Grant{}, false
	}
	for _, all := range [2][]bound{h.whole, h.byProject[where.Project]} {
		for i := range all {
			if all[i].Where.covers(where) && f(all[i]) && all[i].holds(a) {
				return all[i].Grant, true
			}
		}
	}
	return Grant{}, false
}

// stopped are the verbs that a freeze of a place takes away there. What is there
// can still be seen, and the freeze be lifted.
const stopped = set(1<<1 | 1<<2 | 1<<3 | 1<<4) // read, write, remove, destroy

// Freeze is what keeps a subject from a verb at a place, if anything does.
func (g *Grants) Freeze(who Subject, verb Verb, where Where) (Frozen, bool) {
	for _, f := range []Frozen{{Subject: who}, {Project: where.Project}, {}} {
		if g.frozen[f] && (f.Subject != (Subject{}) || stopped&bit(verb) != 0) {
			return f, true
		}
	}
	return Frozen{}, false
}

func (g *Grants) decide(a Asker, verb Verb, where Where, names func(pattern string) bool) (Grant, bool) {
	if len(g.frozen) > 0 {
		if _, frozen := g.Freeze(a.Subject, verb, where); frozen {
			return Grant{}, false
		}
	}
	asked := bit(verb)
	return g.reaching(a, where, func(b bound) bool { return b.verbs&asked != 0 && names(b.Names) })
}

// Decide tells whether one may do verb to everything at a place, and through
// which grant: the oldest that allows it, the organization's first.
func (g *Grants) Decide(a Asker, verb Verb, where Where) (Grant, bool) {
	return g.decide(a, verb, where, func(pattern string) bool { return pattern == "" })
}

// DecideName tells whether one may do verb to a name at a place, whether or not
// it is there.
func (g *Grants) DecideName(a Asker, verb Verb, where Where, name string) (Grant, bool) {
	return g.decide(a, verb, where, func(pattern string) bool { return pattern == "" || Matches(pattern, name) })
}

// DecideSome tells whether one may do verb to some names at a place.
func (g *Grants) DecideSome(a Asker, verb Verb, where Where) (Grant, bool) {
	return g.decide(a, verb, where, func(string) bool { return true })
}

// KnowsProject tells whether one may know that a project exists: whether any
// grant of theirs reaches something in it.
func (g *Grants) KnowsProject(a Asker, project int64) bool {
	h := g.bySubject[a.Subject]
	if h == nil || g.frozen[Frozen{Subject: a.Subject}] {
		return false
	}
	for _, all := range [2][]bound{h.whole, h.byProject[project]} {
		for i := range all {
			if all[i].verbs&onEntries != 0 && all[i].holds(a) {
				return true
			}
		}
	}
	return false
}

// KnowsEnvironment tells whether one may know that an environment exists.
func (g *Grants) KnowsEnvironment(a Asker, where Where) bool {
	_, knows := g.reaching(a, where, func(b bound) bool { return b.verbs&onEntries != 0 })
	return knows
}

// MayGrant tells whether one may give a role at a place within limits: who may
// manage there and holds every verb of the role there, each in a grant that has
// no narrower limits. So owners may give anything.
func (g *Grants) MayGrant(a Asker, role string, where Where, limits Limits) bool {
	verbs := g.roles[role]
	for _, verb := range append([]Verb{Manage}, verbs...) {
		asked := bit(verb)
		if _, holds := g.reaching(a, where, func(b bound) bool { return b.verbs&asked != 0 && limits.within(b.Limits) }); !holds {
			return false
		}
	}
	return len(verbs) > 0
}

// Changes tells whether what is allowed is not the same at two moments, because a
// grant ends between them, or at the later one.
func (g *Grants) Changes(a, b time.Time) bool {
	if b.Before(a) {
		a, b = b, a
	}
	next := g.NextMoment(a)
	return !next.IsZero() && !next.After(b)
}

// NextMoment is the first moment after now at which a grant ends, or zero.
func (g *Grants) NextMoment(now time.Time) time.Time {
	i := sort.Search(len(g.ends), func(i int) bool { return g.ends[i].After(now) })
	if i == len(g.ends) {
		return time.Time{}
	}
	return g.ends[i]
}

// Of are the grants of a subject, those of their teams included, whether or not
// they hold now.
func (g *Grants) Of(who Subject) []Grant {
	h := g.bySubject[who]
	if h == nil {
		return nil
	}
	var all []Grant
	for _, b := range h.whole {
		all = append(all, b.Grant)
	}
	for _, bounds := range h.byProject {
		for _, b := range bounds {
			all = append(all, b.Grant)
		}
	}
	slices.SortFunc(all, func(a, b Grant) int { return int(a.ID - b.ID) })
	return slices.CompactFunc(all, func(a, b Grant) bool { return a.ID == b.ID })
}

// Verbs are the verbs of a role, nil where there is no such role.
func (g *Grants) Verbs(role string) []Verb { return g.roles[role] }
