package trail

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
)

// The lanes. A reader lane belongs to one run of one instance, a layer's lane is
// written in the change's own transaction, and the organization has one.
const OrganizationLane = "organization"

// ReaderLane is the lane of one run of an instance.
func ReaderLane(boot string) string { return "reader-" + boot }

// LayerLane is the lane of a layer's changes; its seq is the layer's revision.
func LayerLane(layer int64) string { return "layer-" + strconv.FormatInt(layer, 10) }

// Batch is a run of events of one lane as it is stored: the events' canonical
// forms as a JSON array, and the HMAC over lane, first, n and body.
type Batch struct {
	Lane  string
	First int64
	N     int
	Body  []byte
	MAC   []byte
}

// MaxBatch is how many events one batch holds at most.
const MaxBatch = 256

// NewBatch encodes events, whose lane is set and whose seqs follow one another.
func NewBatch(key *secret.Key, events []Event) Batch {
	body := make([]byte, 0, 512*len(events))
	for i, e := range events {
		body = e.AppendCanonical(append(body, "[,"[min(i, 1)]))
	}
	b := Batch{Lane: events[0].Lane, First: events[0].Seq, N: len(events), Body: append(body, ']')}
	b.MAC = b.mac(key)
	return b
}

func (b Batch) mac(key *secret.Key) []byte {
	return envelope.Sign(key, b.Lane, envelope.Number(b.First), envelope.Number(int64(b.N)), string(b.Body))
}

// Events reads the batch's events without checking its MAC.
func (b Batch) Events() ([]Event, error) {
	var raw []json.RawMessage
	if err := json.Unmarshal(b.Body, &raw); err != nil {
		return nil, fmt.Errorf("read the events of %s from %d: %w", b.Lane, b.First, err)
	}
	events := make([]Event, 0, len(raw))
	for _, r := range raw {
		e, err := Parse(r)
		if err != nil {
			return nil, err
		}
		events = append(events, e)
	}
	return events, nil
}

// Problem is something that is wrong with the trail, with its place.
type Problem struct {
	Lane string `json:"lane"`
	Seq  int64  `json:"seq"`
	What string `json:"what"`
}

func (p Problem) String() string { return fmt.Sprintf("%s, event %d: %s", p.Lane, p.Seq, p.What) }

// Verifier checks batches that are given to it lane by lane, in the order of
// their first seq. It is not safe for concurrent use.
type Verifier struct {
	key      *secret.Key
	next     map[string]int64
	last     map[string]time.Time
	Events   int64
	Problems []Problem
}

// maxProblems bounds what is listed; one is enough to distrust the rest.
const maxProblems = 100

// NewVerifier returns a Verifier for the trail that key signs.
func NewVerifier(key *secret.Key) *Verifier {
	return &Verifier{key: key, next: map[string]int64{}, last: map[string]time.Time{}}
}

// Add checks one batch: its MAC, that it follows the one before without a gap,
// that its events stand where they say, and that time does not run backwards
// within a lane.
func (v *Verifier) Add(b Batch) {
	next := v.next[b.Lane]
	if next == 0 {
		next = 1
	}
	v.next[b.Lane] = max(next, b.First+int64(b.N))
	switch {
	case b.First > next:
		v.problem(b.Lane, next, fmt.Sprintf("%d events are missing before event %d", b.First-next, b.First))
	case b.First < next:
		v.problem(b.Lane, b.First, "the event stands twice")
	}
	if !envelope.Same(b.MAC, b.mac(v.key)) {
		v.problem(b.Lane, b.First, fmt.Sprintf("the signature over %d events does not match: they were altered, inserted or moved", b.N))
		return
	}
	// The signature is right: of each event only its place and time are looked at.
	var events []struct {
		Lane string    `json:"lane"`
		Seq  int64     `json:"seq,string"`
		At   time.Time `json:"at"`
	}
	if err := json.Unmarshal(b.Body, &events); err != nil || len(events) != b.N {
		v.problem(b.Lane, b.First, "the batch does not hold what it says")
		return
	}
	for i, e := range events {
		v.Events++
		if e.Lane != b.Lane || e.Seq != b.First+int64(i) {
			v.problem(b.Lane, b.First+int64(i), fmt.Sprintf("another event stands here: %s, event %d", e.Lane, e.Seq))
		}
		if e.At.Before(v.last[b.Lane]) {
			v.problem(b.Lane, e.Seq, "the event is dated before the one that precedes it")
		}
		v.last[b.Lane] = e.At
	}
}

// Head compares the end of a lane with what is known of it from elsewhere: a
// layer's revision, the organization's revision.
func (v *Verifier) Head(lane string, head int64) {
	last := max(v.next[lane]-1, 0)
	switch {
	case last < head:
		v.problem(lane, last+1, fmt.Sprintf("the last %d events are missing", head-last))
	case last > head:
		v.problem(lane, head+1, fmt.Sprintf("the trail holds %d changes that are not in the store: it was set back", last-head))
	}
}

// Lanes are the lanes seen so far with their last seq.
func (v *Verifier) Lanes() map[string]int64 {
	lanes := map[string]int64{}
	for lane, next := range v.next {
		lanes[lane] = next - 1
	}
	return lanes
}

func (v *Verifier) problem(lane string, seq int64, what string) {
	if len(v.Problems) < maxProblems {
		v.Problems = append(v.Problems, Problem{lane, seq, what})
	}
}
