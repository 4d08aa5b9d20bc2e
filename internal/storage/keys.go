package storage

import (
	"time"

	"gorm.io/gorm/clause"
)

// RootKeys reads all root keys that there are or were, oldest first.
func (tx *Tx) RootKeys() ([]RootKey, error) {
	var all []RootKey
	err := tx.db.Order("id").Find(&all).Error
	return all, classify(err)
}

// CreateRootKey records a root key and returns it with its id.
func (tx *Tx) CreateRootKey(k RootKey) (RootKey, error) {
	err := tx.db.Create(&k).Error
	return k, classify(err)
}

// SetRootKeyState moves a root key on to a state.
func (tx *Tx) SetRootKeyState(id int64, state string) error {
	return classify(tx.db.Model(&RootKey{}).Where("id = ?", id).Update("state", state).Error)
}

// SaveProjectKey writes a project key's wrapping anew.
func (tx *Tx) SaveProjectKey(k ProjectKey) error {
	return classify(tx.db.Model(&ProjectKey{}).Where("project_id = ? AND id = ?", k.ProjectID, k.ID).
		Updates(map[string]any{"wrapped": k.Wrapped, "root_key_id": k.RootKeyID}).Error)
}

// ProjectKeysUnder reads, within the scope, some project keys that are wrapped by
// a root key other than the one given.
func (tx *Tx) ProjectKeysUnder(otherThan int64, limit int) ([]ProjectKey, error) {
	var all []ProjectKey
	err := tx.db.Where("root_key_id <> ?", otherThan).Order("id").Limit(limit).Find(&all).Error
	return all, classify(err)
}

// DeleteProjectKey deletes a project key that wraps nothing any more.
func (tx *Tx) DeleteProjectKey(project, id int64) error {
	return classify(tx.db.Where("project_id = ? AND id = ?", project, id).Delete(&ProjectKey{}).Error)
}

// VersionKeysUnder reads, with the layers of their versions, some version keys of
// a project that are wrapped by a project key other than the one given, and keeps
// others from changing them.
func (tx *Tx) VersionKeysUnder(project, otherThan int64, limit int) ([]LayeredKey, error) {
	var all []LayeredKey
	err := tx.db.Raw(`SELECT k.*, v.layer_id, v.kind FROM version_keys k JOIN versions v USING (project_id, entry_id, version)
		WHERE k.project_id = ? AND k.project_key_id <> ? ORDER BY k.entry_id, k.version LIMIT ? FOR UPDATE OF k`, project, otherThan, limit).Scan(&all).Error
	return all, classify(err)
}

// LayeredKey is a version's key with the layer that the version is in.
type LayeredKey struct {
	VersionKey
	LayerID int64
	Kind    string
}

// SaveVersionKeys writes the wrappings of version keys, which are there, anew.
func (tx *Tx) SaveVersionKeys(keys []VersionKey) error {
	return classify(tx.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "project_id"}, {Name: "entry_id"}, {Name: "version"}},
		DoUpdates: clause.AssignmentColumns([]string{"wrapped", "project_key_id"})}).CreateInBatches(keys, batch).Error)
}

// Beat records that an instance lives and which root keys it holds, and forgets
// those that have not been seen since a moment.
func (tx *Tx) Beat(boot string, now, silentSince time.Time, rootKeys []int64) error {
	if err := tx.db.Exec("DELETE FROM instances WHERE seen_at < ?", silentSince).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Exec(`INSERT INTO instances (boot, seen_at, root_keys) VALUES (?, ?, ?::bigint[])
		ON CONFLICT (boot) DO UPDATE SET seen_at = excluded.seen_at, root_keys = excluded.root_keys`, boot, now, Scope(rootKeys).setting()).Error)
}

// Leave records that an instance has ended.
func (tx *Tx) Leave(boot string) error {
	return classify(tx.db.Exec("DELETE FROM instances WHERE boot = ?", boot).Error)
}

// InstancesWithout counts the instances seen since a moment, and those of them
// that do not hold a root key.
func (tx *Tx) InstancesWithout(rootKey int64, since time.Time) (all, without int64, err error) {
	err = tx.db.Raw(`SELECT count(*), count(*) FILTER (WHERE NOT ? = ANY (root_keys)) FROM instances WHERE seen_at >= ?`, rootKey, since).Row().Scan(&all, &without)
	return all, without, classify(err)
}
