package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/identity"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Identities asks identity providers who somebody is (OpenID Connect Core 1.0).
type Identities interface {
	// Begin is the address to send a browser to. State and nonce come back with
	// the answer; the verifier is that of RFC 7636.
	Begin(ctx context.Context, p identity.Provider, callback, state, nonce, verifier string) (string, error)
	// Answer exchanges a code for who it is.
	Answer(ctx context.Context, p identity.Provider, callback, code, nonce, verifier string) (identity.Identity, error)
	// Again asks whether somebody is still there.
	Again(ctx context.Context, p identity.Provider, refresh secret.Value) (identity.Identity, error)
}

// pendingSignIn is a sign-in through a provider on its way, sealed into the
// browser's cookie.
type pendingSignIn struct {
	Provider int64     `json:"provider"`
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	To       string    `json:"to"`
	Until    time.Time `json:"until"`
}

// PendingLife is how long a sign-in through a provider may take.
const PendingLife = 10 * time.Minute

// errProvider is the one answer to a sign-in through a provider that did not work.
var errProvider = problem(Unauthenticated, "the provider's answer does not let you in here; the trail tells auditors why")

func (d *directory) provider(id int64) *storage.Provider {
	for i := range d.providers {
		if d.providers[i].ID == id {
			return &d.providers[i]
		}
	}
	return nil
}

func (d *directory) providerNamed(name string) *storage.Provider {
	for i := range d.providers {
		if d.providers[i].Name == name {
			return &d.providers[i]
		}
	}
	return nil
}

func (d *directory) account(person int64) *storage.Account {
	for i := range d.accounts {
		if d.accounts[i].PersonID == person {
			return &d.accounts[i]
		}
	}
	return nil
}

func (s *Service) providerConfig(p storage.Provider) (identity.Provider, error) {
	clientSecret, err := envelope.OpenRecord(s.keys.records, "provider", envelope.Number(p.ID), p.Sealed)
	if err != nil {
		return identity.Provider{}, errors.New("a provider's client secret was altered in the database")
	}
	return identity.Provider{URL: p.URL, ClientID: p.ClientID, Secret: clientSecret}, nil
}

// ProviderNames are the providers that people can sign in through. Everybody may
// know them: they stand on the page for signing in.
func (s *Service) ProviderNames(ctx context.Context) ([]string, error) {
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return nil, asProblem(err)
	}
	names := []string{}
	for _, p := range d.providers {
		names = append(names, p.Name)
	}
	slices.Sort(names)
	return names, nil
}

// Providers lists the providers. It needs people.
func (s *Service) Providers(ctx context.Context, caller Caller) (out []wire.Provider, err error) {
	op := s.begin(ctx, caller, "provider.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, organization); err != nil {
		return nil, err
	}
	out = []wire.Provider{}
	for _, p := range op.dir.providers {
		out = append(out, wire.Provider{Name: p.Name, URL: p.URL, ClientID: p.ClientID})
	}
	return out, nil
}

// AddProvider lets people sign in through a provider. It needs people and manage
// in the organization: whoever has the provider can be anyone who signs in
// through it.
func (s *Service) AddProvider(ctx context.Context, caller Caller, request wire.NewProvider) (out wire.Provider, err error) {
	op := s.begin(ctx, caller, "provider.add", organizationPlace)
	op.event.Names = []string{s.redactName(request.Name)}
	defer op.end(&err)
	if err := op.mayTrust(); err != nil {
		return out, err
	}
	clientSecret := secret.FromString(request.ClientSecret)
	defer clientSecret.Wipe()
	var wrong []string
	if !reference.ValidPlace(request.Name) {
		wrong = append(wrong, "a provider's name is made of lower-case letters, digits and hyphens")
	}
	if request.ClientID == "" || clientSecret.Len() == 0 {
		wrong = append(wrong, "a provider has a client id and a client secret; register this service there first")
	}
	if s.outside == nil || s.identities == nil {
		return out, problem(Unavailable, "this instance asks no providers")
	}
	if err := s.outside.CheckURL(request.URL); err != nil {
		wrong = append(wrong, "the provider's address: "+err.Error())
	}
	if len(wrong) > 0 {
		return out, problems(Invalid, "things are wrong with the provider", wrong)
	}
	if _, err := discover(ctx, s.outside, request.URL); err != nil {
		return out, problem(Invalid, "%s; is the address exactly what the provider calls itself?", err)
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayTrust(); err != nil {
			return err
		}
		id, err := tx.NextProviderID()
		if err != nil {
			return err
		}
		sealed, err := envelope.SealRecord(s.keys.records, "provider", envelope.Number(id), clientSecret)
		if err != nil {
			return err
		}
		return taken(tx.CreateProvider(storage.Provider{ID: id, Name: request.Name, URL: request.URL, ClientID: request.ClientID, Sealed: sealed, CreatedAt: s.now().UTC().Truncate(time.Microsecond)}), "a provider", request.Name)
	})
	return wire.Provider{Name: request.Name, URL: request.URL, ClientID: request.ClientID}, err
}

// RemoveProvider lets nobody sign in through a provider any more, and ends the
// sessions of those who did. It needs what adding needs.
func (s *Service) RemoveProvider(ctx context.Context, caller Caller, name string) (err error) {
	op := s.begin(ctx, caller, "provider.remove", organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayTrust(); err != nil {
			return err
		}
		p := d.providerNamed(name)
		if p == nil {
			return problem(NotFound, "there is no provider %q", s.redact(name))
		}
		for _, a := range d.accounts {
			if a.ProviderID != p.ID {
				continue
			}
			if caller.Subject == (access.Subject{Kind: access.Person, ID: a.PersonID}) {
				return problem(Conflict, "you sign in through %s yourself; let another owner remove it", name)
			}
			if err := s.endSessions(tx, access.Subject{Kind: access.Person, ID: a.PersonID}, Caller{}); err != nil {
				return err
			}
		}
		return tx.DeleteProvider(p.ID)
	})
}

// BeginProvider begins a sign-in through a provider: the address to send the
// browser to, and what its cookie is to hold meanwhile.
func (s *Service) BeginProvider(ctx context.Context, name, callback, to string, from netip.Addr) (address, cookie string, err error) {
	defer func() { err = asProblem(err) }()
	if err := s.errHalted(); err != nil {
		return "", "", err
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return "", "", err
	}
	p := d.providerNamed(name)
	if p == nil || s.identities == nil {
		return "", "", problem(NotFound, "there is no provider %q", s.redact(name))
	}
	of, err := s.providerConfig(*p)
	if err != nil {
		return "", "", err
	}
	pending := pendingSignIn{Provider: p.ID, State: rand.Text(), Nonce: rand.Text(), Verifier: rand.Text() + rand.Text(), To: to, Until: s.now().Add(PendingLife)}
	if address, err = s.identities.Begin(ctx, of, callback, pending.State, pending.Nonce, pending.Verifier); err != nil {
		return "", "", problem(Unavailable, "the provider %s does not answer; try again in a moment", name)
	}
	content, err := json.Marshal(pending)
	if err != nil {
		return "", "", err
	}
	sealed, err := envelope.SealRecord(s.keys.records, "pending sign-in", from.String(), secret.New(content))
	return address, base64.RawURLEncoding.EncodeToString(sealed), err
}

// EndProvider ends a sign-in through a provider with the provider's answer, and
// tells where in the console it was to lead.
func (s *Service) EndProvider(ctx context.Context, cookie, state, code, callback string, from netip.Addr) (out wire.Session, to string, err error) {
	defer func() { err = asProblem(err) }()
	refuse := func(why string) (wire.Session, string, error) {
		e := trail.Event{Action: "session.begin", Outcome: trail.Refused, From: from.String(), Reason: why, Names: []string{"provider"}}
		if err := s.recorder.noteStranger(ctx, e); err != nil {
			return out, "", err
		}
		return out, "", errProvider
	}
	sealed, err := base64.RawURLEncoding.DecodeString(cookie)
	if err != nil {
		return refuse("it was not begun in this browser")
	}
	content, err := envelope.OpenRecord(s.keys.records, "pending sign-in", from.String(), sealed)
	var pending pendingSignIn
	if err != nil || json.Unmarshal(content.Expose(), &pending) != nil || pending.State != state || state == "" {
		return refuse("it was not begun in this browser")
	}
	if !s.now().Before(pending.Until) {
		return refuse("it took longer than ten minutes")
	}
	d, err := s.snapshotDirectory(ctx)
	if err != nil {
		return out, "", err
	}
	p := d.provider(pending.Provider)
	if p == nil || s.identities == nil {
		return refuse("the provider was removed meanwhile")
	}
	of, err := s.providerConfig(*p)
	if err != nil {
		return out, "", err
	}
	said, err := s.identities.Answer(ctx, of, callback, code, pending.Nonce, pending.Verifier)
	if errors.Is(err, identity.ErrUnknown) {
		return refuse("the provider refused")
	} else if err != nil {
		s.log.Warn("a provider's answer could not be read", "provider", p.Name, "error", err)
		return out, "", problem(Unavailable, "the provider %s does not answer as it should; try again in a moment", p.Name)
	}
	who, why, err := s.recognizeIdentity(ctx, d, *p, said, from)
	if err != nil {
		return out, "", err
	}
	if why != "" {
		return refuse(why)
	}
	if d, err = s.snapshotDirectory(ctx); err != nil {
		return out, "", err
	}
	if err := s.keepUpstream(ctx, who.ID, said.Refresh); err != nil {
		return out, "", err
	}
	out, err = s.signedIn(ctx, d, opening{who: who, kind: access.PersonToken, from: from, goesOn: true})
	return out, pending.To, err
}

// recognizeIdentity finds the person that a provider speaks of: by the subject
// that is known of them; the first time by their verified e-mail address, which is
// their login here.
func (s *Service) recognizeIdentity(ctx context.Context, d *directory, p storage.Provider, said identity.Identity, from netip.Addr) (who access.Subject, why string, err error) {
	for _, a := range d.accounts {
		if a.ProviderID == p.ID && a.Subject == said.Subject && a.Subject != "" && d.person(a.PersonID) != nil {
			return access.Subject{Kind: access.Person, ID: a.PersonID}, "", nil
		}
	}
	if said.Email == "" {
		return who, "the account is not known here, and the provider vouches for no e-mail address", nil
	}
	for _, person := range d.people {
		a := d.account(person.ID)
		if person.RemovedAt != nil || !strings.EqualFold(person.Login, said.Email) || a == nil || a.ProviderID != p.ID {
			continue
		}
		if a.Subject != "" {
			return who, fmt.Sprintf("the login of person:%d belongs to another account of the provider", person.ID), nil
		}
		who = access.Subject{Kind: access.Person, ID: person.ID}
		op := s.begin(ctx, Caller{Subject: who, From: from, directory: d}, "account.link", organizationPlace)
		op.event.Names = []string{who.String(), p.Name}
		err := s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
			if now := d.account(who.ID); now == nil || now.ProviderID != p.ID || now.Subject != "" {
				return problem(Conflict, "the account was linked meanwhile; try again")
			}
			return tx.SaveAccount(storage.Account{PersonID: who.ID, ProviderID: p.ID, Subject: said.Subject})
		})
		return who, "", err
	}
	return who, "nobody here has this account", nil
}
