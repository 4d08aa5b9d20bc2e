package trail

import (
	"fmt"
	"strconv"
	"strings"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
)

// The lanes. A reader lane belongs to one run of one instance, a layer's lane is
// written in the change's own transaction, and the organization has one.
const OrganizationLane = "organization"

// ReaderLane is the lane of one run of an instance.
func ReaderLane(boot string) string { return readerPrefix + boot }

// LayerLane is the lane of a layer's changes; its seq is the layer's revision.
func LayerLane(layer int64) string { return "layer-" + strconv.FormatInt(layer, 10) }

// IsReaderLane tells whether a lane is one of a run of an instance.
func IsReaderLane(lane string) bool { return strings.HasPrefix(lane, readerPrefix) }

const readerPrefix = "reader-"

// LaneClosed is the action of the event that ends the lane of an instance: no
// other comes after it.
const LaneClosed = "lane.close"

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

// Genuine tells whether the batch is as it was signed.
func (b Batch) Genuine(key *secret.Key) bool { return envelope.Same(b.MAC, b.mac(key)) }

// Canonical are the canonical forms of the batch's events, as they stand in its
// body, without checking its MAC.
func (b Batch) Canonical() ([][]byte, error) {
	all, err := elements(b.Body, b.N)
	if err != nil {
		return nil, fmt.Errorf("read the events of %s from %d: %w", b.Lane, b.First, err)
	}
	return all, nil
}

// Events reads the batch's events without checking its MAC.
func (b Batch) Events() ([]Event, error) {
	raw, err := b.Canonical()
	if err != nil {
		return nil, err
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
