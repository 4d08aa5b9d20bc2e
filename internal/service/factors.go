package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// Time-based codes as RFC 6238 has them, in the form that every authenticator
// knows: six digits, thirty seconds, SHA-1. The code before and the one after
// the present one are taken too, and each once.
const (
	codeStep      = 30 * time.Second
	codeSkew      = 1
	recoveryCodes = 10
)

var codeOptions = totp.ValidateOpts{Period: uint(codeStep / time.Second), Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// BeginFactor gives a person the seed of time-based codes, which count once
// [Service.ConfirmFactor] has seen one. It is for people, about themselves.
func (s *Service) BeginFactor(ctx context.Context, caller Caller) (out wire.NewFactor, err error) {
	op := s.begin(ctx, caller, "factor.begin", organizationPlace)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		id, err := op.self()
		if err != nil {
			return err
		}
		if f, has := d.factors[id]; has && f.ConfirmedAt != nil {
			return problem(Conflict, "you have codes already; remove them first (\"adytum code remove\")")
		}
		key, err := totp.Generate(totp.GenerateOpts{Issuer: "Adytum, " + d.organization.Name, AccountName: d.handle(caller.Subject), SecretSize: 20, Rand: rand.Reader})
		if err != nil {
			return err
		}
		sealed, err := envelope.SealFactor(s.keys.factors, s.keys.organization, id, secret.FromString(key.Secret()))
		if err != nil {
			return err
		}
		out = wire.NewFactor{Secret: key.Secret(), URI: key.URL()}
		return tx.SaveFactor(storage.Factor{PersonID: id, Sealed: sealed, CreatedAt: s.now().UTC().Truncate(time.Microsecond)})
	})
	if err != nil {
		out = wire.NewFactor{}
	}
	return out, err
}

// self is the caller's id where the caller is a person.
func (op *operation) self() (int64, error) {
	if op.caller.Subject.Kind != access.Person {
		return 0, op.refuse("%s is a workload, and this is for people", op.caller.Name())
	}
	return op.caller.Subject.ID, nil
}

// ConfirmFactor makes codes count from now on, and returns recovery codes, each
// good once in place of a code, and shown this once.
func (s *Service) ConfirmFactor(ctx context.Context, caller Caller, code string) (out wire.RecoveryCodes, err error) {
	op := s.begin(ctx, caller, "factor.confirm", organizationPlace)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		id, err := op.self()
		if err != nil {
			return err
		}
		f, has := d.factors[id]
		if !has || f.ConfirmedAt != nil {
			return problem(Conflict, "there are no codes to confirm; begin with \"adytum code add\"")
		}
		if right, err := s.useCode(tx, f, code); err != nil || !right {
			return errors.Join(err, problem(Invalid, "the code is not the one that belongs to this seed now; is the device's clock right?"))
		}
		var hashes []string
		for range recoveryCodes {
			text := strings.ToLower(rand.Text()[:16])
			shown := strings.Join([]string{text[:4], text[4:8], text[8:12], text[12:]}, "-")
			out.Codes = append(out.Codes, shown)
			hashes = append(hashes, recoveryHash(shown))
		}
		now := s.now().UTC().Truncate(time.Microsecond)
		f.ConfirmedAt, f.Recovery = &now, strings.Join(hashes, " ")
		return tx.SaveFactor(f)
	})
	if err != nil {
		out = wire.RecoveryCodes{}
	}
	return out, err
}

// recoveryHash is the form in which a recovery code is kept: it has 80 random
// bits, so a plain hash gives nothing to guess.
func recoveryHash(code string) string {
	plain := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToLower(strings.TrimSpace(code)))
	sum := sha256.Sum256([]byte(plain))
	return hex.EncodeToString(sum[:])
}

// RemoveFactor takes a person's own codes away, for a code of theirs.
func (s *Service) RemoveFactor(ctx context.Context, caller Caller, code string) (err error) {
	op := s.begin(ctx, caller, "factor.remove", organizationPlace)
	defer op.end(&err)
	if err := s.holdBack(ctx, "code of "+caller.Subject.String(), caller.From); err != nil {
		return err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		id, err := op.self()
		if err != nil {
			return err
		}
		f, has := d.factors[id]
		if !has {
			return problem(NotFound, "you have no codes to remove")
		}
		if f.ConfirmedAt != nil {
			right, err := s.useCode(tx, f, code)
			if err == nil && !right {
				_, right = withoutRecovery(f, code)
			}
			if err != nil || !right {
				op.event.Outcome = "refused"
				return errors.Join(err, problem(Forbidden, "the code is wrong"))
			}
		}
		return tx.DeleteFactor(id)
	})
	if err != nil {
		s.sluice.failed(s.now(), "name code of "+caller.Subject.String(), "from "+caller.From.String())
	}
	return err
}

// useCode tells whether a code is right, and sees to it that it is not again.
func (s *Service) useCode(tx *storage.Tx, f storage.Factor, code string) (bool, error) {
	seed, err := envelope.OpenFactor(s.keys.factors, s.keys.organization, f.PersonID, f.Sealed)
	if err != nil {
		return false, err
	}
	defer seed.Wipe()
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	now := s.now()
	matched := int64(0)
	for skew := -codeSkew; skew <= codeSkew; skew++ {
		at := now.Add(time.Duration(skew) * codeStep)
		right, err := totp.GenerateCodeCustom(string(seed.Expose()), at, codeOptions)
		if err != nil {
			return false, err
		}
		if subtle.ConstantTimeCompare([]byte(right), []byte(code)) == 1 {
			matched = at.Unix() / int64(codeStep/time.Second)
		}
	}
	if matched == 0 {
		return false, nil
	}
	err = tx.UseCode(storage.UsedCode{PersonID: f.PersonID, Step: matched}, matched-2*codeSkew-1)
	if errors.Is(err, storage.ErrTaken) {
		return false, nil
	}
	return err == nil, err
}

// withoutRecovery is a factor without a recovery code of it that was given.
func withoutRecovery(f storage.Factor, code string) (storage.Factor, bool) {
	hashes := strings.Fields(f.Recovery)
	i := slices.Index(hashes, recoveryHash(code))
	if i < 0 {
		return f, false
	}
	f.Recovery = strings.Join(slices.Delete(hashes, i, i+1), " ")
	return f, true
}

// secondFactor checks the code of a person who has codes. A recovery code is
// used up, which is an event of its own.
func (s *Service) secondFactor(ctx context.Context, d *directory, who access.Subject, code string, caller Caller) (bool, error) {
	f, has := d.factors[who.ID]
	if !has || f.ConfirmedAt == nil {
		return true, nil
	}
	right := false
	err := s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
		right, err = s.useCode(tx, f, code)
		if err == nil && !right {
			return errWrong // a code that was used stays so, and the transaction is over
		}
		return err
	})
	if right || err != nil && !errors.Is(err, errWrong) {
		return right, err
	}
	if _, recovers := withoutRecovery(f, code); !recovers {
		return false, nil
	}
	op := s.begin(ctx, caller, "factor.recover", organizationPlace)
	defer op.end(&err)
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		left, recovers := withoutRecovery(d.factors[who.ID], code)
		if !recovers {
			return errWrong
		}
		right = true
		return tx.SaveFactor(left)
	})
	return right && err == nil, err
}
