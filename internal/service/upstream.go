package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/identity"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// askAgain is how long a provider's answer about somebody holds: several shells and
// devices of theirs go on at once, and ask once.
const askAgain = time.Minute

// upstream is what a provider is asked again with about a person, and when it was.
// It is of the person and not of one sign-in: whatever they signed in with it since,
// a device too, ends with their account.
type upstream struct {
	Token []byte    `json:"token"`
	Asked time.Time `json:"asked"`
}

func (s *Service) sealUpstream(person int64, token secret.Value, asked time.Time) ([]byte, error) {
	content, err := json.Marshal(upstream{token.Expose(), asked})
	if err != nil {
		return nil, err
	}
	defer clear(content)
	return envelope.SealRecord(s.keys.records, "upstream", envelope.Number(person), secret.New(content))
}

func (s *Service) openUpstream(person int64, sealed []byte) (u upstream, err error) {
	content, err := envelope.OpenRecord(s.keys.records, "upstream", envelope.Number(person), sealed)
	if err != nil {
		return u, errors.New("what a provider gave was altered in the database")
	}
	return u, json.Unmarshal(content.Expose(), &u)
}

// keepUpstream keeps what a provider gave at a sign-in.
func (s *Service) keepUpstream(ctx context.Context, person int64, token secret.Value) error {
	sealed, err := s.sealUpstream(person, token, s.now())
	if err != nil {
		return err
	}
	return s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		_, err := tx.SaveUpstream(person, nil, sealed)
		return err
	})
}

// askProvider asks the provider of a person whether their account is still there,
// before a sign-in of theirs goes on. What the provider does not know any more ends,
// with everything that the person signed in; while it cannot be asked, nothing goes
// on and nothing ends.
func (s *Service) askProvider(ctx context.Context, hash []byte, from netip.Addr) error {
	var (
		row    storage.RefreshToken
		d      *directory
		sealed []byte
	)
	err := s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
		if d, err = s.currentDirectory(tx); err != nil {
			return err
		}
		if row, err = tx.RefreshTokenByHash(hash); err == nil && d.account(row.PersonID) != nil {
			sealed, err = tx.Upstream(row.PersonID)
		}
		return err
	})
	if errors.Is(err, storage.ErrNotFound) {
		return s.stranger(ctx, "session.refresh", from, errRefresh)
	} else if err != nil {
		return err
	}
	account := d.account(row.PersonID)
	if account == nil || d.revoked[row.Family] || !envelope.Same(row.MAC, s.keys.refreshMAC(row)) {
		return nil // what is wrong with it is told by the one that uses it
	}
	p := d.provider(account.ProviderID)
	if p == nil || sealed == nil || s.identities == nil {
		s.endPerson(ctx, row.PersonID, from, "the provider gave nothing to ask again with")
		return errRefresh
	}
	there, err := s.stillThere(ctx, *p, *account, sealed)
	if err == nil && !there {
		s.endPerson(ctx, row.PersonID, from, "the provider does not know the account any more")
		return errRefresh
	}
	return err
}

// stillThere asks a provider about an account, one question at a time for each.
func (s *Service) stillThere(ctx context.Context, p storage.Provider, account storage.Account, sealed []byte) (bool, error) {
	defer s.asking.lock(account.PersonID)()
	// Somebody may have asked while this one waited.
	read := func() (u upstream, err error) {
		err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
			now, err := tx.Upstream(account.PersonID)
			if err == nil && now != nil {
				sealed = now
			}
			return err
		})
		if err != nil {
			return u, err
		}
		return s.openUpstream(account.PersonID, sealed)
	}
	recent := func(u upstream) bool { age := s.now().Sub(u.Asked); return age >= 0 && age < askAgain }
	u, err := read()
	if err != nil || recent(u) {
		return err == nil, err
	}
	if len(u.Token) == 0 {
		return false, nil // it gave nothing to ask again with
	}
	of, err := s.providerConfig(p)
	if err != nil {
		return false, err
	}
	said, err := s.identities.Again(ctx, of, secret.New(u.Token))
	switch {
	case errors.Is(err, identity.ErrUnknown):
		// Another instance may have used the same token a moment before.
		again, err := read()
		return err == nil && recent(again), err
	case err != nil:
		return false, problem(Unavailable, "the provider %s cannot be asked whether the account is still there; try again in a moment", p.Name)
	case said.Subject != account.Subject:
		return false, nil
	}
	next, err := s.sealUpstream(account.PersonID, said.Refresh, s.now())
	if err != nil {
		return false, err
	}
	return true, s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		_, err := tx.SaveUpstream(account.PersonID, sealed, next) // where another was quicker, its answer counts
		return err
	})
}

// endPerson ends everything that a person has signed in, for a reason.
func (s *Service) endPerson(ctx context.Context, person int64, from netip.Addr, reason string) {
	who := access.Subject{Kind: access.Person, ID: person}
	op := s.begin(ctx, Caller{Subject: who, From: from}, "session.revoke", organizationPlace)
	op.event.Outcome, op.event.Names = trail.Refused, []string{who.String(), reason}
	err := s.changeDirectory(op, func(tx *storage.Tx, _ *directory) error { return s.endSessions(tx, who, Caller{}) })
	if err != nil {
		s.log.Error("sign-ins that are to end could not be ended", "person", person, "error", err)
	}
}
