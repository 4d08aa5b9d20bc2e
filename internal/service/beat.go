package service

import (
	"context"
	"time"

	"adytum.example/internal/storage"
)

// An instance shows that it lives, and which root keys it holds.
const (
	beatEvery   = 2 * time.Second
	silentAfter = 15 * time.Second // an instance that is silent for so long has ended
)

// startBeating records this instance and keeps the record fresh until the
// service is closed. While a root key waits to be used, the instance looks for it
// again with every beat.
func (s *Service) startBeating(ctx context.Context) error {
	if err := s.beat(ctx); err != nil {
		return err
	}
	s.beating.Go(func() {
		ticker := time.NewTicker(beatEvery)
		defer ticker.Stop()
		for {
			select {
			case <-s.ending:
				s.leave()
				return
			case <-ticker.C:
				ctx, cancel := context.WithTimeout(context.Background(), 5*beatEvery)
				if err := s.beat(ctx); err != nil {
					s.log.Debug("the instance could not show that it lives", "error", err)
				}
				cancel()
			}
		}
	})
	return nil
}

func (s *Service) beat(ctx context.Context) error {
	if err := s.keepCheckpoint(); err != nil {
		s.log.Warn("the newest checkpoint could not be kept", "error", err)
	}
	return s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		if err := s.clock.compare(tx, s.log); err != nil {
			return err
		}
		known, err := tx.RootKeys()
		if err != nil {
			return err
		}
		if err := s.learnRoots(known); err != nil {
			s.log.Warn("the new root key cannot be read", "error", err)
		}
		return tx.Beat(s.recorder.laneName(), s.now(), s.now().Add(-silentAfter), s.keys.rootIDs())
	})
}

// learnRoots takes up root keys that the database knows and this instance does
// not hold yet.
func (s *Service) learnRoots(known []storage.RootKey) error {
	held := map[int64]bool{}
	for _, id := range s.keys.rootIDs() {
		held[id] = true
	}
	for _, k := range known {
		if k.State == rootRetired || held[k.ID] {
			continue
		}
		given, err := s.roots()
		if err != nil {
			return err
		}
		err = s.keys.addRoots(given, known)
		for _, key := range given {
			key.Destroy()
		}
		return err
	}
	return nil
}

func (s *Service) leave() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error { return tx.Leave(s.recorder.laneName()) })
}
