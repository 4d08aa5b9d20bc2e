package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// Grants lists the grants at places that the caller may manage.
func (s *Service) Grants(ctx context.Context, caller Caller) (out []wire.Grant, err error) {
	op := s.begin(ctx, caller, "grant.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Grant{}
	for _, g := range op.dir.grantRows {
		if grant, may := op.maySome(access.Manage, access.Where{Project: g.OnProject, Environment: g.OnEnvironment}); may {
			op.event.Grant = grant.ID
			out = append(out, op.dir.wireGrant(g))
		}
	}
	return out, nil
}

func (d *directory) wireGrant(g storage.Grant) wire.Grant {
	place := d.placeOf(access.Where{Project: g.OnProject, Environment: g.OnEnvironment})
	out := wire.Grant{ID: g.ID, Kind: g.SubjectKind, Who: d.handle(access.Subject{Kind: access.SubjectKind(g.SubjectKind), ID: g.SubjectID}),
		Role: g.Role, Project: place.Project, Environment: place.Environment, Names: g.Names, From: strings.Fields(g.Networks)}
	if g.Until != nil {
		out.Until = *g.Until
	}
	return out
}

// handle is what a subject is called in requests: a login, or a name.
func (d *directory) handle(who access.Subject) string {
	switch who.Kind {
	case access.Person:
		for _, p := range d.people {
			if p.ID == who.ID {
				return p.Login
			}
		}
	case access.Workload:
		return d.workloadNames[who.ID]
	case access.Team:
		for _, t := range d.teams {
			if t.ID == who.ID {
				return t.Name
			}
		}
	}
	return ""
}

// maxNetworks is how many networks a grant may name.
const maxNetworks = 50

// limits reads the limits of a grant that is asked for, and puts its networks
// into their one form.
func limits(request wire.NewGrant, now time.Time) (access.Limits, string, []string) {
	l := access.Limits{Names: request.Names}
	var wrong []string
	if request.Names != "" {
		if err := layers.CheckName(strings.ReplaceAll(request.Names, "*", "X")); err != nil {
			wrong = append(wrong, "the pattern of names is none: it is a name in which * stands for any characters, DB_* for example")
		} else if strings.Trim(request.Names, "*") == "" {
			l.Names = ""
		}
	}
	if request.Until != nil {
		l.Until = request.Until.UTC().Truncate(time.Microsecond)
		if !l.Until.After(now) {
			wrong = append(wrong, "the grant would end before it begins: "+minute(l.Until)+" is past")
		}
	}
	if len(request.From) > maxNetworks {
		wrong = append(wrong, fmt.Sprintf("the grant names %d networks; at most %d can be named", len(request.From), maxNetworks))
	}
	var networks []string
	for i, text := range request.From {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			if address, addressErr := netip.ParseAddr(text); addressErr == nil {
				network, err = netip.PrefixFrom(address, address.BitLen()), nil
			}
		}
		switch {
		case err != nil || network.Addr().Zone() != "":
			wrong = append(wrong, fmt.Sprintf("network %d is none: it is an address with the bits that count, 192.0.2.0/24 for example", i+1))
		case network.Masked() != network:
			wrong = append(wrong, fmt.Sprintf("network %d has bits set beyond those that count; %s was probably meant", i+1, network.Masked()))
		case !slices.Contains(networks, network.String()):
			l.Networks = append(l.Networks, network)
			networks = append(networks, network.String())
		}
	}
	return l, strings.Join(networks, " "), wrong
}

// AddGrant gives someone a role. It needs manage at the place, and every verb of
// the role there, with no narrower limits than the new grant's.
func (s *Service) AddGrant(ctx context.Context, caller Caller, request wire.NewGrant) (out wire.Grant, err error) {
	place := layers.Place{Project: request.Project, Environment: request.Environment}
	op := s.begin(ctx, caller, "grant.add", place)
	op.event.Names = []string{s.redactName(request.Role)}
	defer op.end(&err)
	if request.Project == "" && request.Environment != "" {
		return out, problem(Invalid, "a grant on the environment %q must name its project as well", s.redact(request.Environment))
	}
	within, networks, wrong := limits(request, op.at)
	if op.dir.roles[request.Role] == nil {
		wrong = append(wrong, fmt.Sprintf("there is no role %q%s; there are %s", s.redact(request.Role), didYouMean(request.Role, op.dir.roles.Names()), strings.Join(op.dir.roles.Names(), ", ")))
	}
	if len(wrong) > 0 {
		return out, problems(Invalid, "things are wrong with the grant", wrong)
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		l, err := op.locateSome(place, access.Manage)
		if err != nil {
			return err
		}
		if !d.grants.MayGrant(op.asker(), request.Role, l.where, within) {
			return op.refuse("%s does not hold every right of the role %s in %s within these limits and cannot grant it; an owner can", caller.Name(), request.Role, place)
		}
		who, exists := d.subject(request.Kind, request.Who)
		if !exists {
			return problem(NotFound, "there is no %s %q", request.Kind, s.redact(request.Who))
		}
		// The trail knows people by their ids; a login can be erased elsewhere.
		op.event.Names = []string{who.String(), request.Role}
		row := storage.Grant{SubjectKind: string(who.Kind), SubjectID: who.ID, Role: request.Role,
			OnProject: l.where.Project, OnEnvironment: l.where.Environment, Names: within.Names, Networks: networks, CreatedAt: s.now()}
		if !within.Until.IsZero() {
			row.Until = &within.Until
		}
		g, err := tx.CreateGrant(row)
		if errors.Is(err, storage.ErrTaken) {
			return problem(Conflict, "%s is already %s in %s; to change its limits, remove that grant and add it anew", request.Who, request.Role, place)
		}
		out = d.wireGrant(g)
		return err
	})
	return out, err
}

// RemoveGrant takes a grant back. It needs manage at its place; the last owner's
// stays.
func (s *Service) RemoveGrant(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "grant.remove", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		i := slices.IndexFunc(d.grantRows, func(g storage.Grant) bool { return g.ID == id })
		var found storage.Grant
		if i >= 0 {
			found = d.grantRows[i]
		}
		where := access.Where{Project: found.OnProject, Environment: found.OnEnvironment}
		place := d.placeOf(where)
		op.event.Project, op.event.Environment = place.Project, place.Environment
		grant, may := op.may(access.Manage, where)
		if !may {
			grant, may = op.maySome(access.Manage, where)
			may = may && grant.Names == found.Names
		}
		if found.ID == 0 || !may {
			op.event.Outcome = "refused"
			return problem(NotFound, "there is no grant %d", id)
		}
		op.event.Grant = grant.ID
		if d.lastOwner(func(g storage.Grant) bool { return g.ID != id }) {
			return problem(Conflict, "this is the last owner's grant; make someone else an owner first")
		}
		op.event.Names = []string{access.Subject{Kind: access.SubjectKind(found.SubjectKind), ID: found.SubjectID}.String(), found.Role}
		return tx.DeleteGrant(id)
	})
}

// lastOwner tells whether nobody would be an owner for good if only the grants
// that stay were left: a person, with a grant of their own that has no limits.
func (d *directory) lastOwner(stays func(storage.Grant) bool) bool {
	for _, g := range d.grantRows {
		who := access.Subject{Kind: access.SubjectKind(g.SubjectKind), ID: g.SubjectID}
		if g.Role == "owner" && g.OnProject == 0 && who.Kind == access.Person && g.Until == nil && g.Networks == "" && g.Names == "" && !d.isFrozen(who) && stays(g) {
			return false
		}
	}
	return true
}

// refuse answers that something is not allowed to one who may know of it.
func (op *operation) refuse(format string, args ...any) error {
	op.event.Outcome = "refused"
	return problem(Forbidden, format, args...)
}
