package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// VerifyTrail checks every event that there is, or those after a checkpoint of a
// size: every signature, that no event of a lane is missing, that the tree is what
// its checkpoints say, and that the ends of the lanes agree with the store. It
// needs audit.
//
// By itself it cannot notice that the newest events were cut off together with
// the checkpoints that cover them: for that the caller compares a checkpoint that
// they kept, with [Service.Growth].
func (s *Service) VerifyTrail(ctx context.Context, caller Caller, from int64) (out wire.Verification, err error) {
	op := s.begin(ctx, caller, "trail.verify", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return out, err
	}
	s.tellSequencing(s.putInOrder(ctx, true))
	return s.verifyTrail(ctx, from)
}

func (s *Service) verifyTrail(ctx context.Context, from int64) (out wire.Verification, err error) {
	v := trail.NewVerifier(s.keys.trail)
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		start, err := s.beginVerifying(tx, v, from)
		if err != nil {
			return err
		}
		out.From = start
		if err := s.verifyTree(tx, v, start); err != nil {
			return err
		}
		if err := tx.WalkUnordered(func(b storage.TrailBatch) error {
			v.Add(trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC})
			return nil
		}); err != nil {
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
	out.Whole, out.Events, out.Lanes, out.Problems = len(v.Problems) == 0, v.Events, len(v.Lanes()), []wire.TrailProblem{}
	if newest := s.newest.Load(); newest != nil {
		out.Checkpoint = newest.header
	}
	for _, p := range v.Problems {
		out.Problems = append(out.Problems, wire.TrailProblem{Lane: p.Lane, Seq: p.Seq, What: p.What})
	}
	return out, nil
}

// beginVerifying prepares a verifier for what follows an index: that of a
// checkpoint, or up to where events were given up.
func (s *Service) beginVerifying(tx *storage.Tx, v *trail.Verifier, from int64) (int64, error) {
	f, err := s.forgotten(tx)
	if err != nil {
		return 0, err
	}
	if from <= f.Before {
		from = f.Before
	}
	if from == 0 {
		return 0, nil
	}
	newest, err := tx.NewestCheckpoint()
	if err != nil {
		return 0, err
	}
	if from > newest.Size {
		return 0, problem(Conflict, "the trail has %d events and the checkpoint covers %d: the newest events were cut off, or an older state of the database is served", newest.Size, from)
	}
	edge, err := trail.OpenEdge(from, tx.ReadTile)
	if err != nil {
		return 0, err
	}
	heads, err := s.headsAt(tx, from)
	if err != nil {
		return 0, err
	}
	var at time.Time
	if c, err := tx.CheckpointOf(from); err == nil {
		at = c.At
	} else if !errors.Is(err, storage.ErrNotFound) {
		return 0, err
	}
	v.Begin(edge, heads, at)
	return from, nil
}

// headsAt is where lanes ended at an index of the tree, as far as it matters for
// what follows.
func (s *Service) headsAt(tx *storage.Tx, index int64) (map[string]int64, error) {
	all, err := tx.LaneHeads()
	if err != nil {
		return nil, err
	}
	firsts, err := tx.FirstSeqs(index)
	if err != nil {
		return nil, err
	}
	heads := make(map[string]int64, len(all))
	for _, h := range all {
		heads[h.Lane] = h.Seq
		if first, follows := firsts[h.Lane]; follows {
			heads[h.Lane] = first - 1
		}
	}
	return heads, nil
}

// verifyTree walks through the tree. Batches are looked at by all processors, and
// taken in their order.
func (s *Service) verifyTree(tx *storage.Tx, v *trail.Verifier, start int64) error {
	type look struct {
		of   storage.Ordered
		b    *trail.Batch
		done chan trail.Checked
	}
	var (
		works   sync.WaitGroup
		work    = make(chan look, 64)
		ordered = make(chan look, 64)
		taken   = make(chan struct{})
	)
	for range runtime.GOMAXPROCS(0) {
		works.Go(func() {
			for l := range work {
				l.done <- v.Check(*l.b)
			}
		})
	}
	points, err := tx.CheckpointsByMinute(start)
	if err != nil {
		return err
	}
	go func() {
		defer close(taken)
		for l := range ordered {
			if l.b == nil {
				v.Lose(l.of.Index, l.of.Lane, l.of.First, int64(l.of.N))
			} else {
				c := <-l.done
				v.Take(c)
				v.Grow(l.of.Index, c)
			}
			for len(points) > 0 && points[0].Size <= v.Tree.Size {
				s.compareCheckpoint(v, points[0])
				points = points[1:]
			}
		}
	}()
	err = tx.WalkOrder(start, func(o storage.Ordered, row *storage.TrailBatch) error {
		l := look{of: o}
		if row != nil {
			l.b, l.done = &trail.Batch{Lane: row.Lane, First: row.First, N: row.N, Body: row.Body, MAC: row.MAC}, make(chan trail.Checked, 1)
			work <- l
		}
		ordered <- l
		return nil
	})
	close(work)
	close(ordered)
	works.Wait()
	<-taken
	if err != nil {
		return err
	}
	newest, err := tx.NewestCheckpoint()
	if err != nil || newest.Size == 0 {
		return err
	}
	if newest.Size > v.Tree.Size {
		v.Wrong("", v.Tree.Size, fmt.Sprintf("the last %d events of the tree are missing, which the checkpoint of %s covers", newest.Size-v.Tree.Size, newest.At.UTC().Format(time.RFC3339)))
		return nil
	}
	stored, err := tx.LaneHeads()
	if err != nil {
		return err
	}
	heads := make(map[string]int64, len(stored))
	for _, h := range stored {
		heads[h.Lane] = h.Seq
	}
	c, err := s.keys.openCheckpoint(newest.Note)
	if err == nil && len(v.Problems) == 0 && (trail.HeadsDigest(v.Lanes()) != c.Heads || trail.HeadsDigest(heads) != c.Heads) {
		v.Wrong("", c.Size-1, "where the lanes end is not what the newest checkpoint says")
	}
	return nil
}

func (s *Service) compareCheckpoint(v *trail.Verifier, stored storage.StoredCheckpoint) {
	c, err := s.keys.openCheckpoint(stored.Note)
	if err != nil || c.Size != stored.Size {
		v.Wrong("", stored.Size-1, "the checkpoint after this event was altered")
		return
	}
	v.Checkpoint(c)
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

// Checkpoint is the newest checkpoint of the trail, and the key to check it with.
// Everybody who is signed in may keep it.
func (s *Service) Checkpoint(ctx context.Context, caller Caller) (out wire.Checkpoint, err error) {
	op := s.begin(ctx, caller, "trail.checkpoint", organizationPlace)
	defer op.end(&err)
	s.tellSequencing(s.putInOrder(ctx, true))
	newest := s.newest.Load()
	if newest == nil {
		return out, problem(Unavailable, "there is no checkpoint of the trail yet; try again in a moment")
	}
	if out.Key, err = s.keys.checkpointKey(); err != nil {
		return out, err
	}
	out.Checkpoint, out.Size, out.At = string(newest.note), newest.Size, newest.At
	return out, nil
}

// NewestCheckpoint is the newest checkpoint as it goes out with every answer; ""
// while there is none.
func (s *Service) NewestCheckpoint() string {
	if newest := s.newest.Load(); newest != nil {
		return newest.header
	}
	return ""
}

// Growth proves that the trail has only grown since it had so many events.
// Everybody who is signed in may ask.
func (s *Service) Growth(ctx context.Context, caller Caller, from int64) (out wire.Growth, err error) {
	op := s.begin(ctx, caller, "trail.growth", organizationPlace)
	defer op.end(&err)
	out.Proof = []string{}
	s.tellSequencing(s.putInOrder(ctx, true))
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		newest, err := tx.NewestCheckpoint()
		if err != nil {
			return err
		}
		out.Checkpoint = string(newest.Note)
		if from >= newest.Size {
			return nil // the caller compares: it is the same one, or the trail was cut off
		}
		proof, err := trail.ProveGrowth(from, newest.Size, tx.ReadTile)
		for _, h := range proof {
			out.Proof = append(out.Proof, h.String())
		}
		return err
	})
	return out, err
}

// ProveEvent proves that one event stands in the trail. It needs audit.
func (s *Service) ProveEvent(ctx context.Context, caller Caller, lane string, seq int64) (out wire.EventProof, err error) {
	op := s.begin(ctx, caller, "trail.prove", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return out, err
	}
	op.event.Names = []string{s.redact(fmt.Sprintf("%s:%d", lane, seq))}
	if err := s.putInOrder(ctx, true); err != nil {
		return out, err
	}
	missing := problem(NotFound, "the trail has no event %s:%d", s.redact(lane), seq)
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		o, err := tx.OrderOf(lane, seq)
		if errors.Is(err, storage.ErrNotFound) {
			return missing
		} else if err != nil {
			return err
		}
		bodies, err := batchesOf(tx, []storage.Ordered{o})
		if err != nil {
			return err
		}
		row, there := bodies[o.Lane][o.First]
		if !there {
			return missing
		}
		events, err := trail.Batch{Lane: row.Lane, First: row.First, N: row.N, Body: row.Body}.Canonical()
		if err != nil || int64(len(events)) <= seq-o.First {
			return fmt.Errorf("the batch of %s from %d was altered in the database", o.Lane, o.First)
		}
		newest, err := tx.NewestCheckpoint()
		if err != nil {
			return err
		}
		out.Event, out.Index, out.Checkpoint, out.Proof = string(events[seq-o.First]), o.Index+seq-o.First, string(newest.Note), []string{}
		proof, err := trail.ProveEvent(out.Index, newest.Size, tx.ReadTile)
		for _, h := range proof {
			out.Proof = append(out.Proof, h.String())
		}
		return err
	})
	return out, err
}

// Records writes the whole trail in the form that proves itself, as far as it was
// not given up. It needs audit. The stream is to be called once, and may fail in
// its midst.
func (s *Service) Records(ctx context.Context, caller Caller) (stream func(io.Writer) error, err error) {
	op := s.begin(ctx, caller, "trail.export", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return nil, err
	}
	op.event.Names = []string{"records"}
	if err := s.putInOrder(ctx, true); err != nil {
		return nil, err
	}
	return func(w io.Writer) error {
		return s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
			newest, err := tx.NewestCheckpoint()
			if err != nil {
				return err
			}
			f, err := s.forgotten(tx)
			if err != nil {
				return err
			}
			edge, err := trail.OpenEdge(f.Before, tx.ReadTile)
			if err != nil {
				return err
			}
			if err := trail.WriteRecords(w, edge, f.heads); err != nil {
				return err
			}
			err = tx.WalkOrder(f.Before, func(o storage.Ordered, row *storage.TrailBatch) error {
				if row == nil {
					return fmt.Errorf("the batch of %s from %d is missing in the database", o.Lane, o.First)
				}
				events, err := trail.Batch{Lane: row.Lane, First: row.First, N: row.N, Body: row.Body}.Canonical()
				for _, e := range events {
					if err := trail.WriteRecord(w, e); err != nil {
						return err
					}
				}
				return err
			})
			if err != nil {
				return err
			}
			return trail.EndRecords(w, newest.Note)
		})
	}, nil
}

// forgotten is up to where events were given up, and where lanes ended there.
type forgotten struct {
	storage.Forgotten
	heads map[string]int64
}

func (s *Service) forgotten(tx *storage.Tx) (forgotten, error) {
	row, err := tx.LastForgotten()
	f := forgotten{Forgotten: row}
	if err != nil || row.Before == 0 {
		return f, err
	}
	if !envelope.Same(row.MAC, s.keys.forgottenMAC(row)) {
		return f, errors.New("what the trail's keeping gave up was altered in the database")
	}
	return f, json.Unmarshal([]byte(row.Heads), &f.heads)
}

func (k *keyring) forgottenMAC(f storage.Forgotten) []byte {
	return envelope.Sign(k.trail, "forgotten", envelope.Number(f.Before), f.Heads, string(f.Note))
}

// LeastTrailDays is for how many days events are kept at least. The database
// checks it as well.
const LeastTrailDays = 90

// ForgetTrail gives up events that are older than a number of days (0: none),
// and old checkpoints but for the last of each hour. What is left stays provable.
func (s *Service) ForgetTrail(ctx context.Context, days int) (events int64, err error) {
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if had, err := tx.LockOrder(false); err != nil || !had {
			return err
		}
		if _, err := tx.ThinCheckpoints(); err != nil || days == 0 {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		before, err := tx.OrderedBefore(now.AddDate(0, 0, -max(days, LeastTrailDays)))
		if err != nil || before == 0 {
			return err
		}
		was, err := s.forgotten(tx)
		if err != nil {
			return err
		}
		heads, err := s.headsAt(tx, before)
		if err != nil {
			return err
		}
		text, err := json.Marshal(heads)
		if err != nil {
			return err
		}
		newest, err := tx.NewestCheckpoint()
		if err != nil {
			return err
		}
		row := storage.Forgotten{Before: before, Heads: string(text), Note: newest.Note}
		row.MAC = s.keys.forgottenMAC(row)
		if _, err := tx.ForgetTrail(row); err != nil {
			return err
		}
		events = before - was.Before
		return nil
	})
	if err == nil && events > 0 {
		err = s.recorder.note(ctx, trail.Event{Action: "trail.forget", Outcome: trail.Allowed, Count: events, Names: []string{fmt.Sprintf("older than %d days", max(days, LeastTrailDays))}})
	}
	return events, err
}
