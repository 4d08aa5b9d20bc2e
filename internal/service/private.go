package service

import (
	"context"
	"fmt"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// CommitPrivate commits edits to a person's own values in an environment. They
// stand in for entries that are set there already, are seen and resolved by that
// person alone, and are refused where the environment is protected.
func (s *Service) CommitPrivate(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.ChangeRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("private.commit"), place)
	defer op.end(&err)
	if _, err := op.private(place); err != nil {
		return out, err
	}
	if err := op.allowPrivate(place, request.Edits); err != nil {
		return out, err
	}
	if err := s.beginPrivate(ctx, caller, place); err != nil {
		return out, err
	}
	// The layer may be newer than the directory that the caller came with.
	if op.dir, err = s.snapshotDirectory(ctx); err != nil {
		return out, err
	}
	return s.commitEdits(op, place, o, request, (*operation).private)
}

// private finds the caller's own layer in an environment; its id is 0 where there
// is none yet.
func (op *operation) private(place layers.Place) (located, error) {
	l, err := op.locateSome(place, access.List)
	if err != nil {
		return l, err
	}
	switch {
	case op.caller.Subject.Kind != access.Person:
		return l, op.refuse("%s is a workload, and private values are for people", op.caller.Name())
	case place.Environment == "":
		return l, problem(Invalid, "a private value belongs to an environment; name one")
	case op.dir.environmentByID[l.where.Environment].Protected:
		return l, op.refuse("%s is protected, so there are no private values in it", place)
	}
	l.layer, l.private = op.dir.privateLayers[privateKey{op.caller.Subject.ID, l.where.Environment}], true
	return l, nil
}

// allowPrivate refuses private values for names that the environment has not.
func (op *operation) allowPrivate(place layers.Place, edits []wire.Edit) error {
	return op.viewing(place, func(v *view) error {
		var details []string
		for _, e := range edits {
			if a := layers.All(v.chain, e.Name, v.now); actOf(e) == layers.Keep && (len(a) == 0 || len(a) == 1 && a[0].Layer.Private) {
				details = append(details, fmt.Sprintf("%s is not set in %s%s; a private value stands in for one that is", op.service.redactName(e.Name), place, didYouMean(e.Name, layers.Names(v.chain))))
			}
		}
		if len(details) > 0 {
			return problems(NotFound, "names are not set there; nothing was kept", details)
		}
		return nil
	})
}

// beginPrivate makes a person's private layer in an environment with their first
// value there.
func (s *Service) beginPrivate(ctx context.Context, caller Caller, place layers.Place) (err error) {
	op := s.begin(ctx, caller, "private.begin", place)
	if l, err := op.private(place); err != nil || l.layer != 0 {
		return err
	}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.private(place)
		if err != nil || l.layer != 0 {
			return err
		}
		if err := tx.Widen(storage.Scope{0, l.where.Project}); err != nil {
			return err
		}
		return s.keys.createLayer(tx, storage.Layer{ProjectID: l.where.Project, EnvironmentID: &l.where.Environment, PersonID: &caller.Subject.ID})
	})
}
