package storage

import (
	"gorm.io/gorm/clause"
)

// CreateLayer writes a layer and returns it with its id.
func (tx *Tx) CreateLayer(l Layer) (Layer, error) {
	err := tx.db.Create(&l).Error
	return l, classify(err)
}

// Layers reads the heads of layers by their ids.
func (tx *Tx) Layers(ids []int64) ([]Layer, error) {
	var all []Layer
	err := tx.db.Where("id IN ?", ids).Find(&all).Error
	return all, err
}

// LockLayer reads a layer's head and keeps others from changing the layer.
func (tx *Tx) LockLayer(id int64) (Layer, error) {
	var l Layer
	err := tx.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&l).Error
	return l, classify(err)
}

// SaveLayer moves a layer on to a revision with its manifest.
func (tx *Tx) SaveLayer(l Layer) error {
	return tx.db.Model(&Layer{}).Where("project_id = ? AND id = ?", l.ProjectID, l.ID).
		Updates(map[string]any{"revision": l.Revision, "manifest": l.Manifest}).Error
}

// Entries reads all entries of a layer, removed ones too.
func (tx *Tx) Entries(layer int64) ([]Entry, error) {
	var all []Entry
	err := tx.db.Where("layer_id = ?", layer).Order("id").Find(&all).Error
	return all, err
}

// Versions reads all versions of a layer's entries without their ciphertext.
func (tx *Tx) Versions(layer int64) ([]Version, error) {
	var all []Version
	err := tx.db.Omit("sealed").Where("layer_id = ?", layer).Order("entry_id, version").Find(&all).Error
	return all, err
}

// Sealed reads the ciphertext of a version and its wrapped key. ErrNotFound is
// what it says when the key is gone.
func (tx *Tx) Sealed(project, entry, version int64) (sealed []byte, key VersionKey, err error) {
	var row struct {
		VersionKey
		Sealed []byte
	}
	err = tx.db.Table("versions").
		Select("version_keys.*, versions.sealed").
		Joins("JOIN version_keys USING (project_id, entry_id, version)").
		Where("versions.project_id = ? AND versions.entry_id = ? AND versions.version = ?", project, entry, version).
		Take(&row).Error
	return row.Sealed, row.VersionKey, classify(err)
}

// CreateEntry writes a new name of a layer and returns it with its id.
func (tx *Tx) CreateEntry(e Entry) (Entry, error) {
	err := tx.db.Create(&e).Error
	return e, classify(err)
}

// SaveEntry writes an entry's newest version, kind and removal.
func (tx *Tx) SaveEntry(e Entry) error {
	return tx.db.Model(&Entry{}).Where("project_id = ? AND id = ?", e.ProjectID, e.ID).
		Updates(map[string]any{"kind": e.Kind, "version": e.Version, "removed": e.Removed}).Error
}

// CreateVersion writes a version, with its key where it is a secret.
func (tx *Tx) CreateVersion(v Version, key *VersionKey) error {
	if err := tx.db.Create(&v).Error; err != nil {
		return classify(err)
	}
	if key == nil {
		return nil
	}
	return classify(tx.db.Create(key).Error)
}

// CreateChange records a change.
func (tx *Tx) CreateChange(c Change) error { return classify(tx.db.Create(&c).Error) }

// Changes reads a layer's changes, newest first, before a revision (0: from the newest).
func (tx *Tx) Changes(layer, before int64, limit int) ([]Change, error) {
	var all []Change
	q := tx.db.Where("layer_id = ?", layer).Order("revision DESC").Limit(limit)
	if before > 0 {
		q = q.Where("revision < ?", before)
	}
	err := q.Find(&all).Error
	return all, err
}

// ProjectKeys reads a project's keys, oldest first.
func (tx *Tx) ProjectKeys(project int64) ([]ProjectKey, error) {
	var all []ProjectKey
	err := tx.db.Where("project_id = ?", project).Order("id").Find(&all).Error
	return all, err
}

// NextProjectKeyID reserves the id of a project key that is about to be wrapped.
func (tx *Tx) NextProjectKeyID() (int64, error) {
	var id int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.project_keys', 'id'))").Scan(&id).Error
	return id, err
}

// CreateProjectKey writes a project key under its reserved id.
func (tx *Tx) CreateProjectKey(k ProjectKey) error {
	return classify(tx.db.Exec(`INSERT INTO project_keys (project_id, id, wrapped, created_at) OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, ?)`,
		k.ProjectID, k.ID, k.Wrapped, k.CreatedAt).Error)
}

// AppendTrail writes a batch in the transaction of the change that it records.
func (tx *Tx) AppendTrail(b TrailBatch) error { return classify(tx.db.Create(&b).Error) }

// TrailBatch reads one batch.
func (tx *Tx) TrailBatch(lane string, first int64) (TrailBatch, error) {
	var b TrailBatch
	err := tx.db.Where("lane = ? AND first = ?", lane, first).Take(&b).Error
	return b, classify(err)
}

// TrailBatches walks through all batches, lane by lane, in the order of their
// first event.
func (tx *Tx) TrailBatches(each func(TrailBatch) error) error {
	rows, err := tx.db.Model(&TrailBatch{}).Order("lane, first").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b TrailBatch
		if err := tx.db.ScanRows(rows, &b); err != nil {
			return err
		}
		if err := each(b); err != nil {
			return err
		}
	}
	return rows.Err()
}

// NewestBatches reads batches, newest first, before a moment's position.
func (tx *Tx) NewestBatches(offset, limit int) ([]TrailBatch, error) {
	var all []TrailBatch
	err := tx.db.Order("written_at DESC, lane, first DESC").Offset(offset).Limit(limit).Find(&all).Error
	return all, err
}
