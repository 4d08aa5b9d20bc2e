package service

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// directory is the organization at one revision: its manifest was checked when
// it was loaded, and it is not changed afterwards.
type directory struct {
	organization  storage.Organization
	projects      []storage.Project
	environments  []storage.Environment
	people        []storage.Person
	workloads     []storage.Workload
	clientSecrets []storage.ClientSecret
	grantRows     []storage.Grant
	grants        *access.Grants
	revoked       map[int64]bool
	layerIDs      map[access.Where]int64
}

// located is a place with its ids.
type located struct {
	place layers.Place
	where access.Where
	layer int64
	chain []int64 // layers from near to far
}

// currentDirectory returns the directory at the organization's present revision.
func (s *Service) currentDirectory(tx *storage.Tx) (*directory, error) {
	o, err := tx.Organization()
	if err != nil {
		return nil, err
	}
	if d := s.directory.Load(); d != nil && d.organization.Revision == o.Revision {
		return d, nil
	}
	d, err := s.keys.loadDirectory(tx)
	if err != nil {
		return nil, err
	}
	s.directory.Store(d)
	return d, nil
}

// loadDirectory reads the directory and checks its manifest.
func (k *keyring) loadDirectory(tx *storage.Tx) (*directory, error) {
	stored, err := tx.Directory()
	if err != nil {
		return nil, err
	}
	if !envelope.Same(k.directoryManifest(stored), stored.Organization.Manifest) {
		return nil, fmt.Errorf("the organization's records at revision %d are not what was signed: people, workloads, grants, projects or environments were altered in the database", stored.Organization.Revision)
	}
	d := &directory{organization: stored.Organization, projects: stored.Projects, environments: stored.Environments, people: stored.People,
		workloads: stored.Workloads, clientSecrets: stored.ClientSecrets, grantRows: stored.Grants,
		revoked: map[int64]bool{}, layerIDs: map[access.Where]int64{}}
	grants := make([]access.Grant, len(stored.Grants))
	for i, g := range stored.Grants {
		grants[i] = access.Grant{ID: g.ID, Who: access.Subject{Kind: access.SubjectKind(g.SubjectKind), ID: g.SubjectID}, Role: g.Role,
			Where: access.Where{Project: g.OnProject, Environment: g.OnEnvironment}}
	}
	d.grants = access.NewGrants(grants)
	for _, r := range stored.Revoked {
		d.revoked[r.TokenID] = true
	}
	for _, l := range stored.Layers {
		where := access.Where{Project: l.ProjectID}
		if l.EnvironmentID != nil {
			where.Environment = *l.EnvironmentID
		}
		d.layerIDs[where] = l.ID
	}
	return d, nil
}

// directoryManifest signs everything that access is decided on. A person's name
// is left out, so that it can be erased.
func (k *keyring) directoryManifest(d *storage.Directory) []byte {
	var rows []envelope.Row
	add := func(kind string, id int64, parts ...string) {
		rows = append(rows, envelope.Row{Key: kind + envelope.Number(id), Parts: parts})
	}
	at := func(t time.Time) string { return envelope.Number(t.UnixMicro()) }
	for _, p := range d.Projects {
		add("project", p.ID, p.Name)
	}
	for _, e := range d.Environments {
		follows := int64(0)
		if e.Follows != nil {
			follows = *e.Follows
		}
		add("environment", e.ID, envelope.Number(e.ProjectID), e.Name, envelope.Number(follows))
	}
	for _, p := range d.People {
		add("person", p.ID, p.Login, p.Password)
	}
	for _, w := range d.Workloads {
		add("workload", w.ID, w.Name, w.ClientID)
	}
	for _, c := range d.ClientSecrets {
		add("client secret", c.ID, envelope.Number(c.WorkloadID), string(c.Hash))
	}
	for _, g := range d.Grants {
		add("grant", g.ID, g.SubjectKind, envelope.Number(g.SubjectID), g.Role, envelope.Number(g.OnProject), envelope.Number(g.OnEnvironment))
	}
	for _, r := range d.Revoked {
		add("revoked", r.TokenID, at(r.Until))
	}
	for _, l := range d.Layers {
		environment := int64(0)
		if l.EnvironmentID != nil {
			environment = *l.EnvironmentID
		}
		add("layer", l.ID, envelope.Number(l.ProjectID), envelope.Number(environment))
	}
	return envelope.Manifest(k.manifests, "organization "+k.organization, d.Organization.Revision, rows)
}

// changeDirectory runs f in a transaction that may write everything, moves the
// organization on by one revision with its manifest, and writes the event in the
// same transaction. The directory that f gets is the newest; access is decided
// on it again, since it may have changed since the operation began.
func (s *Service) changeDirectory(op *operation, f func(tx *storage.Tx, d *directory) error) error {
	err := s.store.In(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if _, err := tx.LockOrganization(); err != nil {
			return err
		}
		d, err := s.keys.loadDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		if err := f(tx, d); err != nil {
			return err
		}
		return s.keys.commitDirectory(tx, op.event, s.now())
	})
	if err == nil {
		op.recorded = true
	}
	return err
}

// commitDirectory signs the directory as it now stands at the next revision and
// appends the event to the organization's lane.
func (k *keyring) commitDirectory(tx *storage.Tx, e trail.Event, now time.Time) error {
	stored, err := tx.Directory()
	if err != nil {
		return err
	}
	stored.Organization.Revision++
	manifest := k.directoryManifest(stored)
	if err := tx.SaveOrganization(stored.Organization.Revision, manifest); err != nil {
		return err
	}
	e.Lane, e.Seq, e.Revision = trail.OrganizationLane, stored.Organization.Revision, stored.Organization.Revision
	if e.At, err = notBefore(tx, e.Lane, e.Seq-1, now); err != nil {
		return err
	}
	e.Manifest = hex.EncodeToString(manifest)
	return appendTrail(tx, trail.NewBatch(k.trail, []trail.Event{e}))
}

// notBefore is now, or the time of the event at seq where that is later: within
// a lane time does not run backwards, whatever the clocks of instances say.
func notBefore(tx *storage.Tx, lane string, seq int64, now time.Time) (time.Time, error) {
	b, err := tx.TrailBatch(lane, seq)
	if errors.Is(err, storage.ErrNotFound) {
		return now, nil
	} else if err != nil {
		return now, err
	}
	events, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
	if err != nil {
		return now, err
	}
	if last := events[len(events)-1].At; now.Before(last) {
		return last, nil
	}
	return now, nil
}

func appendTrail(tx *storage.Tx, b trail.Batch) error {
	return tx.AppendTrail(storage.TrailBatch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC})
}

// locate finds a place. Where the project exists and the environment does not,
// the project's id is set all the same.
func (d *directory) locate(place layers.Place) (located, bool) {
	l := located{place: place}
	if place.Project != "" {
		for _, p := range d.projects {
			if p.Name == place.Project {
				l.where.Project = p.ID
			}
		}
		if l.where.Project == 0 {
			return l, false
		}
	}
	if place.Environment == "" {
		l.layer = d.layerIDs[l.where]
		l.chain = []int64{l.layer}
		return l, l.layer != 0
	}
	for e := d.environment(l.where.Project, func(e storage.Environment) bool { return e.Name == place.Environment }); e != nil; {
		if l.where.Environment == 0 {
			l.where.Environment = e.ID
		}
		l.chain = append(l.chain, d.layerIDs[access.Where{Project: e.ProjectID, Environment: e.ID}])
		if e.Follows == nil || len(l.chain) > layers.MaxFollow {
			break
		}
		followed := *e.Follows
		e = d.environment(l.where.Project, func(e storage.Environment) bool { return e.ID == followed })
	}
	if l.where.Environment == 0 {
		return l, false
	}
	l.layer = l.chain[0]
	l.chain = append(l.chain, d.layerIDs[access.Where{Project: l.where.Project}], d.layerIDs[access.Where{}])
	return l, true
}

func (d *directory) environment(project int64, is func(storage.Environment) bool) *storage.Environment {
	for i, e := range d.environments {
		if e.ProjectID == project && is(e) {
			return &d.environments[i]
		}
	}
	return nil
}

func (d *directory) environmentsOf(project string) []storage.Environment {
	var all []storage.Environment
	for _, e := range d.environments {
		if d.projectName(e.ProjectID) == project {
			all = append(all, e)
		}
	}
	return all
}

func (d *directory) projectName(id int64) string {
	for _, p := range d.projects {
		if p.ID == id {
			return p.Name
		}
	}
	return ""
}

// placeOf names a layer's place by its ids.
func (d *directory) placeOf(where access.Where) layers.Place {
	p := layers.Place{Project: d.projectName(where.Project)}
	if where.Environment != 0 {
		if e := d.environment(where.Project, func(e storage.Environment) bool { return e.ID == where.Environment }); e != nil {
			p.Environment = e.Name
		}
	}
	return p
}

// layerPlace finds the place of a layer by its id.
func (d *directory) layerPlace(id int64) access.Where {
	for where, layer := range d.layerIDs {
		if layer == id {
			return where
		}
	}
	return access.Where{}
}

// subjectName is a person's or a workload's name for people.
func (d *directory) subjectName(who access.Subject) string {
	if d != nil && who.Kind == access.Person {
		for _, p := range d.people {
			if p.ID == who.ID && p.Name != "" {
				return p.Name
			}
		}
	} else if d != nil {
		for _, w := range d.workloads {
			if w.ID == who.ID {
				return w.Name
			}
		}
	}
	return string(who.Kind) + " " + strconv.FormatInt(who.ID, 10)
}

// subject finds a person by login or a workload by name.
func (d *directory) subject(kind, name string) (access.Subject, bool) {
	switch access.SubjectKind(kind) {
	case access.Person:
		for _, p := range d.people {
			if p.Login == name {
				return access.Subject{Kind: access.Person, ID: p.ID}, true
			}
		}
	case access.Workload:
		for _, w := range d.workloads {
			if w.Name == name {
				return access.Subject{Kind: access.Workload, ID: w.ID}, true
			}
		}
	}
	return access.Subject{}, false
}

// snapshotDirectory reads the present directory outside any other transaction.
func (s *Service) snapshotDirectory(ctx context.Context) (d *directory, err error) {
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err = s.currentDirectory(tx)
		return err
	})
	return d, err
}
