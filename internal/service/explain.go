package service

import (
	"cmp"
	"context"
	"slices"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// ExplainPlace tells who can do what to a name at a place, or to anything there
// where the name is empty, and through which grants. It needs manage there.
func (s *Service) ExplainPlace(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Explanation, err error) {
	op := s.begin(ctx, caller, "explain.place", place)
	if name != "" {
		op.event.Names = []string{s.redactName(name)}
	}
	defer op.end(&err)
	l, err := op.locateSome(place, access.Manage)
	if err != nil {
		return out, err
	}
	if name != "" {
		if err := op.allowName(access.Manage, l, name); err != nil {
			return out, err
		}
	}
	out = wire.Explanation{Place: place.String(), Name: name, Rows: []wire.Reach{}}
	for _, g := range op.dir.grantRows {
		grant, err := grantOf(g)
		if err != nil {
			return out, err
		}
		if name != "" && grant.Names != "" && !access.Matches(grant.Names, name) {
			continue
		}
		verbs, via := op.dir.grants.Verbs(g.Role), ""
		switch {
		case covers(grant.Where, l.where):
		case place.Environment == "" && grant.Where.Environment != 0 && covers(l.where, grant.Where):
			// Values of a common layer are read with the grant of an environment.
			verbs, via = slices.DeleteFunc(slices.Clone(verbs), func(v access.Verb) bool { return v != access.Read }), op.dir.placeOf(grant.Where).String()
		default:
			continue
		}
		if verbs = onPlace(verbs, l.where); len(verbs) > 0 {
			out.Rows = append(out.Rows, op.reaches(g, verbs, via)...)
		}
	}
	sortReach(out.Rows)
	return out, nil
}

func covers(w, other access.Where) bool {
	return w.Project == 0 || w.Project == other.Project && (w.Environment == 0 || w.Environment == other.Environment)
}

// onPlace leaves out of verbs those on the organization, anywhere else.
func onPlace(verbs []access.Verb, where access.Where) []access.Verb {
	if where == (access.Where{}) {
		return verbs
	}
	return slices.DeleteFunc(slices.Clone(verbs), func(v access.Verb) bool { return !slices.Contains(access.EntryVerbs(), v) })
}

// reaches are the people and workloads that have a grant.
func (op *operation) reaches(g storage.Grant, verbs []access.Verb, via string) []wire.Reach {
	d := op.dir
	who := access.Subject{Kind: access.SubjectKind(g.SubjectKind), ID: g.SubjectID}
	subjects := []access.Subject{who}
	if who.Kind == access.Team {
		subjects = nil
		for _, id := range d.members[who.ID] {
			subjects = append(subjects, access.Subject{Kind: access.Person, ID: id})
		}
		via = "the team " + d.handle(who)
	}
	var rows []wire.Reach
	for _, subject := range subjects {
		row := wire.Reach{Grant: d.wireGrant(g), Who: d.subjectName(subject), Login: d.handle(subject), Kind: string(subject.Kind), Via: via, State: "holds"}
		for _, v := range verbs {
			row.Verbs = append(row.Verbs, string(v))
		}
		switch {
		case g.Until != nil && !op.at.Before(*g.Until):
			row.State = "ended"
		case d.isFrozen(subject):
			row.State = "frozen"
		}
		rows = append(rows, row)
	}
	return rows
}

func sortReach(rows []wire.Reach) {
	slices.SortStableFunc(rows, func(a, b wire.Reach) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Who, b.Who), cmp.Compare(a.Grant.ID, b.Grant.ID))
	})
}

// ExplainSubject tells what a person or a workload can reach, and through which
// grants. It needs people, or to be that one.
func (s *Service) ExplainSubject(ctx context.Context, caller Caller, kind, handle string) (out wire.Explanation, err error) {
	op := s.begin(ctx, caller, "explain.subject", organizationPlace)
	defer op.end(&err)
	who, err := op.subjectOf(kind, handle, access.People)
	if err != nil {
		return out, err
	}
	out = wire.Explanation{Name: op.dir.subjectName(who), Rows: []wire.Reach{}}
	for _, held := range op.dir.grants.Of(who) {
		i := slices.IndexFunc(op.dir.grantRows, func(g storage.Grant) bool { return g.ID == held.ID })
		for _, row := range op.reaches(op.dir.grantRows[i], op.dir.grants.Verbs(held.Role), "") {
			if row.Kind == string(who.Kind) && row.Login == op.dir.handle(who) {
				out.Rows = append(out.Rows, row)
			}
		}
	}
	slices.SortStableFunc(out.Rows, func(a, b wire.Reach) int {
		return cmp.Or(cmp.Compare(a.Grant.Project, b.Grant.Project), cmp.Compare(a.Grant.Environment, b.Grant.Environment))
	})
	return out, nil
}

// subjectOf finds a person or a workload for one who has a verb on the
// organization, or is that one. Nobody else learns whether there is such a one.
func (op *operation) subjectOf(kind, handle string, verb access.Verb) (access.Subject, error) {
	who, exists := op.dir.subject(kind, handle)
	if exists {
		op.event.Names = []string{who.String()}
	}
	if who == op.caller.Subject {
		return who, nil
	}
	if err := op.allow(verb, organization); err != nil {
		return who, err
	}
	if !exists || who.Kind == access.Team {
		return who, problem(NotFound, "there is no %s %q", kind, op.service.redact(handle))
	}
	return who, nil
}

// PreviewGrant tells what a grant would newly allow to whom, and grants nothing.
// It needs what [Service.AddGrant] needs.
func (s *Service) PreviewGrant(ctx context.Context, caller Caller, request wire.NewGrant) (out wire.Preview, err error) {
	place := layers.Place{Project: request.Project, Environment: request.Environment}
	op := s.begin(ctx, caller, "grant.preview", place)
	defer op.end(&err)
	within, networks, wrong := limits(request, op.at)
	if op.dir.roles[request.Role] == nil {
		wrong = append(wrong, "there is no such role; \"adytum role list\" shows them")
	}
	if len(wrong) > 0 {
		return out, problems(Invalid, "things are wrong with the grant", wrong)
	}
	l, err := op.locateSome(place, access.Manage)
	if err != nil {
		return out, err
	}
	if !op.dir.grants.MayGrant(op.asker(), request.Role, l.where, within) {
		return out, op.refuse("%s does not hold every right of the role %s in %s within these limits and cannot grant it; an owner can", caller.Name(), request.Role, place)
	}
	who, exists := op.dir.subject(request.Kind, request.Who)
	if !exists {
		return out, problem(NotFound, "there is no %s %q", request.Kind, s.redact(request.Who))
	}
	row := storage.Grant{SubjectKind: string(who.Kind), SubjectID: who.ID, Role: request.Role, OnProject: l.where.Project, OnEnvironment: l.where.Environment, Names: within.Names, Networks: networks}
	if !within.Until.IsZero() {
		row.Until = &within.Until
	}
	out = wire.Preview{Grant: op.dir.wireGrant(row), Gains: []wire.Gain{}}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		out.Gains, err = op.gains(tx, row, l.where)
		return err
	})
	return out, err
}

// gains are what a grant would newly allow, by who gets it and layer.
func (op *operation) gains(tx *storage.Tx, row storage.Grant, at access.Where) ([]wire.Gain, error) {
	d, gains := op.dir, []wire.Gain{}
	verbs := d.grants.Verbs(row.Role)
	for _, place := range d.placesWithin(at) {
		if _, may := op.maySome(access.List, place); !may {
			continue
		}
		if err := tx.Widen(storage.Scope{0, place.Project}); err != nil {
			return nil, err
		}
		_, loaded, err := op.service.loadChain(tx, d, []int64{d.layerIDs[place]})
		if err != nil {
			return nil, err
		}
		for _, reach := range op.reaches(row, verbs, "") {
			who, _ := d.subject(reach.Kind, reach.Login)
			asker := access.Asker{Subject: who, From: op.caller.From, At: op.at}
			gain := wire.Gain{Who: reach.Who, Place: d.placeOf(place).String()}
			counted := map[string]bool{}
			for _, verb := range onPlace(verbs, place) {
				newly := 0
				for name := range loaded[d.layerIDs[place]].Entries {
					if _, told := op.mayName(access.List, place, name); !told {
						continue
					}
					if _, has := d.grants.DecideName(asker, verb, place, name); !has && (row.Names == "" || access.Matches(row.Names, name)) {
						newly++
						counted[name] = true
					}
				}
				if _, has := d.grants.DecideSome(asker, verb, place); newly > 0 || !has {
					gain.Verbs = append(gain.Verbs, string(verb))
				}
			}
			if gain.Entries = len(counted); len(gain.Verbs) > 0 {
				gains = append(gains, gain)
			}
		}
	}
	return gains, nil
}

// placesWithin are the places that a grant at a place reaches, removed ones left out.
func (d *directory) placesWithin(at access.Where) []access.Where {
	var all []access.Where
	for where := range d.layerIDs {
		p, e := d.projectByID[where.Project], d.environmentByID[where.Environment]
		if gone := p != nil && p.RemovedAt != nil || e != nil && e.RemovedAt != nil; !gone && covers(at, where) {
			all = append(all, where)
		}
	}
	slices.SortFunc(all, func(a, b access.Where) int {
		return cmp.Compare(d.placeOf(a).String(), d.placeOf(b).String())
	})
	return all
}
