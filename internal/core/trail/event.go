// Package trail is the form of the record of everything that was done, read and
// refused: events, their canonical bytes, the MACs of batches, and the check
// that lanes are whole. Writing them down is the storage's business.
package trail

import (
	"encoding/json"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Outcome is how a request ended.
type Outcome string

// The outcomes that there are.
const (
	Allowed Outcome = "allowed"
	Refused Outcome = "refused"
	Failed  Outcome = "failed" // allowed, and not done: an invalid input, a conflict
)

// Event is one line of the trail. It holds no value; persons and workloads are
// ids. Its identity is (Lane, Seq), gapless within a lane.
type Event struct {
	Lane        string           `json:"lane"`
	Seq         int64            `json:"seq,string"`
	At          time.Time        `json:"at"`
	Action      string           `json:"action"` // noun.verb
	Outcome     Outcome          `json:"outcome"`
	Actor       string           `json:"actor,omitempty"` // person:3, workload:1, or empty: nobody signed in
	Token       int64            `json:"token,omitempty,string"`
	From        string           `json:"from,omitempty"` // network address
	Project     string           `json:"project,omitempty"`
	Environment string           `json:"environment,omitempty"`
	Revision    int64            `json:"revision,omitempty,string"` // of the layer or the organization after a change
	Names       []string         `json:"names,omitempty"`
	Layers      map[string]int64 `json:"-"`                      // layer id to the revision that was read
	Grant       int64            `json:"grant,omitempty,string"` // that allowed it
	Reason      string           `json:"reason,omitempty"`
	Manifest    string           `json:"manifest,omitempty"` // hex, after a change
	NotSent     bool             `json:"notSent,omitempty"`  // the answer that this event spoke of was withheld and tried again
	Count       int64            `json:"count,omitempty,string"`
}

// timeForm is RFC 3339 in UTC with milliseconds, the one form in which times are recorded.
const timeForm = "2006-01-02T15:04:05.000Z"

// Canonical writes the event as RFC 8785 canonical JSON, integers as strings.
func (e Event) Canonical() []byte {
	fields := map[string]string{}
	text := func(key, s string) {
		if s != "" {
			fields[key] = quote(s)
		}
	}
	number := func(key string, n int64) {
		if n != 0 {
			fields[key] = quote(strconv.FormatInt(n, 10))
		}
	}
	text("lane", e.Lane)
	number("seq", e.Seq)
	text("at", e.At.UTC().Format(timeForm))
	text("action", e.Action)
	text("outcome", string(e.Outcome))
	text("actor", e.Actor)
	number("token", e.Token)
	text("from", e.From)
	text("project", e.Project)
	text("environment", e.Environment)
	number("revision", e.Revision)
	number("grant", e.Grant)
	number("count", e.Count)
	text("reason", e.Reason)
	text("manifest", e.Manifest)
	if e.NotSent {
		fields["notSent"] = "true"
	}
	if len(e.Names) > 0 {
		quoted := make([]string, len(e.Names))
		for i, n := range e.Names {
			quoted[i] = quote(n)
		}
		fields["names"] = "[" + strings.Join(quoted, ",") + "]"
	}
	if len(e.Layers) > 0 {
		inner := map[string]string{}
		for id, revision := range e.Layers {
			inner[id] = quote(strconv.FormatInt(revision, 10))
		}
		fields["layers"] = object(inner)
	}
	return []byte(object(fields))
}

// Parse reads what [Event.Canonical] wrote.
func Parse(canonical []byte) (Event, error) {
	var read struct {
		Event
		Layers map[string]string `json:"layers"`
	}
	if err := json.Unmarshal(canonical, &read); err != nil {
		return Event{}, fmt.Errorf("read an event: %w", err)
	}
	for id, revision := range read.Layers {
		n, err := strconv.ParseInt(revision, 10, 64)
		if err != nil {
			return Event{}, fmt.Errorf("read an event: the revision of layer %s is no number", id)
		}
		if read.Event.Layers == nil {
			read.Event.Layers = map[string]int64{}
		}
		read.Event.Layers[id] = n
	}
	return read.Event, nil
}

// object writes members sorted by key; all keys here are ASCII, for which byte
// order is the order of UTF-16 code units that RFC 8785 asks for.
func object(members map[string]string) string {
	keys := make([]string, 0, len(members))
	for k := range members {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	var b strings.Builder
	b.WriteByte('{')
	for i, k := range keys {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(quote(k) + ":" + members[k])
	}
	b.WriteByte('}')
	return b.String()
}

// quote writes a string as RFC 8785, section 3.2.2.2, has it.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range strings.ToValidUTF8(s, "\uFFFD") {
		switch c {
		case '"', '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case '\b':
			b.WriteString(`\b`)
		case '\t':
			b.WriteString(`\t`)
		case '\n':
			b.WriteString(`\n`)
		case '\f':
			b.WriteString(`\f`)
		case '\r':
			b.WriteString(`\r`)
		default:
			if c < 0x20 {
				fmt.Fprintf(&b, `\u%04x`, c)
			} else {
				b.WriteRune(c)
			}
		}
	}
	b.WriteByte('"')
	return b.String()
}
