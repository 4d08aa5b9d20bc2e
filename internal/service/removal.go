package service

import (
	"context"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// RemoveProject takes a project away, recoverably. It needs manage in the
// organization.
func (s *Service) RemoveProject(ctx context.Context, caller Caller, name string) (until time.Time, err error) {
	err = s.removal(ctx, caller, "project.remove", layers.Place{Project: name}, access.Manage, func(op *operation, tx *storage.Tx, l located) error {
		if err := op.allow(access.Manage, located{place: organizationPlace}); err != nil {
			return err
		}
		for _, e := range op.dir.ofProject[l.where.Project] {
			if e.Approval {
				return errRemovesApproval(op.dir.placeOf(access.Where{Project: l.where.Project, Environment: e.ID}))
			}
		}
		p := *op.dir.projectByID[l.where.Project]
		p.Removal = s.removed(p.KeepRemovedDays)
		until = *p.PurgeAt
		return tx.SaveProject(p)
	})
	return until, err
}

// RemoveEnvironment takes an environment away, recoverably. It needs manage in
// the project. One that others follow stays.
func (s *Service) RemoveEnvironment(ctx context.Context, caller Caller, place layers.Place) (until time.Time, err error) {
	err = s.removal(ctx, caller, "environment.remove", place, access.Manage, func(op *operation, tx *storage.Tx, l located) error {
		if err := op.allow(access.Manage, located{place: layers.Place{Project: place.Project}, where: access.Where{Project: l.where.Project}}); err != nil {
			return err
		}
		for _, e := range op.dir.ofProject[l.where.Project] {
			if orZero(e.Follows) == l.where.Environment {
				return problem(Conflict, "%s follows %s; let it follow another first: \"adytum environment edit %s --follows OTHER\"", e.Name, place.Environment, e.Name)
			}
		}
		e := *op.dir.environmentByID[l.where.Environment]
		if e.Approval {
			return errRemovesApproval(place)
		}
		e.Removal = s.removed(op.dir.keepRemoved(l.where.Project))
		until = *e.PurgeAt
		return tx.SaveEnvironment(e)
	})
	return until, err
}

// errRemovesApproval is the answer to who would remove what needs approval.
func errRemovesApproval(place layers.Place) error {
	return problem(Conflict, "changes of %s need a second person's approval; propose to lift that first: \"adytum environment edit %s --project %s --approval=false\"", place, place.Environment, place.Project)
}

func (s *Service) removed(days int) storage.Removal {
	now := s.now().UTC().Truncate(time.Microsecond)
	purge := now.AddDate(0, 0, days)
	return storage.Removal{RemovedAt: &now, PurgeAt: &purge}
}

// removal changes the directory at a place that the caller has a verb at.
func (s *Service) removal(ctx context.Context, caller Caller, action string, place layers.Place, verb access.Verb, f func(*operation, *storage.Tx, located) error) (err error) {
	op := s.begin(ctx, caller, action, place)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locate(place, verb)
		if err != nil {
			return err
		}
		return f(op, tx, l)
	})
}

// Removed lists the projects, or, with a project's name, the environments that
// were removed and can be restored. It needs manage where they were.
func (s *Service) Removed(ctx context.Context, caller Caller, project string) (projects []wire.Project, environments []wire.Environment, err error) {
	op := s.begin(ctx, caller, "place.removed", layers.Place{Project: project})
	defer op.end(&err)
	l, err := op.locate(layers.Place{Project: project}, access.Manage)
	if err != nil {
		return nil, nil, err
	}
	projects, environments = []wire.Project{}, []wire.Environment{}
	for _, p := range op.dir.projects {
		if project == "" && p.RemovedAt != nil && p.DestroyedAt == nil {
			projects = append(projects, wire.Project{Name: p.Name, Environments: []wire.Environment{}, KeepRemovedDays: p.KeepRemovedDays, RestorableUntil: *p.PurgeAt})
		}
	}
	for _, e := range op.dir.environments {
		if project != "" && e.ProjectID == l.where.Project && e.RemovedAt != nil && e.DestroyedAt == nil {
			environments = append(environments, wire.Environment{Name: e.Name, RestorableUntil: *e.PurgeAt})
		}
	}
	return projects, environments, nil
}

// RestoreProject brings the project back that was removed last under a name. It
// needs manage in the organization.
func (s *Service) RestoreProject(ctx context.Context, caller Caller, name string) (out wire.Project, err error) {
	op := s.begin(ctx, caller, "project.restore", layers.Place{Project: name})
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		p, err := op.removedProject(name)
		if err != nil {
			return err
		}
		p.Removal = storage.Removal{}
		if err := tx.SaveProject(p); err != nil {
			return taken(err, "a project", name)
		}
		out = op.wireProject(p)
		return nil
	})
	return out, err
}

func (op *operation) removedProject(name string) (storage.Project, error) {
	if err := op.allow(access.Manage, located{place: organizationPlace}); err != nil {
		return storage.Project{}, err
	}
	var found storage.Project
	for _, p := range op.dir.projects {
		if p.Name == name && p.RemovedAt != nil && p.DestroyedAt == nil && (found.ID == 0 || p.RemovedAt.After(*found.RemovedAt)) {
			found = p
		}
	}
	if found.ID == 0 {
		return found, problem(NotFound, "there is no removed project %q; \"adytum project list --removed\" shows those that can be restored", op.service.redact(name))
	}
	return found, nil
}

// RestoreEnvironment brings the environment back that was removed last under a
// name. It needs manage in the project.
func (s *Service) RestoreEnvironment(ctx context.Context, caller Caller, place layers.Place) (out wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.restore", place)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		e, err := op.removedEnvironment(place)
		if err != nil {
			return err
		}
		if followed := d.environmentByID[orZero(e.Follows)]; followed != nil && followed.RemovedAt != nil {
			return problem(Conflict, "%s follows %s, which was removed; restore that one first", place.Environment, followed.Name)
		}
		e.Removal = storage.Removal{}
		if err := tx.SaveEnvironment(e); err != nil {
			return taken(err, "an environment", place.Environment)
		}
		out = d.wireEnvironment(e)
		return nil
	})
	return out, err
}

func (op *operation) removedEnvironment(place layers.Place) (storage.Environment, error) {
	var found storage.Environment
	l, err := op.locate(layers.Place{Project: place.Project}, access.Manage)
	if err != nil {
		return found, err
	}
	for _, e := range op.dir.environments {
		if e.ProjectID == l.where.Project && e.Name == place.Environment && e.RemovedAt != nil && e.DestroyedAt == nil && (found.ID == 0 || e.RemovedAt.After(*found.RemovedAt)) {
			found = e
		}
	}
	if found.ID == 0 {
		return found, problem(NotFound, "there is no removed environment %q in %s; \"adytum environment list --removed\" shows those that can be restored", op.service.redact(place.Environment), place.Project)
	}
	return found, nil
}

// DestroyProject deletes the keys of a project that was removed before, at once
// and for good. It needs manage in the organization and destroy in the project.
func (s *Service) DestroyProject(ctx context.Context, caller Caller, name string) (out wire.Gone, err error) {
	op := s.begin(ctx, caller, "project.destroy", layers.Place{Project: name})
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		p, err := op.removedProject(name)
		if err != nil {
			return err
		}
		if err := op.allow(access.Destroy, located{place: layers.Place{Project: name}, where: access.Where{Project: p.ID}}); err != nil {
			return err
		}
		out.GoneOn = day(s.now().Add(ShredHorizon + 24*time.Hour))
		return s.shredProject(tx, p)
	})
	return out, err
}

func (s *Service) shredProject(tx *storage.Tx, p storage.Project) error {
	now := s.now().UTC().Truncate(time.Microsecond)
	p.DestroyedAt = &now
	if err := tx.SaveProject(p); err != nil {
		return err
	}
	return tx.ShredProject(p.ID, now)
}

// DestroyEnvironment deletes the keys of everything in an environment that was
// removed before, at once and for good. It needs manage in the project and
// destroy in the environment.
func (s *Service) DestroyEnvironment(ctx context.Context, caller Caller, place layers.Place) (out wire.Gone, err error) {
	op := s.begin(ctx, caller, "environment.destroy", place)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		e, err := op.removedEnvironment(place)
		if err != nil {
			return err
		}
		if err := op.allow(access.Destroy, located{place: place, where: access.Where{Project: e.ProjectID, Environment: e.ID}}); err != nil {
			return err
		}
		out.GoneOn = day(s.now().Add(ShredHorizon + 24*time.Hour))
		return s.shredEnvironment(tx, d, e)
	})
	return out, err
}

func (s *Service) shredEnvironment(tx *storage.Tx, d *directory, e storage.Environment) error {
	now := s.now().UTC().Truncate(time.Microsecond)
	e.DestroyedAt = &now
	if err := tx.SaveEnvironment(e); err != nil {
		return err
	}
	var ids []int64
	for _, l := range d.layerByID {
		if orZero(l.EnvironmentID) == e.ID {
			ids = append(ids, l.ID)
		}
	}
	return tx.ShredLayers(e.ProjectID, ids, now)
}
