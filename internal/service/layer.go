package service

import (
	"fmt"
	"slices"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// loadedLayer is a layer at one revision whose manifest was checked. It is not
// changed afterwards.
type loadedLayer struct {
	layers.Layer
	head    storage.Layer
	records map[int64]*record // every entry, removed and destroyed ones too
	name    string            // of the place
	names   string            // of the directory that it shows names of
	// changedAt is the time of the change that made it, where this instance made it.
	changedAt time.Time
	timed     bool // whether anything begins or ceases to count at a moment
}

// record is an entry's row with the rows of the versions that count.
type record struct {
	storage.Entry
	live []storage.Version // without ciphertext, oldest first; none where the entry is destroyed
}

func layerScope(organization string, l storage.Layer) string {
	return "layer " + organization + envelope.Number(l.ProjectID) + envelope.Number(l.ID) + envelope.Number(orZero(l.EnvironmentID)) + envelope.Number(orZero(l.PersonID))
}

func orZero(id *int64) int64 {
	if id == nil {
		return 0
	}
	return *id
}

// moment is the form in which an optional time is signed.
func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return envelope.Number(t.UnixMicro())
}

func versionRow(v storage.Version) envelope.Row {
	return envelope.Row{Key: "version" + envelope.Number(v.EntryID) + envelope.Number(v.Version),
		Parts: []string{v.Kind, string(v.Digest), string(v.Fingerprint), v.Source, envelope.Number(v.Revision), v.AuthorKind, envelope.Number(v.AuthorID),
			envelope.Number(v.CreatedAt.UnixMicro()), moment(v.ActiveFrom), moment(v.ExpiresAt), moment(v.DestroyedAt)}}
}

// manifest signs what a layer holds: every entry with its state, every version
// that counts with the hash of what is stored for it, and the chain of those before.
func (l *loadedLayer) manifest(k *keyring) []byte {
	rows := make([]envelope.Row, 0, 2*len(l.records))
	for _, r := range l.records {
		rows = append(rows, envelope.Row{Key: "entry" + envelope.Number(r.ID), Parts: []string{r.Name, envelope.Number(r.Version), envelope.Number(r.Settled),
			string(r.Past), r.Details, moment(r.RemovedAt), moment(r.PurgeAt), moment(r.DestroyedAt)}})
		for _, v := range r.live {
			rows = append(rows, versionRow(v))
		}
	}
	return envelope.Manifest(k.manifests, layerScope(k.organization, l.head), l.head.Revision, rows)
}

// loadLayers returns layers at the revisions of their heads, from the cache or
// from the database with their manifests checked.
func (s *Service) loadLayers(tx *storage.Tx, d *directory, heads []storage.Layer) (map[int64]*loadedLayer, error) {
	loaded := make(map[int64]*loadedLayer, len(heads))
	var missing []storage.Layer
	for _, head := range heads {
		if cached := s.layers.get(head.ID); cached != nil && cached.Revision == layers.Revision(head.Revision) && cached.names == d.names {
			loaded[head.ID] = cached
		} else {
			missing = append(missing, head)
		}
	}
	if len(missing) == 0 {
		return loaded, nil
	}
	fresh, err := s.readLayers(tx, d, missing)
	// Outside a snapshot a layer can move on between the questions.
	for range readTries {
		if err == nil {
			break
		}
		again, headErr := tx.Layers(idsOf(missing))
		if headErr != nil || !movedOn(missing, again) {
			return loaded, err
		}
		missing = again
		fresh, err = s.readLayers(tx, d, missing)
	}
	for _, l := range fresh {
		loaded[l.ID] = l
		s.layers.put(l)
		s.forgetDestroyed(l)
	}
	return loaded, err
}

// forgetDestroyed drops what was destroyed, perhaps on another instance, from memory.
func (s *Service) forgetDestroyed(l *loadedLayer) {
	for _, r := range l.records {
		if r.DestroyedAt != nil {
			for n := int64(1); n <= r.Version; n++ {
				s.sealed.remove(sealedID{r.ID, n})
			}
		}
		for _, v := range r.live {
			if v.DestroyedAt != nil {
				s.sealed.remove(sealedID{r.ID, v.Version})
			}
		}
	}
}

const readTries = 10

func idsOf(heads []storage.Layer) []int64 {
	ids := make([]int64, len(heads))
	for i, head := range heads {
		ids[i] = head.ID
	}
	return ids
}

func movedOn(before, after []storage.Layer) bool {
	revisions := map[int64]int64{}
	for _, head := range after {
		revisions[head.ID] = head.Revision
	}
	return slices.ContainsFunc(before, func(head storage.Layer) bool { return revisions[head.ID] > head.Revision })
}

func (s *Service) readLayers(tx *storage.Tx, d *directory, heads []storage.Layer) ([]*loadedLayer, error) {
	ids := idsOf(heads)
	entries, err := tx.Entries(ids)
	if err != nil {
		return nil, err
	}
	versions, err := tx.LiveVersions(ids)
	if err != nil {
		return nil, err
	}
	lanes := make([]string, len(heads))
	for i, head := range heads {
		lanes[i] = trail.LayerLane(head.ID)
	}
	ends, err := tx.LaneEnds(lanes)
	if err != nil {
		return nil, err
	}
	byLayer := map[int64]map[int64]*record{}
	for _, id := range ids {
		byLayer[id] = map[int64]*record{}
	}
	for _, e := range entries {
		byLayer[e.LayerID][e.ID] = &record{Entry: e}
	}
	for _, v := range versions {
		r := byLayer[v.LayerID][v.EntryID]
		if r == nil {
			return nil, fmt.Errorf("version %d of entry %d stands in another layer than its entry: it was altered in the database", v.Version, v.EntryID)
		}
		if r.DestroyedAt == nil {
			r.live = append(r.live, v)
		}
	}
	all := make([]*loadedLayer, 0, len(heads))
	for _, head := range heads {
		l := &loadedLayer{head: head, records: byLayer[head.ID]}
		l.Place, l.Private = d.placeOf(access.Where{Project: head.ProjectID, Environment: orZero(head.EnvironmentID)}), head.PersonID != nil
		if !envelope.Same(l.manifest(s.keys), head.Manifest) {
			return nil, fmt.Errorf("the layer %s at revision %d is not what was signed: it was altered in the database", l.Place, head.Revision)
		}
		if ends[trail.LayerLane(head.ID)] > head.Revision {
			return nil, fmt.Errorf("the layer %s was set back in the database: its trail is ahead of its revision %d", l.Place, head.Revision)
		}
		if err := l.view(d); err != nil {
			return nil, err
		}
		all = append(all, l)
	}
	return all, nil
}

// view makes what the core sees of a layer from its rows.
func (l *loadedLayer) view(d *directory) error {
	l.names, l.name = d.names, l.Place.String()
	l.ID, l.Project, l.Revision = l.head.ID, l.head.ProjectID, layers.Revision(l.head.Revision)
	l.Entries = make(map[string]*layers.Entry, len(l.records))
	l.Removed = nil
	for _, r := range l.records {
		if r.DestroyedAt != nil {
			continue
		}
		e, err := r.view(d, l.Place)
		if err != nil {
			return err
		}
		if r.RemovedAt != nil {
			l.Removed = append(l.Removed, e)
		} else {
			l.Entries[e.Name] = e
		}
	}
	slices.SortFunc(l.Removed, func(a, b *layers.Entry) int {
		if c := a.Removed.Compare(b.Removed); c != 0 {
			return c
		}
		return int(a.ID - b.ID)
	})
	l.timed = !l.NextMoment(time.Time{}).IsZero()
	return nil
}

func (r *record) view(d *directory, place layers.Place) (*layers.Entry, error) {
	e := &layers.Entry{ID: r.ID, Name: r.Name, Removed: orNever(r.RemovedAt), Purge: orNever(r.PurgeAt), Live: make([]layers.Version, len(r.live))}
	if len(r.live) == 0 || r.live[len(r.live)-1].Version != r.Version {
		return e, fmt.Errorf("the newest version of %s in %s is missing from the database", r.Name, place)
	}
	var err error
	if e.Details, err = layers.ParseDetails(r.Details); err != nil {
		return e, err
	}
	for i, v := range r.live {
		if e.Live[i], err = versionView(d, v); err != nil {
			return e, fmt.Errorf("%s in %s: %w", r.Name, place, err)
		}
	}
	return e, nil
}

func orNever(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func versionView(d *directory, v storage.Version) (layers.Version, error) {
	source, err := layers.ParseSource(v.Source)
	if err != nil {
		return layers.Version{}, err
	}
	if v.DestroyedAt == nil && v.Kind != string(layers.Secret) && !envelope.Same(envelope.Digest([]byte(v.Setting)), v.Digest) {
		return layers.Version{}, fmt.Errorf("the setting is not what was signed: it was altered in the database")
	}
	return layers.Version{Number: v.Version, Kind: layers.Kind(v.Kind), Setting: v.Setting, At: v.CreatedAt, Revision: layers.Revision(v.Revision),
		Author:     d.subjectName(access.Subject{Kind: access.SubjectKind(v.AuthorKind), ID: v.AuthorID}),
		ActiveFrom: orNever(v.ActiveFrom), Expires: orNever(v.ExpiresAt), Destroyed: orNever(v.DestroyedAt), Source: source}, nil
}

// allVersions reads all versions of an entry, oldest first, and checks that they
// are the ones that the layer's manifest speaks of.
func (s *Service) allVersions(tx *storage.Tx, l *loadedLayer, entry int64) ([]storage.Version, error) {
	r := l.records[entry]
	if r.Settled == 1 && r.DestroyedAt == nil {
		return r.live, nil
	}
	all, err := tx.Versions(l.Project, entry)
	if err != nil {
		return nil, err
	}
	var past []byte
	for i, v := range all {
		if v.Version != int64(i+1) {
			return nil, fmt.Errorf("version %d of %s in %s is missing from the database", i+1, r.Name, l.Place)
		}
		if v.Version < r.Settled {
			past = envelope.Chain(past, versionRow(v))
		}
	}
	if !envelope.Same(past, r.Past) || int64(len(all)) != r.Version {
		return nil, fmt.Errorf("older versions of %s in %s are not what was signed: they were altered in the database", r.Name, l.Place)
	}
	for i, v := range r.live {
		if got := all[int(r.Settled)-1+i]; !envelope.Same(envelope.Chain(nil, versionRow(got)), envelope.Chain(nil, versionRow(v))) {
			return nil, fmt.Errorf("versions of %s in %s are not what was signed: they were altered in the database", r.Name, l.Place)
		}
	}
	return all, nil
}

// chainOf puts loaded layers into the order of a chain.
func chainOf(loaded map[int64]*loadedLayer, ids []int64) ([]*layers.Layer, error) {
	chain := make([]*layers.Layer, len(ids))
	for i, id := range ids {
		l := loaded[id]
		if l == nil {
			return nil, fmt.Errorf("the layer %d is missing from the database", id)
		}
		chain[i] = &l.Layer
	}
	return chain, nil
}

// loadChain loads the layers of a chain at one moment: tx is a snapshot.
func (s *Service) loadChain(tx *storage.Tx, d *directory, ids []int64) ([]*layers.Layer, map[int64]*loadedLayer, error) {
	heads, err := tx.Layers(ids)
	if err != nil {
		return nil, nil, err
	}
	loaded, err := s.loadLayers(tx, d, heads)
	if err != nil {
		return nil, nil, err
	}
	chain, err := chainOf(loaded, ids)
	return chain, loaded, err
}

// openStored decrypts one version, of which the ciphertext was obtained already
// or is read now.
func (s *Service) openStored(tx *storage.Tx, l *loadedLayer, v storage.Version, name string, have map[sealedID]*sealedVersion) (secret.Value, error) {
	sealed, key, err := s.stored(tx, l, v, name, have)
	if err != nil {
		return secret.Value{}, err
	}
	if !envelope.Same(sealed.digest, v.Digest) {
		return secret.Value{}, fmt.Errorf("version %d of %s in %s was altered in the database", v.Version, name, l.Place)
	}
	value, err := key.Open(sealed.Sealed)
	if err != nil {
		return secret.Value{}, fmt.Errorf("open version %d of %s in %s: %w", v.Version, name, l.Place, err)
	}
	return value, nil
}

// fingerprint tells whether values are the same. It is compared in memory and
// goes nowhere.
func (s *Service) fingerprint(tx *storage.Tx, l *loadedLayer, v storage.Version, name string, have map[sealedID]*sealedVersion) ([]byte, error) {
	if v.Kind != string(layers.Secret) {
		key, err := s.keys.fingerprints(tx, l.Project)
		if err != nil {
			return nil, err
		}
		return envelope.Fingerprint(key, secret.FromString(v.Setting)), nil
	}
	_, key, err := s.stored(tx, l, v, name, have)
	if err != nil {
		return nil, err
	}
	print, err := key.OpenFingerprint(v.Fingerprint)
	if err != nil {
		return nil, fmt.Errorf("open the fingerprint of version %d of %s in %s: %w", v.Version, name, l.Place, err)
	}
	return print, nil
}

// stored obtains what is stored of a version, with its key.
func (s *Service) stored(tx *storage.Tx, l *loadedLayer, v storage.Version, name string, have map[sealedID]*sealedVersion) (*sealedVersion, *envelope.VersionKey, error) {
	sealed := have[sealedID{v.EntryID, v.Version}]
	if sealed == nil && tx == nil {
		return nil, nil, errNotCached
	}
	if sealed == nil {
		all, err := tx.Sealed(l.Project, [][2]int64{{v.EntryID, v.Version}})
		if err != nil {
			return nil, nil, err
		}
		if len(all) == 0 {
			return nil, nil, fmt.Errorf("read version %d of %s in %s: its ciphertext or its key is missing from the database", v.Version, name, l.Place)
		}
		sealed = withDigest(all[0])
	}
	if key := sealed.key.Load(); key != nil {
		return sealed, key, nil
	}
	wrapping, err := s.keys.byID(tx, l.Project, sealed.ProjectKeyID)
	if err != nil {
		return nil, nil, fmt.Errorf("read version %d of %s in %s: %w", v.Version, name, l.Place, err)
	}
	key, err := wrapping.wraps.Unwrap(s.keys.identity(l.head, v), sealed.Wrapped)
	if err != nil {
		return nil, nil, fmt.Errorf("open the key of version %d of %s in %s: %w", v.Version, name, l.Place, err)
	}
	sealed.key.Store(key)
	return sealed, key, nil
}

func (k *keyring) identity(head storage.Layer, v storage.Version) envelope.Identity {
	return envelope.Identity{Organization: k.organization, Project: head.ProjectID, Layer: head.ID, Entry: v.EntryID, Version: v.Version, Kind: v.Kind}
}
