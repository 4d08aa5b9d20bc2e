package service

import (
	"context"
	"strings"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/password"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// People lists those who can sign in. It needs people.
func (s *Service) People(ctx context.Context, caller Caller) (out []wire.Person, err error) {
	op := s.begin(ctx, caller, "person.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, organization); err != nil {
		return nil, err
	}
	out = []wire.Person{}
	for _, p := range op.dir.people {
		if p.RemovedAt == nil {
			out = append(out, op.dir.wirePerson(p))
		}
	}
	return out, nil
}

func (d *directory) wirePerson(p storage.Person) wire.Person {
	out := wire.Person{Login: p.Login, Name: p.Name, Codes: d.factors[p.ID].ConfirmedAt != nil}
	if a := d.account(p.ID); a != nil {
		if provider := d.provider(a.ProviderID); provider != nil {
			out.Provider = provider.Name
		}
	}
	for _, i := range d.invitations {
		if i.PersonID == p.ID {
			out.InvitationEnds = i.ExpiresAt
		}
	}
	return out
}

// AddPerson makes a person who can sign in with a password, or, where none is
// given, with an invitation to choose one. It needs people.
func (s *Service) AddPerson(ctx context.Context, caller Caller, request wire.NewPerson) (out wire.Person, err error) {
	op := s.begin(ctx, caller, "person.add", organizationPlace)
	defer op.end(&err)
	chosen := secret.FromString(request.Password)
	defer chosen.Wipe()
	if err := checkPerson(request.Login, request.Name, op.dir.organization.Name, chosen); err != nil {
		return out, err
	}
	if err := op.allow(access.People, organization); err != nil {
		return out, err
	}
	if request.Provider != "" && chosen.Len() > 0 {
		return out, problem(Invalid, "a person signs in through a provider or with a password; give one of the two")
	}
	hash := ""
	if chosen.Len() > 0 {
		if hash, err = s.hash(ctx, chosen); err != nil {
			return out, err
		}
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, organization); err != nil {
			return err
		}
		p, err := tx.CreatePerson(storage.Person{Login: request.Login, Name: request.Name, Password: hash, CreatedAt: s.now()})
		if err != nil {
			return taken(err, "a person with the login", request.Login)
		}
		op.event.Names = []string{access.Subject{Kind: access.Person, ID: p.ID}.String()}
		out = wire.Person{Login: request.Login, Name: request.Name}
		switch {
		case request.Provider != "":
			provider := d.providerNamed(request.Provider)
			if provider == nil {
				return problem(NotFound, "there is no provider %q", s.redact(request.Provider))
			}
			out.Provider = provider.Name
			err = tx.SaveAccount(storage.Account{PersonID: p.ID, ProviderID: provider.ID})
		case hash == "":
			out.Invitation, out.InvitationEnds, err = s.invite(tx, p.ID)
		}
		return err
	})
	if err != nil {
		out = wire.Person{}
	}
	return out, err
}

// checkPerson says what is wrong with a person; no password stands for an invitation.
func checkPerson(login, name, organization string, chosen secret.Value) error {
	var details []string
	if login == "" || len(login) > 200 || strings.ContainsFunc(login, func(c rune) bool { return c <= ' ' || c == 0x7f || c == ':' }) {
		details = append(details, "a login has 1 to 200 characters without white space or a colon, an e-mail address for example")
	}
	if strings.TrimSpace(name) == "" || len(name) > 200 {
		details = append(details, "a person's name has 1 to 200 characters")
	}
	if chosen.Len() > 0 {
		details = append(details, password.Check(chosen, login, name, organization)...)
	}
	if len(details) > 0 {
		return problems(Invalid, "things are wrong with the person", details)
	}
	return nil
}
