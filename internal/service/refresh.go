package service

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// How long a sign-in that goes on lasts, and the tokens that it gives meanwhile.
const (
	FamilyLife       = 30 * 24 * time.Hour
	RefreshableLife  = time.Hour
	refreshTolerance = 30 * time.Second // in which parallel shells may present the same token
)

// errRefresh is the one answer to a refresh token that is unknown, was used, was
// revoked or has ended.
var errRefresh = problem(Unauthenticated, "the sign-in has ended; sign in anew")

// opening says how a sign-in is to be opened.
type opening struct {
	who    access.Subject
	kind   access.TokenKind
	life   time.Duration
	name   string // that was signed in with, for the delays after failures
	from   netip.Addr
	goesOn bool // with a refresh token
}

// openFamily writes the first refresh token of a sign-in.
func (s *Service) openFamily(tx *storage.Tx, o opening, token storage.Token) (secret.Value, error) {
	refresh := access.NewToken(access.RefreshToken)
	row := storage.RefreshToken{Hash: access.HashToken(refresh), Family: token.ID, PersonID: o.who.ID, OpenedFrom: o.from.String(),
		OpenedAt: token.CreatedAt, ExpiresAt: token.CreatedAt.Add(FamilyLife)}
	return refresh, s.writeRefresh(tx, row)
}

func (s *Service) writeRefresh(tx *storage.Tx, row storage.RefreshToken) error {
	row.ReplacedAt, row.ReplacedFrom = nil, ""
	row.MAC = s.keys.refreshMAC(row)
	return tx.CreateRefreshToken(row, s.now())
}

// refreshMAC signs a refresh token's row.
func (k *keyring) refreshMAC(r storage.RefreshToken) []byte {
	return envelope.Sign(k.tokens, "refresh", string(r.Hash), envelope.Number(r.Family), envelope.Number(r.PersonID), r.OpenedFrom,
		envelope.Number(r.OpenedAt.UnixMicro()), envelope.Number(r.ExpiresAt.UnixMicro()), moment(r.ReplacedAt), r.ReplacedFrom)
}

// Refresh goes on with a sign-in: it gives a new token and a new refresh token in
// place of the one that is presented. Where the person signed in through a
// provider, the provider is asked whether their account is still there.
//
// A token that was replaced already ends the sign-in, since somebody else has it;
// but that parallel shells may present the same one: the immediate predecessor,
// within 30 seconds and from the same address, gets the same successor.
func (s *Service) Refresh(ctx context.Context, presented secret.Value, from netip.Addr) (out wire.Session, err error) {
	defer func() { err = asProblem(err) }()
	if err := s.errHalted(); err != nil {
		return out, err
	}
	if !access.ValidToken(string(presented.Expose())) {
		return out, s.stranger(ctx, "session.refresh", from, errRefresh)
	}
	hash := access.HashToken(presented)
	if err := s.askProvider(ctx, hash, from); err != nil {
		return out, err
	}
	successor := access.NextToken(access.RefreshToken, s.keys.tokens, presented)
	var (
		d    *directory
		row  storage.RefreshToken
		last error // why the family ends
	)
	token := access.NewToken(access.PersonToken)
	var made storage.Token
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		o, err := tx.ShareOrganization()
		if err != nil {
			return err
		}
		if d, err = s.directoryAt(tx, o); err != nil {
			return err
		}
		if row, err = tx.LockRefreshToken(hash); err != nil {
			return err
		}
		if err := s.mayRefresh(d, row); err != nil {
			return err
		}
		now := s.now().UTC().Truncate(time.Microsecond)
		if row.ReplacedAt != nil {
			if last = s.sameSuccessor(tx, row, successor, from, now); last != nil {
				return errRefresh
			}
		} else {
			next := row
			next.Hash = access.HashToken(successor)
			if err := s.writeRefresh(tx, next); err != nil {
				return err
			}
			row.ReplacedAt, row.ReplacedFrom = &now, from.String()
			row.MAC = s.keys.refreshMAC(row)
			if err := tx.ReplaceRefreshToken(row); err != nil {
				return err
			}
		}
		made, err = s.writeToken(tx, token, opening{who: access.Subject{Kind: access.Person, ID: row.PersonID}, life: RefreshableLife, from: from}, row.Family, now)
		return err
	})
	switch {
	case last != nil:
		s.endFamily(ctx, row, from, last.Error())
		return out, errRefresh
	case errors.Is(err, storage.ErrNotFound):
		return out, s.stranger(ctx, "session.refresh", from, errRefresh)
	case err != nil:
		return out, err
	}
	out, err = s.released(ctx, d, made, token, "session.refresh", from)
	out.Refresh = string(successor.Expose())
	return out, err
}

// mayRefresh checks a refresh token's row, and that the sign-in has not ended.
func (s *Service) mayRefresh(d *directory, row storage.RefreshToken) error {
	who := access.Subject{Kind: access.Person, ID: row.PersonID}
	switch {
	case !envelope.Same(row.MAC, s.keys.refreshMAC(row)):
		return errors.New("a refresh token was altered in the database")
	case !s.now().Before(row.ExpiresAt), d.revoked[row.Family], d.person(row.PersonID) == nil:
		return storage.ErrNotFound
	case d.isFrozen(who):
		return errFrozen(d.subjectName(who))
	}
	return nil
}

// sameSuccessor tells why a refresh token that was replaced is not good for its
// successor once more.
func (s *Service) sameSuccessor(tx *storage.Tx, row storage.RefreshToken, successor secret.Value, from netip.Addr, now time.Time) error {
	next, err := tx.RefreshTokenByHash(access.HashToken(successor))
	switch {
	case err != nil || next.ReplacedAt != nil:
		return errors.New("a refresh token was used again that was replaced long since")
	case now.Sub(*row.ReplacedAt) > refreshTolerance:
		return errors.New("a refresh token was used again after it was replaced")
	case row.ReplacedFrom != from.String():
		return errors.New("a refresh token was used again from another address")
	}
	return nil
}

// endFamily ends a sign-in for a reason, and every token that it gave.
func (s *Service) endFamily(ctx context.Context, row storage.RefreshToken, from netip.Addr, reason string) {
	who := access.Subject{Kind: access.Person, ID: row.PersonID}
	op := s.begin(ctx, Caller{Subject: who, Token: row.Family, From: from}, "session.revoke", organizationPlace)
	op.event.Outcome, op.event.Names = trail.Refused, []string{who.String(), reason}
	err := s.changeDirectory(op, func(tx *storage.Tx, _ *directory) error { return s.revokeFamily(tx, who, row.Family, row.ExpiresAt) })
	if err != nil {
		s.log.Error("a sign-in that is to end could not be ended", "family", row.Family, "error", err)
	}
}

// revokeFamily revokes a sign-in and every token that it gave.
func (s *Service) revokeFamily(tx *storage.Tx, who access.Subject, family int64, until time.Time) error {
	now := s.now()
	all, err := tx.TokensOf(string(who.Kind), who.ID, now)
	if err != nil {
		return err
	}
	for _, t := range all {
		if t.Family == family && t.ID != family {
			if err := tx.RevokeToken(storage.RevokedToken{TokenID: t.ID, Until: t.ExpiresAt}, now); err != nil {
				return err
			}
		}
	}
	return tx.RevokeToken(storage.RevokedToken{TokenID: family, Until: until}, now)
}
