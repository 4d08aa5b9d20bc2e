package service

import (
	"context"
	"time"

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
	at, err := readCursor(cursor)
	if err != nil {
		return out, err
	}
	filter, err := op.filter(q)
	if err != nil {
		return out, err
	}
	out.Events = []wire.Event{}
	notSent := withheld{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		for looked := 0; len(out.Events) < limit && looked < batchesOfPage; {
			batches, err := tx.NewestBatches(at, writtenSince(filter.Since), batchesAtOnce)
			if err != nil || len(batches) == 0 {
				out.Next = ""
				return err
			}
			for _, b := range batches {
				if len(out.Events) >= limit {
					return nil
				}
				events, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
				if err != nil {
					return err
				}
				for i := len(events) - 1; i >= 0; i-- {
					if filter.Chooses(events[i]) {
						out.Events = notSent.add(out.Events, op.dir.wireEvent(events[i]))
					}
				}
				at = storage.BatchPosition{WrittenAt: b.WrittenAt, Lane: b.Lane, First: b.First}
				out.Next = at.String()
				looked++
			}
		}
		return nil
	})
	return out, err
}

// clockSkew is how far the clocks of instances and of the database may differ.
const clockSkew = 5 * time.Minute

// writtenSince is when the first batch was written that may hold an event since a
// moment.
func writtenSince(since time.Time) time.Time {
	if since.IsZero() {
		return since
	}
	return since.Add(-clockSkew)
}

// withheld are the events, by lane and number, whose answer was not given after
// all, as a later event says, and where that one stands in a list.
type withheld map[string]map[int64]int

// add appends an event to a list, newest first. What says of an event that its
// answer was not given becomes that event, once it comes.
func (w withheld) add(all []wire.Event, e wire.Event) []wire.Event {
	if e.NotReleased {
		if w[e.Lane] == nil {
			w[e.Lane] = map[int64]int{}
		}
		w[e.Lane][e.Count] = len(all)
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

func readCursor(cursor string) (storage.BatchPosition, error) {
	if cursor == "" {
		return storage.BatchPosition{}, nil
	}
	at, err := storage.ParsePosition(cursor)
	if err != nil {
		return at, problem(Invalid, "the cursor is none that this service gave; start without one")
	}
	return at, nil
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
	return func(each func(wire.Event) error) error {
		return s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
			return tx.BatchesInTime(writtenSince(filter.Since), func(b storage.TrailBatch) error {
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
			})
		})
	}, nil
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

// VerifyTrail checks every event that there is, and that the heads of the lanes
// agree with the store. It needs audit.
//
// Without a checkpoint kept elsewhere it cannot notice that the newest events of
// a reader lane were cut off.
func (s *Service) VerifyTrail(ctx context.Context, caller Caller) (out wire.Verification, err error) {
	op := s.begin(ctx, caller, "trail.verify", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, located{place: organizationPlace}); err != nil {
		return out, err
	}
	return s.verifyTrail(ctx)
}

func (s *Service) verifyTrail(ctx context.Context) (out wire.Verification, err error) {
	v := trail.NewVerifier(s.keys.trail)
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		err := tx.TrailBatches(func(b storage.TrailBatch) error {
			v.Add(trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC})
			return nil
		})
		if err != nil {
			return err
		}
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		return s.compareHeads(tx, d, v)
	})
	if err != nil {
		return out, err
	}
	out = wire.Verification{Whole: len(v.Problems) == 0, Events: v.Events, Lanes: len(v.Lanes()), Problems: []wire.TrailProblem{}}
	for _, p := range v.Problems {
		out.Problems = append(out.Problems, wire.TrailProblem{Lane: p.Lane, Seq: p.Seq, What: p.What})
	}
	return out, nil
}

// compareHeads checks the ends of the lanes against the store's revisions.
func (s *Service) compareHeads(tx *storage.Tx, d *directory, v *trail.Verifier) error {
	scope, ids := storage.Scope{0}, []int64{}
	for _, p := range d.projects {
		scope = append(scope, p.ID)
	}
	for id := range d.layerByID {
		ids = append(ids, id)
	}
	if err := tx.Widen(scope); err != nil {
		return err
	}
	heads, err := tx.Layers(ids)
	if err != nil {
		return err
	}
	v.Head(trail.OrganizationLane, d.organization.Revision)
	for _, head := range heads {
		v.Head(trail.LayerLane(head.ID), head.Revision)
	}
	return nil
}
