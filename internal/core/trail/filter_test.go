package trail_test

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/core/trail"
)

func TestAFilterChooses(t *testing.T) {
	e := trail.Event{Lane: "reader-1", Seq: 3, At: at, Action: "entry.resolve", Outcome: trail.Allowed, Actor: "person:3", From: "192.0.2.7",
		Project: "loans", Environment: "live", Names: []string{"adytum:KEY", "adytum:loans/live/DB_PASSWORD@3:user", "adytum:/ZONE"}}
	for _, c := range []struct {
		what   string
		filter trail.Filter
		want   bool
	}{
		{"everything", trail.Filter{}, true},
		{"who", trail.Filter{Actor: "person:3"}, true}, {"somebody else", trail.Filter{Actor: "person:33"}, false},
		{"an action", trail.Filter{Action: "entry.resolve"}, true}, {"a noun", trail.Filter{Action: "entry"}, true}, {"part of a noun", trail.Filter{Action: "ent"}, false}, {"another", trail.Filter{Action: "entry.value"}, false},
		{"an outcome", trail.Filter{Outcome: trail.Refused}, false}, {"a place", trail.Filter{Project: "loans", Environment: "live"}, true}, {"beside it", trail.Filter{Project: "loans", Environment: "staging"}, false},
		{"a name", trail.Filter{Name: "KEY"}, true}, {"a name in an absolute reference", trail.Filter{Name: "DB_PASSWORD"}, true}, {"the organization's", trail.Filter{Name: "ZONE"}, true},
		{"part of a name", trail.Filter{Name: "DB"}, false}, {"a project is no name", trail.Filter{Name: "loans"}, false},
		{"an address", trail.Filter{From: "192.0.2.7"}, true}, {"another", trail.Filter{From: "192.0.2.70"}, false},
		{"since", trail.Filter{Since: at}, true}, {"since later", trail.Filter{Since: at.Add(time.Millisecond)}, false},
		{"until", trail.Filter{Until: at}, false}, {"until later", trail.Filter{Until: at.Add(time.Millisecond)}, true},
	} {
		assert.Equal(t, c.want, c.filter.Chooses(e), c.what)
	}
}

// message is RFC 5424's ABNF, section 6, as far as these messages go.
var message = regexp.MustCompile(`^<(\d{1,3})>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,6})?Z [!-~]{1,255} adytum - [!-~]{1,32} \[event@32473( [a-z]+="([^"\\\]]|\\["\\\]])*")+\] [^\r\n]*$`)

func TestMessagesOfRFC5424(t *testing.T) {
	e := trail.Event{Lane: "reader-1", Seq: 3, At: at, Action: "entry.value", Outcome: trail.Refused, Actor: "person:3", From: "192.0.2.7", Names: []string{"adytum:KEY"}, Reason: `a "quoted" ] and \ back` + "\nline"}
	got := e.Syslog("store.fernhollow.example", "Priya Vantongeren", "loans/live")
	assert.Equal(t, `<108>1 2026-03-01T09:30:00.005Z store.fernhollow.example adytum - entry.value [event@32473 lane="reader-1" seq="3" outcome="refused" actor="person:3" who="Priya Vantongeren" from="192.0.2.7" place="loans/live" names="adytum:KEY" reason="a \"quoted\" \] and \\ back line"] Priya Vantongeren entry.value refused in loans/live`, got)
	assert.Regexp(t, message, got)
	e.Outcome = trail.Allowed
	assert.True(t, strings.HasPrefix(e.Syslog("", "", ""), "<109>1 2026-03-01T09:30:00.005Z - adytum - entry.value "))
}

func FuzzSyslog(f *testing.F) {
	f.Add("reason", "who", "host")
	f.Add("\x00]\"\\\n", "\xff", "a b\u2028")
	f.Fuzz(func(t *testing.T, reason, who, host string) {
		e := trail.Event{Lane: "l", Seq: 1, At: at, Action: "a.b", Outcome: trail.Allowed, Reason: reason}
		got := e.Syslog(host, who, "")
		require.NotContains(t, got, "\n")
		require.Regexp(t, message, got)
	})
}
