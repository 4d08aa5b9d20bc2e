package service

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// AnyRevision lets a change go onto whatever stands.
const AnyRevision = -1

// Keep commits edits to one layer together, or none of them. With base other
// than [AnyRevision] the layer must still be at that revision.
func (s *Service) Keep(ctx context.Context, caller Caller, place layers.Place, base int64, request wire.ChangeRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, "change.commit", place)
	defer op.end(&err)
	op.event.Reason = s.redact(request.Reason)
	edits, values, details := readEdits(request.Edits)
	for _, e := range edits {
		op.event.Names = append(op.event.Names, s.redactName(e.Name))
	}
	err = s.changeLayer(op, place, base, func(c *commit) error {
		if err := c.allowEdits(edits); err != nil {
			return err
		}
		effects, errs := layers.Plan(&c.layer.Layer, edits)
		for _, e := range errs {
			details = append(details, e.Error())
		}
		if len(details) > 0 {
			return problems(Invalid, "things are wrong with the change; nothing was kept", details)
		}
		for i, effect := range effects {
			if err := c.apply(edits[i], effect, values[i]); err != nil {
				return err
			}
		}
		return nil
	}, &out)
	return out, err
}

// readEdits decodes values; what is wrong is told without them.
func readEdits(edits []wire.Edit) (all []layers.Edit, values []secret.Value, details []string) {
	for _, e := range edits {
		value := secret.FromString(e.Value)
		if e.Encoding == "base64" {
			raw, err := base64.StdEncoding.DecodeString(e.Value)
			if err != nil {
				details = append(details, fmt.Sprintf("%s: the value is not base64 (standard alphabet with padding)", e.Name))
			}
			value = secret.New(raw)
		}
		switch {
		case value.Len() > envelope.MaxValue:
			details = append(details, fmt.Sprintf("%s: a value has at most 1 MiB, this one has %d bytes", e.Name, value.Len()))
		case e.Kind == string(layers.Setting) && (!utf8.Valid(value.Expose()) || strings.ContainsRune(string(value.Expose()), 0)):
			details = append(details, fmt.Sprintf("%s: a setting is UTF-8 text without NUL; keep it as a secret", e.Name))
		case (e.Remove || e.Kind == string(layers.Nothing)) && value.Len() > 0:
			details = append(details, fmt.Sprintf("%s: a value comes with an edit that takes none", e.Name))
		}
		all = append(all, layers.Edit{Name: e.Name, Kind: layers.Kind(e.Kind), Remove: e.Remove})
		values = append(values, value)
	}
	return all, values, details
}

// commit is a change on its way, with the layer's row locked.
type commit struct {
	op      *operation
	tx      *storage.Tx
	at      located
	layer   *loadedLayer
	keys    *projectKeys
	head    storage.Layer // at the new revision
	now     time.Time
	effects []wire.Effect
}

// changeLayer moves a layer on by one revision: it locks the layer, checks its
// manifest, lets f write, signs the outcome, and writes the change and its event
// in the same transaction.
func (s *Service) changeLayer(op *operation, place layers.Place, base int64, f func(*commit) error, out *wire.Change) error {
	err := s.store.In(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		// Access is decided in the change's own transaction, on the newest
		// directory, which cannot move on before the change is done.
		if err := tx.ShareOrganization(); err != nil {
			return err
		}
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		if d.revoked[op.caller.Token] {
			return errSignIn
		}
		l, err := op.find(place)
		if err != nil {
			return err
		}
		if err := tx.Widen(storage.Scope{l.where.Project}); err != nil {
			return err
		}
		c := &commit{op: op, tx: tx, at: l}
		if c.head, err = tx.LockLayer(l.layer); err != nil {
			return err
		}
		// Not before the lock was had: others may have changed the layer meanwhile.
		if c.now, err = notBefore(tx, trail.LayerLane(c.head.ID), c.head.Revision, s.now().UTC().Truncate(time.Microsecond)); err != nil {
			return err
		}
		if c.layer, err = s.loadLayer(tx, d, c.head); err != nil {
			return err
		}
		if base != AnyRevision && base != c.head.Revision {
			// Who may not list there learns nothing of its revisions.
			if err := op.allow(access.List, l); err != nil {
				return err
			}
			return problem(Conflict, "%s is at revision %d, and the change was made for revision %d; look at what changed meanwhile, then try again", place, c.head.Revision, base)
		}
		if _, c.keys, err = s.keys.ofProject(tx, l.where.Project); err != nil {
			return err
		}
		c.head.Revision++
		if err := f(c); err != nil {
			return err
		}
		*out, err = c.finish()
		return err
	})
	if err == nil {
		op.recorded = true
	}
	return err
}

// allowEdits asks for write where something is set and for remove where
// something is taken away.
func (c *commit) allowEdits(edits []layers.Edit) error {
	verbs := map[access.Verb]bool{}
	for _, e := range edits {
		if e.Remove {
			verbs[access.Remove] = true
		} else {
			verbs[access.Write] = true
		}
	}
	if len(edits) == 0 {
		verbs[access.Write] = true
	}
	for _, verb := range []access.Verb{access.Write, access.Remove} {
		if verbs[verb] {
			if err := c.op.allow(verb, c.at); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *commit) apply(edit layers.Edit, effect layers.Effect, value secret.Value) error {
	entry := storage.Entry{ProjectID: c.at.where.Project, LayerID: c.head.ID, Name: edit.Name, Kind: string(edit.Kind), Version: 1}
	if present, set := c.layer.Entries[edit.Name]; set {
		entry.ID, entry.Version = present.ID, present.Version+1
		if edit.Remove {
			entry.Kind, entry.Version, entry.Removed = string(present.Kind), present.Version, true
		}
		if err := c.tx.SaveEntry(entry); err != nil {
			return err
		}
	} else {
		var err error
		if entry, err = c.tx.CreateEntry(entry); err != nil {
			return err
		}
	}
	out := wire.Effect{Name: edit.Name, Act: string(effect.Act), Kind: string(effect.Kind)}
	if !edit.Remove {
		out.Version = entry.Version
		if err := c.createVersion(entry, value); err != nil {
			return err
		}
	}
	c.effects = append(c.effects, out)
	return nil
}

func (c *commit) createVersion(entry storage.Entry, value secret.Value) error {
	who := c.op.caller.Subject
	v := storage.Version{ProjectID: entry.ProjectID, EntryID: entry.ID, Version: entry.Version, LayerID: entry.LayerID, Kind: entry.Kind,
		Revision: c.head.Revision, AuthorKind: string(who.Kind), AuthorID: who.ID, CreatedAt: c.now}
	if layers.Kind(entry.Kind) != layers.Secret {
		v.Setting = string(value.Expose())
		v.Digest = envelope.Digest([]byte(v.Setting))
		return c.tx.CreateVersion(v, nil)
	}
	keys := c.op.service.keys
	id := keys.identity(&c.layer.Layer, entry.ID, entry.Version, layers.Secret)
	sealed, wrapped, err := keys.sealVersion(c.keys, id, value)
	if err != nil {
		return err
	}
	v.Sealed, v.Digest = sealed, envelope.Digest(sealed)
	return c.tx.CreateVersion(v, &storage.VersionKey{ProjectID: v.ProjectID, EntryID: v.EntryID, Version: v.Version, ProjectKeyID: c.keys.id, Wrapped: wrapped})
}

// finish signs the layer as it now stands and records the change.
func (c *commit) finish() (wire.Change, error) {
	s := c.op.service
	entries, err := c.tx.Entries(c.head.ID)
	if err != nil {
		return wire.Change{}, err
	}
	versions, err := c.tx.Versions(c.head.ID)
	if err != nil {
		return wire.Change{}, err
	}
	c.head.Manifest = layerManifest(c.keys, s.keys.organization, c.head, entries, versions)
	if err := c.tx.SaveLayer(c.head); err != nil {
		return wire.Change{}, err
	}
	effects, err := json.Marshal(c.effects)
	if err != nil {
		return wire.Change{}, err
	}
	who := c.op.caller.Subject
	row := storage.Change{ProjectID: c.at.where.Project, LayerID: c.head.ID, Revision: c.head.Revision, AuthorKind: string(who.Kind), AuthorID: who.ID,
		CreatedAt: c.now, Reason: c.op.event.Reason, Effects: effects}
	if err := c.tx.CreateChange(row); err != nil {
		return wire.Change{}, err
	}
	e := c.op.event
	e.Lane, e.Seq, e.Revision, e.At = trail.LayerLane(c.head.ID), c.head.Revision, c.head.Revision, c.now
	e.Manifest = hex.EncodeToString(c.head.Manifest)
	if err := appendTrail(c.tx, trail.NewBatch(s.keys.trail, []trail.Event{e})); err != nil {
		if errors.Is(err, storage.ErrTaken) {
			return wire.Change{}, fmt.Errorf("the layer %s was set back in the database: its trail is ahead of its revision %d", c.at.place, c.head.Revision-1)
		}
		return wire.Change{}, err
	}
	return c.op.dir.wireChange(c.at.place, row), nil
}
