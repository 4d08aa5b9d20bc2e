package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/signed"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Outside obtains small documents from addresses that people have entered.
type Outside interface {
	CheckURL(address string) error
	Get(ctx context.Context, address string) ([]byte, error)
}

// How long an issuer's keys are good, and how often an unknown key makes them be
// asked for again.
const (
	keysLife  = time.Hour
	keysAgain = time.Minute
)

// issuerKeys are the keys of issuers, as they were obtained. It is safe for
// concurrent use.
type issuerKeys struct {
	mu  sync.Mutex
	all map[string]*obtainedKeys // by the issuer's address
}

// obtainedKeys are one issuer's. An issuer that is slow keeps no other waiting.
type obtainedKeys struct {
	mu   sync.Mutex
	keys jose.JSONWebKeySet
	at   time.Time
	err  error
}

func (k *issuerKeys) issuer(url string) *obtainedKeys {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.all == nil {
		k.all = map[string]*obtainedKeys{}
	}
	if k.all[url] == nil {
		k.all[url] = &obtainedKeys{}
	}
	return k.all[url]
}

// of returns an issuer's keys. With again, keys that were obtained more than a
// minute ago are obtained anew.
func (k *issuerKeys) of(ctx context.Context, o Outside, issuer string, now time.Time, again bool) (jose.JSONWebKeySet, error) {
	have := k.issuer(issuer)
	have.mu.Lock()
	defer have.mu.Unlock()
	limit := keysLife
	if again || have.err != nil {
		limit = keysAgain
	}
	if !have.at.IsZero() && now.Sub(have.at) < limit && !now.Before(have.at) {
		return have.keys, have.err
	}
	have.at = now
	have.keys, have.err = discover(ctx, o, issuer)
	return have.keys, have.err
}

// discover obtains an issuer's keys by way of its metadata (OpenID Connect
// Discovery 1.0).
func discover(ctx context.Context, o Outside, issuer string) (keys jose.JSONWebKeySet, err error) {
	content, err := o.Get(ctx, strings.TrimSuffix(issuer, "/")+"/.well-known/openid-configuration")
	if err != nil {
		return keys, fmt.Errorf("the issuer's metadata: %w", err)
	}
	var metadata struct {
		Issuer string `json:"issuer"`
		Keys   string `json:"jwks_uri"`
	}
	if err := json.Unmarshal(content, &metadata); err != nil || metadata.Issuer != issuer {
		return keys, errors.New("the issuer's metadata are none, or another issuer's")
	}
	if content, err = o.Get(ctx, metadata.Keys); err != nil {
		return keys, fmt.Errorf("the issuer's keys: %w", err)
	}
	if err := json.Unmarshal(content, &keys); err != nil || len(keys.Keys) == 0 {
		return keys, errors.New("the issuer's keys cannot be read")
	}
	return keys, nil
}

// Issuers lists whose signed tokens are accepted. It needs people.
func (s *Service) Issuers(ctx context.Context, caller Caller) (out []wire.Issuer, err error) {
	op := s.begin(ctx, caller, "issuer.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, organization); err != nil {
		return nil, err
	}
	out = []wire.Issuer{}
	for _, i := range op.dir.issuers {
		out = append(out, wire.Issuer{Name: i.Name, URL: i.URL, Audience: s.audience()})
	}
	return out, nil
}

// audience is what tokens must be meant for, and nobody else: this installation.
func (s *Service) audience() string { return "adytum:" + s.keys.organization }

// AddIssuer lets an issuer's signed tokens be accepted, for workloads that trust
// them. Its keys are obtained once to see that it is there. It needs people and
// manage on the organization.
func (s *Service) AddIssuer(ctx context.Context, caller Caller, request wire.NewIssuer) (out wire.Issuer, err error) {
	op := s.begin(ctx, caller, "issuer.add", organizationPlace)
	op.event.Names = []string{s.redactName(request.Name)}
	defer op.end(&err)
	if err := checkPlace("an issuer", request.Name, reference.ValidPlace(request.Name)); err != nil {
		return out, err
	}
	if err := op.mayTrust(); err != nil {
		return out, err
	}
	if s.outside == nil {
		return out, problem(Invalid, "this service asks nothing outside, and so accepts no issuers")
	}
	if err := s.outside.CheckURL(request.URL); err != nil {
		return out, problem(Invalid, "the issuer's address: %s", err)
	}
	if _, err := discover(ctx, s.outside, request.URL); err != nil {
		return out, problem(Invalid, "%s; is the address exactly what stands in its tokens as \"iss\"?", err)
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayTrust(); err != nil {
			return err
		}
		err := tx.CreateIssuer(storage.Issuer{Name: request.Name, URL: request.URL, CreatedAt: s.now().UTC().Truncate(time.Microsecond)})
		return taken(err, "an issuer", request.Name)
	})
	return wire.Issuer{Name: request.Name, URL: request.URL, Audience: s.audience()}, err
}

func (op *operation) mayTrust() error {
	if err := op.allow(access.People, organization); err != nil {
		return err
	}
	return op.allow(access.Manage, organization)
}

func (d *directory) issuer(name string) (storage.Issuer, bool) {
	i := slices.IndexFunc(d.issuers, func(i storage.Issuer) bool { return i.Name == name })
	if i < 0 {
		return storage.Issuer{}, false
	}
	return d.issuers[i], true
}

// RemoveIssuer accepts an issuer's tokens no more. It needs what adding needs.
func (s *Service) RemoveIssuer(ctx context.Context, caller Caller, name string) (err error) {
	op := s.begin(ctx, caller, "issuer.remove", organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayTrust(); err != nil {
			return err
		}
		issuer, exists := d.issuer(name)
		if !exists {
			return problem(NotFound, "there is no issuer %q", s.redact(name))
		}
		return tx.DeleteIssuer(issuer.ID)
	})
}

// Trusts lists whose tokens a workload signs in with. It needs people.
func (s *Service) Trusts(ctx context.Context, caller Caller, workload string) (out []wire.Trust, err error) {
	op := s.begin(ctx, caller, "workload.trusts", organizationPlace)
	op.event.Names = []string{s.redactName(workload)}
	defer op.end(&err)
	who, err := op.workload(workload)
	if err != nil {
		return nil, err
	}
	out = []wire.Trust{}
	for _, t := range op.dir.trusts {
		if t.WorkloadID == who.ID {
			row, err := op.dir.wireTrust(t)
			if err != nil {
				return nil, err
			}
			out = append(out, row)
		}
	}
	return out, nil
}

func (d *directory) wireTrust(t storage.Trust) (wire.Trust, error) {
	out := wire.Trust{ID: t.ID, Subject: t.Subject}
	for _, i := range d.issuers {
		if i.ID == t.IssuerID {
			out.Issuer = i.Name
		}
	}
	if t.Claims == "" {
		return out, nil
	}
	return out, json.Unmarshal([]byte(t.Claims), &out.Claims)
}

// maxPinned is how many claims a trust pins at most.
const maxPinned = 20

// AddTrust lets a workload sign in with tokens of an issuer whose subject fits a
// pattern and whose claims are those that are pinned. It needs people, and the
// right to give everything that the workload was granted.
func (s *Service) AddTrust(ctx context.Context, caller Caller, workload string, request wire.NewTrust) (out wire.Trust, err error) {
	err = s.changeWorkload(ctx, caller, "workload.trust", workload, func(op *operation, tx *storage.Tx, d *directory, who access.Subject) error {
		op.event.Names = append(op.event.Names, s.redactName(request.Issuer))
		if err := op.mayGive(who); err != nil {
			return err
		}
		if err := signed.CheckPattern(request.Subject); err != nil {
			return problem(Invalid, "%s", err)
		}
		if len(request.Claims) > maxPinned {
			return problem(Invalid, "at most %d claims can be pinned", maxPinned)
		}
		issuer, exists := d.issuer(request.Issuer)
		if !exists {
			return problem(NotFound, "there is no issuer %q; \"adytum issuer list\" shows them", s.redact(request.Issuer))
		}
		row := storage.Trust{WorkloadID: who.ID, IssuerID: issuer.ID, Subject: request.Subject, CreatedAt: s.now().UTC().Truncate(time.Microsecond)}
		if len(request.Claims) > 0 {
			claims, err := json.Marshal(request.Claims)
			if err != nil {
				return err
			}
			row.Claims = string(claims)
		}
		row, err := tx.CreateTrust(row)
		if err != nil {
			return err
		}
		out, err = d.wireTrust(row)
		return err
	})
	return out, err
}

// RemoveTrust takes back what [Service.AddTrust] gave. It needs people.
func (s *Service) RemoveTrust(ctx context.Context, caller Caller, workload string, id int64) error {
	return s.changeWorkload(ctx, caller, "workload.distrust", workload, func(_ *operation, tx *storage.Tx, d *directory, who access.Subject) error {
		if !slices.ContainsFunc(d.trusts, func(t storage.Trust) bool { return t.ID == id && t.WorkloadID == who.ID }) {
			return problem(NotFound, "%s has no trust %d", workload, id)
		}
		return tx.DeleteTrust(id)
	})
}

// errSigned is the one answer to every signed token that is not accepted. Why is
// in the trail.
var errSigned = problem(Unauthenticated, "the signed token is not accepted; the trail tells auditors why")

// SignInSigned gives a workload a token for one that an issuer has signed (RFC
// 7523, section 2.1). The client id is needed only where the token is trusted by
// several workloads.
func (s *Service) SignInSigned(ctx context.Context, assertion, clientID string, from netip.Addr) (out wire.Session, err error) {
	defer func() { err = asProblem(err) }()
	if err := s.holdBack(ctx, "a signed token", from); err != nil {
		return out, err
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, err
	}
	refuse := func(why string) (wire.Session, error) {
		s.sluice.failed(s.now(), "from "+from.String())
		e := trail.Event{Action: "session.begin", Outcome: trail.Refused, From: from.String(), Reason: "a signed token: " + why}
		if err := s.recorder.noteStranger(ctx, e); err != nil {
			return wire.Session{}, err
		}
		return wire.Session{}, errSigned
	}
	token, err := signed.Read(assertion)
	if err != nil {
		return refuse(err.Error())
	}
	i := slices.IndexFunc(d.issuers, func(i storage.Issuer) bool { return i.URL == token.Issuer })
	if i < 0 || s.outside == nil {
		return refuse("its issuer is not trusted")
	}
	issuer := d.issuers[i]
	claims, err := s.verifySigned(ctx, token, issuer.URL)
	switch {
	case errors.Is(err, errKeys):
		return out, problem(Unavailable, "the issuer's keys cannot be obtained now; try again in a moment")
	case err != nil:
		return refuse(err.Error())
	}
	who, why := d.trusting(issuer.ID, claims, clientID)
	if why != "" {
		return refuse(why)
	}
	if err := s.once(ctx, issuer.ID, assertion, claims); errors.Is(err, storage.ErrTaken) {
		return refuse("it was used already")
	} else if err != nil {
		return out, err
	}
	return s.signedIn(ctx, d, opening{who: who, kind: access.WorkloadToken, life: WorkloadTokenLife, name: "signed token", from: from})
}

// errKeys says that an issuer's keys could not be obtained.
var errKeys = errors.New("the issuer's keys could not be obtained")

func (s *Service) verifySigned(ctx context.Context, token *signed.Token, issuer string) (*signed.Claims, error) {
	for _, again := range []bool{false, true} {
		keys, err := s.issuerKeys.of(ctx, s.outside, issuer, s.now(), again)
		if err != nil {
			s.log.Warn("an issuer's keys could not be obtained", "issuer", issuer, "error", err)
			return nil, errKeys
		}
		claims, err := token.Verify(keys, issuer, s.audience(), s.now())
		if !errors.Is(err, signed.ErrUnknownKey) {
			return claims, err
		}
	}
	return nil, signed.ErrUnknownKey
}

// trusting finds the one workload that trusts claims of an issuer, or says why
// there is none.
func (d *directory) trusting(issuer int64, claims *signed.Claims, clientID string) (access.Subject, string) {
	found := map[int64]bool{}
	for _, t := range d.trusts {
		trust := signed.Trust{Subject: t.Subject}
		if t.IssuerID != issuer || t.Claims != "" && json.Unmarshal([]byte(t.Claims), &trust.Claims) != nil || !trust.Accepts(claims) {
			continue
		}
		for _, w := range d.workloads {
			if w.ID == t.WorkloadID && (clientID == "" || clientID == w.ClientID) {
				found[w.ID] = true
			}
		}
	}
	switch len(found) {
	case 0:
		return access.Subject{}, "no workload trusts its subject and claims"
	case 1:
		return access.Subject{Kind: access.Workload, ID: slices.Collect(maps.Keys(found))[0]}, ""
	}
	return access.Subject{}, "several workloads trust it, and none was named"
}

// once records that a token was used. Its own id tells it from others, or all of
// it where it has none.
func (s *Service) once(ctx context.Context, issuer int64, assertion string, claims *signed.Claims) error {
	id := "token " + assertion
	if claims.ID != "" {
		id = "id " + claims.ID
	}
	sum := sha256.Sum256([]byte(id))
	return s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		return tx.UseSigned(storage.UsedSigned{IssuerID: issuer, Hash: sum[:], ExpiresAt: claims.Expires.Add(signed.Leeway)}, s.now())
	})
}
