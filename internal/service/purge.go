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

// keepWriteKeys is how long a repeated write is recognised by its key.
const keepWriteKeys = 48 * time.Hour

// duePerRound is how many layers one round of purging looks at.
const duePerRound = 1000

// Purged says what a purge destroyed.
type Purged struct {
	Entries, Environments, Projects int
	Events                          int64 // of the trail
}

// Purge destroys what was removed so long ago that it can no longer be restored,
// old events of the trail, and old idempotency keys. It is safe to run anywhere and at any time;
// each thing is purged once.
func (s *Service) Purge(ctx context.Context) (done Purged, err error) {
	op := &operation{service: s, ctx: ctx, event: trail.Event{Action: "entry.purge", Outcome: trail.Allowed}}
	var due []storage.Due
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		scope := storage.Scope{0}
		for _, p := range d.projects {
			scope = append(scope, p.ID)
		}
		if err := tx.Widen(scope); err != nil {
			return err
		}
		if err := tx.DropProposals(s.now().Add(-proposalLife)); err != nil {
			return err
		}
		if due, err = tx.DueForPurge(s.now(), duePerRound); err != nil {
			return err
		}
		return tx.ForgetWriteKeys(s.now().Add(-keepWriteKeys))
	})
	if err != nil {
		return done, asProblem(err)
	}
	for _, d := range due {
		n, err := s.purgeLayer(ctx, d.LayerID)
		if err != nil {
			return done, asProblem(err)
		}
		done.Entries += n
	}
	if done.Events, err = s.ForgetTrail(ctx, s.keepTrailDays); err != nil {
		return done, asProblem(err)
	}
	return done, asProblem(s.purgePlaces(ctx, &done))
}

// purgeLayer destroys the entries of a layer whose time has passed, as a change
// of the service itself.
func (s *Service) purgeLayer(ctx context.Context, layer int64) (n int, err error) {
	op := &operation{service: s, ctx: ctx, event: trail.Event{Action: "entry.purge", Outcome: trail.Allowed, Reason: "removed long enough ago"}}
	find := func(op *operation, _ layers.Place) (located, error) {
		where := op.dir.layerPlace(layer)
		place := op.dir.placeOf(where)
		op.event.Project, op.event.Environment = place.Project, place.Environment
		return located{place: place, where: where, layer: layer, chain: []int64{layer}}, nil
	}
	_, err = s.changeLayer(op, layers.Place{}, CommitOptions{Base: AnyRevision}, nil, find, func(c *commit) error {
		for _, e := range c.layer.Removed {
			if e.Purge.IsZero() || e.Purge.After(s.now()) {
				continue
			}
			before, r := e.Stands(), c.record(e.ID)
			kind := newestKind(r)
			if err := c.destroy(r, 0); err != nil {
				return err
			}
			c.note(layers.WasDestroyed, before, r, kind, 0, wire.Effect{})
			op.event.Names = append(op.event.Names, e.Name)
			n++
		}
		if n == 0 {
			return errNothingDue
		}
		return nil
	})
	if err == errNothingDue {
		err = nil // another instance was quicker
	}
	return n, err
}

// errNothingDue ends a purge of a layer that has nothing to purge.
var errNothingDue = problem(Conflict, "there is nothing to purge")

// purgePlaces destroys projects and environments whose time has passed.
func (s *Service) purgePlaces(ctx context.Context, done *Purged) error {
	op := &operation{service: s, ctx: ctx, event: trail.Event{Action: "place.purge", Outcome: trail.Allowed}}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return err
	}
	if p, e := duePlaces(d, s.now()); len(p)+len(e) == 0 {
		return nil
	}
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		projects, environments := duePlaces(d, s.now())
		for _, e := range environments {
			op.event.Names = append(op.event.Names, d.placeOf(access.Where{Project: e.ProjectID, Environment: e.ID}).String())
			if err := s.shredEnvironment(tx, d, e); err != nil {
				return err
			}
			done.Environments++
		}
		for _, p := range projects {
			op.event.Names = append(op.event.Names, p.Name)
			if err := s.shredProject(tx, p); err != nil {
				return err
			}
			done.Projects++
		}
		return nil
	})
}

func duePlaces(d *directory, now time.Time) (projects []storage.Project, environments []storage.Environment) {
	due := func(r storage.Removal) bool {
		return r.PurgeAt != nil && r.DestroyedAt == nil && !r.PurgeAt.After(now)
	}
	for _, p := range d.projects {
		if due(p.Removal) {
			projects = append(projects, p)
		}
	}
	for _, e := range d.environments {
		if due(e.Removal) {
			environments = append(environments, e)
		}
	}
	return projects, environments
}
