package service

import (
	"context"
	"slices"
	"strconv"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// TrailQuery chooses among events, for people: who is a login or a workload's
// name, of the kind.
type TrailQuery struct {
	Kind, Who string
	trail.Filter
}

// A page of the trail looks through so many batches at most; where fewer events
// were found than were asked for, its cursor goes on.
const (
	batchesAtOnce = 64
	batchesOfPage = 2048
)

// Trail lists events, newest first, a page at a time. It needs audit.
func (s *Service) Trail(ctx context.Context, caller Caller, q TrailQuery, cursor string, limit int) (out wire.Events, err error) {
	op := s.begin(ctx, caller, "trail.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return out, err
	}
	below, err := readCursor(cursor)
	if err != nil {
		return out, err
	}
	filter, err := op.filter(q)
	if err != nil {
		return out, err
	}
	s.tellSequencing(s.putInOrder(ctx, true))
	out.Events = []wire.Event{}
	notSent := withheld{}
	take := func(b storage.TrailBatch) error {
		events, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
		for i := len(events) - 1; i >= 0; i-- {
			if filter.Chooses(events[i]) {
				out.Events = notSent.add(out.Events, op.dir.wireEvent(events[i]), events[i])
			}
		}
		return err
	}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if below == 0 {
			if err := s.eachUnordered(tx, take); err != nil {
				return err
			}
		}
		for looked := 0; len(out.Events) < limit && looked < batchesOfPage; {
			ordered, err := tx.NewestOrdered(below, filter.Terms(), filter.Since, filter.Until, batchesAtOnce)
			if err != nil {
				return err
			}
			bodies, err := batchesOf(tx, ordered)
			if err != nil {
				return err
			}
			for i, o := range ordered {
				if b, there := bodies[o.Lane][o.First]; there {
					if err := take(b); err != nil {
						return err
					}
				}
				below, looked = o.Index, looked+1
				if len(out.Events) >= limit && i < len(ordered)-1 {
					out.Next = writeCursor(below)
					return nil
				}
			}
			out.Next = ""
			if len(ordered) < batchesAtOnce {
				return nil
			}
			out.Next = writeCursor(below)
		}
		return nil
	})
	return out, err
}

// eachUnordered calls f with what was written and is not in the tree, newest
// first: nothing, unless the trail cannot be put in order.
func (s *Service) eachUnordered(tx *storage.Tx, f func(storage.TrailBatch) error) error {
	newest, err := tx.NewestCheckpoint()
	if err != nil {
		return err
	}
	since := newest.At
	if !since.IsZero() {
		since = since.Add(-orderBack)
	}
	unordered, err := tx.Unordered(since, batchesOfPage)
	if err != nil {
		return err
	}
	bodies, err := tx.Batches(unordered)
	if err != nil {
		return err
	}
	for _, u := range slices.Backward(unordered) {
		if err := f(bodies[u.Lane][u.First]); err != nil {
			return err
		}
	}
	return nil
}

func batchesOf(tx *storage.Tx, ordered []storage.Ordered) (map[string]map[int64]storage.TrailBatch, error) {
	keys := make([]storage.TrailBatch, len(ordered))
	for i, o := range ordered {
		keys[i] = storage.TrailBatch{Lane: o.Lane, First: o.First}
	}
	return tx.Batches(keys)
}

// withheld are the events, by lane and number, whose answer was not given after
// all, as a later event says, and where that one stands in a list.
type withheld map[string]map[int64]int

// add appends an event to a list, newest first. What says of an event that its
// answer was not given becomes that event, once it comes.
func (w withheld) add(all []wire.Event, e wire.Event, of trail.Event) []wire.Event {
	if e.NotReleased {
		lane, seq := of.Withdrawn()
		if w[lane] == nil {
			w[lane] = map[int64]int{}
		}
		w[lane][seq] = len(all)
		return append(all, e)
	}
	if at, known := w[e.Lane][e.Seq]; known {
		e.NotReleased = true
		all[at] = e
		return all
	}
	return append(all, e)
}

// filter makes a query one by numbers, as the trail has them.
func (op *operation) filter(q TrailQuery) (trail.Filter, error) {
	if q.Who == "" {
		return q.Filter, nil
	}
	who, exists := op.dir.subject(q.Kind, q.Who)
	if !exists {
		return q.Filter, problem(NotFound, "there is no %s %q", q.Kind, op.service.redact(q.Who))
	}
	q.Actor = who.String()
	return q.Filter, nil
}

// A cursor is the index in the tree of the last batch that was looked at.
func readCursor(cursor string) (int64, error) {
	if cursor == "" {
		return 0, nil
	}
	below, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || below < 1 {
		return 0, problem(Invalid, "the cursor is none that this service gave; start without one")
	}
	return below, nil
}

func writeCursor(below int64) string {
	if below == 0 {
		return "" // nothing is older
	}
	return strconv.FormatInt(below, 10)
}

// ExportTrail writes events since a moment, oldest first, one after the other. It
// needs audit. The stream is to be called once, and may fail in its midst.
func (s *Service) ExportTrail(ctx context.Context, caller Caller, q TrailQuery) (stream func(each func(wire.Event) error) error, err error) {
	op := s.begin(ctx, caller, "trail.export", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return nil, err
	}
	filter, err := op.filter(q)
	if err != nil {
		return nil, err
	}
	s.tellSequencing(s.putInOrder(ctx, true))
	return func(each func(wire.Event) error) error {
		take := func(b storage.TrailBatch) error {
			events, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
			if err != nil {
				return err
			}
			for _, e := range events {
				if filter.Chooses(e) {
					if err := each(op.dir.wireEvent(e)); err != nil {
						return err
					}
				}
			}
			return nil
		}
		return s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
			return s.eachBatch(tx, filter, take)
		})
	}, nil
}

// eachBatch calls f with the batches that may hold what a filter chooses, oldest
// first.
func (s *Service) eachBatch(tx *storage.Tx, filter trail.Filter, f func(storage.TrailBatch) error) error {
	for from, whole := int64(0), true; whole; {
		ordered, err := tx.OldestOrdered(from, filter.Terms(), filter.Since, filter.Until, batchesAtOnce)
		if err != nil {
			return err
		}
		bodies, err := batchesOf(tx, ordered)
		if err != nil {
			return err
		}
		for _, o := range ordered {
			if b, there := bodies[o.Lane][o.First]; there {
				if err := f(b); err != nil {
					return err
				}
			}
			from = o.Index + 1
		}
		whole = len(ordered) == batchesAtOnce
	}
	return s.eachUnordered(tx, f)
}

func (d *directory) wireEvent(e trail.Event) wire.Event {
	out := wire.Event{Lane: e.Lane, Seq: e.Seq, At: e.At, Action: e.Action, Outcome: string(e.Outcome), From: e.From,
		Actor: e.Actor, Names: e.Names, Revision: e.Revision, Grant: e.Grant, Reason: e.Reason, Count: e.Count, NotReleased: e.NotSent}
	if e.Project != "" {
		out.Place = layers.Place{Project: e.Project, Environment: e.Environment}.String()
	}
	if who, known := access.ParseSubject(e.Actor); known {
		out.Who = d.subjectName(who)
	}
	for i, name := range e.Names {
		if who, known := access.ParseSubject(name); known {
			out.Names[i] = d.subjectName(who)
		}
	}
	if out.Names == nil {
		out.Names = []string{}
	}
	return out
}
