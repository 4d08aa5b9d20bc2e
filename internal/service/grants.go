package service

import (
	"context"
	"errors"
	"strings"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// Grants lists the grants at places that the caller may manage.
func (s *Service) Grants(ctx context.Context, caller Caller) (out []wire.Grant, err error) {
	op := s.begin(ctx, caller, "grant.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Grant{}
	for _, g := range op.dir.grantRows {
		if grant, may := op.dir.grants.Decide(caller.Subject, access.Manage, access.Where{Project: g.OnProject, Environment: g.OnEnvironment}); may {
			op.event.Grant = grant.ID
			out = append(out, op.dir.wireGrant(g))
		}
	}
	return out, nil
}

func (d *directory) wireGrant(g storage.Grant) wire.Grant {
	place := d.placeOf(access.Where{Project: g.OnProject, Environment: g.OnEnvironment})
	out := wire.Grant{ID: g.ID, Kind: g.SubjectKind, Role: g.Role, Project: place.Project, Environment: place.Environment}
	for _, p := range d.people {
		if g.SubjectKind == string(access.Person) && p.ID == g.SubjectID {
			out.Who = p.Login
		}
	}
	for _, w := range d.workloads {
		if g.SubjectKind == string(access.Workload) && w.ID == g.SubjectID {
			out.Who = w.Name
		}
	}
	return out
}

// AddGrant gives someone a role. It needs manage at the place, and every verb of
// the role there.
func (s *Service) AddGrant(ctx context.Context, caller Caller, request wire.NewGrant) (out wire.Grant, err error) {
	place := layers.Place{Project: request.Project, Environment: request.Environment}
	op := s.begin(ctx, caller, "grant.add", place)
	op.event.Names = []string{s.redactName(request.Role)}
	defer op.end(&err)
	if request.Project == "" && request.Environment != "" {
		return out, problem(Invalid, "a grant on the environment %q must name its project as well", s.redact(request.Environment))
	}
	if access.Verbs(request.Role) == nil {
		return out, problem(Invalid, "there is no role %q%s; there are %s", s.redact(request.Role), didYouMean(request.Role, access.Roles()), strings.Join(access.Roles(), ", "))
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locate(place, access.Manage)
		if err != nil {
			return err
		}
		if !d.grants.MayGrant(caller.Subject, request.Role, l.where) {
			return op.refuse("%s does not hold every right of the role %s in %s and cannot grant it; an owner can", caller.Name(), request.Role, place)
		}
		who, exists := d.subject(request.Kind, request.Who)
		if !exists {
			return problem(NotFound, "there is no %s %q", request.Kind, s.redact(request.Who))
		}
		// The trail knows people by their ids; a login can be erased elsewhere.
		op.event.Names = []string{who.String(), request.Role}
		g, err := tx.CreateGrant(storage.Grant{SubjectKind: string(who.Kind), SubjectID: who.ID, Role: request.Role,
			OnProject: l.where.Project, OnEnvironment: l.where.Environment, CreatedAt: s.now()})
		if errors.Is(err, storage.ErrTaken) {
			return problem(Conflict, "%s is already %s in %s", request.Who, request.Role, place)
		}
		out = d.wireGrant(g)
		return err
	})
	return out, err
}

// RemoveGrant takes a grant back. It needs manage at its place; the last owner's
// stays.
func (s *Service) RemoveGrant(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "grant.remove", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		owners, found := 0, storage.Grant{}
		for _, g := range d.grantRows {
			if g.Role == "owner" && g.OnProject == 0 && g.SubjectKind == string(access.Person) {
				owners++
			}
			if g.ID == id {
				found = g
			}
		}
		where := access.Where{Project: found.OnProject, Environment: found.OnEnvironment}
		place := d.placeOf(where)
		op.event.Project, op.event.Environment = place.Project, place.Environment
		if _, may := d.grants.Decide(caller.Subject, access.Manage, where); found.ID == 0 || !may {
			op.event.Outcome = "refused"
			return problem(NotFound, "there is no grant %d", id)
		}
		if found.Role == "owner" && found.OnProject == 0 && owners == 1 {
			return problem(Conflict, "this is the last owner's grant; make someone else an owner first")
		}
		op.event.Names = []string{access.Subject{Kind: access.SubjectKind(found.SubjectKind), ID: found.SubjectID}.String(), found.Role}
		return tx.DeleteGrant(id)
	})
}

// refuse answers that something is not allowed to one who may know of it.
func (op *operation) refuse(format string, args ...any) error {
	op.event.Outcome = "refused"
	return problem(Forbidden, format, args...)
}
