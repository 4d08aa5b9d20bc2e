package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// rewrapBatch is how many wraps one transaction renews.
const rewrapBatch = 500

// Rekeyer renews keys while any number of instances serve. Whatever it was doing
// when it ended, it can be run again and goes on from there.
type Rekeyer struct {
	op   *operation
	keys *keyring
	wait time.Duration
	// at is called before each step, for tests: an error ends the work there.
	at func(step string) error
}

// NewRekeyer opens a database for renewing its keys, with every root key that is
// in use. Wait is how long instances have to learn of a new root key.
func NewRekeyer(ctx context.Context, store *storage.Store, roots []*secret.Key, wait time.Duration, log *slog.Logger, at func(step string) error) (*Rekeyer, error) {
	s := &Service{store: store, now: time.Now, log: log, redact: func(s string) string { return s }, layers: newLayerCache(), sealed: newSealedCache()}
	err := store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
		s.keys, err = openKeyring(tx, roots)
		return err
	})
	if err != nil {
		return nil, err
	}
	if at == nil {
		at = func(string) error { return nil }
	}
	return &Rekeyer{op: &operation{service: s, ctx: ctx}, keys: s.keys, wait: wait, at: at}, nil
}

// Close lets go of the keys.
func (r *Rekeyer) Close() { r.keys.destroy() }

// step runs f in a transaction that holds the organization, as one change of it
// with its event.
func (r *Rekeyer) step(action string, names []string, f func(tx *storage.Tx) error) error {
	if err := r.at(action); err != nil {
		return err
	}
	r.op.event = trail.Event{Action: action, Outcome: trail.Allowed, Names: names}
	return r.op.service.changeDirectory(r.op, func(tx *storage.Tx, _ *directory) error { return f(tx) })
}

// Root renews the root key: next takes the place of the one that is active. It
// ends when the old one wraps nothing any more.
func (r *Rekeyer) Root(next *secret.Key) error {
	id, err := r.announce(next)
	if err != nil {
		return err
	}
	if err := r.everyInstance(id); err != nil {
		return err
	}
	err = r.step("root-key.activate", nil, func(tx *storage.Tx) error {
		known, err := tx.RootKeys()
		if err != nil {
			return err
		}
		for _, k := range known {
			if k.State == rootActive && k.ID != id {
				if err := tx.SetRootKeyState(k.ID, rootLeaving); err != nil {
					return err
				}
			}
		}
		return tx.SetRootKeyState(id, rootActive)
	})
	if err != nil {
		return err
	}
	if err := r.rewrapProjects(id); err != nil {
		return err
	}
	return r.step("root-key.retire", nil, func(tx *storage.Tx) error {
		known, err := tx.RootKeys()
		if err != nil {
			return err
		}
		for _, k := range known {
			if k.State == rootLeaving {
				if err := tx.SetRootKeyState(k.ID, rootRetired); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// announce records the next root key, once, and returns its id.
func (r *Rekeyer) announce(next *secret.Key) (id int64, err error) {
	proof, err := rootProof(next, r.keys.organization)
	if err != nil {
		return 0, err
	}
	err = r.step("root-key.announce", nil, func(tx *storage.Tx) error {
		known, err := tx.RootKeys()
		if err != nil {
			return err
		}
		for _, k := range known {
			switch {
			case envelope.Same(k.Proof, proof) && k.State == rootRetired:
				return errors.New("this root key was retired before; use a new one")
			case envelope.Same(k.Proof, proof):
				id = k.ID
			case k.State == rootPending:
				return errors.New("another root key was announced and not brought into use; go on with that one")
			}
		}
		if id == 0 {
			k, err := tx.CreateRootKey(storage.RootKey{Proof: proof, State: rootPending, CreatedAt: r.op.service.now()})
			if err != nil {
				return err
			}
			id = k.ID
		}
		if known, err = tx.RootKeys(); err != nil {
			return err
		}
		return r.keys.addRoots([]*secret.Key{next}, known)
	})
	return id, err
}

// everyInstance waits until every instance that lives holds a root key.
func (r *Rekeyer) everyInstance(id int64) error {
	if err := r.at("root-key.wait"); err != nil {
		return err
	}
	deadline := time.Now().Add(r.wait)
	for {
		var all, without int64
		err := r.op.service.store.Snapshot(r.op.ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
			all, without, err = tx.InstancesWithout(id, time.Now().Add(-silentAfter))
			return err
		})
		if err != nil || without == 0 {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%d of %d running instances do not hold the new root key yet; put it beside the present one on each of them, as its name with \".next\", and run this again: nothing was changed but that the key is announced", without, all)
		}
		select {
		case <-r.op.ctx.Done():
			return r.op.ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// rewrapProjects wraps every project key with a root key.
func (r *Rekeyer) rewrapProjects(root int64) error {
	for left := true; left; {
		if err := r.at("root-key.rewrap"); err != nil {
			return err
		}
		err := r.everything(func(tx *storage.Tx) error {
			stored, err := tx.ProjectKeysUnder(root, rewrapBatch)
			left = len(stored) > 0
			if err != nil {
				return err
			}
			for _, k := range stored {
				key, err := r.keys.unwrap(k)
				if err != nil {
					return err
				}
				err = r.keys.store(&k, root, key, tx.SaveProjectKey)
				key.Destroy()
				if err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// everything runs f in a transaction that holds the organization and may write
// in all projects.
func (r *Rekeyer) everything(f func(tx *storage.Tx) error) error {
	s := r.op.service
	return s.store.In(r.op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if _, err := tx.LockOrganization(); err != nil {
			return err
		}
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		scope := storage.Scope{0}
		for _, p := range d.projects {
			scope = append(scope, p.ID)
		}
		if err := tx.Widen(scope); err != nil {
			return err
		}
		return f(tx)
	})
}

// Projects renews the keys that wrap the version keys of projects: of the named
// one, or of all and the organization's where the name is empty.
func (r *Rekeyer) Projects(name string) error {
	d, err := r.op.service.snapshotDirectory(r.op.ctx)
	if err != nil {
		return err
	}
	var ids []int64
	if name == "" {
		ids = append(ids, 0)
	}
	for _, p := range d.projects {
		if p.DestroyedAt == nil && (name == "" || p.Name == name && p.RemovedAt == nil) {
			ids = append(ids, p.ID)
		}
	}
	if len(ids) == 0 {
		return fmt.Errorf("there is no project %q", name)
	}
	for _, id := range ids {
		if err := r.project(d, id); err != nil {
			return err
		}
	}
	return nil
}

func (r *Rekeyer) project(d *directory, id int64) error {
	var newest storage.ProjectKey
	place := d.placeOf(access.Where{Project: id}).String()
	err := r.step("project-key.renew", []string{place}, func(tx *storage.Tx) error {
		if err := tx.Widen(storage.Scope{0, id}); err != nil {
			return err
		}
		old, err := valueKeys(tx, id)
		if err != nil {
			return err
		}
		if len(old) > 1 {
			newest = old[len(old)-1] // begun before, and not ended
			return nil
		}
		newest, err = r.keys.create(tx, id, forValues, r.op.service.now())
		return err
	})
	if err != nil {
		return err
	}
	// Instances go on with the old key for a moment.
	for try := 1; ; try++ {
		if err := r.rewrapVersions(id, newest); err != nil {
			return err
		}
		err := r.retire(id, place)
		if err == nil || try == retireTries || !errors.Is(err, errStillUsed) {
			return err
		}
		time.Sleep(2 * newestFor)
	}
}

// retireTries is how often an old project key is tried to be deleted.
const retireTries = 10

var errStillUsed = errors.New("a value was kept under the old key meanwhile; run this again")

// retire deletes the keys of a project that wrap nothing any more.
func (r *Rekeyer) retire(id int64, place string) error {
	return r.step("project-key.retire", []string{place}, func(tx *storage.Tx) error {
		if err := tx.Widen(storage.Scope{0, id}); err != nil {
			return err
		}
		old, err := valueKeys(tx, id)
		if err != nil {
			return err
		}
		for _, k := range old[:len(old)-1] {
			if err := tx.DeleteProjectKey(id, k.ID); err != nil {
				return fmt.Errorf("%w: %w", errStillUsed, err)
			}
		}
		return nil
	})
}

func valueKeys(tx *storage.Tx, project int64) (keys []storage.ProjectKey, err error) {
	all, err := tx.ProjectKeys(project)
	for _, k := range all {
		if k.Purpose == forValues {
			keys = append(keys, k)
		}
	}
	return keys, err
}

// rewrapVersions wraps every version key of a project with its newest key.
func (r *Rekeyer) rewrapVersions(project int64, newest storage.ProjectKey) error {
	to, err := r.keys.open(newest)
	if err != nil {
		return err
	}
	for left := true; left; {
		if err := r.at("project-key.rewrap"); err != nil {
			return err
		}
		err := r.op.service.store.In(r.op.ctx, storage.Scope{0, project}, func(tx *storage.Tx) error {
			batch, err := tx.VersionKeysUnder(project, newest.ID, rewrapBatch)
			if left = len(batch) > 0; err != nil || !left {
				return err
			}
			renewed := make([]storage.VersionKey, len(batch))
			for i := range batch {
				k := &batch[i]
				from, err := r.keys.byID(tx, project, k.ProjectKeyID)
				if err != nil {
					return err
				}
				id := envelope.Identity{Organization: r.keys.organization, Project: project, Layer: k.LayerID, Entry: k.EntryID, Version: k.Version, Kind: k.Kind}
				if k.Wrapped, err = envelope.RewrapVersionKey(from.wraps, to.wraps, id, k.Wrapped); err != nil {
					return fmt.Errorf("open the key of version %d of entry %d: %w", k.Version, k.EntryID, err)
				}
				k.ProjectKeyID = newest.ID
				renewed[i] = k.VersionKey
			}
			return tx.SaveVersionKeys(renewed)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
