package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

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
		if p.RemovedAt == nil && p.Name > after && holds(p.Name, search) && op.dir.grants.KnowsProject(op.asker(), p.ID) {
			out = append(out, op.wireProject(p))
		}
	}
	return out, nil
}

func (op *operation) wireProject(p storage.Project) wire.Project {
	out := wire.Project{Name: p.Name, Environments: []wire.Environment{}, KeepRemovedDays: p.KeepRemovedDays, MaxAgeDays: p.MaxAgeDays}
	for _, e := range op.dir.ofProject[p.ID] {
		if op.dir.grants.KnowsEnvironment(op.asker(), access.Where{Project: p.ID, Environment: e.ID}) {
			out.Environments = append(out.Environments, op.dir.wireEnvironment(e))
		}
	}
	return out
}

func (d *directory) wireEnvironment(e storage.Environment) wire.Environment {
	out := wire.Environment{Name: e.Name, Protected: e.Protected, Approval: e.Approval, MaxAgeDays: e.MaxAgeDays}
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
			Protected: request.Protected, Approval: request.Approval, MaxAgeDays: request.MaxAgeDays, CreatedAt: s.now()}
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
//
// Where its changes need a second person's approval, the edit is proposed, and
// the number of the proposal returned.
func (s *Service) EditEnvironment(ctx context.Context, caller Caller, place layers.Place, request wire.EnvironmentEdit) (out wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.edit", place)
	defer op.end(&err)
	if request.Name != nil {
		if err := checkPlace("an environment", *request.Name, reference.ValidPlace(*request.Name)); err != nil {
			return out, err
		}
	}
	out, err = s.editEnvironment(op, place, request, nil, nil)
	if errors.Is(err, errNeedsApproval) {
		return s.proposeEdit(op, place, request)
	}
	return out, err
}

var errNeedsApproval = errors.New("a second person's approval is needed")

// editEnvironment edits an environment; with was, if it still is what it was.
func (s *Service) editEnvironment(op *operation, place layers.Place, request wire.EnvironmentEdit, was *wire.Environment, first func(*storage.Tx) error) (out wire.Environment, err error) {
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		e, err := op.edited(place, request)
		if err != nil {
			return err
		}
		if op.approved == nil && d.needsApproval(access.Where{Project: e.ProjectID, Environment: e.ID}) {
			return errNeedsApproval
		}
		if was != nil && !d.wireEnvironment(*d.environmentByID[e.ID]).Same(*was) {
			return problem(Conflict, "the environment %s is not what it was when this was proposed; propose it anew", place)
		}
		if err := tx.Widen(storage.Scope{0, e.ProjectID}); err != nil {
			return err
		}
		if first != nil {
			if err := first(tx); err != nil {
				return err
			}
		}
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

// edited is what an environment would be after an edit that the caller may make.
func (op *operation) edited(place layers.Place, request wire.EnvironmentEdit) (storage.Environment, error) {
	l, err := op.locate(place, access.Manage)
	if err != nil {
		return storage.Environment{}, err
	}
	e := *op.dir.environmentByID[l.where.Environment]
	if request.Follows != nil {
		if e.Follows, err = op.follow(layers.Place{Project: place.Project, Environment: *request.Follows}, e.ID); err != nil {
			return e, err
		}
	}
	set(&e.Name, request.Name)
	set(&e.Protected, request.Protected)
	set(&e.MaxAgeDays, request.MaxAgeDays)
	set(&e.Approval, request.Approval)
	return e, nil
}

// proposeEdit keeps an edit of an environment as a proposal.
func (s *Service) proposeEdit(op *operation, place layers.Place, request wire.EnvironmentEdit) (out wire.Environment, err error) {
	err = s.store.In(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		e, err := op.edited(place, request)
		if err != nil {
			return err
		}
		if err := tx.Widen(storage.Scope{e.ProjectID}); err != nil {
			return err
		}
		was := d.wireEnvironment(*d.environmentByID[e.ID])
		out = was
		out.Proposal, err = op.proposal(tx, storage.Proposal{ProjectID: e.ProjectID, EnvironmentID: e.ID}, proposed{Action: "environment.edit", Edit: &request, Was: &was})
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
		_, may := op.may(access.List, where)
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
