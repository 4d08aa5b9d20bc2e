package service

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// finish signs the layer as it will stand, and writes it and the change.
func (c *commit) finish() error {
	s := c.op.service
	if len(c.problems) > 0 {
		return problems(Invalid, "things are wrong with the change; nothing was kept", c.problems)
	}
	if err := c.next.view(c.op.dir); err != nil {
		return err
	}
	if err := c.checkReferences(); err != nil {
		return err
	}
	if err := c.tellReferring(); err != nil {
		return err
	}
	who := c.op.caller.Subject
	c.out.Layer, c.out.Revision, c.out.At, c.out.Reason = c.at.place.String(), c.next.head.Revision, c.now, c.op.event.Reason
	c.out.Author = c.op.dir.subjectName(who)
	if len(c.destroyed) > 0 {
		c.out.GoneOn = day(c.now.Add(ShredHorizon + 24*time.Hour))
	}
	if c.dry {
		return errDryRun
	}
	if err := c.write(); err != nil {
		return err
	}
	c.next.head.Manifest = c.next.manifest(s.keys)
	if err := c.tx.SaveLayer(c.next.head); err != nil {
		return err
	}
	effects, err := json.Marshal(c.done)
	if err != nil {
		return err
	}
	row := storage.Change{ProjectID: c.at.where.Project, LayerID: c.layer.ID, Revision: c.next.head.Revision, AuthorKind: string(who.Kind), AuthorID: who.ID,
		CreatedAt: c.now, Reason: c.op.event.Reason, Effects: string(effects)}
	row.MAC = s.keys.changeMAC(row)
	if err := c.tx.CreateChange(row); err != nil {
		return err
	}
	e := c.op.event
	e.Lane, e.Seq, e.Revision, e.At = trail.LayerLane(c.layer.ID), row.Revision, row.Revision, c.now
	e.Manifest = hex.EncodeToString(c.next.head.Manifest)
	if err := appendTrail(c.tx, trail.NewBatch(s.keys.trail, []trail.Event{e})); err != nil {
		if errors.Is(err, storage.ErrTaken) {
			return fmt.Errorf("the layer %s was set back in the database: its trail is ahead of its revision %d", c.at.place, c.layer.Revision)
		}
		return err
	}
	return nil
}

// changeMAC signs the record of a change.
func (k *keyring) changeMAC(c storage.Change) []byte {
	return envelope.Sign(k.manifests, "change", envelope.Number(c.LayerID), envelope.Number(c.Revision), c.AuthorKind, envelope.Number(c.AuthorID),
		envelope.Number(c.CreatedAt.UnixMicro()), c.Reason, c.Effects)
}

// write writes the rows that changed. Removals come first, so that the names
// are free.
func (c *commit) write() error {
	fresh := make([]storage.Entry, len(c.fresh))
	for i, id := range c.fresh {
		fresh[i] = c.next.records[id].Entry
		delete(c.dirty, id)
	}
	changed := slices.Collect(maps.Keys(c.dirty))
	slices.SortFunc(changed, func(a, b int64) int {
		ra, rb := c.next.records[a], c.next.records[b]
		if (ra.RemovedAt == nil) != (rb.RemovedAt == nil) {
			return map[bool]int{true: 1, false: -1}[ra.RemovedAt == nil]
		}
		return int(a - b)
	})
	if err := c.freeNames(changed); err != nil {
		return err
	}
	for _, id := range changed {
		if err := c.tx.SaveEntry(c.next.records[id].Entry); err != nil {
			return err
		}
	}
	if len(fresh) > 0 {
		if err := c.tx.CreateEntries(fresh); err != nil {
			return err
		}
	}
	for _, v := range c.destroyed {
		if err := c.tx.DestroyVersions(v, c.now, envelope.Digest(nil)); err != nil {
			return err
		}
	}
	return c.tx.CreateVersions(c.versions, c.keys)
}

// freeNames takes entries that are renamed together out of each other's way: no
// entry's name begins with "~".
func (c *commit) freeNames(changed []int64) error {
	var renamed []storage.Entry
	for _, id := range changed {
		if before := c.layer.records[id]; before.RemovedAt == nil && before.Name != c.next.records[id].Name {
			renamed = append(renamed, before.Entry)
		}
	}
	if len(renamed) < 2 {
		return nil
	}
	for _, e := range renamed {
		e.Name = fmt.Sprintf("~%d", e.ID)
		if err := c.tx.SaveEntry(e); err != nil {
			return err
		}
	}
	return nil
}

// publish makes the committed layer known to this instance, and forgets what was
// destroyed.
func (c *commit) publish() {
	s := c.op.service
	for _, v := range c.destroyed {
		newest := v.Version
		if v.Version == 0 {
			newest = c.layer.records[v.EntryID].Version
			v.Version = 1
		}
		for n := v.Version; n <= newest; n++ {
			s.sealed.remove(sealedID{v.EntryID, n})
		}
	}
	c.next.changedAt = c.now
	s.layers.put(c.next)
}
