package service

import (
	"fmt"
	"strconv"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// loadedLayer is a layer at one revision whose manifest was checked. It is not
// changed afterwards.
type loadedLayer struct {
	layers.Layer
	entries  []storage.Entry             // removed ones too
	versions map[int64][]storage.Version // by entry, oldest first, without ciphertext
}

func layerScope(organization string, l storage.Layer) string {
	environment := int64(0)
	if l.EnvironmentID != nil {
		environment = *l.EnvironmentID
	}
	return "layer " + organization + envelope.Number(l.ProjectID) + envelope.Number(l.ID) + envelope.Number(environment)
}

// layerManifest signs what a layer holds: every entry with its state and every
// version with the hash of what is stored for it.
func layerManifest(keys *projectKeys, organization string, head storage.Layer, entries []storage.Entry, versions []storage.Version) []byte {
	rows := make([]envelope.Row, 0, len(entries)+len(versions))
	for _, e := range entries {
		rows = append(rows, envelope.Row{Key: "entry" + envelope.Number(e.ID),
			Parts: []string{e.Name, e.Kind, envelope.Number(e.Version), strconv.FormatBool(e.Removed)}})
	}
	for _, v := range versions {
		rows = append(rows, envelope.Row{Key: "version" + envelope.Number(v.EntryID) + envelope.Number(v.Version),
			Parts: []string{v.Kind, string(v.Digest), envelope.Number(v.Revision), v.AuthorKind, envelope.Number(v.AuthorID), envelope.Number(v.CreatedAt.UnixMicro())}})
	}
	return envelope.Manifest(keys.manifests, layerScope(organization, head), head.Revision, rows)
}

// loadLayer returns a layer at the revision of its head, from the cache or from
// the database with its manifest checked.
func (s *Service) loadLayer(tx *storage.Tx, d *directory, head storage.Layer) (*loadedLayer, error) {
	s.mu.Lock()
	cached := s.layers[head.ID]
	s.mu.Unlock()
	if cached != nil && cached.Revision == layers.Revision(head.Revision) {
		return cached, nil
	}
	loaded, err := s.readLayer(tx, d, head)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if present := s.layers[head.ID]; present == nil || present.Revision < loaded.Revision {
		s.layers[head.ID] = loaded
	}
	return loaded, nil
}

func (s *Service) readLayer(tx *storage.Tx, d *directory, head storage.Layer) (*loadedLayer, error) {
	where := access.Where{Project: head.ProjectID}
	if head.EnvironmentID != nil {
		where.Environment = *head.EnvironmentID
	}
	place := d.placeOf(where)
	_, keys, err := s.keys.ofProject(tx, head.ProjectID)
	if err != nil {
		return nil, err
	}
	entries, err := tx.Entries(head.ID)
	if err != nil {
		return nil, err
	}
	versions, err := tx.Versions(head.ID)
	if err != nil {
		return nil, err
	}
	if !envelope.Same(layerManifest(keys, s.keys.organization, head, entries, versions), head.Manifest) {
		return nil, fmt.Errorf("the layer %s at revision %d is not what was signed: it was altered in the database", place, head.Revision)
	}
	l := &loadedLayer{entries: entries, versions: map[int64][]storage.Version{}, Layer: layers.Layer{
		ID: head.ID, Project: head.ProjectID, Place: place, Revision: layers.Revision(head.Revision), Entries: map[string]layers.Entry{}}}
	for _, v := range versions {
		if v.Kind != string(layers.Secret) && !envelope.Same(envelope.Digest([]byte(v.Setting)), v.Digest) {
			return nil, fmt.Errorf("a setting in the layer %s is not what was signed: it was altered in the database", place)
		}
		l.versions[v.EntryID] = append(l.versions[v.EntryID], v)
	}
	for _, e := range entries {
		if e.Removed {
			continue
		}
		all := l.versions[e.ID]
		if len(all) == 0 || all[len(all)-1].Version != e.Version {
			return nil, fmt.Errorf("the newest version of %s in %s is missing from the database", e.Name, place)
		}
		newest := all[len(all)-1]
		l.Entries[e.Name] = layers.Entry{ID: e.ID, Name: e.Name, Kind: layers.Kind(e.Kind), Version: e.Version,
			Since: newest.CreatedAt, Author: d.subjectName(access.Subject{Kind: access.SubjectKind(newest.AuthorKind), ID: newest.AuthorID}), Setting: newest.Setting}
	}
	return l, nil
}

// loadChain loads the layers of a chain at one moment: tx is a snapshot.
func (s *Service) loadChain(tx *storage.Tx, d *directory, ids []int64) ([]*layers.Layer, map[int64]*loadedLayer, error) {
	heads, err := tx.Layers(ids)
	if err != nil {
		return nil, nil, err
	}
	byID := map[int64]*loadedLayer{}
	for _, head := range heads {
		if byID[head.ID], err = s.loadLayer(tx, d, head); err != nil {
			return nil, nil, err
		}
	}
	chain := make([]*layers.Layer, len(ids))
	for i, id := range ids {
		loaded, found := byID[id]
		if !found {
			return nil, nil, fmt.Errorf("the layer %d is missing from the database", id)
		}
		chain[i] = &loaded.Layer
	}
	return chain, byID, nil
}

func (k *keyring) identity(l *layers.Layer, entry, version int64, kind layers.Kind) envelope.Identity {
	return envelope.Identity{Organization: k.organization, Project: l.Project, Layer: l.ID, Entry: entry, Version: version, Kind: string(kind)}
}

// openVersion reads and decrypts one version of a secret.
func (s *Service) openVersion(tx *storage.Tx, l *loadedLayer, entry layers.Entry, version int64) (secret.Value, error) {
	sealed, stored, err := tx.Sealed(l.Project, entry.ID, version)
	if err != nil {
		return secret.Value{}, fmt.Errorf("read version %d of %s in %s: its ciphertext or its key is missing: %w", version, entry.Name, l.Place, err)
	}
	keys, _, err := s.keys.ofProject(tx, l.Project)
	if err != nil {
		return secret.Value{}, err
	}
	project, known := keys[stored.ProjectKeyID]
	if !known {
		return secret.Value{}, fmt.Errorf("read version %d of %s in %s: the project key that it was sealed under is missing", version, entry.Name, l.Place)
	}
	for _, v := range l.versions[entry.ID] {
		if v.Version == version && !envelope.Same(envelope.Digest(sealed), v.Digest) {
			return secret.Value{}, fmt.Errorf("version %d of %s in %s was altered in the database", version, entry.Name, l.Place)
		}
	}
	id := s.keys.identity(&l.Layer, entry.ID, version, layers.Secret)
	key, err := envelope.UnwrapVersionKey(project.wrap, id, stored.Wrapped)
	if err != nil {
		return secret.Value{}, fmt.Errorf("open the key of version %d of %s in %s: %w", version, entry.Name, l.Place, err)
	}
	defer key.Destroy()
	value, err := envelope.Open(key, id, sealed)
	if err != nil {
		return secret.Value{}, fmt.Errorf("open version %d of %s in %s: %w", version, entry.Name, l.Place, err)
	}
	return value, nil
}

// sealVersion encrypts a new version under a key of its own.
func (k *keyring) sealVersion(project *projectKeys, id envelope.Identity, value secret.Value) (sealed, wrapped []byte, err error) {
	key, err := secret.RandomKey()
	if err != nil {
		return nil, nil, err
	}
	defer key.Destroy()
	if sealed, err = envelope.Seal(key, id, value); err != nil {
		return nil, nil, err
	}
	wrapped, err = envelope.WrapVersionKey(project.wrap, id, key)
	return sealed, wrapped, err
}
