package storage

import (
	"strings"
	"time"

	"gorm.io/gorm/clause"
)

// batch is how many rows one statement inserts.
const batch = 500

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

// AllRevisions reads the revision of every layer there is.
func (tx *Tx) AllRevisions() (map[int64]int64, error) {
	scope := Scope{0}
	var projects []int64
	if err := tx.db.Model(&Project{}).Pluck("id", &projects).Error; err != nil {
		return nil, classify(err)
	}
	if err := tx.Widen(append(scope, projects...)); err != nil {
		return nil, classify(err)
	}
	var all []Layer
	err := tx.db.Select("id, revision").Find(&all).Error
	revisions := make(map[int64]int64, len(all))
	for _, l := range all {
		revisions[l.ID] = l.Revision
	}
	return revisions, classify(err)
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

// Entries reads all entries of layers, removed and destroyed ones too.
func (tx *Tx) Entries(layers []int64) ([]Entry, error) {
	var all []Entry
	err := tx.db.Where("layer_id IN ?", layers).Order("id").Find(&all).Error
	return all, err
}

// LiveVersions reads, without ciphertext, the versions of layers' entries that
// count for what the layers say now or later.
func (tx *Tx) LiveVersions(layers []int64) ([]Version, error) {
	var all []Version
	err := tx.db.Omit("sealed").Joins("JOIN entries e ON e.project_id = versions.project_id AND e.id = versions.entry_id AND versions.version >= e.settled").
		Where("e.layer_id IN ?", layers).Order("entry_id, version").Find(&all).Error
	return all, err
}

// Versions reads all versions of an entry without their ciphertext, oldest first.
func (tx *Tx) Versions(project, entry int64) ([]Version, error) {
	var all []Version
	err := tx.db.Omit("sealed").Where("project_id = ? AND entry_id = ?", project, entry).Order("version").Find(&all).Error
	return all, err
}

// SealedVersion is a ciphertext with its wrapped key.
type SealedVersion struct {
	VersionKey
	Sealed []byte
}

// Sealed reads the ciphertexts and the wrapped keys of versions. What is gone is
// left out.
func (tx *Tx) Sealed(project int64, versions [][2]int64) ([]SealedVersion, error) {
	var all []SealedVersion
	keys := make([][]any, len(versions))
	for i, v := range versions {
		keys[i] = []any{v[0], v[1]}
	}
	err := tx.db.Table("versions").Select("version_keys.*, versions.sealed").
		Joins("JOIN version_keys USING (project_id, entry_id, version)").
		Where("versions.project_id = ? AND (versions.entry_id, versions.version) IN ?", project, keys).Find(&all).Error
	return all, classify(err)
}

// WrappedKeys reads the wrapped keys of versions. What is gone is left out.
func (tx *Tx) WrappedKeys(project int64, versions [][2]int64) ([]VersionKey, error) {
	var all []VersionKey
	for start := 0; start < len(versions); start += batch {
		var keys [][]any
		for _, v := range versions[start:min(start+batch, len(versions))] {
			keys = append(keys, []any{v[0], v[1]})
		}
		var some []VersionKey
		if err := tx.db.Where("project_id = ? AND (entry_id, version) IN ?", project, keys).Find(&some).Error; err != nil {
			return nil, classify(err)
		}
		all = append(all, some...)
	}
	return all, nil
}

// ReferringLayers are those of some layers that have, or have had, a setting
// with a reference.
func (tx *Tx) ReferringLayers(layers []int64) ([]int64, error) {
	var ids []int64
	err := tx.db.Raw("SELECT DISTINCT layer_id FROM versions WHERE position('adytum:' IN setting) > 0 AND layer_id IN ?", layers).Scan(&ids).Error
	return ids, classify(err)
}

// EntryIDs reserves the ids of entries that are about to be written.
func (tx *Tx) EntryIDs(n int) ([]int64, error) {
	var ids []int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.entries', 'id')) FROM generate_series(1, ?)", n).Scan(&ids).Error
	return ids, err
}

// CreateEntries writes new entries under their reserved ids.
func (tx *Tx) CreateEntries(all []Entry) error {
	return classify(tx.db.CreateInBatches(all, batch).Error)
}

// SaveEntry writes an entry's name, newest version, details and removal.
func (tx *Tx) SaveEntry(e Entry) error {
	return classify(tx.db.Model(&Entry{}).Where("project_id = ? AND id = ?", e.ProjectID, e.ID).Updates(map[string]any{
		"name": e.Name, "version": e.Version, "settled": e.Settled, "past": e.Past, "details": e.Details,
		"removed_at": e.RemovedAt, "purge_at": e.PurgeAt, "destroyed_at": e.DestroyedAt}).Error)
}

// CreateVersions writes versions, with their keys where they are secrets.
func (tx *Tx) CreateVersions(versions []Version, keys []VersionKey) error {
	if len(versions) > 0 {
		if err := tx.db.CreateInBatches(versions, batch).Error; err != nil {
			return classify(err)
		}
	}
	if len(keys) == 0 {
		return nil
	}
	return classify(tx.db.CreateInBatches(keys, batch).Error)
}

// DestroyVersions deletes the key of a version, or of all versions of an entry
// where the number is 0, and what was stored for it. The digest is that of
// nothing.
func (tx *Tx) DestroyVersions(v Version, now time.Time, digest []byte) error {
	which, args := "project_id = ? AND entry_id = ?", []any{v.ProjectID, v.EntryID}
	if v.Version != 0 {
		which, args = which+" AND version = ?", append(args, v.Version)
	}
	if err := tx.db.Where(which, args...).Delete(&VersionKey{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Model(&Version{}).Where(which+" AND destroyed_at IS NULL", args...).
		Updates(map[string]any{"setting": "", "sealed": nil, "fingerprint": nil, "digest": digest, "destroyed_at": now}).Error)
}

// ShredLayers deletes all keys of what layers hold, and what was stored for it.
func (tx *Tx) ShredLayers(project int64, layers []int64, now time.Time) error {
	if len(layers) == 0 {
		return nil
	}
	if err := tx.db.Exec(`DELETE FROM version_keys k USING versions v WHERE k.project_id = ? AND v.project_id = k.project_id AND v.entry_id = k.entry_id
		AND v.version = k.version AND v.layer_id IN ?`, project, layers).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Exec(`UPDATE versions SET setting = '', sealed = NULL, fingerprint = NULL, destroyed_at = ?
		WHERE project_id = ? AND layer_id IN ? AND destroyed_at IS NULL`, now, project, layers).Error)
}

// ShredProject deletes all keys of a project, and what was stored under them.
func (tx *Tx) ShredProject(project int64, now time.Time) error {
	for _, statement := range []string{"DELETE FROM version_keys WHERE project_id = ?", "DELETE FROM project_keys WHERE project_id = ?"} {
		if err := tx.db.Exec(statement, project).Error; err != nil {
			return classify(err)
		}
	}
	return classify(tx.db.Exec(`UPDATE versions SET setting = '', sealed = NULL, fingerprint = NULL, destroyed_at = ?
		WHERE project_id = ? AND destroyed_at IS NULL`, now, project).Error)
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

// Reasons reads the reasons of a layer's changes by revision.
func (tx *Tx) Reasons(layer int64, revisions []int64) (map[int64]string, error) {
	var all []Change
	err := tx.db.Select("revision", "reason").Where("layer_id = ? AND revision IN ?", layer, revisions).Find(&all).Error
	reasons := map[int64]string{}
	for _, c := range all {
		reasons[c.Revision] = c.Reason
	}
	return reasons, err
}

// Due is a layer that has something to purge.
type Due struct{ ProjectID, LayerID int64 }

// DueForPurge finds the layers, within the scope, with entries whose time to be
// restored has passed.
func (tx *Tx) DueForPurge(now time.Time, limit int) ([]Due, error) {
	var all []Due
	err := tx.db.Model(&Entry{}).Distinct("project_id", "layer_id").Where("purge_at <= ? AND destroyed_at IS NULL", now).Limit(limit).Scan(&all).Error
	return all, err
}

// WriteKey reads what was answered to a write under an idempotency key.
func (tx *Tx) WriteKey(project int64, caller, key string) (WriteKey, error) {
	var w WriteKey
	err := tx.db.Where("project_id = ? AND caller = ? AND key = ?", project, caller, key).Take(&w).Error
	return w, classify(err)
}

// CreateWriteKey records the answer to a write.
func (tx *Tx) CreateWriteKey(w WriteKey) error { return classify(tx.db.Create(&w).Error) }

// ForgetWriteKeys deletes the idempotency keys of before a moment.
func (tx *Tx) ForgetWriteKeys(before time.Time) error {
	return classify(tx.db.Where("created_at < ?", before).Delete(&WriteKey{}).Error)
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
	return classify(tx.db.Create(&k).Error)
}

// AppendTrail writes a batch in the transaction of the change that it records.
func (tx *Tx) AppendTrail(b TrailBatch) error { return classify(tx.db.Create(&b).Error) }

// TrailBatch reads one batch.
func (tx *Tx) TrailBatch(lane string, first int64) (TrailBatch, error) {
	var b TrailBatch
	err := tx.db.Where("lane = ? AND first = ?", lane, first).Take(&b).Error
	return b, classify(err)
}

// LaneEnds reads where lanes end: the first place of the last batch of each.
func (tx *Tx) LaneEnds(lanes []string) (map[string]int64, error) {
	var all []TrailBatch
	// One look into the index for each lane, however long it is.
	err := tx.db.Raw(`SELECT lane, first FROM unnest(?::text[]) AS l (name) CROSS JOIN LATERAL
		(SELECT lane, first FROM trail_batches WHERE lane = l.name ORDER BY first DESC LIMIT 1) AS t`, textArray(lanes)).Scan(&all).Error
	ends := make(map[string]int64, len(all))
	for _, b := range all {
		ends[b.Lane] = b.First
	}
	return ends, classify(err)
}

// textArray writes names of lanes, which hold no character that an array of
// PostgreSQL quotes, as one.
func textArray(names []string) string { return "{" + strings.Join(names, ",") + "}" }
