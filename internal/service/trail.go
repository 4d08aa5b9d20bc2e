package service

import (
	"context"
	"strconv"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Trail lists events, newest first, a page at a time. It needs audit.
func (s *Service) Trail(ctx context.Context, caller Caller, cursor string, limit int) (out wire.Events, err error) {
	op := s.begin(ctx, caller, "trail.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, located{place: organizationPlace}); err != nil {
		return out, err
	}
	offset := 0
	if cursor != "" {
		if offset, err = strconv.Atoi(cursor); err != nil || offset < 0 {
			return out, problem(Invalid, "the cursor is none that this service gave; start without one")
		}
	}
	out.Events = []wire.Event{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		for len(out.Events) < limit {
			batches, err := tx.NewestBatches(offset, 64)
			if err != nil || len(batches) == 0 {
				return err
			}
			for _, b := range batches {
				if len(out.Events) >= limit {
					out.Next = strconv.Itoa(offset)
					return nil
				}
				events, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
				if err != nil {
					return err
				}
				for i := len(events) - 1; i >= 0; i-- {
					out.Events = append(out.Events, op.dir.wireEvent(events[i]))
				}
				offset++
			}
		}
		return nil
	})
	return out, err
}

func (d *directory) wireEvent(e trail.Event) wire.Event {
	out := wire.Event{Lane: e.Lane, Seq: e.Seq, At: e.At, Action: e.Action, Outcome: string(e.Outcome), From: e.From,
		Names: e.Names, Revision: e.Revision, Grant: e.Grant, Reason: e.Reason, Count: e.Count, NotReleased: e.NotSent}
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
