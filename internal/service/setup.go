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
	if err := checkPerson(owner.Login, owner.Name, owner.Password); err != nil {
		return err
	}
	password := hashPassword(owner.Password)
	uid := rand.Text()
	check, err := rootCheck(root, uid)
	if err != nil {
		return err
	}
	keys, err := deriveKeyring(root, uid)
	if err != nil {
		return err
	}
	defer keys.destroy()
	err = store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if err := tx.CreateOrganization(storage.Organization{UID: uid, Name: organization, RootCheck: check, Manifest: []byte{}, CreatedAt: now}); err != nil {
			return err
		}
		if err := keys.createLayer(tx, access.Where{}, now); err != nil {
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

// createLayer writes an empty, signed layer, and the project's key where it is
// the first of its project.
func (k *keyring) createLayer(tx *storage.Tx, where access.Where, now time.Time) error {
	var (
		newest *projectKeys
		err    error
	)
	if where.Environment == 0 {
		newest, err = k.create(tx, where.Project, storage.ProjectKey{CreatedAt: now})
	} else {
		_, newest, err = k.ofProject(tx, where.Project)
	}
	if err != nil {
		return err
	}
	row := storage.Layer{ProjectID: where.Project, Manifest: []byte{}}
	if where.Environment != 0 {
		row.EnvironmentID = &where.Environment
	}
	if row, err = tx.CreateLayer(row); err != nil {
		return err
	}
	row.Manifest = envelope.Manifest(newest.manifests, layerScope(k.organization, row), 0, nil)
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
