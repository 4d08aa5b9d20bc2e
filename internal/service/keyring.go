package service

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"sync"

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

// keyring holds the keys that are derived from the root key, and the project
// keys that were unwrapped so far. It is safe for concurrent use.
type keyring struct {
	organization string
	wrapProjects *secret.Key
	manifests    *secret.Key // of the directory
	tokens       *secret.Key
	trail        *secret.Key

	mu       sync.Mutex
	projects map[int64]*projectKeys // by the key's id
}

// projectKeys are what a project's key is split into.
type projectKeys struct {
	id        int64
	wrap      *secret.Key // version keys
	manifests *secret.Key // of its layers
}

// openKeyring derives the keys, and refuses a root key of another installation.
func openKeyring(root *secret.Key, o storage.Organization) (*keyring, error) {
	if check, err := rootCheck(root, o.UID); err != nil {
		return nil, err
	} else if !envelope.Same(check, o.RootCheck) {
		return nil, fmt.Errorf("%w: this is not the key that the database was set up with; nothing was changed", ErrRootKey)
	}
	return deriveKeyring(root, o.UID)
}

func rootCheck(root *secret.Key, uid string) ([]byte, error) {
	key, err := envelope.Derive(root, envelope.RootCheck)
	if err != nil {
		return nil, err
	}
	defer key.Destroy()
	return envelope.Sign(key, uid), nil
}

func deriveKeyring(root *secret.Key, uid string) (*keyring, error) {
	k := &keyring{organization: uid, projects: map[int64]*projectKeys{}}
	for purpose, target := range map[envelope.Purpose]**secret.Key{
		envelope.WrapProjectKeys: &k.wrapProjects, envelope.SignManifests: &k.manifests,
		envelope.SignTokens: &k.tokens, envelope.SignTrail: &k.trail,
	} {
		var err error
		if *target, err = envelope.Derive(root, purpose); err != nil {
			return nil, err
		}
	}
	return k, nil
}

func (k *keyring) destroy() {
	for _, key := range []*secret.Key{k.wrapProjects, k.manifests, k.tokens, k.trail} {
		key.Destroy()
	}
	for _, p := range k.projects {
		p.wrap.Destroy()
		p.manifests.Destroy()
	}
}

// open unwraps a project's key, once.
func (k *keyring) open(stored storage.ProjectKey) (*projectKeys, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if p, known := k.projects[stored.ID]; known {
		return p, nil
	}
	key, err := envelope.UnwrapProjectKey(k.wrapProjects, k.organization, stored.ProjectID, stored.ID, stored.Wrapped)
	if err != nil {
		return nil, fmt.Errorf("open the key of project %d: %w", stored.ProjectID, err)
	}
	defer key.Destroy()
	p := &projectKeys{id: stored.ID}
	if p.wrap, err = envelope.Derive(key, envelope.WrapVersionKeys); err != nil {
		return nil, err
	}
	if p.manifests, err = envelope.Derive(key, envelope.SignManifests); err != nil {
		return nil, err
	}
	k.projects[stored.ID] = p
	return p, nil
}

// create makes a new key for a project and stores it wrapped.
func (k *keyring) create(tx *storage.Tx, project int64, stored storage.ProjectKey) (*projectKeys, error) {
	id, err := tx.NextProjectKeyID()
	if err != nil {
		return nil, err
	}
	key, err := secret.RandomKey()
	if err != nil {
		return nil, err
	}
	defer key.Destroy()
	stored.ProjectID, stored.ID = project, id
	if stored.Wrapped, err = envelope.WrapProjectKey(k.wrapProjects, k.organization, project, id, key); err != nil {
		return nil, err
	}
	if err := tx.CreateProjectKey(stored); err != nil {
		return nil, err
	}
	return k.open(stored)
}

// ofProject returns all keys of a project by id, and the newest.
func (k *keyring) ofProject(tx *storage.Tx, project int64) (byID map[int64]*projectKeys, newest *projectKeys, err error) {
	stored, err := tx.ProjectKeys(project)
	if err != nil {
		return nil, nil, err
	}
	byID = map[int64]*projectKeys{}
	for _, s := range stored {
		if newest, err = k.open(s); err != nil {
			return nil, nil, err
		}
		byID[s.ID] = newest
	}
	if newest == nil {
		return nil, nil, fmt.Errorf("the key of project %d is missing from the database", project)
	}
	return byID, newest, nil
}
