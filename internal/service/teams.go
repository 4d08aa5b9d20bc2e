package service

import (
	"context"
	"slices"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// organization is the place of what belongs to the whole organization.
var organization = located{place: organizationPlace}

// Teams lists the groups of people. It needs people.
func (s *Service) Teams(ctx context.Context, caller Caller) (out []wire.Team, err error) {
	op := s.begin(ctx, caller, "team.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.People, organization); err != nil {
		return nil, err
	}
	out = []wire.Team{}
	for _, t := range op.dir.teams {
		out = append(out, op.dir.wireTeam(t))
	}
	return out, nil
}

func (d *directory) wireTeam(t storage.Team) wire.Team {
	out := wire.Team{Name: t.Name, People: []string{}}
	for _, id := range d.members[t.ID] {
		out.People = append(out.People, d.handle(access.Subject{Kind: access.Person, ID: id}))
	}
	slices.Sort(out.People)
	return out
}

// AddTeam makes a team without people. It needs people.
func (s *Service) AddTeam(ctx context.Context, caller Caller, name string) (out wire.Team, err error) {
	op := s.begin(ctx, caller, "team.add", organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	if err := checkPlace("a team", name, reference.ValidPlace(name)); err != nil {
		return out, err
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, organization); err != nil {
			return err
		}
		t, err := tx.CreateTeam(storage.Team{Name: name, CreatedAt: s.now()})
		out = d.wireTeam(t)
		return taken(err, "a team", name)
	})
	return out, err
}

// changeTeam changes a team. It needs people, and the right to give everything
// that the team was granted: who is in a team has its rights.
func (s *Service) changeTeam(ctx context.Context, caller Caller, action, name string, f func(op *operation, tx *storage.Tx, d *directory, t storage.Team) error) (err error) {
	op := s.begin(ctx, caller, action, organizationPlace)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.allow(access.People, organization); err != nil {
			return err
		}
		who, exists := d.subject(string(access.Team), name)
		if !exists {
			return problem(NotFound, "there is no team %q%s", s.redact(name), didYouMean(name, d.teamNames()))
		}
		op.event.Names = []string{who.String()}
		if err := op.mayGive(who); err != nil {
			return err
		}
		return f(op, tx, d, storage.Team{ID: who.ID, Name: name})
	})
}

func (d *directory) teamNames() []string {
	names := make([]string, len(d.teams))
	for i, t := range d.teams {
		names[i] = t.Name
	}
	return names
}

// mayGive asks for the right to grant everything that a subject was granted.
func (op *operation) mayGive(who access.Subject) error {
	for _, g := range op.dir.grants.Of(who) {
		if !op.dir.grants.MayGrant(op.asker(), g.Role, g.Where, g.Limits) {
			return op.refuse("%s does not hold every right of the role %s in %s, which %s has, and cannot hand it on; an owner can", op.caller.Name(), g.Role, op.dir.placeOf(g.Where), op.dir.subjectName(who))
		}
	}
	return nil
}

// AddMember puts a person into a team. It needs people, and the right to give
// everything that the team was granted.
func (s *Service) AddMember(ctx context.Context, caller Caller, team, login string) (out wire.Team, err error) {
	err = s.changeTeam(ctx, caller, "team.join", team, func(op *operation, tx *storage.Tx, d *directory, t storage.Team) error {
		person, exists := d.subject(string(access.Person), login)
		if !exists {
			return problem(NotFound, "there is no person %q", s.redact(login))
		}
		op.event.Names = append(op.event.Names, person.String())
		if slices.Contains(d.members[t.ID], person.ID) {
			return problem(Conflict, "%s is in the team %s already", login, team)
		}
		d.members[t.ID] = append(d.members[t.ID], person.ID)
		out = d.wireTeam(t)
		return tx.AddMember(storage.TeamMember{TeamID: t.ID, PersonID: person.ID})
	})
	return out, err
}

// RemoveMember takes a person out of a team. It needs the same.
func (s *Service) RemoveMember(ctx context.Context, caller Caller, team, login string) error {
	return s.changeTeam(ctx, caller, "team.leave", team, func(op *operation, tx *storage.Tx, d *directory, t storage.Team) error {
		person, _ := d.subject(string(access.Person), login)
		if !slices.Contains(d.members[t.ID], person.ID) {
			return problem(NotFound, "%s is not in the team %s", s.redact(login), team)
		}
		op.event.Names = append(op.event.Names, person.String())
		return tx.RemoveMember(storage.TeamMember{TeamID: t.ID, PersonID: person.ID})
	})
}

// RemoveTeam removes a team with its grants. It needs the same.
func (s *Service) RemoveTeam(ctx context.Context, caller Caller, name string) error {
	return s.changeTeam(ctx, caller, "team.remove", name, func(_ *operation, tx *storage.Tx, _ *directory, t storage.Team) error {
		return tx.DeleteTeam(t.ID)
	})
}
