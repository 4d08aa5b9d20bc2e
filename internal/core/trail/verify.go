package trail

import (
	"fmt"
	"strconv"
	"time"

	"adytum.example/internal/core/secret"
)

// Problem is something that is wrong with the trail, with its place.
type Problem struct {
	Lane string `json:"lane"`
	Seq  int64  `json:"seq"`
	What string `json:"what"`
}

func (p Problem) String() string {
	if p.Lane == "" {
		return fmt.Sprintf("event %d of the tree: %s", p.Seq, p.What)
	}
	return fmt.Sprintf("%s, event %d: %s", p.Lane, p.Seq, p.What)
}

// ClockSkew is how far the clocks of instances and of the database may differ.
const ClockSkew = 5 * time.Minute

// maxProblems bounds what is listed; one is enough to distrust the rest.
const maxProblems = 100

// Verifier checks batches in the order of the tree, or lane by lane: within each
// lane in the order of their events. But for [Verifier.Check] it is not safe for
// concurrent use.
type Verifier struct {
	Events   int64
	Problems []Problem
	Tree     Edge // of what was put into the tree

	key    *secret.Key
	next   map[string]int64
	last   map[string]time.Time
	closed map[string]bool
	window time.Time // of the checkpoint before: events that follow are not much older
	since  int64     // the size of that checkpoint
	span   span      // of the events since that checkpoint
}

// span is the earliest and the latest of some events, and where they stand.
type span struct{ earliest, latest placed }

type placed struct {
	at   time.Time
	lane string
	seq  int64
}

// NewVerifier returns a Verifier for the trail that key signs.
func NewVerifier(key *secret.Key) *Verifier {
	return &Verifier{key: key, next: map[string]int64{}, last: map[string]time.Time{}, closed: map[string]bool{}}
}

// Checked is a batch with what it shows by itself.
type Checked struct {
	Batch
	genuine bool
	read    bool
	places  []placed
	closes  bool
	leaves  []Hash
}

// Check looks at a batch by itself, which is most of the work. It may be called
// concurrently.
func (v *Verifier) Check(b Batch) Checked {
	c := Checked{Batch: b, genuine: b.Genuine(v.key)}
	if !c.genuine {
		return c
	}
	events, err := elements(b.Body, b.N)
	if err != nil || len(events) != b.N {
		return c
	}
	c.places, c.leaves = make([]placed, len(events)), make([]Hash, len(events))
	for i, event := range events {
		closes, badly := false, false
		p := &c.places[i]
		err := members(event, func(key, value []byte) {
			switch string(key) {
			case "lane":
				p.lane = plain(value)
			case "seq":
				seq, err := strconv.ParseInt(plain(value), 10, 64)
				p.seq, badly = seq, badly || err != nil
			case "at":
				at, err := time.Parse(timeForm, plain(value))
				p.at, badly = at, badly || err != nil
			case "action":
				closes = string(value) == `"`+LaneClosed+`"`
			}
		})
		if err != nil || badly {
			return c
		}
		c.closes = c.closes || closes
		c.leaves[i] = Leaf(event)
	}
	c.read = true
	return c
}

// Add checks one batch: its MAC, that it follows the one before without a gap,
// that its events stand where they say, and that time does not run backwards
// within a lane.
func (v *Verifier) Add(b Batch) { v.Take(v.Check(b)) }

// Take takes a batch that was checked by itself.
func (v *Verifier) Take(c Checked) {
	next := max(v.next[c.Lane], 1)
	v.next[c.Lane] = max(next, c.First+int64(c.N))
	switch {
	case v.closed[c.Lane]:
		v.problem(c.Lane, c.First, "the lane had ended before this event")
	case c.First > next:
		v.problem(c.Lane, next, fmt.Sprintf("%d events are missing before event %d", c.First-next, c.First))
	case c.First < next:
		v.problem(c.Lane, c.First, "the event stands twice")
	}
	if !c.genuine {
		v.problem(c.Lane, c.First, fmt.Sprintf("the signature over %d events does not match: they were altered, inserted or moved", c.N))
		return
	}
	if !c.read {
		v.problem(c.Lane, c.First, "the batch does not hold what it says")
		return
	}
	v.closed[c.Lane] = c.closes
	for i, p := range c.places {
		v.Events++
		if p.lane != c.Lane || p.seq != c.First+int64(i) {
			v.problem(c.Lane, c.First+int64(i), fmt.Sprintf("another event stands here: %s, event %d", p.lane, p.seq))
		}
		if p.at.Before(v.last[c.Lane]) {
			v.problem(c.Lane, p.seq, "the event is dated before the one that precedes it")
		}
		v.last[c.Lane] = p.at
	}
}

// Grow takes a batch that stands in the tree at an index, after [Verifier.Take].
func (v *Verifier) Grow(index int64, c Checked) {
	if index != v.Tree.Size {
		v.problem("", index, fmt.Sprintf("the order of the tree is broken: event %d should follow here", v.Tree.Size))
		v.Tree.Size = index
	}
	if len(c.leaves) != c.N {
		v.Tree.Size += int64(c.N) // told already
		return
	}
	for i, leaf := range c.leaves {
		v.Tree.Append(leaf)
		v.span.add(c.places[i])
	}
}

// Lose takes note of events that stand in the tree and are there no more.
func (v *Verifier) Lose(index int64, lane string, first, n int64) {
	v.problem(lane, first, fmt.Sprintf("%d events are missing", n))
	v.next[lane] = max(v.next[lane], first+n)
	v.Tree.Size = index + n
}

// Checkpoint compares the tree with what a checkpoint says of it, at its size.
func (v *Verifier) Checkpoint(c Checkpoint) {
	if c.Size != v.Tree.Size {
		v.problem("", v.since, fmt.Sprintf("the checkpoint of %s speaks of %d events, and the tree ends with %d there", c.At.Format(timeForm), c.Size, v.Tree.Size))
	} else if v.Tree.Root() != c.Root {
		v.problem("", v.since, fmt.Sprintf("between this event and event %d something is not what the checkpoint of %s says: it was altered, moved or exchanged", c.Size-1, c.At.Format(timeForm)))
	}
	if p := v.span.latest; p.at.After(c.At.Add(ClockSkew)) {
		v.problem(p.lane, p.seq, fmt.Sprintf("the event is dated %s, later than the checkpoint of %s that covers it", p.at.Format(timeForm), c.At.Format(timeForm)))
	}
	if p := v.span.earliest; !v.window.IsZero() && !p.at.IsZero() && p.at.Before(v.window.Add(-ClockSkew)) {
		v.problem(p.lane, p.seq, fmt.Sprintf("the event is dated %s, earlier than the checkpoint of %s that it came after", p.at.Format(timeForm), v.window.Format(timeForm)))
	}
	v.window, v.since, v.span = c.At, c.Size, span{}
}

func (s *span) add(p placed) {
	if s.earliest.at.IsZero() || p.at.Before(s.earliest.at) {
		s.earliest = p
	}
	if p.at.After(s.latest.at) {
		s.latest = p
	}
}

// Begin lets the check begin in the midst of a trail: after the events of a
// checkpoint, with the lanes' ends and the tree's edge there.
func (v *Verifier) Begin(edge *Edge, heads map[string]int64, at time.Time) {
	v.Tree, v.since, v.window = *edge, edge.Size, at
	for lane, head := range heads {
		v.next[lane] = head + 1
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

// Wrong adds a problem that was found elsewhere.
func (v *Verifier) Wrong(lane string, seq int64, what string) { v.problem(lane, seq, what) }

func (v *Verifier) problem(lane string, seq int64, what string) {
	if len(v.Problems) < maxProblems {
		v.Problems = append(v.Problems, Problem{lane, seq, what})
	}
}
