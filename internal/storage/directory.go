package storage

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Directory is everything of the organization that access is decided on, at one
// revision.
type Directory struct {
	Organization  Organization
	Projects      []Project
	Environments  []Environment
	People        []Person
	Workloads     []Workload
	ClientSecrets []ClientSecret
	Grants        []Grant
	Teams         []Team
	Members       []TeamMember
	Roles         []Role
	Frozen        []Frozen
	Factors       []Factor
	Invitations   []Invitation
	Issuers       []Issuer
	Trusts        []Trust
	Providers     []Provider
	Accounts      []Account
	Decoys        []Decoy
	Channels      []Channel
	Requests      []RoleRequest
	Revoked       []RevokedToken
	Layers        []Layer // ids and places; their revisions move on without the directory
}

// Organization reads the organization's row.
func (tx *Tx) Organization() (Organization, error) {
	var o Organization
	err := tx.db.Take(&o).Error
	return o, classify(err)
}

// LockOrganization reads the organization's row and keeps others from changing it.
func (tx *Tx) LockOrganization() (Organization, error) {
	var o Organization
	err := tx.db.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&o).Error
	return o, classify(err)
}

// ShareOrganization reads the organization's row, keeps others from changing the organization's rows, and lets
// others share it, until the transaction ends.
func (tx *Tx) ShareOrganization() (Organization, error) {
	var o Organization
	err := tx.db.Clauses(clause.Locking{Strength: "SHARE"}).Take(&o).Error
	return o, classify(err)
}

// CreateOrganization writes the organization's row; there may be none yet.
func (tx *Tx) CreateOrganization(o Organization) error {
	o.ID = 1
	return classify(tx.db.Create(&o).Error)
}

// SaveOrganization moves the organization on to a revision with its manifest.
func (tx *Tx) SaveOrganization(revision int64, manifest []byte) error {
	return tx.db.Model(&Organization{}).Where("id = 1").Updates(map[string]any{"revision": revision, "manifest": manifest}).Error
}

// SaveOrganizationPolicy writes what the organization asks of everybody.
func (tx *Tx) SaveOrganizationPolicy(o Organization) error {
	return classify(tx.db.Model(&Organization{}).Where("id = 1").Updates(map[string]any{"codes": o.Codes}).Error)
}

// Directory reads the whole directory. It widens the transaction's scope to all
// projects, since environments belong to theirs, and leaves it so.
func (tx *Tx) Directory() (*Directory, error) {
	d := &Directory{}
	var err error
	if d.Organization, err = tx.Organization(); err != nil {
		return nil, err
	}
	if err := tx.db.Order("name").Find(&d.Projects).Error; err != nil {
		return nil, err
	}
	if err := tx.Widen(append(scopeOf(d.Projects), 0)); err != nil {
		return nil, err
	}
	people := tx.db.Table("people").Select("people.*, coalesce(person_names.name, '') AS name").
		Joins("LEFT JOIN person_names ON person_names.person_id = people.id").Order("people.id")
	for _, read := range []*gorm.DB{
		tx.db.Order("project_id, position, id").Find(&d.Environments),
		people.Find(&d.People),
		tx.db.Order("id").Find(&d.Workloads),
		tx.db.Order("id").Find(&d.ClientSecrets),
		tx.db.Order("id").Find(&d.Grants),
		tx.db.Order("name").Find(&d.Teams),
		tx.db.Order("team_id, person_id").Find(&d.Members),
		tx.db.Order("name").Find(&d.Roles),
		tx.db.Order("kind, of").Find(&d.Frozen),
		tx.db.Order("person_id").Find(&d.Factors),
		tx.db.Order("person_id").Find(&d.Invitations),
		tx.db.Order("name").Find(&d.Issuers),
		tx.db.Order("id").Find(&d.Trusts),
		tx.db.Order("id").Find(&d.Providers),
		tx.db.Order("person_id").Find(&d.Accounts),
		tx.db.Order("id").Find(&d.Decoys),
		tx.db.Order("id").Find(&d.Channels),
		tx.db.Order("id").Find(&d.Requests),
		tx.db.Order("token_id").Find(&d.Revoked),
		tx.db.Select("project_id", "id", "environment_id", "person_id").Order("id").Find(&d.Layers),
	} {
		if read.Error != nil {
			return nil, read.Error
		}
	}
	return d, nil
}

func scopeOf(projects []Project) Scope {
	scope := make(Scope, 0, len(projects)+1)
	for _, p := range projects {
		scope = append(scope, p.ID)
	}
	return scope
}

// CreateProject writes a project and returns it with its id.
func (tx *Tx) CreateProject(p Project) (Project, error) {
	err := tx.db.Create(&p).Error
	return p, classify(err)
}

// CreateEnvironment writes an environment and returns it with its id.
func (tx *Tx) CreateEnvironment(e Environment) (Environment, error) {
	err := tx.db.Create(&e).Error
	return e, classify(err)
}

// SaveProject writes a project's name, policies and removal.
func (tx *Tx) SaveProject(p Project) error {
	return classify(tx.db.Model(&Project{}).Where("id = ?", p.ID).Updates(map[string]any{"name": p.Name, "keep_removed_days": p.KeepRemovedDays,
		"max_age_days": p.MaxAgeDays, "removed_at": p.RemovedAt, "purge_at": p.PurgeAt, "destroyed_at": p.DestroyedAt}).Error)
}

// SaveEnvironment writes an environment's name, what it follows, its policies
// and removal.
func (tx *Tx) SaveEnvironment(e Environment) error {
	return classify(tx.db.Model(&Environment{}).Where("project_id = ? AND id = ?", e.ProjectID, e.ID).Updates(map[string]any{"name": e.Name, "follows": e.Follows,
		"protected": e.Protected, "approval": e.Approval, "max_age_days": e.MaxAgeDays, "removed_at": e.RemovedAt, "purge_at": e.PurgeAt, "destroyed_at": e.DestroyedAt}).Error)
}

// CreatePerson writes a person with their name and returns them with their id.
func (tx *Tx) CreatePerson(p Person) (Person, error) {
	if err := tx.db.Create(&p).Error; err != nil {
		return p, classify(err)
	}
	return p, classify(tx.db.Create(&PersonName{PersonID: p.ID, Name: p.Name}).Error)
}

// CreateWorkload writes a workload and returns it with its id.
func (tx *Tx) CreateWorkload(w Workload) (Workload, error) {
	err := tx.db.Create(&w).Error
	return w, classify(err)
}

// CreateClientSecret writes the hash of a workload's secret and returns it with its id.
func (tx *Tx) CreateClientSecret(s ClientSecret) (ClientSecret, error) {
	err := tx.db.Create(&s).Error
	return s, classify(err)
}

// CreateGrant writes a grant and returns it with its id.
func (tx *Tx) CreateGrant(g Grant) (Grant, error) {
	err := tx.db.Create(&g).Error
	return g, classify(err)
}

// DeleteGrant removes a grant.
func (tx *Tx) DeleteGrant(id int64) error { return gone(tx.db.Delete(&Grant{}, id)) }

// gone is the outcome of deleting what should be there.
func gone(done *gorm.DB) error {
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return classify(done.Error)
}

// CreateTeam writes a team and returns it with its id.
func (tx *Tx) CreateTeam(t Team) (Team, error) {
	err := tx.db.Create(&t).Error
	return t, classify(err)
}

// DeleteTeam removes a team with its membership and its grants.
func (tx *Tx) DeleteTeam(id int64) error {
	if err := tx.db.Where("subject_kind = 'team' AND subject_id = ?", id).Delete(&Grant{}).Error; err != nil {
		return classify(err)
	}
	return gone(tx.db.Delete(&Team{}, id))
}

// AddMember puts a person into a team.
func (tx *Tx) AddMember(m TeamMember) error { return classify(tx.db.Create(&m).Error) }

// RemoveMember takes a person out of a team.
func (tx *Tx) RemoveMember(m TeamMember) error {
	return gone(tx.db.Where("team_id = ? AND person_id = ?", m.TeamID, m.PersonID).Delete(&TeamMember{}))
}

// CreateRole writes a role.
func (tx *Tx) CreateRole(r Role) error { return classify(tx.db.Create(&r).Error) }

// SaveRole gives a role other verbs.
func (tx *Tx) SaveRole(r Role) error {
	return classify(tx.db.Model(&Role{}).Where("id = ?", r.ID).Update("verbs", r.Verbs).Error)
}

// DeleteRole removes a role.
func (tx *Tx) DeleteRole(id int64) error { return gone(tx.db.Delete(&Role{}, id)) }

// Freeze writes down that something is frozen.
func (tx *Tx) Freeze(f Frozen) error { return classify(tx.db.Create(&f).Error) }

// Thaw takes back what [Tx.Freeze] wrote.
func (tx *Tx) Thaw(f Frozen) error {
	return gone(tx.db.Where("kind = ? AND of = ?", f.Kind, f.Of).Delete(&Frozen{}))
}

// DeleteClientSecret removes one of a workload's client secrets.
func (tx *Tx) DeleteClientSecret(id int64) error { return gone(tx.db.Delete(&ClientSecret{}, id)) }

// Used writes down when something was last used.
func (tx *Tx) Used(u LastUse) error {
	return classify(tx.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "kind"}, {Name: "of"}}, DoUpdates: clause.AssignmentColumns([]string{"at"})}).Create(&u).Error)
}

// LastUses reads when things of a kind were last used, by their ids.
func (tx *Tx) LastUses(kind string) (map[int64]time.Time, error) {
	var rows []LastUse
	err := tx.db.Where("kind = ?", kind).Find(&rows).Error
	uses := make(map[int64]time.Time, len(rows))
	for _, u := range rows {
		uses[u.Of] = u.At
	}
	return uses, classify(err)
}

// TokenByHash reads a token.
func (tx *Tx) TokenByHash(hash []byte) (Token, error) {
	var t Token
	err := tx.db.Where("hash = ?", hash).Take(&t).Error
	return t, classify(err)
}

// TokensOf reads the tokens of a person or a workload that have not expired,
// newest first.
func (tx *Tx) TokensOf(kind string, id int64, now time.Time) ([]Token, error) {
	var all []Token
	err := tx.db.Where("subject_kind = ? AND subject_id = ? AND expires_at > ?", kind, id, now).Order("id DESC").Find(&all).Error
	return all, classify(err)
}

// SavePerson writes a person's login, password and removal. A name is written
// where there is one, and erased where there is none.
func (tx *Tx) SavePerson(p Person) error {
	if err := tx.db.Model(&Person{}).Where("id = ?", p.ID).Updates(map[string]any{"login": p.Login, "password": p.Password, "removed_at": p.RemovedAt}).Error; err != nil {
		return classify(err)
	}
	if p.Name == "" {
		return classify(tx.db.Where("person_id = ?", p.ID).Delete(&PersonName{}).Error)
	}
	return nil
}

// LeaveEverything takes away what a person was granted, and every team from them.
func (tx *Tx) LeaveEverything(person int64) error {
	if err := tx.db.Where("subject_kind = 'person' AND subject_id = ?", person).Delete(&Grant{}).Error; err != nil {
		return classify(err)
	}
	if err := tx.db.Where("person_id = ?", person).Delete(&RoleRequest{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Where("person_id = ?", person).Delete(&TeamMember{}).Error)
}

// SaveFactor writes a person's codes, in place of others.
func (tx *Tx) SaveFactor(f Factor) error {
	return classify(tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&f).Error)
}

// DeleteFactor removes a person's codes, if there are any.
func (tx *Tx) DeleteFactor(person int64) error {
	if err := tx.db.Where("person_id = ?", person).Delete(&UsedCode{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Where("person_id = ?", person).Delete(&Factor{}).Error)
}

// UseCode records that a code was used: ErrTaken says that it was before. Codes
// from before a step are forgotten.
func (tx *Tx) UseCode(u UsedCode, forget int64) error {
	if err := tx.db.Where("person_id = ? AND step < ?", u.PersonID, forget).Delete(&UsedCode{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Create(&u).Error)
}

// SaveInvitation writes a person's invitation, in place of another.
func (tx *Tx) SaveInvitation(i Invitation) error {
	return classify(tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&i).Error)
}

// DeleteInvitation removes a person's invitation, if there is one.
func (tx *Tx) DeleteInvitation(person int64) error {
	return classify(tx.db.Where("person_id = ?", person).Delete(&Invitation{}).Error)
}

// CreateIssuer writes an issuer.
func (tx *Tx) CreateIssuer(i Issuer) error { return classify(tx.db.Create(&i).Error) }

// DeleteIssuer removes an issuer with the trusts in it.
func (tx *Tx) DeleteIssuer(id int64) error { return gone(tx.db.Delete(&Issuer{}, id)) }

// CreateTrust writes a trust and returns it with its id.
func (tx *Tx) CreateTrust(t Trust) (Trust, error) {
	err := tx.db.Create(&t).Error
	return t, classify(err)
}

// DeleteTrust removes a trust.
func (tx *Tx) DeleteTrust(id int64) error { return gone(tx.db.Delete(&Trust{}, id)) }

// UseSigned records that a signed token was used: ErrTaken says that it was
// before. Tokens that have expired are forgotten.
func (tx *Tx) UseSigned(u UsedSigned, now time.Time) error {
	if err := tx.db.Where("expires_at < ?", now).Delete(&UsedSigned{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Create(&u).Error)
}

// CreateRoleRequest writes a request and returns it with its id.
func (tx *Tx) CreateRoleRequest(r RoleRequest) (RoleRequest, error) {
	err := tx.db.Create(&r).Error
	return r, classify(err)
}

// DeleteRoleRequest removes a request that was answered or taken back.
func (tx *Tx) DeleteRoleRequest(id int64) error { return gone(tx.db.Delete(&RoleRequest{}, id)) }

// NextTokenID reserves the id of a token that is about to be signed.
func (tx *Tx) NextTokenID() (int64, error) {
	var id int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.tokens', 'id'))").Scan(&id).Error
	return id, err
}

// CreateToken writes a token under its reserved id, and clears away those that
// expired before a moment.
func (tx *Tx) CreateToken(t Token, expiredBefore time.Time) error {
	err := tx.db.Exec(`INSERT INTO tokens (id, hash, subject_kind, subject_id, created_at, expires_at, mac, opened_from, family)
		OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, t.ID, t.Hash, t.SubjectKind, t.SubjectID, t.CreatedAt, t.ExpiresAt, t.MAC, t.OpenedFrom, t.Family).Error
	if err != nil {
		return classify(err)
	}
	return tx.db.Where("expires_at < ?", expiredBefore).Delete(&Token{}).Error
}

// RevokeToken records that a token is revoked, and forgets revocations of
// tokens that have expired long since.
func (tx *Tx) RevokeToken(r RevokedToken, expiredBefore time.Time) error {
	if err := tx.db.Where("until < ?", expiredBefore).Delete(&RevokedToken{}).Error; err != nil {
		return err
	}
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&r).Error
}
