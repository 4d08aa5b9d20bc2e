package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Checked says what a check looked at.
type Checked struct{ Layers, Entries, Versions, Secrets, Changes int }

// Check checks everything that is kept, with a root key: the directory's
// manifest, every layer's, every version's chain, every change's record, and that
// every secret that was not destroyed can be opened. The first thing that is wrong
// is the error.
func Check(ctx context.Context, store *storage.Store, roots []*secret.Key, log *slog.Logger) (out Checked, err error) {
	s := &Service{store: store, now: time.Now, log: log, layers: newLayerCache(), sealed: newSealedCache()}
	err = store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if s.keys, err = openKeyring(tx, roots); err != nil {
			return err
		}
		d, err := s.keys.loadDirectory(tx)
		if err != nil {
			return err
		}
		for _, l := range d.layerByID {
			if p, e := d.projectByID[l.ProjectID], d.environmentByID[orZero(l.EnvironmentID)]; p != nil && p.DestroyedAt != nil || e != nil && e.DestroyedAt != nil {
				continue // its keys are gone, and its layers are not read any more
			}
			if err := s.checkLayer(tx, d, l.ID, &out); err != nil {
				return err
			}
		}
		return nil
	})
	if s.keys != nil {
		s.keys.destroy()
	}
	return out, err
}

func (s *Service) checkLayer(tx *storage.Tx, d *directory, id int64, out *Checked) error {
	_, loaded, err := s.loadChain(tx, d, []int64{id})
	if err != nil {
		return err
	}
	l := loaded[id]
	out.Layers++
	for entry, r := range l.records {
		out.Entries++
		all, err := s.allVersions(tx, l, entry)
		if err != nil {
			return err
		}
		for _, v := range all {
			out.Versions++
			if v.Kind != string(layers.Secret) || v.DestroyedAt != nil {
				continue
			}
			value, err := s.openStored(tx, l, v, r.Name, nil)
			if err != nil {
				return err
			}
			value.Wipe()
			out.Secrets++
		}
	}
	after, err := s.changesAfter(tx, l, l.Place, 0)
	out.Changes += len(after)
	return err
}

// Recovered ends a recovery: it records it, and tells whether the trail is whole.
func Recovered(ctx context.Context, store *storage.Store, roots []*secret.Key, from string, log *slog.Logger) error {
	r, err := NewRekeyer(ctx, store, roots, 0, log, nil)
	if err != nil {
		return err
	}
	defer r.Close()
	verified, err := r.op.service.verifyTrail(ctx, 0)
	if err != nil {
		return err
	}
	if !verified.Whole {
		p := verified.Problems[0]
		return fmt.Errorf("the trail is not whole: %s, event %d: %s", p.Lane, p.Seq, p.What)
	}
	r.op.event = trail.Event{Action: "organization.recover", Outcome: trail.Allowed, Reason: "from the backup " + from}
	return r.op.service.changeDirectory(r.op, func(*storage.Tx, *directory) error { return nil })
}

// SignBackup records that a backup is made and returns what signs its index.
func SignBackup(ctx context.Context, store *storage.Store, roots []*secret.Key, id string, log *slog.Logger) (sign func(index []byte) []byte, done func(), err error) {
	r, err := NewRekeyer(ctx, store, roots, 0, log, nil)
	if err != nil {
		return nil, nil, err
	}
	if err := r.step("organization.backup", []string{id}, func(*storage.Tx) error { return nil }); err != nil {
		r.Close()
		return nil, nil, err
	}
	return r.keys.signBackup, r.Close, nil
}

// CheckBackup tells whether the index of a part of a backup is what this
// installation signed.
func CheckBackup(ctx context.Context, store *storage.Store, roots []*secret.Key, index, mac []byte, log *slog.Logger) error {
	r, err := NewRekeyer(ctx, store, roots, 0, log, nil)
	if err != nil {
		return err
	}
	defer r.Close()
	if !envelope.Same(r.keys.signBackup(index), mac) {
		return errors.New("its index is not what was signed when it was made")
	}
	return nil
}
