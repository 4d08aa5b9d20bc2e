package service

import (
	"context"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// Projects lists the projects that the caller may know of, with the
// environments that they may know of.
func (s *Service) Projects(ctx context.Context, caller Caller) (out []wire.Project, err error) {
	op := s.begin(ctx, caller, "project.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Project{}
	for _, p := range op.dir.projects {
		if op.dir.grants.KnowsProject(caller.Subject, p.ID) {
			out = append(out, op.wireProject(p))
		}
	}
	return out, nil
}

func (op *operation) wireProject(p storage.Project) wire.Project {
	out := wire.Project{Name: p.Name, Environments: []wire.Environment{}}
	for _, e := range op.dir.environmentsOf(p.Name) {
		if op.dir.grants.KnowsEnvironment(op.caller.Subject, access.Where{Project: p.ID, Environment: e.ID}) {
			out.Environments = append(out.Environments, op.dir.wireEnvironment(e))
		}
	}
	return out
}

func (d *directory) wireEnvironment(e storage.Environment) wire.Environment {
	out := wire.Environment{Name: e.Name}
	if e.Follows != nil {
		out.Follows = d.placeOf(access.Where{Project: e.ProjectID, Environment: *e.Follows}).Environment
	}
	return out
}

// Project shows one project.
func (s *Service) Project(ctx context.Context, caller Caller, name string) (out wire.Project, err error) {
	op := s.begin(ctx, caller, "project.show", layers.Place{Project: name})
	defer op.end(&err)
	l, err := op.find(layers.Place{Project: name})
	if err != nil {
		return out, err
	}
	return op.wireProject(storage.Project{ID: l.where.Project, Name: name}), nil
}

// AddProject makes a project with a key and a common layer of its own. It needs
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
		p, err := tx.CreateProject(storage.Project{Name: name, CreatedAt: s.now()})
		if err != nil {
			return taken(err, "a project", name)
		}
		if err := tx.Widen(storage.Scope{0, p.ID}); err != nil {
			return err
		}
		out = wire.Project{Name: name, Environments: []wire.Environment{}}
		return s.keys.createLayer(tx, access.Where{Project: p.ID}, s.now())
	})
	return out, err
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
		row := storage.Environment{ProjectID: l.where.Project, Name: request.Name, Position: len(d.environmentsOf(project)) + 1, CreatedAt: s.now()}
		if request.Follows != "" {
			followed, err := op.locate(layers.Place{Project: project, Environment: request.Follows}, access.Manage)
			if err != nil {
				return err
			}
			if err := op.allow(access.Read, followed); err != nil {
				return err
			}
			if len(followed.chain)-1 > layers.MaxFollow {
				return problem(Invalid, "%s follows too many others: at most %d environments may follow one another", request.Follows, layers.MaxFollow)
			}
			row.Follows = &followed.where.Environment
		}
		if err := tx.Widen(storage.Scope{0, l.where.Project}); err != nil {
			return err
		}
		if row, err = tx.CreateEnvironment(row); err != nil {
			return taken(err, "an environment", request.Name)
		}
		out = wire.Environment{Name: row.Name, Follows: request.Follows}
		return s.keys.createLayer(tx, access.Where{Project: l.where.Project, Environment: row.ID}, s.now())
	})
	return out, err
}

// Environments lists the environments of a project that the caller may know of.
func (s *Service) Environments(ctx context.Context, caller Caller, project string) (out []wire.Environment, err error) {
	op := s.begin(ctx, caller, "environment.list", layers.Place{Project: project})
	defer op.end(&err)
	l, err := op.find(layers.Place{Project: project})
	if err != nil {
		return nil, err
	}
	return op.wireProject(storage.Project{ID: l.where.Project, Name: project}).Environments, nil
}
