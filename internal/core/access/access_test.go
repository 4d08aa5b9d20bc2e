package access_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"adytum.example/internal/core/access"
)

var (
	priya   = access.Subject{Kind: access.Person, ID: 1}
	mailer  = access.Subject{Kind: access.Workload, ID: 1}
	noon    = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	live    = access.Where{Project: 1, Environment: 1}
	staging = access.Where{Project: 1, Environment: 2}
	loans   = access.Where{Project: 1}
	all     = access.Where{}
)

func asking(who access.Subject) access.Asker { return access.Asker{Subject: who, At: noon} }

func TestDenyUnlessAGrantAllows(t *testing.T) {
	g := access.NewGrants(access.Rules{Grants: []access.Grant{
		{ID: 1, Who: priya, Role: "editor", Where: staging},
		{ID: 2, Who: priya, Role: "observer", Where: loans},
		{ID: 3, Who: mailer, Role: "consumer", Where: live},
		{ID: 4, Who: access.Subject{Kind: access.Person, ID: 9}, Role: "emperor", Where: all},
	}})
	cases := []struct {
		rule  string
		who   access.Subject
		verb  access.Verb
		where access.Where
		grant int64 // 0: refused
	}{
		{"an environment's grant holds there", priya, access.Read, staging, 1},
		{"and not beside it", priya, access.Read, live, 0},
		{"a project's grant holds in its environments", priya, access.List, live, 2},
		{"an environment's grant does not hold for the common layer", priya, access.Write, loans, 0},
		{"nor elsewhere", priya, access.List, access.Where{Project: 2}, 0},
		{"a person and a workload with one id are two", mailer, access.List, staging, 0},
		{"a workload's grant", mailer, access.Read, live, 3},
		{"an unknown role allows nothing", access.Subject{Kind: access.Person, ID: 9}, access.List, live, 0},
		{"no grant, no right", access.Subject{Kind: access.Person, ID: 7}, access.List, live, 0},
	}
	for _, c := range cases {
		grant, allowed := g.Decide(asking(c.who), c.verb, c.where)
		assert.Equal(t, c.grant != 0, allowed, c.rule)
		assert.Equal(t, c.grant, grant.ID, c.rule)
	}
	assert.True(t, g.KnowsProject(asking(mailer), 1))
	assert.False(t, g.KnowsProject(asking(mailer), 2))
	assert.True(t, g.KnowsEnvironment(asking(mailer), live))
	assert.False(t, g.KnowsEnvironment(asking(mailer), staging))
}

func TestWritingDoesNotContainReading(t *testing.T) {
	g := access.NewGrants(access.Rules{Grants: []access.Grant{{ID: 1, Who: mailer, Role: "depositor", Where: live}}})
	_, may := g.Decide(asking(mailer), access.Write, live)
	assert.True(t, may)
	_, may = g.Decide(asking(mailer), access.Read, live)
	assert.False(t, may)
}

func TestAnAuditorOrSweeperSeesNoEntries(t *testing.T) {
	g := access.NewGrants(access.Rules{Grants: []access.Grant{{ID: 1, Who: mailer, Role: "sweeper", Where: all}}})
	assert.False(t, g.KnowsProject(asking(mailer), 1))
}

func TestNobodyGrantsWhatTheyDoNotHold(t *testing.T) {
	steward := access.Subject{Kind: access.Person, ID: 2}
	owner := access.Subject{Kind: access.Person, ID: 3}
	g := access.NewGrants(access.Rules{Grants: []access.Grant{
		{ID: 1, Who: steward, Role: "steward", Where: loans},
		{ID: 2, Who: owner, Role: "owner", Where: all},
		{ID: 3, Who: priya, Role: "editor", Where: loans},
	}})
	assert.True(t, g.MayGrant(asking(steward), "editor", live, access.Limits{}))
	assert.False(t, g.MayGrant(asking(steward), "owner", live, access.Limits{}), "audit is not the steward's")
	assert.False(t, g.MayGrant(asking(steward), "editor", all, access.Limits{}))
	assert.False(t, g.MayGrant(asking(priya), "observer", loans, access.Limits{}), "no manage")
	assert.True(t, g.MayGrant(asking(owner), "owner", all, access.Limits{}))
	assert.False(t, g.MayGrant(asking(owner), "emperor", all, access.Limits{}))
}

func TestDecisionsAgreeWithANaiveEvaluator(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	verbs := []access.Verb{access.List, access.Read, access.Write, access.Remove, access.Destroy, access.Manage, access.Audit}
	for range 1000 {
		var grants []access.Grant
		for i := range random.IntN(6) {
			grants = append(grants, access.Grant{ID: int64(i + 1), Who: access.Subject{Kind: access.Person, ID: random.Int64N(2)},
				Role: access.BuiltIn().Names()[random.IntN(len(access.BuiltIn().Names()))], Where: somewhere(random)})
		}
		who, verb, where := access.Subject{Kind: access.Person, ID: random.Int64N(2)}, verbs[random.IntN(len(verbs))], somewhere(random)
		want := slices.ContainsFunc(grants, func(g access.Grant) bool {
			whole := g.Where == all
			project := g.Where.Environment == 0 && g.Where.Project == where.Project
			return g.Who == who && slices.Contains(access.BuiltIn()[g.Role], verb) && (whole || project || g.Where == where)
		})
		_, got := access.NewGrants(access.Rules{Grants: grants}).Decide(asking(who), verb, where)
		assert.Equal(t, want, got, "%v %v %v in %v", who, verb, where, grants)
	}
}

func somewhere(random *rand.Rand) access.Where {
	w := access.Where{Project: random.Int64N(3)}
	if w.Project > 0 {
		w.Environment = random.Int64N(3)
	}
	return w
}
