package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
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
	teams         []storage.Team
	members       map[int64][]int64 // people by team
	roles         access.Roles
	ownRoles      []storage.Role
	frozen        []storage.Frozen
	factors       map[int64]storage.Factor // by person
	invitations   []storage.Invitation
	issuers       []storage.Issuer
	trusts        []storage.Trust
	providers     []storage.Provider
	accounts      []storage.Account
	decoys        []storage.Decoy
	channels      []storage.Channel
	requests      []storage.RoleRequest
	grants        *access.Grants
	revoked       map[int64]bool

	// What is looked up. Removed projects and environments are found by id alone.
	projectByName     map[string]*storage.Project
	projectByID       map[int64]*storage.Project
	environmentByID   map[int64]*storage.Environment
	environmentByName map[int64]map[string]*storage.Environment // by the project
	ofProject         map[int64][]storage.Environment           // in their order, without the removed ones
	layerIDs          map[access.Where]int64
	layerByID         map[int64]storage.Layer
	privateLayers     map[privateKey]int64
	personNames       map[int64]string
	workloadNames     map[int64]string
	names             string // digest of everything that layers show by its name
}

// privateKey is one person in one environment.
type privateKey struct{ person, environment int64 }

// located is a place with its ids.
type located struct {
	place layers.Place
	where access.Where
	layer int64
	chain []int64 // layers from near to far
	// private is whether the layer is the caller's own one in the place.
	private bool
}

// currentDirectory returns the directory at the organization's present revision.
func (s *Service) currentDirectory(tx *storage.Tx) (*directory, error) {
	o, err := tx.Organization()
	if err != nil {
		return nil, err
	}
	return s.directoryAt(tx, o)
}

// directoryAt returns the directory at the revision of the organization's row,
// which was read in the same transaction.
func (s *Service) directoryAt(tx *storage.Tx, o storage.Organization) (*directory, error) {
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
		workloads: stored.Workloads, clientSecrets: stored.ClientSecrets, grantRows: stored.Grants, revoked: map[int64]bool{},
		teams: stored.Teams, members: map[int64][]int64{}, roles: access.BuiltIn(), ownRoles: stored.Roles, frozen: stored.Frozen,
		factors: map[int64]storage.Factor{}, invitations: stored.Invitations, issuers: stored.Issuers, trusts: stored.Trusts, providers: stored.Providers, accounts: stored.Accounts, decoys: stored.Decoys, channels: stored.Channels, requests: stored.Requests}
	for _, f := range stored.Factors {
		d.factors[f.PersonID] = f
	}
	rules := access.Rules{Grants: make([]access.Grant, len(stored.Grants)), Roles: d.roles, Teams: d.members}
	for i, g := range stored.Grants {
		if rules.Grants[i], err = grantOf(g); err != nil {
			return nil, err
		}
	}
	for _, m := range stored.Members {
		d.members[m.TeamID] = append(d.members[m.TeamID], m.PersonID)
	}
	for _, r := range stored.Roles {
		if d.roles[r.Name], err = access.ParseVerbs(strings.Fields(r.Verbs)); err != nil {
			return nil, fmt.Errorf("the role %s: %w", r.Name, err)
		}
	}
	// Who has yet to set up the codes that everybody is asked for may do nothing.
	for _, who := range lackingCodes(stored) {
		rules.Frozen = append(rules.Frozen, access.Frozen{Subject: who})
	}
	for _, f := range stored.Frozen {
		rules.Frozen = append(rules.Frozen, frozenOf(f))
	}
	d.grants = access.NewGrants(rules)
	for _, r := range stored.Revoked {
		d.revoked[r.TokenID] = true
	}
	d.index(stored.Layers)
	return d, nil
}

// index prepares the directory for being asked.
func (d *directory) index(all []storage.Layer) {
	d.projectByName, d.projectByID = map[string]*storage.Project{}, map[int64]*storage.Project{}
	d.environmentByID, d.environmentByName = map[int64]*storage.Environment{}, map[int64]map[string]*storage.Environment{}
	d.ofProject = map[int64][]storage.Environment{}
	d.layerIDs, d.layerByID, d.privateLayers = map[access.Where]int64{}, map[int64]storage.Layer{}, map[privateKey]int64{}
	d.personNames, d.workloadNames = map[int64]string{}, map[int64]string{}
	names := sha256.New()
	for i := range d.projects {
		p := &d.projects[i]
		d.projectByID[p.ID] = p
		fmt.Fprintf(names, "p%d %q ", p.ID, p.Name)
		if p.RemovedAt == nil {
			d.projectByName[p.Name] = p
			d.environmentByName[p.ID] = map[string]*storage.Environment{}
		}
	}
	for i := range d.environments {
		e := &d.environments[i]
		d.environmentByID[e.ID] = e
		fmt.Fprintf(names, "e%d %q ", e.ID, e.Name)
		if byName := d.environmentByName[e.ProjectID]; e.RemovedAt == nil && byName != nil {
			byName[e.Name] = e
			d.ofProject[e.ProjectID] = append(d.ofProject[e.ProjectID], *e)
		}
	}
	for _, p := range d.people {
		d.personNames[p.ID] = p.Name
		fmt.Fprintf(names, "h%d %q ", p.ID, p.Name)
	}
	for _, w := range d.workloads {
		d.workloadNames[w.ID] = w.Name
		fmt.Fprintf(names, "w%d %q ", w.ID, w.Name)
	}
	for _, l := range all {
		d.layerByID[l.ID] = l
		if l.PersonID != nil {
			d.privateLayers[privateKey{*l.PersonID, orZero(l.EnvironmentID)}] = l.ID
		} else {
			d.layerIDs[access.Where{Project: l.ProjectID, Environment: orZero(l.EnvironmentID)}] = l.ID
		}
	}
	d.names = string(names.Sum(nil))
}

// grantOf reads a grant's row.
func grantOf(g storage.Grant) (access.Grant, error) {
	out := access.Grant{ID: g.ID, Who: access.Subject{Kind: access.SubjectKind(g.SubjectKind), ID: g.SubjectID}, Role: g.Role,
		Where: access.Where{Project: g.OnProject, Environment: g.OnEnvironment}, Limits: access.Limits{Names: g.Names}}
	if g.Until != nil {
		out.Until = *g.Until
	}
	for _, text := range strings.Fields(g.Networks) {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return out, fmt.Errorf("the networks of grant %d: %w", g.ID, err)
		}
		out.Networks = append(out.Networks, network)
	}
	return out, nil
}

func frozenOf(f storage.Frozen) access.Frozen {
	switch f.Kind {
	case "project":
		return access.Frozen{Project: f.Of}
	case "organization":
		return access.Frozen{}
	}
	return access.Frozen{Subject: access.Subject{Kind: access.SubjectKind(f.Kind), ID: f.Of}}
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
		p := d.projectByName[place.Project]
		if p == nil {
			return l, false
		}
		l.where.Project = p.ID
	}
	if place.Environment == "" {
		l.layer = d.layerIDs[l.where]
		l.chain = []int64{l.layer}
		return l, l.layer != 0
	}
	e := d.environmentByName[l.where.Project][place.Environment]
	if e == nil {
		return l, false
	}
	l.where.Environment = e.ID
	for e != nil && len(l.chain) <= layers.MaxFollow {
		l.chain = append(l.chain, d.layerIDs[access.Where{Project: e.ProjectID, Environment: e.ID}])
		e = d.environmentByID[orZero(e.Follows)]
	}
	l.layer = l.chain[0]
	l.chain = append(l.chain, d.layerIDs[access.Where{Project: l.where.Project}], d.layerIDs[access.Where{}])
	return l, true
}

// environmentsOf are a project's environments in their order, without removed ones.
func (d *directory) environmentsOf(project string) []storage.Environment {
	if p := d.projectByName[project]; p != nil {
		return d.ofProject[p.ID]
	}
	return nil
}

// placeOf is the name of a place, also of one that was removed.
func (d *directory) placeOf(where access.Where) layers.Place {
	var place layers.Place
	if p := d.projectByID[where.Project]; p != nil {
		place.Project = p.Name
	}
	if e := d.environmentByID[where.Environment]; e != nil {
		place.Environment = e.Name
	}
	return place
}

// layerPlace finds the place of a layer by its id.
func (d *directory) layerPlace(id int64) access.Where {
	l := d.layerByID[id]
	return access.Where{Project: l.ProjectID, Environment: orZero(l.EnvironmentID)}
}

// subjectName is a person's or a workload's name for people.
func (d *directory) subjectName(who access.Subject) string {
	if d != nil {
		var name string
		switch who.Kind {
		case access.Person:
			name = d.personNames[who.ID]
		case access.Workload:
			name = d.workloadNames[who.ID]
		case access.Team:
			for _, t := range d.teams {
				if t.ID == who.ID {
					name = "the team " + t.Name
				}
			}
		}
		if name != "" {
			return name
		}
	}
	if who == (access.Subject{}) {
		return "the service itself"
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
	case access.Team:
		for _, t := range d.teams {
			if t.Name == name {
				return access.Subject{Kind: access.Team, ID: t.ID}, true
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
