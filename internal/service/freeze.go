package service

import (
	"context"
	"errors"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// isFrozen tells whether a person or a workload is frozen.
func (d *directory) isFrozen(who access.Subject) bool {
	for _, f := range d.frozen {
		if f.Kind == string(who.Kind) && f.Of == who.ID {
			return true
		}
	}
	return false
}

// frozenName is what is frozen, for people.
func (d *directory) frozenName(f access.Frozen) string {
	switch {
	case f.Subject != (access.Subject{}):
		return d.subjectName(f.Subject)
	case f.Project != 0:
		return "the project " + d.placeOf(access.Where{Project: f.Project}).Project
	}
	return "the organization"
}

// Frozen lists what is frozen. It needs people.
func (s *Service) Frozen(ctx context.Context, caller Caller) (out []wire.Frozen, err error) {
	op := s.begin(ctx, caller, "freeze.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, organization); err != nil {
		return nil, err
	}
	out = []wire.Frozen{}
	for _, f := range op.dir.frozen {
		out = append(out, wire.Frozen{Kind: f.Kind, Name: op.dir.frozenHandle(f), Since: f.Since})
	}
	return out, nil
}

func (d *directory) frozenHandle(f storage.Frozen) string {
	switch f.Kind {
	case "project":
		return d.placeOf(access.Where{Project: f.Of}).Project
	case "organization":
		return ""
	}
	return d.handle(access.Subject{Kind: access.SubjectKind(f.Kind), ID: f.Of})
}

// Freeze stops a person or a workload from doing anything, or everyone from
// obtaining and changing what a project, or the whole organization, holds; at
// once, on all instances, until it is thawed. It needs people on the organization,
// or manage on the project; the last owner who is not frozen cannot be.
func (s *Service) Freeze(ctx context.Context, caller Caller, what wire.Freeze) (out wire.Frozen, err error) {
	err = s.changeFrozen(ctx, caller, "freeze.begin", what, func(tx *storage.Tx, d *directory, f storage.Frozen) error {
		if f.Kind == string(access.Person) && d.lastOwner(func(g storage.Grant) bool { return g.SubjectID != f.Of }) {
			return problem(Conflict, "%s is the last owner who is not frozen; make someone else an owner first", what.Name)
		}
		out = wire.Frozen{Kind: f.Kind, Name: what.Name, Since: f.Since}
		if err := tx.Freeze(f); errors.Is(err, storage.ErrTaken) {
			return problem(Conflict, "%s is frozen already", d.frozenName(frozenOf(f)))
		} else if err != nil {
			return err
		}
		return nil
	})
	return out, err
}

// Thaw ends a freeze. It needs what [Service.Freeze] needs, and for a person or a
// workload the right to give everything that they were granted.
func (s *Service) Thaw(ctx context.Context, caller Caller, what wire.Freeze) error {
	return s.changeFrozen(ctx, caller, "freeze.end", what, func(tx *storage.Tx, d *directory, f storage.Frozen) error {
		if err := tx.Thaw(f); errors.Is(err, storage.ErrNotFound) {
			return problem(NotFound, "%s is not frozen", d.frozenName(frozenOf(f)))
		} else if err != nil {
			return err
		}
		return nil
	})
}

func (s *Service) changeFrozen(ctx context.Context, caller Caller, action string, what wire.Freeze, f func(*storage.Tx, *directory, storage.Frozen) error) (err error) {
	op := s.begin(ctx, caller, action, organizationPlace)
	op.event.Reason = s.redact(what.Reason)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		row := storage.Frozen{Kind: what.Kind, Since: s.now().UTC().Truncate(time.Microsecond)}
		switch what.Kind {
		case "organization":
			if err := op.allow(access.Manage, organization); err != nil {
				return err
			}
			op.event.Names = []string{what.Kind}
		case "project":
			l, err := op.locate(layers.Place{Project: what.Name}, access.Manage)
			if err != nil {
				return err
			}
			row.Of = l.where.Project
			op.event.Project = what.Name
		default:
			if err := op.allow(access.People, organization); err != nil {
				return err
			}
			who, exists := d.subject(what.Kind, what.Name)
			if !exists || who.Kind == access.Team {
				return problem(NotFound, "there is no %s %q", what.Kind, s.redact(what.Name))
			}
			row.Of = who.ID
			op.event.Names = []string{who.String()}
			if action == "freeze.end" {
				if err := op.mayGive(who); err != nil {
					return err
				}
			}
		}
		return f(tx, d, row)
	})
}
