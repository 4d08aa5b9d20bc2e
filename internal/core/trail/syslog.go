package trail

import (
	"strconv"
	"strings"
	"time"
)

// The facility and the severities of RFC 5424, section 6.2.1, that events have.
const (
	facilityAudit  = 13
	severityNotice = 5
	severityWarn   = 4
)

// syslogID is the structured data's id: an enterprise number is not Adytum's own,
// so that the one for documentation (RFC 5612) stands in its place.
const syslogID = "event@32473"

// Syslog is the event as a message of RFC 5424, from a host, with the names of
// who did it and where for people. Refusals are warnings.
func (e Event) Syslog(host, who, place string) string {
	severity := severityNotice
	if e.Outcome == Refused {
		severity = severityWarn
	}
	var b strings.Builder
	b.WriteString("<" + strconv.Itoa(facilityAudit*8+severity) + ">1 " + e.At.UTC().Format(time.RFC3339Nano) + " " + header(host, 255) + " adytum - " + header(e.Action, 32))
	b.WriteString(" [" + syslogID)
	for _, p := range [][2]string{{"lane", e.Lane}, {"seq", strconv.FormatInt(e.Seq, 10)}, {"outcome", string(e.Outcome)}, {"actor", e.Actor}, {"who", who}, {"from", e.From},
		{"place", place}, {"names", strings.Join(e.Names, " ")}, {"grant", number(e.Grant)}, {"revision", number(e.Revision)}, {"count", number(e.Count)}, {"reason", e.Reason}} {
		if p[1] != "" {
			b.WriteString(" " + p[0] + `="` + parameter.Replace(strings.ToValidUTF8(p[1], "\uFFFD")) + `"`)
		}
	}
	b.WriteString("] ")
	if who == "" {
		who = "nobody"
	}
	said := who + " " + e.Action + " " + string(e.Outcome)
	if place != "" {
		said += " in " + place
	}
	b.WriteString(line.Replace(strings.ToValidUTF8(said, "\uFFFD")))
	return b.String()
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// parameter escapes a parameter's value as section 6.3.3 has it, and keeps line
// ends out, which receivers that count no octets take for the end.
var (
	parameter = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`, "\n", " ", "\r", " ", "\x00", " ")
	line      = strings.NewReplacer("\n", " ", "\r", " ", "\x00", " ")
)

// header is a field of the header: printable ASCII without white space.
func header(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(most, len(s))]
}
