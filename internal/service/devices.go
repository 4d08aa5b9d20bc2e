package service

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Bounds of devices that wait to be let in (RFC 8628).
const (
	DeviceLife       = 10 * time.Minute
	DeviceInterval   = 5 * time.Second
	maxDevicesFrom   = 20   // from one network at once
	maxDevices       = 1000 // in all
	deviceTries      = 5    // wrong codes of one person in the life of a code
	freshSignIn      = 5 * time.Minute
	maxHost          = 100
	deviceWasAllowed = "allowed"
	deviceWasDenied  = "denied"
)

// What a device that waits is answered, as RFC 8628, section 3.5, names it.
var (
	ErrDevicePending = problem(Conflict, "authorization_pending")
	ErrDeviceHurried = problem(Conflict, "slow_down")
	ErrDeviceDenied  = problem(Conflict, "access_denied")
	ErrDeviceEnded   = problem(Conflict, "expired_token")
)

// BeginDevice lets a device ask to be let in: it gets a code of its own to ask
// with, and one that a person types into the console.
func (s *Service) BeginDevice(ctx context.Context, host string, from netip.Addr) (deviceCode secret.Value, userCode string, err error) {
	defer func() { err = asProblem(err) }()
	if err := s.errHalted(); err != nil {
		return deviceCode, "", err
	}
	host = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(host, ""))
	if len(host) > maxHost {
		host = strings.ToValidUTF8(host[:maxHost], "")
	}
	deviceCode, userCode = access.NewToken(access.DeviceCode), access.NewCode()
	now := s.now().UTC().Truncate(time.Microsecond)
	row := storage.Device{Hash: access.HashToken(deviceCode), CodeHash: s.keys.codeHash(userCode), Host: s.redact(host), Network: from.String(), AskedAt: now}
	row.MAC = s.keys.deviceMAC(row)
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		fromHere, all, err := tx.CountDevices(row.Network, now.Add(-DeviceLife))
		if err != nil {
			return err
		}
		if fromHere >= maxDevicesFrom || all >= maxDevices {
			return problem(Unavailable, "too many devices wait to be let in; try again in some minutes")
		}
		return tx.CreateDevice(row, now.Add(-2*DeviceLife))
	})
	if err != nil {
		return deviceCode, "", err
	}
	return deviceCode, userCode, s.recorder.noteStranger(ctx, trail.Event{Action: "device.ask", Outcome: trail.Allowed, From: from.String()})
}

// deviceMAC signs a device's row.
func (k *keyring) deviceMAC(d storage.Device) []byte {
	return envelope.Sign(k.tokens, "device", string(d.Hash), string(d.CodeHash), d.Host, d.Network, envelope.Number(d.AskedAt.UnixMicro()), envelope.Number(d.PersonID), d.Answer)
}

// codeHash is the form in which a code that is typed is stored: it is short, so
// that a plain hash could be tried out.
func (k *keyring) codeHash(code string) []byte {
	return envelope.Sign(k.tokens, "device code", code)
}

func (s *Service) checkDevice(d storage.Device) error {
	switch {
	case !envelope.Same(d.MAC, s.keys.deviceMAC(d)):
		return errors.New("a device that waits was altered in the database")
	case !s.now().Before(d.AskedAt.Add(DeviceLife)):
		return storage.ErrNotFound
	}
	return nil
}

// Device shows the device that a code is of, to a person who is about to let it
// in: host, network and age. Wrong codes are few: five, then no other for as long
// as a code lives.
func (s *Service) Device(ctx context.Context, caller Caller, code string) (out wire.Device, err error) {
	op := s.begin(ctx, caller, "device.show", organizationPlace)
	defer op.end(&err)
	err = s.withDevice(op, code, func(_ *storage.Tx, d storage.Device) error {
		out = wire.Device{Host: d.Host, Network: d.Network, AskedAt: d.AskedAt, Same: d.Network == caller.From.String()}
		return nil
	})
	return out, err
}

// errCode is the one answer to a code that is unknown, was used, or has ended.
var errCode = problem(NotFound, "no device waits with this code; codes are good for ten minutes, so let the device ask anew")

func (s *Service) withDevice(op *operation, code string, f func(*storage.Tx, storage.Device) error) error {
	if _, err := op.self(); err != nil {
		return err
	}
	tries := "code of " + op.caller.Subject.String()
	if s.tries.count(tries, s.now()) >= deviceTries {
		return op.refuse("that were too many wrong codes; try again in ten minutes")
	}
	err := s.store.In(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := tx.LockDeviceByCode(s.keys.codeHash(access.ReadCode(code)))
		if err == nil {
			err = s.checkDevice(d)
		}
		if err == nil && d.Answer != "" {
			err = storage.ErrNotFound
		}
		if err != nil {
			return err
		}
		return f(tx, d)
	})
	if errors.Is(err, storage.ErrNotFound) {
		s.tries.add(tries, s.now())
		op.event.Outcome = trail.Refused
		return errCode
	}
	return err
}

// AnswerDevice lets a device in as the caller, or does not. It needs a sign-in
// that is a few minutes old at most: a console that was left open lets nobody in.
func (s *Service) AnswerDevice(ctx context.Context, caller Caller, answer wire.DeviceAnswer) (err error) {
	action := "device.deny"
	if answer.Allowed {
		action = "device.allow"
	}
	op := s.begin(ctx, caller, action, organizationPlace)
	defer op.end(&err)
	return s.withDevice(op, answer.Code, func(tx *storage.Tx, d storage.Device) error {
		op.event.Names = []string{s.redact(d.Host), d.Network}
		if answer.Allowed {
			since, err := s.signedInSince(tx, caller)
			if err != nil {
				return err
			}
			if s.now().Sub(since) > freshSignIn {
				op.event.Outcome = trail.Refused
				return problem(Unauthenticated, "sign in again before you let a device in: your sign-in is more than five minutes old")
			}
		}
		d.PersonID, d.Answer = caller.Subject.ID, deviceWasDenied
		if answer.Allowed {
			d.Answer = deviceWasAllowed
		}
		d.MAC = s.keys.deviceMAC(d)
		return tx.SaveDevice(d)
	})
}

// signedInSince is when the caller showed who they are.
func (s *Service) signedInSince(tx *storage.Tx, caller Caller) (time.Time, error) {
	all, err := tx.TokensOf(string(caller.Subject.Kind), caller.Subject.ID, s.now())
	if err != nil {
		return time.Time{}, err
	}
	for _, t := range all {
		// What a sign-in went on to is no new one.
		if t.ID == caller.Token && (t.Family == 0 || t.Family == t.ID) {
			return t.CreatedAt, nil
		}
	}
	return time.Time{}, nil
}

// TakeDevice gives a device that was let in its tokens, once. Until then it answers
// one of the errors above.
func (s *Service) TakeDevice(ctx context.Context, deviceCode secret.Value, from netip.Addr) (out wire.Session, err error) {
	if err := s.errHalted(); err != nil {
		return out, err
	}
	var taken storage.Device
	answer := error(nil)
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		hash := access.HashToken(deviceCode)
		d, err := tx.LockDevice(hash)
		if err == nil {
			err = s.checkDevice(d)
		}
		now := s.now().UTC().Truncate(time.Microsecond)
		switch {
		case errors.Is(err, storage.ErrNotFound):
			answer = ErrDeviceEnded
			return nil
		case err != nil:
			return err
		case d.Answer == deviceWasAllowed:
			taken = d
			return tx.DeleteDevice(hash)
		case d.Answer == deviceWasDenied:
			answer = ErrDeviceDenied
			return tx.DeleteDevice(hash)
		case d.PolledAt != nil && now.Sub(*d.PolledAt) < DeviceInterval-time.Second:
			answer = ErrDeviceHurried
		default:
			answer = ErrDevicePending
		}
		d.PolledAt = &now
		return tx.SaveDevice(d)
	})
	if err == nil {
		err = answer
	}
	if err != nil {
		return out, asProblem(err)
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, asProblem(err)
	}
	if d.person(taken.PersonID) == nil {
		return out, ErrDeviceDenied
	}
	out, err = s.signedIn(ctx, d, opening{who: access.Subject{Kind: access.Person, ID: taken.PersonID}, kind: access.PersonToken, from: from, goesOn: true})
	return out, asProblem(err)
}
