package service

import (
	"context"
	"slices"
	"strings"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// Roles lists the roles that can be granted: what they are called and may do is
// no secret to those who sign in.
func (s *Service) Roles(ctx context.Context, caller Caller) (out []wire.Role, err error) {
	op := s.begin(ctx, caller, "role.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Role{}
	for _, name := range op.dir.roles.Names() {
		out = append(out, wireRole(name, op.dir.roles[name]))
	}
	return out, nil
}

func wireRole(name string, verbs []access.Verb) wire.Role {
	out := wire.Role{Name: name, BuiltIn: access.IsBuiltIn(name)}
	for _, v := range verbs {
		out.Verbs = append(out.Verbs, string(v))
	}
	return out
}

// DefineRole makes a role of the organization's own, or gives one other verbs,
// which holds for all grants of it at once. It needs manage on the organization
// and every verb that the role had and will have.
func (s *Service) DefineRole(ctx context.Context, caller Caller, request wire.NewRole) (out wire.Role, err error) {
	op := s.begin(ctx, caller, "role.define", organizationPlace)
	op.event.Names = append([]string{s.redactName(request.Name)}, request.Verbs...)
	for i := range op.event.Names {
		op.event.Names[i] = s.redactName(op.event.Names[i])
	}
	defer op.end(&err)
	if err := checkPlace("a role", request.Name, reference.ValidPlace(request.Name)); err != nil {
		return out, err
	}
	if access.IsBuiltIn(request.Name) {
		return out, problem(Invalid, "%s is a role that every organization has, and stays as it is; choose another name", request.Name)
	}
	verbs, wrong := access.ParseVerbs(request.Verbs)
	if wrong != nil {
		return out, problem(Invalid, "%s", s.redact(wrong.Error()))
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.Manage, organization); err != nil {
			return err
		}
		for _, verb := range slices.Concat(verbs, d.roles[request.Name]) {
			if err := op.allow(verb, organization); err != nil {
				return err
			}
		}
		row := storage.Role{Name: request.Name, Verbs: strings.ReplaceAll(access.Words(verbs), ",", ""), CreatedAt: s.now()}
		if i := d.ownRole(request.Name); i >= 0 {
			row.ID = d.ownRoles[i].ID
			return tx.SaveRole(row)
		}
		return tx.CreateRole(row)
	})
	return wireRole(request.Name, verbs), err
}

func (d *directory) ownRole(name string) int {
	return slices.IndexFunc(d.ownRoles, func(r storage.Role) bool { return r.Name == name })
}

// RemoveRole removes a role of the organization's own that nobody has. It needs
// manage on the organization.
func (s *Service) RemoveRole(ctx context.Context, caller Caller, name string) (err error) {
	op := s.begin(ctx, caller, "role.remove", organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.Manage, organization); err != nil {
			return err
		}
		i := d.ownRole(name)
		if i < 0 {
			return problem(NotFound, "there is no role %q of your own", s.redact(name))
		}
		n := 0
		for _, g := range d.grantRows {
			if g.Role == name {
				n++
			}
		}
		if n > 0 {
			return problem(Conflict, "%d grants give the role %s; remove them first (\"adytum grant list\" shows them)", n, name)
		}
		return tx.DeleteRole(d.ownRoles[i].ID)
	})
}
