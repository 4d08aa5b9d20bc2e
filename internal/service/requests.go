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
	"adytum.example/internal/storage"
)

// Bounds of requests for roles.
const (
	maxRequestHours = 72
	maxRequests     = 10                 // of one person at once
	requestLife     = 7 * 24 * time.Hour // after which nobody answers it any more
)

// RoleRequests lists the roles that are asked for: one's own requests, and those
// that the caller could grant.
func (s *Service) RoleRequests(ctx context.Context, caller Caller) (out []wire.RoleRequest, err error) {
	op := s.begin(ctx, caller, "request.list", organizationPlace)
	defer op.end(&err)
	out = []wire.RoleRequest{}
	for _, r := range op.dir.requests {
		if mine := op.asked(r); (mine || op.mayAnswer(r)) && op.open(r) {
			out = append(out, op.dir.wireRequest(r, mine))
		}
	}
	return out, nil
}

func (op *operation) asked(r storage.RoleRequest) bool {
	return op.caller.Subject == access.Subject{Kind: access.Person, ID: r.PersonID}
}

func (op *operation) open(r storage.RoleRequest) bool {
	return op.at.Before(r.CreatedAt.Add(requestLife))
}

// mayAnswer tells whether the caller could give the role for as long as it is
// asked for.
func (op *operation) mayAnswer(r storage.RoleRequest) bool {
	return op.dir.grants.MayGrant(op.asker(), r.Role, access.Where{Project: r.OnProject, Environment: r.OnEnvironment}, access.Limits{Until: op.until(r)})
}

func (op *operation) until(r storage.RoleRequest) time.Time {
	return op.at.UTC().Truncate(time.Microsecond).Add(time.Duration(r.Hours) * time.Hour)
}

func (d *directory) wireRequest(r storage.RoleRequest, mine bool) wire.RoleRequest {
	place := d.placeOf(access.Where{Project: r.OnProject, Environment: r.OnEnvironment})
	who := access.Subject{Kind: access.Person, ID: r.PersonID}
	return wire.RoleRequest{ID: r.ID, Who: d.subjectName(who), Login: d.handle(who), Role: r.Role, Project: place.Project, Environment: place.Environment,
		Hours: r.Hours, Reason: r.Reason, At: r.CreatedAt, Mine: mine}
}

// AskForRole asks for a role for some hours, of those who can grant it. It is for
// people, in a project that they may know of.
func (s *Service) AskForRole(ctx context.Context, caller Caller, request wire.NewRoleRequest) (out wire.RoleRequest, err error) {
	place := layers.Place{Project: request.Project, Environment: request.Environment}
	op := s.begin(ctx, caller, "request.add", place)
	op.event.Reason, op.event.Names = s.redact(request.Reason), []string{s.redactName(request.Role)}
	defer op.end(&err)
	var wrong []string
	if op.dir.roles[request.Role] == nil {
		wrong = append(wrong, fmt.Sprintf("there is no role %q%s; there are %s", s.redact(request.Role), didYouMean(request.Role, op.dir.roles.Names()), strings.Join(op.dir.roles.Names(), ", ")))
	}
	if request.Hours < 1 || request.Hours > maxRequestHours {
		wrong = append(wrong, fmt.Sprintf("a role can be asked for from 1 to %d hours", maxRequestHours))
	}
	if request.Project == "" {
		wrong = append(wrong, "a role is asked for in a project, or in an environment of one")
	}
	if len(wrong) > 0 {
		return out, problems(Invalid, "things are wrong with the request", wrong)
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		id, err := op.self()
		if err != nil {
			return err
		}
		l, err := op.findProject(place)
		if err != nil {
			return err
		}
		n := 0
		for _, r := range d.requests {
			if r.PersonID == id && op.open(r) {
				n++
			}
		}
		if n >= maxRequests {
			return problem(Conflict, "%d of your requests wait already; take one back first", n)
		}
		r, err := tx.CreateRoleRequest(storage.RoleRequest{PersonID: id, Role: request.Role, OnProject: l.where.Project, OnEnvironment: l.where.Environment,
			Hours: request.Hours, Reason: op.event.Reason, CreatedAt: s.now().UTC().Truncate(time.Microsecond)})
		out = d.wireRequest(r, true)
		return err
	})
	return out, err
}

// findProject finds a place in a project that the caller may know of. Whether an
// environment is there is told to those who know of its project: one asks for a
// role where one has none.
func (op *operation) findProject(place layers.Place) (located, error) {
	if l, err := op.find(layers.Place{Project: place.Project}); err != nil {
		return l, err
	}
	l, exists := op.dir.locate(place)
	if !exists {
		return l, problem(NotFound, "the project %s has no environment %q", place.Project, op.service.redact(place.Environment))
	}
	return l, nil
}

// AnswerRequest grants a role that is asked for, or declines. It needs what
// granting it needs; nobody answers their own request. What is granted ends by
// itself.
func (s *Service) AnswerRequest(ctx context.Context, caller Caller, id int64, answer wire.RequestAnswer) (err error) {
	action := "request.decline"
	if answer.Granted {
		action = "request.grant"
	}
	op := s.begin(ctx, caller, action, organizationPlace)
	op.event.Reason = s.redact(answer.Reason)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		r, found := d.request(id)
		if !found || !op.open(r) || !op.mayAnswer(r) && !op.asked(r) {
			op.event.Outcome = "refused"
			return problem(NotFound, "there is no request %d that waits for you", id)
		}
		place := d.placeOf(access.Where{Project: r.OnProject, Environment: r.OnEnvironment})
		op.event.Project, op.event.Environment = place.Project, place.Environment
		op.event.Names = []string{access.Subject{Kind: access.Person, ID: r.PersonID}.String(), r.Role}
		if op.asked(r) {
			return op.refuse("somebody else answers what you have asked for")
		}
		if err := tx.DeleteRoleRequest(id); err != nil || !answer.Granted {
			return err
		}
		until := op.until(r)
		for _, g := range d.grantRows {
			if g.SubjectKind == string(access.Person) && g.SubjectID == r.PersonID && g.Role == r.Role && g.OnProject == r.OnProject && g.OnEnvironment == r.OnEnvironment && g.Names == "" {
				if g.Networks != "" {
					return problem(Conflict, "they have that role there already, from some networks alone (grant %d); change that grant, or decline", g.ID)
				}
				if g.Until == nil || g.Until.After(until) {
					return nil // there is more already
				}
				if err := tx.DeleteGrant(g.ID); err != nil {
					return err
				}
			}
		}
		_, err := tx.CreateGrant(storage.Grant{SubjectKind: string(access.Person), SubjectID: r.PersonID, Role: r.Role, OnProject: r.OnProject, OnEnvironment: r.OnEnvironment,
			Until: &until, CreatedAt: s.now().UTC().Truncate(time.Microsecond)})
		return err
	})
}

func (d *directory) request(id int64) (storage.RoleRequest, bool) {
	i := slices.IndexFunc(d.requests, func(r storage.RoleRequest) bool { return r.ID == id })
	if i < 0 {
		return storage.RoleRequest{}, false
	}
	return d.requests[i], true
}

// TakeBackRequest takes one's own request back.
func (s *Service) TakeBackRequest(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "request.remove", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		r, found := d.request(id)
		if !found || !op.asked(r) {
			op.event.Outcome = "refused"
			return problem(NotFound, "you have no request %d", id)
		}
		return tx.DeleteRoleRequest(id)
	})
}
