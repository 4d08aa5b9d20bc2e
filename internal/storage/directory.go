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
		"protected": e.Protected, "max_age_days": e.MaxAgeDays, "removed_at": e.RemovedAt, "purge_at": e.PurgeAt, "destroyed_at": e.DestroyedAt}).Error)
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

// CreateClientSecret writes the hash of a workload's secret.
func (tx *Tx) CreateClientSecret(s ClientSecret) error { return classify(tx.db.Create(&s).Error) }

// CreateGrant writes a grant and returns it with its id.
func (tx *Tx) CreateGrant(g Grant) (Grant, error) {
	err := tx.db.Create(&g).Error
	return g, classify(err)
}

// DeleteGrant removes a grant.
func (tx *Tx) DeleteGrant(id int64) error {
	done := tx.db.Delete(&Grant{}, id)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return classify(done.Error)
}

// TokenByHash reads a token.
func (tx *Tx) TokenByHash(hash []byte) (Token, error) {
	var t Token
	err := tx.db.Where("hash = ?", hash).Take(&t).Error
	return t, classify(err)
}

// NextTokenID reserves the id of a token that is about to be signed.
func (tx *Tx) NextTokenID() (int64, error) {
	var id int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.tokens', 'id'))").Scan(&id).Error
	return id, err
}

// CreateToken writes a token under its reserved id, and clears away those that
// expired before a moment.
func (tx *Tx) CreateToken(t Token, expiredBefore time.Time) error {
	err := tx.db.Exec(`INSERT INTO tokens (id, hash, subject_kind, subject_id, created_at, expires_at, mac)
		OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, ?, ?, ?, ?)`, t.ID, t.Hash, t.SubjectKind, t.SubjectID, t.CreatedAt, t.ExpiresAt, t.MAC).Error
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
