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
	"unicode/utf8"
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
	OfLane      string           `json:"ofLane,omitempty"`   // where it stands, by the number in Count; empty: in this lane
	Count       int64            `json:"count,omitempty,string"`
}

// timeForm is RFC 3339 in UTC with milliseconds, the one form in which times are recorded.
const timeForm = "2006-01-02T15:04:05.000Z"

// Withdrawn is where the event stands of which this one says that its answer was
// not given.
func (e Event) Withdrawn() (lane string, seq int64) {
	if e.OfLane != "" {
		return e.OfLane, e.Count
	}
	return e.Lane, e.Count
}

// Canonical writes the event as RFC 8785 canonical JSON, integers as strings.
func (e Event) Canonical() []byte { return e.AppendCanonical(nil) }

// AppendCanonical appends what [Event.Canonical] returns. Members stand in the
// order of their keys; all keys are ASCII, for which byte order is the order of
// UTF-16 code units that RFC 8785 asks for.
func (e Event) AppendCanonical(b []byte) []byte {
	start := len(b)
	key := func(name string) {
		b = append(b, ',', '"')
		b = append(append(b, name...), '"', ':')
	}
	text := func(name, s string) {
		if s != "" {
			key(name)
			b = appendQuoted(b, s)
		}
	}
	number := func(name string, n int64) {
		if n != 0 {
			key(name)
			b = append(strconv.AppendInt(append(b, '"'), n, 10), '"')
		}
	}
	text("action", e.Action)
	text("actor", e.Actor)
	key("at")
	b = append(e.At.UTC().AppendFormat(append(b, '"'), timeForm), '"')
	number("count", e.Count)
	text("environment", e.Environment)
	text("from", e.From)
	number("grant", e.Grant)
	text("lane", e.Lane)
	if len(e.Layers) > 0 {
		key("layers")
		b = appendLayers(b, e.Layers)
	}
	text("manifest", e.Manifest)
	if len(e.Names) > 0 {
		key("names")
		for i, n := range e.Names {
			b = appendQuoted(append(b, "[,"[min(i, 1)]), n)
		}
		b = append(b, ']')
	}
	if e.NotSent {
		key("notSent")
		b = append(b, "true"...)
	}
	text("ofLane", e.OfLane)
	text("outcome", string(e.Outcome))
	text("project", e.Project)
	text("reason", e.Reason)
	number("revision", e.Revision)
	number("seq", e.Seq)
	number("token", e.Token)
	b[start] = '{'
	return append(b, '}')
}

func appendLayers(b []byte, layers map[string]int64) []byte {
	ids := make([]string, 0, len(layers))
	for id := range layers {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	for i, id := range ids {
		b = append(appendQuoted(append(b, "{,"[min(i, 1)]), id), ':', '"')
		b = append(strconv.AppendInt(b, layers[id], 10), '"')
	}
	return append(b, '}')
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

// appendQuoted appends a string as RFC 8785, section 3.2.2.2, has it.
func appendQuoted(b []byte, s string) []byte {
	b = append(b, '"')
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= ' ' && s[i] < utf8.RuneSelf && s[i] != '"' && s[i] != '\\'
	}
	if plain {
		return append(append(b, s...), '"')
	}
	for _, c := range strings.ToValidUTF8(s, "\uFFFD") {
		switch c {
		case '"', '\\':
			b = append(b, '\\', byte(c))
		case '\b':
			b = append(b, `\b`...)
		case '\t':
			b = append(b, `\t`...)
		case '\n':
			b = append(b, `\n`...)
		case '\f':
			b = append(b, `\f`...)
		case '\r':
			b = append(b, `\r`...)
		default:
			if c < 0x20 {
				b = fmt.Appendf(b, `\u%04x`, c)
			} else {
				b = utf8.AppendRune(b, c)
			}
		}
	}
	return append(b, '"')
}
