package service

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"sync"
	"time"

	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// The trail is put in order by whichever instance has the lock: what every lane
// wrote becomes leaves of one tree, with a checkpoint that says so.
const (
	orderEvery    = 700 * time.Millisecond
	orderBatches  = 1024             // at once
	orderEvents   = 16384            // at once, as many as fit into these batches
	orderBack     = 10 * time.Second // a change's batch is written some time before it is committed
	orderFarBack  = time.Hour
	orderFarEvery = time.Minute
	closeEvery    = 5 * time.Second
)

// sequencer is what the instance that puts the trail in order remembers of the
// tree. It is read anew whenever another instance was at it.
type sequencer struct {
	mu        sync.Mutex
	edge      *trail.Edge // nil: not read yet
	heads     map[string]int64
	last      trail.Checkpoint
	lookedFar time.Time
	indexer   trail.Indexer
	watcher   *watcher
	told      string // what was logged last
}

// checkpoint is the newest one that this instance knows.
type checkpoint struct {
	trail.Checkpoint
	note   []byte
	header string
}

// startSequencing puts the trail in order until the service is closed.
func (s *Service) startSequencing() {
	s.beating.Go(func() {
		ticker, closing := time.NewTicker(orderEvery), time.NewTicker(closeEvery)
		defer ticker.Stop()
		defer closing.Stop()
		for {
			select {
			case <-s.ending:
				return
			case <-ticker.C:
				s.tellSequencing(s.putInOrder(context.Background(), false))
			case <-closing.C:
				s.tellSequencing(s.closeSilentLanes(context.Background()))
			}
		}
	})
}

// tellSequencing logs what keeps the trail from being put in order, once.
func (s *Service) tellSequencing(err error) {
	q := &s.sequencer
	q.mu.Lock()
	defer q.mu.Unlock()
	switch {
	case err == nil:
		q.told = ""
	case !errors.Is(err, storage.ErrUnavailable) && err.Error() != q.told:
		q.told = err.Error()
		s.log.Error("the trail cannot be put in order", "error", err)
	}
}

// putInOrder puts everything that was written into the tree; with wait also where
// another instance is at it.
func (s *Service) putInOrder(ctx context.Context, wait bool) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for more := true; more; {
		var err error
		if more, err = s.growTree(ctx, wait); err != nil {
			return err
		}
	}
	return nil
}

// growTree puts some of what was written into the tree, and tells whether there
// is more.
func (s *Service) growTree(ctx context.Context, wait bool) (more bool, err error) {
	q := &s.sequencer
	q.mu.Lock()
	defer q.mu.Unlock()
	var grown *checkpoint
	err = s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		had, err := tx.LockOrder(wait)
		if err != nil {
			return err
		}
		stored, err := tx.NewestCheckpoint()
		if err != nil {
			return err
		}
		if err := s.remember(tx, stored); err != nil || !had {
			return err
		}
		if err := q.read(tx, s.keys, stored); err != nil {
			return err
		}
		grown, more, err = q.grow(tx, s)
		return err
	})
	if err != nil {
		q.edge, q.watcher = nil, nil
		return false, err
	}
	if q.watcher != nil {
		for _, a := range q.watcher.raised {
			s.log.Warn("alert", "id", a.ID, "kind", a.Kind, "actor", a.Actor, "what", a.What)
		}
		q.watcher.raised = nil
	}
	if grown != nil {
		q.last = grown.Checkpoint
		s.newest.Store(grown)
	}
	return more, nil
}

// read reads the edge of the tree and the ends of the lanes, unless they are
// known, and compares them with the newest checkpoint.
func (q *sequencer) read(tx *storage.Tx, keys *keyring, stored storage.StoredCheckpoint) error {
	if q.edge != nil && q.last.Size == stored.Size {
		return nil
	}
	q.edge, q.heads, q.last, q.lookedFar, q.watcher = nil, map[string]int64{}, trail.Checkpoint{}, time.Time{}, newWatcher()
	if stored.Size > 0 {
		c, err := keys.openCheckpoint(stored.Note)
		if err != nil {
			return fmt.Errorf("the newest checkpoint of the trail was altered in the database: %w", err)
		}
		q.last = c
	}
	edge, err := trail.OpenEdge(q.last.Size, tx.ReadTile)
	if err != nil {
		return err
	}
	heads, err := tx.LaneHeads()
	if err != nil {
		return err
	}
	for _, h := range heads {
		q.heads[h.Lane] = h.Seq
	}
	if q.last.Size > 0 && (edge.Root() != q.last.Root || trail.HeadsDigest(q.heads) != q.last.Heads) {
		return errors.New("the trail's tree is not what its newest checkpoint says: it was altered in the database")
	}
	q.edge = edge
	return nil
}

// grow puts what follows in each lane into the tree.
func (q *sequencer) grow(tx *storage.Tx, s *Service) (*checkpoint, bool, error) {
	keys, warn := s.keys, s.log.Warn
	var briefs []trail.Brief
	since, now := q.last.At.Add(-orderBack), time.Now()
	far := true
	switch {
	case q.lookedFar.IsZero():
		since = time.Time{}
	case now.Sub(q.lookedFar) > orderFarEvery:
		since = q.last.At.Add(-orderFarBack)
	default:
		far = false
	}
	waiting, err := tx.Unordered(since, orderBatches)
	if err != nil {
		return nil, false, err
	}
	// Until nothing is left of what lies far back, it is looked for again.
	if far && len(waiting) < orderBatches {
		q.lookedFar = now
	}
	if len(waiting) == 0 {
		return nil, false, nil
	}
	following := q.following(waiting)
	bodies, err := tx.Batches(following)
	if err != nil {
		return nil, false, err
	}
	var order []storage.Ordered
	ended, bad := map[string]bool{}, map[string]bool{}
	for _, f := range following {
		row := bodies[f.Lane][f.First]
		b := trail.Batch{Lane: f.Lane, First: f.First, N: row.N, Body: row.Body, MAC: row.MAC}
		if bad[f.Lane] || !b.Genuine(keys.trail) {
			if !bad[f.Lane] {
				warn("a batch of the trail was altered in the database; what follows it in its lane is left out of the tree", "lane", f.Lane, "first", f.First)
			}
			bad[f.Lane] = true
			continue
		}
		events, err := b.Canonical()
		if err != nil {
			return nil, false, err
		}
		index, err := q.indexer.Index(b)
		if err != nil {
			return nil, false, err
		}
		order = append(order, storage.Ordered{Index: q.edge.Size, Lane: b.Lane, First: b.First, N: b.N, Earliest: index.Earliest, Latest: index.Latest, Terms: index.Terms})
		for _, e := range events {
			q.edge.Append(trail.Leaf(e))
			brief, err := trail.ReadBrief(e)
			if err != nil {
				return nil, false, err
			}
			briefs = append(briefs, brief)
		}
		q.heads[b.Lane] = b.First + int64(b.N) - 1
		ended[b.Lane] = trail.IsReaderLane(b.Lane) && bytes.Contains(b.Body, []byte(`"action":"`+trail.LaneClosed+`"`))
	}
	if len(order) == 0 {
		return nil, false, nil
	}
	heads := make([]storage.LaneHead, 0, len(ended))
	for lane, closed := range ended {
		heads = append(heads, storage.LaneHead{Lane: lane, Seq: q.heads[lane], Closed: closed})
	}
	d, err := s.currentDirectory(tx)
	if err != nil {
		return nil, false, err
	}
	if err := q.watcher.watch(tx, d, briefs); err != nil {
		return nil, false, err
	}
	c, err := q.sign(tx, keys)
	if err != nil {
		return nil, false, err
	}
	err = tx.Grow(order, q.edge.Tiles(), heads, storage.StoredCheckpoint{Size: c.Size, At: c.At, Note: c.note})
	return c, len(waiting) == orderBatches || len(following) < len(waiting) && len(following) > 0, err
}

// following are those of the batches that follow one another in their lanes.
func (q *sequencer) following(waiting []storage.TrailBatch) []storage.TrailBatch {
	var out []storage.TrailBatch
	ends, events := map[string]int64{}, 0
	for again := true; again && events < orderEvents; {
		again = false
		var left []storage.TrailBatch
		for _, b := range waiting {
			end, seen := ends[b.Lane]
			if !seen {
				end = q.heads[b.Lane]
			}
			if b.First != end+1 || events >= orderEvents {
				left = append(left, b)
				continue
			}
			ends[b.Lane] = end + int64(b.N)
			events += b.N
			out, again = append(out, b), true
		}
		waiting = left
	}
	return out
}

// sign makes the checkpoint of the tree as it is.
func (q *sequencer) sign(tx *storage.Tx, keys *keyring) (*checkpoint, error) {
	now, err := tx.Now()
	if err != nil {
		return nil, err
	}
	if now = now.UTC().Truncate(time.Millisecond); now.Before(q.last.At) {
		now = q.last.At
	}
	return keys.signCheckpoint(trail.Checkpoint{Origin: keys.origin(), Size: q.edge.Size, Root: q.edge.Root(), At: now, Heads: trail.HeadsDigest(q.heads)})
}

// origin names the installation's trail.
func (k *keyring) origin() string { return "adytum/" + k.organization }

func (k *keyring) signCheckpoint(c trail.Checkpoint) (*checkpoint, error) {
	note, err := c.Sign(k.checkpoints)
	if err != nil {
		return nil, fmt.Errorf("sign a checkpoint: %w", err)
	}
	return &checkpoint{c, note, base64.StdEncoding.EncodeToString(note)}, nil
}

func (k *keyring) openCheckpoint(note []byte) (trail.Checkpoint, error) {
	key, err := k.checkpointKey()
	if err != nil {
		return trail.Checkpoint{}, err
	}
	return trail.OpenCheckpoint(note, key)
}

// checkpointKey is the public key that checkpoints are checked with.
func (k *keyring) checkpointKey() (string, error) {
	return trail.CheckpointKey(k.origin(), k.checkpoints)
}

// closeSilentLanes ends the lanes of instances that died, with an event of their
// own: whoever writes there afterwards finds the place taken.
func (s *Service) closeSilentLanes(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		silent, err := tx.SilentLanes(s.now().Add(-silentAfter))
		if err != nil {
			return err
		}
		for _, h := range silent {
			if h.Lane == s.recorder.laneName() {
				continue
			}
			at := s.now().UTC().Truncate(time.Millisecond)
			b := trail.NewBatch(s.keys.trail, []trail.Event{{Lane: h.Lane, Seq: h.Seq + 1, At: at, Action: trail.LaneClosed, Outcome: trail.Allowed, Names: []string{"silent"}}})
			made, err := tx.AppendOnce(storage.TrailBatch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC})
			if err != nil {
				return err
			}
			if !made {
				continue // it is not in the tree yet, or something else stands there
			}
			s.log.Warn("an instance ended without closing its lane of the trail; it was closed", "lane", h.Lane, "after", h.Seq)
		}
		return nil
	})
}
