package service

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// ErrSetUp says that the database holds an installation already.
var ErrSetUp = errors.New("the database is already set up; nothing was changed")

// Owner is the first person of an installation.
type Owner struct {
	Login    string
	Name     string
	Password secret.Value
}

// IsSetUp tells whether the database holds an installation.
func IsSetUp(ctx context.Context, store *storage.Store) (bool, error) {
	err := store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		_, err := tx.Organization()
		return err
	})
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// SetUp makes an empty, migrated database an installation with its first owner.
func SetUp(ctx context.Context, store *storage.Store, root *secret.Key, organization string, owner Owner, now time.Time) error {
	if owner.Password.Len() == 0 {
		return problem(Invalid, "the owner needs a password")
	}
	if err := checkPerson(owner.Login, owner.Name, organization, owner.Password); err != nil {
		return err
	}
	password := hashPassword(owner.Password)
	uid := rand.Text()
	proof, err := rootProof(root, uid)
	if err != nil {
		return err
	}
	err = store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if err := tx.CreateOrganization(storage.Organization{UID: uid, Name: organization, Manifest: []byte{}, CreatedAt: now}); err != nil {
			return err
		}
		keys, err := firstKeyring(tx, uid, root, proof, now)
		if err != nil {
			return err
		}
		defer keys.destroy()
		if err := keys.createLayer(tx, storage.Layer{}); err != nil {
			return err
		}
		person, err := tx.CreatePerson(storage.Person{Login: owner.Login, Name: owner.Name, Password: password, CreatedAt: now})
		if err != nil {
			return err
		}
		if _, err := tx.CreateGrant(storage.Grant{SubjectKind: string(access.Person), SubjectID: person.ID, Role: "owner", CreatedAt: now}); err != nil {
			return err
		}
		return keys.commitDirectory(tx, trail.Event{Action: "organization.setup", Outcome: trail.Allowed}, now)
	})
	if errors.Is(err, storage.ErrTaken) {
		return ErrSetUp
	}
	return err
}

// firstKeyring records the first root key and makes the organization's keys.
func firstKeyring(tx *storage.Tx, uid string, root *secret.Key, proof []byte, now time.Time) (*keyring, error) {
	if _, err := tx.CreateRootKey(storage.RootKey{Proof: proof, State: rootActive, CreatedAt: now}); err != nil {
		return nil, err
	}
	known, err := tx.RootKeys()
	if err != nil {
		return nil, err
	}
	keys := newKeyring(uid)
	if err := keys.addRoots([]*secret.Key{root}, known); err != nil {
		return nil, err
	}
	stored, err := keys.create(tx, 0, forSigning, now)
	if err != nil {
		return nil, err
	}
	if err := keys.openSigning(stored); err != nil {
		return nil, err
	}
	return keys, keys.createProject(tx, 0, now)
}

// createLayer writes an empty, signed layer.
func (k *keyring) createLayer(tx *storage.Tx, row storage.Layer) error {
	row.Manifest = []byte{}
	row, err := tx.CreateLayer(row)
	if err != nil {
		return err
	}
	row.Manifest = envelope.Manifest(k.manifests, layerScope(k.organization, row), 0, nil)
	return tx.SaveLayer(row)
}

// checkPlace says what is wrong with the name of a project or an environment.
func checkPlace(what, name string, valid bool) error {
	if valid {
		return nil
	}
	return problem(Invalid, "%q cannot be the name of %s: it is lower-case letters, digits and \"-\", starts with a letter and has at most 63 characters", name, what)
}

// changed makes a taken name into an answer.
func taken(err error, what, name string) error {
	if errors.Is(err, storage.ErrTaken) {
		return problem(Conflict, "there is already %s %q", what, name)
	}
	return err
}

var organizationPlace = layers.Place{}
