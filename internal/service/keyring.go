package service

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// ErrRootKey says that the root key cannot be used: missing, readable by
// others, not a key, or another installation's.
var ErrRootKey = errors.New("root key")

// CreateRootKey writes a new root key to a file of mode 0400 that does not exist
// yet, and returns it.
func CreateRootKey(path string) (*secret.Key, error) {
	key, err := secret.RandomKey()
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o400)
	if err != nil {
		key.Destroy()
		return nil, fmt.Errorf("%w: cannot create %s: %w", ErrRootKey, path, errors.Unwrap(err))
	}
	text := append(hex.AppendEncode(nil, key.Bytes()), '\n')
	defer clear(text)
	if _, err := f.Write(text); err != nil {
		return nil, errors.Join(fmt.Errorf("%w: cannot write %s", ErrRootKey, path), f.Close())
	}
	return key, errors.Join(f.Sync(), f.Close())
}

// ReadRootKey reads the root key. It refuses a file that others can read.
func ReadRootKey(path string) (*secret.Key, error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: there is no file %s; put the installation's root key there, or run \"adytumd setup\" for a new installation", ErrRootKey, path)
	} else if err != nil {
		return nil, fmt.Errorf("%w: cannot open %s: %w", ErrRootKey, path, errors.Unwrap(err))
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRootKey, err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%w: %s is not a regular file", ErrRootKey, path)
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return nil, fmt.Errorf("%w: %s has mode %04o, so others can read it; run \"chmod 0400 %s\", and rotate the key if it was open to others", ErrRootKey, path, mode, path)
	}
	text := make([]byte, 2*secret.KeySize+8)
	defer clear(text)
	n, _ := f.Read(text)
	raw := make([]byte, secret.KeySize)
	trimmed := bytes.TrimSpace(text[:n])
	if len(trimmed) != 2*secret.KeySize {
		return nil, fmt.Errorf("%w: %s does not hold 64 hexadecimal digits", ErrRootKey, path)
	}
	if _, err := hex.Decode(raw, trimmed); err != nil {
		return nil, fmt.Errorf("%w: %s does not hold 64 hexadecimal digits", ErrRootKey, path)
	}
	return secret.NewKey(raw)
}

// The purposes of a project's keys.
const (
	forValues       = "values"       // wraps version keys
	forFingerprints = "fingerprints" // tells whether values are the same
	forSigning      = "signing"      // the organization's: manifests, tokens, the trail
)

// keyring holds the root keys that this instance was given, and what was
// unwrapped with them so far. It is safe for concurrent use.
type keyring struct {
	organization string
	signing      // derived from the organization's signing key
	mu           sync.Mutex
	roots        map[int64]*secret.Key // wrapping keys, by the root key's id
	projects     map[int64]*projectKey // by the key's id
	prints       map[int64]*projectKey // fingerprint keys, by project
	newestOf     map[int64]newestKey   // by project
}

// signing are the keys that say that records are this installation's own. They
// stay the same when root keys and project keys are renewed.
type signing struct{ manifests, tokens, trail, requests, factors, checkpoints, records, alerts *secret.Key }

// projectKey is one key of a project, ready for its purpose.
type projectKey struct {
	id    int64
	wraps *envelope.Wrapping // version keys; nil for another purpose
	print *secret.Key        // of values; nil for another purpose
}

// openKeyring finds which root keys were given, and refuses those of another
// installation.
func openKeyring(tx *storage.Tx, given []*secret.Key) (*keyring, error) {
	o, err := tx.Organization()
	if err != nil {
		return nil, err
	}
	k := newKeyring(o.UID)
	known, err := tx.RootKeys()
	if err != nil {
		return nil, err
	}
	if err := k.addRoots(given, known); err != nil {
		return nil, err
	}
	for _, r := range known {
		if r.State == rootActive && k.roots[r.ID] == nil {
			return nil, fmt.Errorf("%w: this is not the key that the database was set up with; nothing was changed", ErrRootKey)
		}
	}
	stored, err := tx.ProjectKeys(0)
	if err != nil {
		return nil, err
	}
	for _, s := range stored {
		if s.Purpose == forSigning {
			return k, k.openSigning(s)
		}
	}
	return nil, errors.New("the organization's signing key is missing from the database")
}

func newKeyring(organization string) *keyring {
	return &keyring{organization: organization, roots: map[int64]*secret.Key{}, projects: map[int64]*projectKey{}, prints: map[int64]*projectKey{}, newestOf: map[int64]newestKey{}}
}

// addRoots takes up those of the given root keys that the database knows.
func (k *keyring) addRoots(given []*secret.Key, known []storage.RootKey) error {
	for _, root := range given {
		proof, err := rootProof(root, k.organization)
		if err != nil {
			return err
		}
		for _, r := range known {
			if !envelope.Same(proof, r.Proof) {
				continue
			}
			wrapping, err := envelope.Derive(root, envelope.WrapProjectKeys)
			if err != nil {
				return err
			}
			k.mu.Lock()
			if k.roots[r.ID] == nil {
				k.roots[r.ID] = wrapping
			} else {
				wrapping.Destroy()
			}
			k.mu.Unlock()
		}
	}
	return nil
}

// rootIDs are the ids of the root keys that this instance holds.
func (k *keyring) rootIDs() []int64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Sorted(maps.Keys(k.roots))
}

// rootProof tells whether a key is a certain root key, and nothing about it.
func rootProof(root *secret.Key, uid string) ([]byte, error) {
	key, err := envelope.Derive(root, envelope.RootProof)
	if err != nil {
		return nil, err
	}
	defer key.Destroy()
	return envelope.Sign(key, uid), nil
}

func (k *keyring) openSigning(stored storage.ProjectKey) error {
	key, err := k.unwrap(stored)
	if err != nil {
		return err
	}
	defer key.Destroy()
	for purpose, target := range map[envelope.Purpose]**secret.Key{
		envelope.SignManifests: &k.manifests, envelope.SignTokens: &k.tokens, envelope.SignTrail: &k.trail, envelope.SignRequests: &k.requests,
		envelope.SealFactors: &k.factors, envelope.SignCheckpoints: &k.checkpoints, envelope.SealRecords: &k.records, envelope.SignAlerts: &k.alerts,
	} {
		if *target, err = envelope.Derive(key, purpose); err != nil {
			return err
		}
	}
	return nil
}

func (k *keyring) destroy() {
	k.mu.Lock()
	defer k.mu.Unlock()
	all := []*secret.Key{k.manifests, k.tokens, k.trail, k.requests, k.factors, k.checkpoints, k.records, k.alerts}
	for _, p := range k.prints {
		all = append(all, p.print)
	}
	for _, key := range append(all, slices.Collect(maps.Values(k.roots))...) {
		if key != nil {
			key.Destroy()
		}
	}
}

func (k *keyring) unwrap(stored storage.ProjectKey) (*secret.Key, error) {
	k.mu.Lock()
	root := k.roots[stored.RootKeyID]
	k.mu.Unlock()
	if root == nil {
		return nil, fmt.Errorf("the root key %d, which wraps a key of project %d, was not given to this instance", stored.RootKeyID, stored.ProjectID)
	}
	key, err := envelope.UnwrapProjectKey(root, k.organization, stored.Purpose, stored.ProjectID, stored.ID, stored.Wrapped)
	if err != nil {
		return nil, fmt.Errorf("open the key %d of project %d: %w", stored.ID, stored.ProjectID, err)
	}
	return key, nil
}

// open unwraps a project's key, once.
func (k *keyring) open(stored storage.ProjectKey) (*projectKey, error) {
	k.mu.Lock()
	p := k.projects[stored.ID]
	k.mu.Unlock()
	if p != nil {
		return p, nil
	}
	key, err := k.unwrap(stored)
	if err != nil {
		return nil, err
	}
	defer key.Destroy()
	purpose := envelope.WrapVersionKeys
	if stored.Purpose == forFingerprints {
		purpose = envelope.Fingerprints
	}
	derived, err := envelope.Derive(key, purpose)
	if err != nil {
		return nil, err
	}
	p = &projectKey{id: stored.ID, print: derived}
	if stored.Purpose != forFingerprints {
		defer derived.Destroy()
		p.print = nil
		if p.wraps, err = envelope.NewWrapping(derived); err != nil {
			return nil, err
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if other := k.projects[stored.ID]; other != nil {
		if p.print != nil {
			p.print.Destroy()
		}
		return other, nil
	}
	k.projects[stored.ID] = p
	if p.print != nil {
		k.prints[stored.ProjectID] = p
	}
	return p, nil
}

// create makes a new key for a project and stores it wrapped by the root key
// that is active now.
func (k *keyring) create(tx *storage.Tx, project int64, purpose string, now time.Time) (storage.ProjectKey, error) {
	stored := storage.ProjectKey{ProjectID: project, Purpose: purpose, CreatedAt: now}
	root, err := k.activeRoot(tx)
	if err != nil {
		return stored, err
	}
	if stored.ID, err = tx.NextProjectKeyID(); err != nil {
		return stored, err
	}
	key, err := secret.RandomKey()
	if err != nil {
		return stored, err
	}
	defer key.Destroy()
	return stored, k.store(&stored, root, key, tx.CreateProjectKey)
}

// store wraps a key with a root key and writes it.
func (k *keyring) store(stored *storage.ProjectKey, root int64, key *secret.Key, write func(storage.ProjectKey) error) error {
	k.mu.Lock()
	wrapping := k.roots[root]
	k.mu.Unlock()
	var err error
	stored.RootKeyID = root
	if stored.Wrapped, err = envelope.WrapProjectKey(wrapping, k.organization, stored.Purpose, stored.ProjectID, stored.ID, key); err != nil {
		return err
	}
	return write(*stored)
}

// activeRoot is the root key that new wraps use.
func (k *keyring) activeRoot(tx *storage.Tx) (int64, error) {
	known, err := tx.RootKeys()
	if err != nil {
		return 0, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, r := range known {
		if r.State == rootActive && k.roots[r.ID] != nil {
			return r.ID, nil
		}
	}
	return 0, problem(Unavailable, "the active root key was not given to this instance yet; try again in a moment")
}

// createProject makes the keys of a new project.
func (k *keyring) createProject(tx *storage.Tx, project int64, now time.Time) error {
	for _, purpose := range []string{forValues, forFingerprints} {
		if _, err := k.create(tx, project, purpose, now); err != nil {
			return err
		}
	}
	return nil
}

// newest is the key of a project that new versions are wrapped with.
func (k *keyring) newest(tx *storage.Tx, project int64) (*projectKey, error) {
	k.mu.Lock()
	known := k.newestOf[project]
	k.mu.Unlock()
	if known.key != nil && time.Since(known.at) < newestFor {
		return known.key, nil
	}
	stored, err := tx.ProjectKeys(project)
	if err != nil {
		return nil, err
	}
	for i := len(stored) - 1; i >= 0; i-- {
		if stored[i].Purpose == forValues {
			key, err := k.open(stored[i])
			if err == nil {
				k.mu.Lock()
				k.newestOf[project] = newestKey{key, time.Now()}
				k.mu.Unlock()
			}
			return key, err
		}
	}
	return nil, fmt.Errorf("the key of project %d is missing from the database", project)
}

// newestFor is how long the newest key is taken for the newest without asking. A
// renewal of the key waits for longer before it deletes the old one.
const newestFor = time.Second

// newestKey is a project's newest key, and when it was asked for.
type newestKey struct {
	key *projectKey
	at  time.Time
}

// byID is one key of a project.
func (k *keyring) byID(tx *storage.Tx, project, id int64) (*projectKey, error) {
	k.mu.Lock()
	p := k.projects[id]
	k.mu.Unlock()
	if p != nil {
		return p, nil
	}
	if tx == nil {
		return nil, errNotCached
	}
	stored, err := tx.ProjectKeys(project)
	if err != nil {
		return nil, err
	}
	for _, s := range stored {
		if s.ID == id && s.Purpose == forValues {
			return k.open(s)
		}
	}
	return nil, fmt.Errorf("the key %d of project %d is missing from the database", id, project)
}

// fingerprints is the key that tells a project's values apart.
func (k *keyring) fingerprints(tx *storage.Tx, project int64) (*secret.Key, error) {
	k.mu.Lock()
	p := k.prints[project]
	k.mu.Unlock()
	if p != nil {
		return p.print, nil
	}
	stored, err := tx.ProjectKeys(project)
	if err != nil {
		return nil, err
	}
	for _, s := range stored {
		if s.Purpose == forFingerprints {
			p, err := k.open(s)
			if err != nil {
				return nil, err
			}
			return p.print, nil
		}
	}
	return nil, fmt.Errorf("the fingerprint key of project %d is missing from the database", project)
}

// signBackup signs the index of a backup.
func (k *keyring) signBackup(index []byte) []byte {
	return envelope.Sign(k.manifests, "backup", string(index))
}

// The states of a root key.
const (
	rootPending = "pending" // known to some instances, used for nothing yet
	rootActive  = "active"  // new wraps use it
	rootLeaving = "leaving" // still wraps some keys, and no new ones
	rootRetired = "retired" // wraps nothing any more
)
