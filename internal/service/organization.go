package service

import (
	"context"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/storage"
)

// Organization shows the organization and what it asks of everybody. It needs a
// sign-in.
func (s *Service) Organization(ctx context.Context, caller Caller) (out wire.Organization, err error) {
	op := s.begin(ctx, caller, "organization.show", organizationPlace)
	defer op.end(&err)
	return wire.Organization{Name: op.dir.organization.Name, Codes: op.dir.organization.Codes}, nil
}

// EditOrganization changes what the organization asks of everybody. It needs people
// and manage there.
//
// Whoever asks for codes has them already: otherwise the next thing they could do
// would be to set theirs up.
func (s *Service) EditOrganization(ctx context.Context, caller Caller, request wire.OrganizationEdit) (out wire.Organization, err error) {
	op := s.begin(ctx, caller, "organization.edit", organizationPlace)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayTrust(); err != nil {
			return err
		}
		if request.Codes != nil && *request.Codes && caller.Subject.Kind == access.Person && d.lacksCodes(caller.Subject) {
			return problem(Conflict, "set your own codes up first: \"adytum code add\"")
		}
		o := d.organization
		set(&o.Codes, request.Codes)
		out = wire.Organization{Name: o.Name, Codes: o.Codes}
		return tx.SaveOrganizationPolicy(o)
	})
	return out, err
}

// lacksCodes tells whether a person signs in with a password alone.
func (d *directory) lacksCodes(who access.Subject) bool {
	return who.Kind == access.Person && d.factors[who.ID].ConfirmedAt == nil && d.account(who.ID) == nil
}

// MayAct refuses one who has yet to set up the codes that the organization asks
// everybody for.
func (s *Service) MayAct(ctx context.Context, caller Caller) error {
	if caller.directory == nil || !caller.directory.organization.Codes || !caller.directory.lacksCodes(caller.Subject) {
		return nil
	}
	op := s.begin(ctx, caller, "session.use", organizationPlace)
	err := op.refuse("the organization asks everybody for codes, and %s has none yet; set them up with \"adytum code add\"", caller.Name())
	op.end(&err)
	return err
}
