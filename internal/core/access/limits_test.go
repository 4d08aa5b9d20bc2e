package access_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/access"
)

var (
	office = netip.MustParsePrefix("192.0.2.0/24")
	desk   = netip.MustParsePrefix("192.0.2.16/28")
	remote = netip.MustParsePrefix("2001:db8::/32")
)

func TestPatternsOfNames(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"DB_*", "DB_PASSWORD", true}, {"DB_*", "DB_", true}, {"DB_*", "db_password", false}, {"DB_*", "MY_DB_PASSWORD", false},
		{"*_KEY", "QUILLPOST_KEY", true}, {"*_KEY", "_KEY", true}, {"*_KEY", "KEY", false}, {"*_KEY", "A_KEY_B", false},
		{"A*B*C", "A1B2C", true}, {"A*B*C", "ABC", true}, {"A*B*C", "AC", false}, {"A*B*C", "ABCB", false}, {"A*A", "A", false},
		{"KEY", "KEY", true}, {"KEY", "KEYS", false}, {"*", "ANYTHING", true}, {"A**B", "AB", true},
	} {
		assert.Equal(t, c.want, access.Matches(c.pattern, c.name), "%s %s", c.pattern, c.name)
	}
	// The standard library's patterns agree where they mean the same.
	random := rand.New(rand.NewPCG(2, 3))
	word := func(alphabet string, n int) string {
		b := make([]byte, random.IntN(n))
		for i := range b {
			b[i] = alphabet[random.IntN(len(alphabet))]
		}
		return string(b)
	}
	for range 20_000 {
		pattern, name := word("AB*", 7), word("AB", 9)
		want, err := path.Match(pattern, name)
		require.NoError(t, err)
		assert.Equal(t, want, access.Matches(pattern, name), "%q %q", pattern, name)
	}
}

func FuzzMatches(f *testing.F) {
	f.Add("A*B*C", "AxBxC")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		got := access.Matches(pattern, name)
		if !strings.Contains(pattern, "*") {
			require.Equal(t, pattern == name, got)
		}
		if got {
			require.True(t, access.Matches("*"+pattern+"*", "x"+name+"y"))
		}
	})
}

func TestLimitsOfAGrant(t *testing.T) {
	grants := access.NewGrants(access.Rules{Grants: []access.Grant{
		{ID: 1, Who: priya, Role: "editor", Where: live, Limits: access.Limits{Names: "DB_*"}},
		{ID: 2, Who: priya, Role: "observer", Where: loans, Limits: access.Limits{Until: noon.Add(time.Hour)}},
		{ID: 3, Who: mailer, Role: "consumer", Where: live, Limits: access.Limits{Networks: []netip.Prefix{office, remote}}},
	}})
	name := func(n string) int64 {
		g, _ := grants.DecideName(asking(priya), access.Read, live, n)
		return g.ID
	}
	assert.EqualValues(t, 1, name("DB_PASSWORD"))
	assert.Zero(t, name("KEY"))
	_, whole := grants.Decide(asking(priya), access.Read, live)
	assert.False(t, whole, "a grant for some names is none for all")
	_, some := grants.DecideSome(asking(priya), access.Read, live)
	assert.True(t, some)
	assert.True(t, grants.KnowsEnvironment(asking(priya), live))

	at := func(at time.Time) bool {
		_, may := grants.Decide(access.Asker{Subject: priya, At: at}, access.List, staging)
		return may
	}
	assert.True(t, at(noon))
	assert.True(t, at(noon.Add(time.Hour-time.Nanosecond)))
	assert.False(t, at(noon.Add(time.Hour)), "a grant has ended at its end")
	assert.Equal(t, noon.Add(time.Hour), grants.NextMoment(noon))
	assert.True(t, grants.NextMoment(noon.Add(time.Hour)).IsZero())
	assert.True(t, grants.Changes(noon, noon.Add(time.Hour)))
	assert.True(t, grants.Changes(noon.Add(2*time.Hour), noon))
	assert.False(t, grants.Changes(noon, noon.Add(time.Minute)))

	from := func(address string) bool {
		a := access.Asker{Subject: mailer, At: noon}
		if address != "" {
			a.From = netip.MustParseAddr(address)
		}
		_, may := grants.Decide(a, access.Read, live)
		return may
	}
	assert.True(t, from("192.0.2.7"))
	assert.True(t, from("::ffff:192.0.2.7"), "an IPv4 address written as IPv6 is the same one")
	assert.True(t, from("2001:db8:1::1"))
	assert.False(t, from("192.0.3.7"))
	assert.False(t, from("2001:db9::1"))
	assert.False(t, from(""), "whose address is not known is nowhere")
}

func TestTeamsAndOwnRoles(t *testing.T) {
	desk := access.Subject{Kind: access.Team, ID: 4}
	roles := access.BuiltIn()
	roles["rotator"] = []access.Verb{access.List, access.Write, access.Destroy}
	grants := access.NewGrants(access.Rules{Roles: roles, Teams: map[int64][]int64{4: {1, 2}},
		Grants: []access.Grant{{ID: 1, Who: desk, Role: "rotator", Where: loans}}})
	for _, person := range []int64{1, 2} {
		g, may := grants.Decide(asking(access.Subject{Kind: access.Person, ID: person}), access.Destroy, live)
		assert.True(t, may)
		assert.Equal(t, desk, g.Who, "it says through which team")
	}
	_, may := grants.Decide(asking(access.Subject{Kind: access.Person, ID: 3}), access.Write, live)
	assert.False(t, may)
	_, may = grants.Decide(asking(access.Subject{Kind: access.Workload, ID: 1}), access.Write, live)
	assert.False(t, may, "a workload with the id of one in the team")
	_, may = grants.Decide(asking(priya), access.Read, live)
	assert.False(t, may)
	assert.Len(t, grants.Of(priya), 1)
	assert.Equal(t, []access.Verb{access.List, access.Write, access.Destroy}, grants.Verbs("rotator"))

	verbs, err := access.ParseVerbs([]string{"write", "list", "write"})
	require.NoError(t, err)
	assert.Equal(t, []access.Verb{access.List, access.Write}, verbs)
	_, err = access.ParseVerbs([]string{"read", "reed", "own"})
	assert.EqualError(t, err, `"reed" and "own" is no verb; there are list, read, write, remove, destroy, manage, people, audit, sweep, keys`)
	_, err = access.ParseVerbs(nil)
	assert.ErrorContains(t, err, "needs a verb")
}

func TestAFreezeStopsAndCanBeLifted(t *testing.T) {
	owner := access.Subject{Kind: access.Person, ID: 3}
	rules := access.Rules{Grants: []access.Grant{{ID: 1, Who: owner, Role: "owner"}, {ID: 2, Who: mailer, Role: "editor", Where: loans}}}
	may := func(who access.Subject, verb access.Verb, where access.Where) bool {
		_, allowed := access.NewGrants(rules).Decide(asking(who), verb, where)
		return allowed
	}
	elsewhere := access.Where{Project: 2}
	rules.Frozen = []access.Frozen{{Subject: mailer}}
	assert.False(t, may(mailer, access.List, live))
	assert.False(t, access.NewGrants(rules).KnowsProject(asking(mailer), 1))
	assert.True(t, may(owner, access.Read, live))
	for _, rules.Frozen = range [][]access.Frozen{{{Project: 1}}, {{}}} {
		for _, verb := range []access.Verb{access.Read, access.Write, access.Remove, access.Destroy} {
			assert.False(t, may(owner, verb, live), verb)
			assert.False(t, may(mailer, verb, live), verb)
			assert.Equal(t, rules.Frozen[0].Project == 1, may(owner, verb, elsewhere), verb)
		}
		for _, verb := range []access.Verb{access.List, access.Manage, access.People, access.Audit} {
			assert.True(t, may(owner, verb, live), "it can be looked at and thawed: %s", verb)
		}
	}
}

func TestNobodyHandsOnMoreThanTheyHold(t *testing.T) {
	steward := func(l access.Limits) *access.Grants {
		return access.NewGrants(access.Rules{Grants: []access.Grant{{ID: 1, Who: priya, Role: "steward", Where: loans, Limits: l}}})
	}
	ends := noon.Add(24 * time.Hour)
	for _, c := range []struct {
		rule   string
		has    access.Limits
		gives  access.Limits
		allows bool
	}{
		{"no limits, anything", access.Limits{}, access.Limits{}, true},
		{"no limits, some", access.Limits{}, access.Limits{Names: "DB_*", Until: ends}, true},
		{"some names, the same", access.Limits{Names: "DB_*"}, access.Limits{Names: "DB_*"}, true},
		{"some names, all", access.Limits{Names: "DB_*"}, access.Limits{}, false},
		{"some names, others", access.Limits{Names: "DB_*"}, access.Limits{Names: "*"}, false},
		{"for a while, as long", access.Limits{Until: ends}, access.Limits{Until: ends}, true},
		{"for a while, shorter", access.Limits{Until: ends}, access.Limits{Until: ends.Add(-time.Hour)}, true},
		{"for a while, longer", access.Limits{Until: ends}, access.Limits{Until: ends.Add(time.Hour)}, false},
		{"for a while, for good", access.Limits{Until: ends}, access.Limits{}, false},
		{"a network, the same", access.Limits{Networks: []netip.Prefix{office}}, access.Limits{Networks: []netip.Prefix{office}}, true},
		{"a network, within it", access.Limits{Networks: []netip.Prefix{office}}, access.Limits{Networks: []netip.Prefix{desk}}, true},
		{"a network, around it", access.Limits{Networks: []netip.Prefix{desk}}, access.Limits{Networks: []netip.Prefix{office}}, false},
		{"a network, another too", access.Limits{Networks: []netip.Prefix{office}}, access.Limits{Networks: []netip.Prefix{desk, remote}}, false},
		{"a network, everywhere", access.Limits{Networks: []netip.Prefix{office}}, access.Limits{}, false},
	} {
		asker := asking(priya)
		asker.From = netip.MustParseAddr("192.0.2.20")
		assert.Equal(t, c.allows, steward(c.has).MayGrant(asker, "editor", live, c.gives), c.rule)
	}
}

// Random rules and questions, decided as the documentation puts it.
func TestDecisionsWithLimitsAgreeWithANaiveEvaluator(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 5))
	patterns, names := []string{"", "", "DB_*", "*_KEY", "KEY"}, []string{"DB_KEY", "KEY", "OTHER"}
	addresses := []netip.Addr{{}, netip.MustParseAddr("192.0.2.17"), netip.MustParseAddr("198.51.100.1")}
	allowed := 0
	for range 4000 {
		r := access.Rules{Roles: access.BuiltIn(), Teams: map[int64][]int64{}}
		for team := range int64(3) {
			for person := range int64(3) {
				if random.IntN(2) == 0 {
					r.Teams[team] = append(r.Teams[team], person)
				}
			}
		}
		for i := range random.IntN(16) {
			g := access.Grant{ID: int64(i + 1), Who: access.Subject{Kind: []access.SubjectKind{access.Person, access.Workload, access.Team}[random.IntN(3)], ID: random.Int64N(3)},
				Role: access.BuiltIn().Names()[random.IntN(8)], Where: somewhere(random), Limits: access.Limits{Names: patterns[random.IntN(5)]}}
			if random.IntN(3) == 0 {
				g.Until = noon.Add(time.Duration(random.IntN(3)-1) * time.Hour)
			}
			if random.IntN(3) == 0 {
				g.Networks = []netip.Prefix{office}
			}
			r.Grants = append(r.Grants, g)
		}
		for range random.IntN(2) {
			r.Frozen = append(r.Frozen, []access.Frozen{{}, {Project: 1}, {Subject: access.Subject{Kind: access.Person, ID: 1}}}[random.IntN(3)])
		}
		a := access.Asker{Subject: access.Subject{Kind: []access.SubjectKind{access.Person, access.Workload}[random.IntN(2)], ID: random.Int64N(3)}, At: noon, From: addresses[random.IntN(3)]}
		verb, where, name := access.AllVerbs[random.IntN(len(access.AllVerbs))], somewhere(random), names[random.IntN(3)]

		frozen := slices.ContainsFunc(r.Frozen, func(f access.Frozen) bool {
			if f.Subject.Kind != "" {
				return f.Subject == a.Subject
			}
			stops := slices.Contains([]access.Verb{access.Read, access.Write, access.Remove, access.Destroy}, verb)
			return stops && (f.Project == 0 || f.Project == where.Project)
		})
		want := !frozen && slices.ContainsFunc(r.Grants, func(g access.Grant) bool {
			who := g.Who == a.Subject || g.Who.Kind == access.Team && a.Kind == access.Person && slices.Contains(r.Teams[g.Who.ID], a.ID)
			there := g.Where == all || g.Where == where || g.Where.Environment == 0 && g.Where.Project == where.Project
			fits := g.Names == "" || func() bool { ok, _ := path.Match(g.Names, name); return ok }()
			return who && there && fits && slices.Contains(access.BuiltIn()[g.Role], verb) && (g.Until.IsZero() || noon.Before(g.Until)) &&
				(len(g.Networks) == 0 || a.From.IsValid() && office.Contains(a.From))
		})
		_, got := access.NewGrants(r).DecideName(a, verb, where, name)
		if !assert.Equal(t, want, got, fmt.Sprintf("%+v %s %v %s by %+v", a, verb, where, name, r)) {
			return
		}
		if got {
			allowed++
		}
	}
	assert.Greater(t, allowed, 200)
}

func BenchmarkDecideAmongTenThousandGrants(b *testing.B) {
	var r access.Rules
	for i := range int64(10_000) {
		r.Grants = append(r.Grants, access.Grant{ID: i, Who: priya, Role: "observer", Where: access.Where{Project: 1 + i%100, Environment: i}, Limits: access.Limits{Names: "DB_*", Networks: []netip.Prefix{remote}}})
	}
	grants := access.NewGrants(r)
	a := asking(priya)
	for b.Loop() {
		grants.DecideName(a, access.Read, access.Where{Project: 7, Environment: 1e6}, "DB_PASSWORD")
	}
}
