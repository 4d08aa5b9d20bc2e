package service

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// ErrSetBack says that the database is behind what was signed of it: it was set
// back, or an older copy of it is being served.
var ErrSetBack = errors.New("the database was set back")

// remember takes note of the newest checkpoint in the database. Where it does not
// go on from the one that this instance knows, nothing is answered any more.
func (s *Service) remember(tx *storage.Tx, stored storage.StoredCheckpoint) error {
	known := s.newest.Load()
	if known == nil && stored.Size == 0 || known != nil && known.Size == stored.Size && string(known.note) == string(stored.Note) {
		return nil
	}
	var c trail.Checkpoint
	var err error
	if stored.Size > 0 {
		if c, err = s.keys.openCheckpoint(stored.Note); err != nil {
			return fmt.Errorf("the newest checkpoint of the trail was altered in the database: %w", err)
		}
	}
	if known != nil {
		if err := grown(tx, known.Checkpoint, c); err != nil {
			if errors.Is(err, ErrSetBack) {
				s.halt(err)
			}
			return err
		}
	}
	s.newest.Store(&checkpoint{c, stored.Note, base64.StdEncoding.EncodeToString(stored.Note)})
	return nil
}

// grown tells whether the tree of a checkpoint has only grown since another one.
func grown(tx *storage.Tx, old, now trail.Checkpoint) error {
	var proof []trail.Hash
	if old.Size > 0 && old.Size <= now.Size {
		var err error
		if proof, err = trail.ProveGrowth(old.Size, now.Size, tx.ReadTile); err != nil {
			return err
		}
	}
	if err := trail.CheckGrowth(old, now, proof); err != nil {
		return fmt.Errorf("%w: %w", ErrSetBack, err)
	}
	return nil
}

// halt lets the service answer nothing any more.
func (s *Service) halt(reason error) {
	if s.halted.CompareAndSwap(nil, &reason) {
		s.log.Error("nothing is answered any more until an operator has looked at the database", "reason", reason)
	}
}

// errHalted is the answer of a service that was halted, nil of one that was not.
func (s *Service) errHalted() error {
	if s.halted.Load() == nil {
		return nil
	}
	return problem(Unavailable, "the service has stopped answering, since its database is not what it was; its operator finds the reason in its log")
}

// checkStart refuses a database whose layers or organization are behind what the
// newest checkpoint covers, and one whose tree does not go on from a checkpoint
// that this instance kept in a file.
func (s *Service) checkStart(ctx context.Context, file string) error {
	kept, err := s.readKept(file)
	if err != nil {
		return err
	}
	return s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		stored, err := tx.NewestCheckpoint()
		if err != nil {
			return err
		}
		if kept != nil {
			s.newest.Store(kept)
		}
		if err := s.remember(tx, stored); err != nil {
			return explainStart(err, file)
		}
		if stored.Size == 0 {
			return nil
		}
		return explainStart(s.checkHeads(tx), file)
	})
}

func explainStart(err error, file string) error {
	if !errors.Is(err, ErrSetBack) {
		return err
	}
	advice := "recover a newer backup"
	if file != "" {
		advice += ", or, where an older state is what is wanted, run \"adytumd accept-trail --because REASON\""
	}
	return fmt.Errorf("%w; %s", err, advice)
}

// checkHeads compares the store's revisions with where lanes end in the tree.
func (s *Service) checkHeads(tx *storage.Tx) error {
	heads, err := tx.LaneHeads()
	if err != nil {
		return err
	}
	ends := make(map[string]int64, len(heads))
	for _, h := range heads {
		ends[h.Lane] = h.Seq
	}
	if newest := s.newest.Load(); newest != nil && trail.HeadsDigest(ends) != newest.Heads {
		return errors.New("where the trail's lanes end is not what its newest checkpoint says: it was altered in the database")
	}
	o, err := tx.Organization()
	if err != nil {
		return err
	}
	if o.Revision < ends[trail.OrganizationLane] {
		return fmt.Errorf("%w: the organization is at revision %d, and its trail at %d", ErrSetBack, o.Revision, ends[trail.OrganizationLane])
	}
	revisions, err := tx.AllRevisions()
	if err != nil {
		return err
	}
	for id, revision := range revisions {
		if end := ends[trail.LayerLane(id)]; revision < end {
			return fmt.Errorf("%w: the layer %d is at revision %d, and its trail at %d", ErrSetBack, id, revision, end)
		}
	}
	return nil
}

// readKept reads the checkpoint that was kept in a file, nil where there is none.
func (s *Service) readKept(file string) (*checkpoint, error) {
	if file == "" {
		return nil, nil
	}
	note, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("read the checkpoint that was kept: %w", err)
	}
	c, err := s.keys.openCheckpoint(note)
	if err != nil {
		return nil, fmt.Errorf("%s does not hold a checkpoint of this installation: %w", file, err)
	}
	return &checkpoint{c, note, base64.StdEncoding.EncodeToString(note)}, nil
}

// keepCheckpoint writes the newest checkpoint to the instance's file, by rename.
func (s *Service) keepCheckpoint() error {
	newest := s.newest.Load()
	if s.checkpointFile == "" || newest == nil || newest.Size == s.keptSize {
		return nil
	}
	temporary := s.checkpointFile + ".new"
	if err := os.WriteFile(temporary, newest.note, 0o600); err != nil {
		return err
	}
	s.keptSize = newest.Size
	return os.Rename(temporary, s.checkpointFile)
}

// AcceptTrail records why a trail is accepted that does not go on from the
// checkpoint that was kept in a file, and keeps its newest one instead.
func AcceptTrail(ctx context.Context, c Config, reason string) (err error) {
	file := c.CheckpointFile
	if file == "" {
		return errors.New("the setting checkpoint-file is missing: there is no checkpoint that the trail is compared with")
	}
	c.CheckpointFile = ""
	s, err := Open(ctx, c)
	if err != nil {
		return err
	}
	was := "none"
	if kept, err := s.readKept(file); err == nil && kept != nil {
		was = fmt.Sprintf("%d events, %s", kept.Size, kept.At.Format(time.RFC3339))
	}
	event := trail.Event{Action: "trail.accept", Outcome: trail.Allowed, Reason: s.redact(reason), Names: []string{"kept: " + was}}
	if _, _, err := s.recorder.release(ctx, event, nil, 0); err != nil {
		s.Close(ctx)
		return err
	}
	s.checkpointFile = file
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		s.Close(ctx)
		return err
	}
	s.Close(ctx) // puts the event into the tree, and keeps the checkpoint
	return nil
}
