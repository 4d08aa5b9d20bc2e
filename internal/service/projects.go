package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// Projects lists the projects that the caller may know of, with the
// environments that they may know of, after a name and up to a number (0: all).
func (s *Service) Projects(ctx context.Context, caller Caller, search, after string, limit int) (out []wire.Project, err error) {
	op := s.begin(ctx, caller, "project.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Project{}
	for _, p := range op.dir.projects {
		if limit > 0 && len(out) == limit {
			break
		}
		if p.RemovedAt == nil && p.Name > after && holds(p.Name, search) && op.dir.grants.KnowsProject(caller.Subject, p.ID) {
			out = append(out, op.wireProject(p))
		}
	}
	return out, nil
}

func (op *operation) wireProject(p storage.Project) wire.Project {
	out := wire.Project{Name: p.Name, Environments: []wire.Environment{}, KeepRemovedDays: p.KeepRemovedDays, MaxAgeDays: p.MaxAgeDays}
	for _, e := range op.dir.ofProject[p.ID] {
		if op.dir.grants.KnowsEnvironment(op.caller.Subject, access.Where{Project: p.ID, Environment: e.ID}) {
			out.Environments = append(out.Environments, op.dir.wireEnvironment(e))
		}
	}
	return out
}

func (d *directory) wireEnvironment(e storage.Environment) wire.Environment {
	out := wire.Environment{Name: e.Name, Protected: e.Protected, MaxAgeDays: e.MaxAgeDays}
	if e.Follows != nil {
		out.Follows = d.placeOf(access.Where{Project: e.ProjectID, Environment: *e.Follows}).Environment
	}
	return out
}

// Project shows one project.
func (s *Service) Project(ctx context.Context, caller Caller, name string) (out wire.Project, err error) {
	op := s.begin(ctx, caller, "project.show", layers.Place{Project: name})
	defer op.end(&err)
	if _, err := op.find(layers.Place{Project: name}); err != nil {
		return out, err
	}
	return op.wireProject(*op.dir.projectByName[name]), nil
}

// AddProject makes a project with keys and a common layer of its own. It needs
// manage in the organization.
func (s *Service) AddProject(ctx context.Context, caller Caller, name string) (out wire.Project, err error) {
	op := s.begin(ctx, caller, "project.add", layers.Place{Project: name})
	defer op.end(&err)
	if err := checkPlace("a project", name, reference.ValidPlace(name)); err != nil {
		return out, err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.Manage, located{place: organizationPlace}); err != nil {
			return err
		}
		p, err := tx.CreateProject(storage.Project{Name: name, KeepRemovedDays: defaultKeepDays, CreatedAt: s.now()})
		if err != nil {
			return taken(err, "a project", name)
		}
		if err := tx.Widen(storage.Scope{0, p.ID}); err != nil {
			return err
		}
		out = wire.Project{Name: name, Environments: []wire.Environment{}, KeepRemovedDays: p.KeepRemovedDays}
		if err := s.keys.createProject(tx, p.ID, s.now()); err != nil {
			return err
		}
		return s.keys.createLayer(tx, storage.Layer{ProjectID: p.ID})
	})
	return out, err
}

// EditProject gives a project another name or other policies. It needs manage there.
func (s *Service) EditProject(ctx context.Context, caller Caller, name string, request wire.ProjectEdit) (out wire.Project, err error) {
	op := s.begin(ctx, caller, "project.edit", layers.Place{Project: name})
	defer op.end(&err)
	if request.Name != nil {
		if err := checkPlace("a project", *request.Name, reference.ValidPlace(*request.Name)); err != nil {
			return out, err
		}
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locate(layers.Place{Project: name}, access.Manage)
		if err != nil {
			return err
		}
		p := *d.projectByID[l.where.Project]
		set(&p.Name, request.Name)
		set(&p.KeepRemovedDays, request.KeepRemovedDays)
		set(&p.MaxAgeDays, request.MaxAgeDays)
		if err := tx.SaveProject(p); err != nil {
			return taken(err, "a project", p.Name)
		}
		out = op.wireProject(p)
		if p.Name != name {
			out.Refers, err = op.refersTo(tx, func(r reference.Reference, _ layers.Place) bool { return r.Project == name })
		}
		return err
	})
	return out, err
}

func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// RemoveProject takes a project away, recoverably. It needs manage in the
// organization.
func (s *Service) RemoveProject(ctx context.Context, caller Caller, name string) (until time.Time, err error) {
	err = s.removal(ctx, caller, "project.remove", layers.Place{Project: name}, access.Manage, func(op *operation, tx *storage.Tx, l located) error {
		if err := op.allow(access.Manage, located{place: organizationPlace}); err != nil {
			return err
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
		e.Removal = s.removed(op.dir.keepRemoved(l.where.Project))
		until = *e.PurgeAt
		return tx.SaveEnvironment(e)
	})
	return until, err
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

// AddEnvironment makes an environment with a layer of its own. It needs manage
// in the project, and, where it follows another, read and manage there.
func (s *Service) AddEnvironment(ctx context.Context, caller Caller, project string, request wire.NewEnvironment) (out wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.add", layers.Place{Project: project, Environment: request.Name})
	defer op.end(&err)
	if err := checkPlace("an environment", request.Name, reference.ValidPlace(request.Name)); err != nil {
		return out, err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locate(layers.Place{Project: project}, access.Manage)
		if err != nil {
			return err
		}
		row := storage.Environment{ProjectID: l.where.Project, Name: request.Name, Position: len(d.ofProject[l.where.Project]) + 1,
			Protected: request.Protected, MaxAgeDays: request.MaxAgeDays, CreatedAt: s.now()}
		if row.Follows, err = op.follow(layers.Place{Project: project, Environment: request.Follows}, 0); err != nil {
			return err
		}
		if err := tx.Widen(storage.Scope{0, l.where.Project}); err != nil {
			return err
		}
		if row, err = tx.CreateEnvironment(row); err != nil {
			return taken(err, "an environment", request.Name)
		}
		out = d.wireEnvironment(row)
		return s.keys.createLayer(tx, storage.Layer{ProjectID: l.where.Project, EnvironmentID: &row.ID})
	})
	return out, err
}

// follow finds the environment that one is to follow (the one with the given id,
// 0 for a new one), and refuses circles, long rows, and one that the caller may
// not read and manage.
func (op *operation) follow(there layers.Place, follower int64) (*int64, error) {
	if there.Environment == "" {
		return nil, nil
	}
	followed, err := op.locate(there, access.Manage)
	if err != nil {
		return nil, err
	}
	if err := op.allow(access.Read, followed); err != nil {
		return nil, err
	}
	length := op.dir.followers(followed.where.Project, follower, 0)
	for e := op.dir.environmentByID[followed.where.Environment]; e != nil; e = op.dir.environmentByID[orZero(e.Follows)] {
		if e.ID == follower {
			return nil, problem(Invalid, "%s follows %s already, so they would follow each other in a circle", there.Environment, e.Name)
		}
		if length++; length > layers.MaxFollow {
			return nil, problem(Invalid, "%s follows too many others: at most %d environments may follow one another", there.Environment, layers.MaxFollow)
		}
	}
	return &followed.where.Environment, nil
}

// followers is how many environments follow one, in the longest row.
func (d *directory) followers(project, environment int64, depth int) int {
	longest := 0
	for _, e := range d.ofProject[project] {
		if environment != 0 && orZero(e.Follows) == environment && depth <= layers.MaxFollow {
			longest = max(longest, 1+d.followers(project, e.ID, depth+1))
		}
	}
	return longest
}

// EditEnvironment gives an environment another name, lets it follow another, or
// gives it other policies. It needs manage there, and, to follow another, read
// and manage there too.
func (s *Service) EditEnvironment(ctx context.Context, caller Caller, place layers.Place, request wire.EnvironmentEdit) (out wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.edit", place)
	defer op.end(&err)
	if request.Name != nil {
		if err := checkPlace("an environment", *request.Name, reference.ValidPlace(*request.Name)); err != nil {
			return out, err
		}
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locate(place, access.Manage)
		if err != nil {
			return err
		}
		e := *d.environmentByID[l.where.Environment]
		if request.Follows != nil {
			if e.Follows, err = op.follow(layers.Place{Project: place.Project, Environment: *request.Follows}, e.ID); err != nil {
				return err
			}
		}
		set(&e.Name, request.Name)
		set(&e.Protected, request.Protected)
		set(&e.MaxAgeDays, request.MaxAgeDays)
		if err := tx.SaveEnvironment(e); err != nil {
			return taken(err, "an environment", e.Name)
		}
		out = d.wireEnvironment(e)
		if e.Name != place.Environment {
			out.Refers, err = op.refersTo(tx, func(r reference.Reference, _ layers.Place) bool {
				return r.Project == place.Project && r.Environment == place.Environment
			})
		}
		return err
	})
	return out, err
}

// Environments lists the environments of a project that the caller may know of.
func (s *Service) Environments(ctx context.Context, caller Caller, project string) (out []wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.list", layers.Place{Project: project})
	defer op.end(&err)
	if _, err := op.find(layers.Place{Project: project}); err != nil {
		return nil, err
	}
	return op.wireProject(*op.dir.projectByName[project]).Environments, nil
}

// maxScanned is how many layers are looked through for settings that refer to
// something, and how many of these are named.
const (
	maxScanned = 5000
	maxRefers  = 100
)

// refersTo finds settings with a reference that matches, in all layers that the
// caller may list.
func (op *operation) refersTo(tx *storage.Tx, matches func(r reference.Reference, at layers.Place) bool) ([]string, error) {
	var ids []int64
	scope := storage.Scope{0}
	for where, id := range op.dir.layerIDs {
		_, may := op.dir.grants.Decide(op.caller.Subject, access.List, where)
		p, e := op.dir.projectByID[where.Project], op.dir.environmentByID[where.Environment]
		if gone := p != nil && p.RemovedAt != nil || e != nil && e.RemovedAt != nil; may && !gone && len(ids) < maxScanned {
			ids, scope = append(ids, id), append(scope, where.Project)
		}
	}
	slices.Sort(scope)
	if err := tx.Widen(slices.Compact(scope)); err != nil {
		return nil, err
	}
	ids, err := tx.ReferringLayers(ids)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	heads, err := tx.Layers(ids)
	if err != nil {
		return nil, err
	}
	loaded, err := op.service.loadLayers(tx, op.dir, heads)
	if err != nil {
		return nil, err
	}
	var all []string
	for _, l := range loaded {
		for name, e := range l.Entries {
			setting := e.Newest().Setting
			if !strings.Contains(setting, reference.Scheme) {
				continue
			}
			text, err := reference.ParseText(setting)
			if err == nil && slices.ContainsFunc(text.References(), func(r reference.Reference) bool { return matches(r, l.Place) }) {
				all = append(all, fmt.Sprintf("%s in %s", name, l.Place))
			}
		}
	}
	slices.Sort(all)
	return all[:min(len(all), maxRefers)], nil
}
