package service

import (
	"context"
	"strings"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// MinPassword is the shortest password in characters (NIST SP 800-63B-4 asks for
// 15 where it is the only factor).
const MinPassword = 15

// People lists those who can sign in. It needs people.
func (s *Service) People(ctx context.Context, caller Caller) (out []wire.Person, err error) {
	op := s.begin(ctx, caller, "person.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, located{place: organizationPlace}); err != nil {
		return nil, err
	}
	out = []wire.Person{}
	for _, p := range op.dir.people {
		out = append(out, wire.Person{Login: p.Login, Name: p.Name})
	}
	return out, nil
}

// AddPerson makes a person who can sign in with a password. It needs people.
func (s *Service) AddPerson(ctx context.Context, caller Caller, request wire.NewPerson) (out wire.Person, err error) {
	op := s.begin(ctx, caller, "person.add", organizationPlace)
	defer op.end(&err)
	password := secret.FromString(request.Password)
	defer password.Wipe()
	if err := checkPerson(request.Login, request.Name, password); err != nil {
		return out, err
	}
	if err := op.allow(access.People, located{place: organizationPlace}); err != nil {
		return out, err
	}
	hash, err := s.hash(ctx, password)
	if err != nil {
		return out, err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, located{place: organizationPlace}); err != nil {
			return err
		}
		_, err := tx.CreatePerson(storage.Person{Login: request.Login, Name: request.Name, Password: hash, CreatedAt: s.now()})
		return taken(err, "a person with the login", request.Login)
	})
	return wire.Person{Login: request.Login, Name: request.Name}, err
}

func checkPerson(login, name string, password secret.Value) error {
	var details []string
	if login == "" || len(login) > 200 || strings.ContainsFunc(login, func(c rune) bool { return c <= ' ' || c == 0x7f || c == ':' }) {
		details = append(details, "a login has 1 to 200 characters without white space or a colon, an e-mail address for example")
	}
	if strings.TrimSpace(name) == "" || len(name) > 200 {
		details = append(details, "a person's name has 1 to 200 characters")
	}
	if utf8.RuneCount(password.Expose()) < MinPassword {
		details = append(details, "the password is shorter than 15 characters; several words make a good one")
	}
	if password.Len() > 1000 {
		details = append(details, "the password is longer than 1000 bytes")
	}
	if len(details) > 0 {
		return problems(Invalid, "things are wrong with the person", details)
	}
	return nil
}
