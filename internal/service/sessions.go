package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// How long tokens last.
const (
	PersonTokenLife   = 8 * time.Hour
	WorkloadTokenLife = time.Hour
)

// errWrong is the one answer to a wrong password, a wrong or missing code, a wrong
// client secret and an unknown name.
var errWrong = problem(Unauthenticated, "the name, the password or the code is wrong")

// Recognize finds who holds a token from what is in memory, for operations whose
// answer is compared with the true state before it is given ([Service.Resolve],
// [Service.Value]). What it does not find is for [Service.Authenticate].
func (s *Service) Recognize(token secret.Value, from netip.Addr) (Caller, bool) {
	known, found := s.tokens.get(string(access.HashToken(token)))
	d := s.directory.Load()
	if !found || d == nil || s.halted.Load() != nil || d.revoked[known.row.ID] || d.revoked[known.row.Family] || !s.now().Before(known.row.ExpiresAt) {
		return Caller{}, false
	}
	if d.organization.Codes && d.lacksCodes(known.subject) {
		return Caller{}, false // what is in memory may be older than their codes
	}
	return Caller{Subject: known.subject, Token: known.row.ID, Family: known.row.Family, ExpiresAt: known.row.ExpiresAt, From: from, directory: d}, true
}

// Authenticate finds who holds a token. Unknown, expired, revoked and forged
// tokens get the same answer.
func (s *Service) Authenticate(ctx context.Context, token secret.Value, from netip.Addr) (caller Caller, err error) {
	if !access.ValidToken(string(token.Expose())) {
		return caller, s.stranger(ctx, "token.use", from, errSignIn)
	}
	if err := s.errHalted(); err != nil {
		return caller, err
	}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		row, err := tx.TokenByHash(access.HashToken(token))
		if err != nil {
			return err
		}
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		if !envelope.Same(row.MAC, s.keys.tokenMAC(row)) {
			return fmt.Errorf("the token %d was altered in the database", row.ID)
		}
		if d.revoked[row.ID] || d.revoked[row.Family] || !s.now().Before(row.ExpiresAt) {
			return storage.ErrNotFound
		}
		subject := access.Subject{Kind: access.SubjectKind(row.SubjectKind), ID: row.SubjectID}
		if d.isFrozen(subject) {
			return errFrozen(d.subjectName(subject))
		}
		s.tokens.put(string(row.Hash), knownToken{row, subject})
		caller = Caller{Subject: subject,
			Token: row.ID, Family: row.Family, ExpiresAt: row.ExpiresAt, From: from, directory: d}
		return nil
	})
	if errors.Is(err, storage.ErrNotFound) {
		return caller, s.stranger(ctx, "token.use", from, errSignIn)
	}
	return caller, asProblem(err)
}

// errFrozen is the answer to one who has shown who they are.
func errFrozen(name string) *Problem {
	return problem(Unauthenticated, "%s is frozen and can do nothing until an owner thaws it", name)
}

// tokenMAC signs a token's row.
func (k *keyring) tokenMAC(t storage.Token) []byte {
	return envelope.Sign(k.tokens, some([]string{envelope.Number(t.ID), string(t.Hash), t.SubjectKind, envelope.Number(t.SubjectID),
		envelope.Number(t.CreatedAt.UnixMicro()), envelope.Number(t.ExpiresAt.UnixMicro())}, some([]string{t.OpenedFrom}, family(t))...)...)
}

// family is the family of a token for its signature, "" where it has none.
func family(t storage.Token) string {
	if t.Family == 0 {
		return ""
	}
	return envelope.Number(t.Family)
}

// stranger records the refusal of someone who did not sign in, and returns the answer.
func (s *Service) stranger(ctx context.Context, action string, from netip.Addr, answer error) error {
	if err := s.recorder.noteStranger(ctx, trail.Event{Action: action, Outcome: trail.Refused, From: from.String()}); err != nil {
		return err
	}
	return answer
}

// SignIn gives a person a token for their password, and a code where they have
// codes. A sign-in that goes on comes with a refresh token.
func (s *Service) SignIn(ctx context.Context, login string, password secret.Value, code string, goesOn bool, from netip.Addr) (out wire.Session, err error) {
	defer password.Wipe()
	defer func() { err = asProblem(err) }()
	if err := s.holdBack(ctx, login, from); err != nil {
		return out, err
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, err
	}
	stored, subject := nobody, access.Subject{}
	for _, p := range d.people {
		if p.Login == login && p.Password != "" && p.RemovedAt == nil {
			stored, subject = p.Password, access.Subject{Kind: access.Person, ID: p.ID}
		}
	}
	done, err := s.turn(ctx)
	if err != nil {
		return out, err
	}
	right := checkPassword(stored, password)
	done()
	if !right || subject.ID == 0 {
		// As long as a wrong code takes.
		_ = s.store.In(ctx, storage.OrganizationScope, func(*storage.Tx) error { return errWrong })
		return out, s.signInFailed(ctx, login, from)
	}
	right, err = s.secondFactor(ctx, d, subject, code, Caller{Subject: subject, From: from, directory: d})
	if err != nil && !errors.Is(err, errWrong) {
		return out, err
	} else if !right {
		return out, s.signInFailed(ctx, login, from)
	}
	return s.signedIn(ctx, d, opening{who: subject, kind: access.PersonToken, life: PersonTokenLife, name: login, from: from, goesOn: goesOn})
}

// SignInWorkload gives a workload a token for its client secret (RFC 6749,
// section 4.4).
func (s *Service) SignInWorkload(ctx context.Context, clientID string, clientSecret secret.Value, from netip.Addr) (out wire.Session, err error) {
	defer clientSecret.Wipe()
	defer func() { err = asProblem(err) }()
	if err := s.holdBack(ctx, clientID, from); err != nil {
		return out, err
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, err
	}
	hash := access.HashToken(clientSecret)
	for _, w := range d.workloads {
		if w.ClientID != clientID {
			continue
		}
		for _, c := range d.clientSecrets {
			if c.WorkloadID == w.ID && envelope.Same(c.Hash, hash) && (c.ExpiresAt == nil || s.now().Before(*c.ExpiresAt)) {
				s.used(ctx, c.ID)
				return s.signedIn(ctx, d, opening{who: access.Subject{Kind: access.Workload, ID: w.ID}, kind: access.WorkloadToken, life: WorkloadTokenLife, name: clientID, from: from})
			}
		}
	}
	return out, s.signInFailed(ctx, clientID, from)
}

// used notes when a client secret was last used. That it cannot be noted keeps
// nobody out: the trail has it all the same.
func (s *Service) used(ctx context.Context, clientSecret int64) {
	err := s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		return tx.Used(storage.LastUse{Kind: "client secret", Of: clientSecret, At: s.now()})
	})
	if err != nil {
		s.log.Warn("the use of a client secret could not be noted", "error", err)
	}
}

// holdBack makes a try wait after failures of its account or network.
func (s *Service) holdBack(ctx context.Context, name string, from netip.Addr) error {
	delay := s.sluice.delay(s.now(), "name "+name, "from "+from.String())
	if delay == 0 {
		return nil
	}
	select {
	case <-time.After(delay):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s *Service) signInFailed(ctx context.Context, name string, from netip.Addr) error {
	s.sluice.failed(s.now(), "name "+name, "from "+from.String())
	return s.stranger(ctx, "session.begin", from, errWrong)
}

// signedIn makes the token. Its event is durable before the token is answered.
func (s *Service) signedIn(ctx context.Context, d *directory, o opening) (out wire.Session, err error) {
	if d.isFrozen(o.who) {
		return out, errFrozen(d.subjectName(o.who))
	}
	token, refresh := access.NewToken(o.kind), secret.Value{}
	now := s.now().UTC().Truncate(time.Microsecond)
	if o.goesOn {
		o.life = RefreshableLife
	}
	var row storage.Token
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		family := int64(0)
		if o.goesOn {
			family = ownFamily
		}
		if row, err = s.writeToken(tx, token, o, family, now); err != nil || !o.goesOn {
			return err
		}
		refresh, err = s.openFamily(tx, o, row)
		return err
	})
	if err != nil {
		return out, err
	}
	if out, err = s.released(ctx, d, row, token, "session.begin", o.from); err != nil {
		return out, err
	}
	if o.goesOn {
		out.Refresh = string(refresh.Expose())
	}
	s.sluice.succeeded("name "+o.name, "from "+o.from.String())
	return out, nil
}

// ownFamily stands for the family of a token that begins one.
const ownFamily = -1

// writeToken writes a token of a family; 0: of none.
func (s *Service) writeToken(tx *storage.Tx, token secret.Value, o opening, family int64, now time.Time) (row storage.Token, err error) {
	row = storage.Token{Hash: access.HashToken(token), SubjectKind: string(o.who.Kind), SubjectID: o.who.ID, CreatedAt: now, ExpiresAt: now.Add(o.life), OpenedFrom: o.from.String(), Family: family}
	if row.ID, err = tx.NextTokenID(); err != nil {
		return row, err
	}
	if family == ownFamily {
		row.Family = row.ID
	}
	row.MAC = s.keys.tokenMAC(row)
	return row, tx.CreateToken(row, now.Add(-24*time.Hour))
}

// released makes the event of a new token durable, and the token an answer.
func (s *Service) released(ctx context.Context, d *directory, row storage.Token, token secret.Value, action string, from netip.Addr) (out wire.Session, err error) {
	caller := Caller{Subject: access.Subject{Kind: access.SubjectKind(row.SubjectKind), ID: row.SubjectID}, Token: row.ID, Family: row.Family, ExpiresAt: row.ExpiresAt, From: from, directory: d}
	e := trail.Event{Action: action, Outcome: trail.Allowed, Actor: caller.actor(), Token: row.ID, From: from.String()}
	if _, _, err := s.recorder.release(ctx, e, nil, row.ID); err != nil {
		return out, err
	}
	return wire.Session{Token: string(token.Expose()), ExpiresAt: row.ExpiresAt, Who: s.who(caller)}, nil
}

// SignOut revokes the caller's token.
func (s *Service) SignOut(ctx context.Context, caller Caller) (err error) {
	op := s.begin(ctx, caller, "session.end", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, _ *directory) error {
		if caller.Family != 0 {
			return s.revokeFamily(tx, caller.Subject, caller.Family, s.now().Add(FamilyLife))
		}
		return tx.RevokeToken(storage.RevokedToken{TokenID: caller.Token, Until: caller.ExpiresAt}, s.now())
	})
}

// Who tells a caller who they are and what they were granted.
func (s *Service) Who(ctx context.Context, caller Caller) (out wire.Who, err error) {
	op := s.begin(ctx, caller, "session.show", organizationPlace)
	defer op.end(&err)
	return s.who(caller), nil
}

func (s *Service) who(caller Caller) wire.Who {
	d := caller.directory
	out := wire.Who{Kind: string(caller.Subject.Kind), Name: caller.Name(), ExpiresAt: caller.ExpiresAt, Grants: []wire.Grant{}}
	for _, p := range d.people {
		if caller.Subject.Kind == access.Person && p.ID == caller.Subject.ID {
			out.Login = p.Login
		}
	}
	for _, w := range d.workloads {
		if caller.Subject.Kind == access.Workload && w.ID == caller.Subject.ID {
			out.Login = w.ClientID
		}
	}
	for _, held := range d.grants.Of(caller.Subject) {
		for _, g := range d.grantRows {
			if g.ID == held.ID {
				out.Grants = append(out.Grants, d.wireGrant(g))
			}
		}
	}
	return out
}
