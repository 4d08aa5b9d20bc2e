package service

import (
	"context"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/password"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// InvitationLife is how long an invitation can be accepted.
const InvitationLife = 72 * time.Hour

// invite makes an invitation for a person, in place of another that they have.
func (s *Service) invite(tx *storage.Tx, person int64) (token string, until time.Time, err error) {
	invitation := access.NewToken(access.InvitedToken)
	until = s.now().UTC().Truncate(time.Microsecond).Add(InvitationLife)
	return string(invitation.Expose()), until, tx.SaveInvitation(storage.Invitation{PersonID: person, Hash: access.HashToken(invitation), ExpiresAt: until})
}

// errInvitation is the one answer to an invitation that is unknown, was used, or
// has ended.
var errInvitation = problem(Unauthenticated, "the invitation is not valid, or not any more; ask for a new one")

// Accept lets a person choose a password with their invitation, which is used up.
func (s *Service) Accept(ctx context.Context, request wire.Acceptance, caller Caller) (out wire.Person, err error) {
	defer func() { err = asProblem(err) }()
	chosen := secret.FromString(request.Password)
	defer chosen.Wipe()
	if err := s.holdBack(ctx, "an invitation", caller.From); err != nil {
		return out, err
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, err
	}
	hash := access.HashToken(secret.FromString(request.Invitation))
	person := d.invited(hash, s.now())
	if !access.ValidToken(request.Invitation) || person == nil {
		s.sluice.failed(s.now(), "from "+caller.From.String())
		return out, s.stranger(ctx, "invitation.accept", caller.From, errInvitation)
	}
	if wrong := password.Check(chosen, person.Login, person.Name, d.organization.Name); len(wrong) > 0 {
		return out, problems(Invalid, "things are wrong with the password", wrong)
	}
	hashed, err := s.hash(ctx, chosen)
	if err != nil {
		return out, err
	}
	caller.Subject, caller.directory = access.Subject{Kind: access.Person, ID: person.ID}, d
	op := s.begin(ctx, caller, "invitation.accept", organizationPlace)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		person := d.invited(hash, s.now())
		if person == nil {
			return errInvitation
		}
		out = wire.Person{Login: person.Login, Name: person.Name}
		person.Password = hashed
		if err := tx.SavePerson(*person); err != nil {
			return err
		}
		return tx.DeleteInvitation(person.ID)
	})
	return out, err
}

// invited is the person whose invitation it is.
func (d *directory) invited(hash []byte, now time.Time) *storage.Person {
	for _, i := range d.invitations {
		if envelope.Same(i.Hash, hash) && now.Before(i.ExpiresAt) {
			return d.person(i.PersonID)
		}
	}
	return nil
}

// person is a copy of a person's row, nil where there is none or they were removed.
func (d *directory) person(id int64) *storage.Person {
	for _, p := range d.people {
		if p.ID == id && p.RemovedAt == nil {
			return &p
		}
	}
	return nil
}

// ResetPerson ends a person's sessions, their password and their codes, and
// returns an invitation to choose a new one. It needs people, and the right to
// give everything that the person was granted: whoever has the invitation is them.
func (s *Service) ResetPerson(ctx context.Context, caller Caller, login string) (out wire.Person, err error) {
	err = s.changePerson(ctx, caller, "person.reset", login, func(op *operation, tx *storage.Tx, p storage.Person) error {
		p.Password = ""
		if err := tx.SavePerson(p); err != nil {
			return err
		}
		if err := tx.DeleteFactor(p.ID); err != nil {
			return err
		}
		if err := tx.DeleteAccount(p.ID); err != nil {
			return err
		}
		out = wire.Person{Login: p.Login, Name: p.Name}
		out.Invitation, out.InvitationEnds, err = s.invite(tx, p.ID)
		return err
	})
	if err != nil {
		out = wire.Person{}
	}
	return out, err
}

// RemovePerson ends a person's sessions, takes away what they were granted, and
// erases their login and name; the trail keeps their number. It needs the same.
func (s *Service) RemovePerson(ctx context.Context, caller Caller, login string) error {
	return s.changePerson(ctx, caller, "person.remove", login, func(op *operation, tx *storage.Tx, p storage.Person) error {
		if op.dir.lastOwner(func(g storage.Grant) bool { return g.SubjectID != p.ID }) {
			return problem(Conflict, "%s is the last owner; make someone else an owner first", login)
		}
		now := s.now().UTC().Truncate(time.Microsecond)
		p.RemovedAt, p.Login, p.Name, p.Password = &now, "removed:"+access.Subject{Kind: access.Person, ID: p.ID}.String(), "", ""
		if err := tx.SavePerson(p); err != nil {
			return err
		}
		if err := tx.DeleteFactor(p.ID); err != nil {
			return err
		}
		if err := tx.DeleteInvitation(p.ID); err != nil {
			return err
		}
		if err := tx.DeleteAccount(p.ID); err != nil {
			return err
		}
		return tx.LeaveEverything(p.ID)
	})
}

// changePerson ends a person's sessions and changes them.
func (s *Service) changePerson(ctx context.Context, caller Caller, action, login string, f func(*operation, *storage.Tx, storage.Person) error) (err error) {
	op := s.begin(ctx, caller, action, organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, organization); err != nil {
			return err
		}
		who, exists := d.subject(string(access.Person), login)
		if !exists {
			return problem(NotFound, "there is no person %q", s.redact(login))
		}
		op.event.Names = []string{who.String()}
		if err := op.mayGive(who); err != nil {
			return err
		}
		if err := s.endSessions(tx, who, Caller{}); err != nil {
			return err
		}
		return f(op, tx, *d.person(who.ID))
	})
}

// ChangePassword gives the caller another password for the one they have, and
// ends their other sessions.
func (s *Service) ChangePassword(ctx context.Context, caller Caller, request wire.PasswordChange) (err error) {
	op := s.begin(ctx, caller, "person.password", organizationPlace)
	defer op.end(&err)
	id, err := op.self()
	if err != nil {
		return err
	}
	old, chosen := secret.FromString(request.Old), secret.FromString(request.New)
	defer old.Wipe()
	defer chosen.Wipe()
	person := op.dir.person(id)
	if person == nil {
		return errSignIn
	}
	if err := s.holdBack(ctx, person.Login, caller.From); err != nil {
		return err
	}
	done, err := s.turn(ctx)
	if err != nil {
		return err
	}
	right := checkPassword(person.Password, old)
	done()
	if !right {
		s.sluice.failed(s.now(), "name "+person.Login, "from "+caller.From.String())
		return op.refuse("the present password is wrong")
	}
	if wrong := password.Check(chosen, person.Login, person.Name, op.dir.organization.Name); len(wrong) > 0 {
		return problems(Invalid, "things are wrong with the password", wrong)
	}
	hashed, err := s.hash(ctx, chosen)
	if err != nil {
		return err
	}
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		now := d.person(id)
		if now == nil || now.Password != person.Password {
			return problem(Conflict, "the password was changed meanwhile")
		}
		now.Password = hashed
		if err := tx.SavePerson(*now); err != nil {
			return err
		}
		return s.endSessions(tx, caller.Subject, caller)
	})
}

// endSessions revokes every token and every sign-in of a subject but one, by the
// number of a token or of a sign-in.
func (s *Service) endSessions(tx *storage.Tx, who access.Subject, but Caller) error {
	now := s.now()
	all, err := tx.TokensOf(string(who.Kind), who.ID, now)
	if err != nil {
		return err
	}
	for _, t := range all {
		if t.ID == but.Token || t.Family != 0 && t.Family == but.Family {
			continue
		}
		if err := tx.RevokeToken(storage.RevokedToken{TokenID: t.ID, Until: t.ExpiresAt}, now); err != nil {
			return err
		}
	}
	if who.Kind != access.Person {
		return nil
	}
	families, err := tx.Families(who.ID, now)
	for _, f := range families {
		if err == nil && f.Family != but.Family {
			err = s.revokeFamily(tx, who, f.Family, f.ExpiresAt)
		}
	}
	return err
}

// Sessions lists where somebody is signed in. It is for oneself, and for others
// with people.
func (s *Service) Sessions(ctx context.Context, caller Caller, kind, handle string) (out []wire.OpenSession, err error) {
	op := s.begin(ctx, caller, "session.list", organizationPlace)
	defer op.end(&err)
	who := caller.Subject
	if handle != "" {
		if who, err = op.subjectOf(kind, handle, access.People); err != nil {
			return nil, err
		}
	}
	out = []wire.OpenSession{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		families, err := tx.Families(who.ID, s.now())
		if err != nil {
			return err
		}
		for _, f := range families {
			if who.Kind == access.Person && !op.dir.revoked[f.Family] {
				out = append(out, wire.OpenSession{ID: f.Family, Since: f.OpenedAt, Until: f.ExpiresAt, From: f.OpenedFrom, Current: f.Family == caller.Family})
			}
		}
		all, err := tx.TokensOf(string(who.Kind), who.ID, s.now())
		for _, t := range all {
			if !op.dir.revoked[t.ID] && t.Family == 0 {
				out = append(out, wire.OpenSession{ID: t.ID, Since: t.CreatedAt, Until: t.ExpiresAt, From: t.OpenedFrom, Current: t.ID == caller.Token})
			}
		}
		return err
	})
	return out, err
}

// EndSessions revokes one session, or all but the caller's own (0). It needs what
// [Service.Sessions] needs.
func (s *Service) EndSessions(ctx context.Context, caller Caller, kind, handle string, id int64) (err error) {
	op := s.begin(ctx, caller, "session.revoke", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, _ *directory) error {
		who := caller.Subject
		if handle != "" {
			if who, err = op.subjectOf(kind, handle, access.People); err != nil {
				return err
			}
		}
		if id == 0 {
			return s.endSessions(tx, who, caller)
		}
		families, err := tx.Families(who.ID, s.now())
		if err != nil {
			return err
		}
		for _, f := range families {
			if who.Kind == access.Person && f.Family == id {
				return s.revokeFamily(tx, who, id, f.ExpiresAt)
			}
		}
		all, err := tx.TokensOf(string(who.Kind), who.ID, s.now())
		if err != nil {
			return err
		}
		for _, t := range all {
			if t.ID == id && t.Family == 0 {
				return tx.RevokeToken(storage.RevokedToken{TokenID: t.ID, Until: t.ExpiresAt}, s.now())
			}
		}
		return problem(NotFound, "there is no session %d", id)
	})
}
