package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

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

// ShredHorizon is how long a part of a backup that holds keys is kept: after it,
// what was destroyed is gone from every backup.
const ShredHorizon = 7 * 24 * time.Hour

// CommitOptions say how a change is made.
type CommitOptions struct {
	Base   int64  // the revision that the layer must still be at, or AnyRevision
	DryRun bool   // say what it would do and do nothing
	Key    string // a write repeated under the same key is one write; "": none
}

// maxKey bounds an idempotency key, in bytes.
const maxKey = 200

func (o CommitOptions) action(name string) string {
	if o.DryRun {
		return name + "-preview"
	}
	return name
}

// Commit commits edits to one layer together, or none of them.
func (s *Service) Commit(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.ChangeRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("change.commit"), place)
	defer op.end(&err)
	return s.commitEdits(op, place, o, request, (*operation).find)
}

// commitEdits commits edits to the layer that find leads to.
func (s *Service) commitEdits(op *operation, place layers.Place, o CommitOptions, request wire.ChangeRequest, find func(*operation, layers.Place) (located, error)) (wire.Change, error) {
	op.event.Reason = s.redact(request.Reason)
	for _, e := range request.Edits {
		op.event.Names = append(op.event.Names, s.redactName(e.Name))
	}
	// Before anything is computed for them.
	l, err := find(op, place)
	if err != nil {
		return wire.Change{}, err
	}
	if err := op.allowEdits(request.Edits, l); err != nil {
		return wire.Change{}, err
	}
	steps, details := readSteps(request.Edits, s.now())
	return s.changeLayer(op, place, o, request, find, func(c *commit) error {
		if err := op.allowEdits(request.Edits, c.at); err != nil {
			return err
		}
		return c.take(steps, details)
	})
}

// verbs are what acts need.
var verbs = map[layers.Act][]access.Verb{
	layers.Keep: {access.Write}, layers.Describe: {access.Write}, layers.Revert: {access.Write}, layers.Remove: {access.Remove},
	layers.Restore: {access.Remove}, layers.Rename: {access.Write, access.Remove}, layers.Destroy: {access.Destroy},
}

func (op *operation) allowEdits(edits []wire.Edit, l located) error {
	if l.private { // one's own
		if _, frozen := op.dir.grants.Freeze(op.caller.Subject, access.Write, l.where); frozen {
			return op.denied(access.Write, l, "")
		}
		return nil
	}
	if len(edits) == 0 {
		return op.allowSome(access.Write, l)
	}
	for _, e := range edits {
		if err := op.allowEdit(actOf(e), l, e.Name, e.To); err != nil {
			return err
		}
	}
	return nil
}

// allowEdit checks what an act on a name, and on the name it becomes, needs.
func (op *operation) allowEdit(act layers.Act, l located, name, to string) error {
	asked := verbs[act]
	if len(asked) == 0 {
		asked = []access.Verb{access.Write} // it is no act; that is told to who may write
	}
	for _, verb := range asked {
		if err := op.allowName(verb, l, name); err != nil {
			return err
		}
		if act == layers.Rename && to != "" && verb == access.Write {
			if err := op.allowName(verb, l, to); err != nil {
				return err
			}
		}
	}
	return nil
}

func actOf(e wire.Edit) layers.Act {
	if e.Act == "" {
		return layers.Keep
	}
	return layers.Act(e.Act)
}

// commit is a change on its way, with the layer's row locked.
type commit struct {
	op     *operation
	tx     *storage.Tx
	at     located
	layer  *loadedLayer // as it stands
	next   *loadedLayer // as it will stand
	key    *projectKey
	prints *secret.Key
	now    time.Time
	dry    bool
	scope  storage.Scope

	fresh     []int64 // ids of new entries
	dirty     map[int64]bool
	versions  []storage.Version
	keys      []storage.VersionKey
	destroyed []storage.Version // EntryID and Version; 0: all
	done      []layers.Done
	out       wire.Change
	ids       []int64 // reserved for new entries
	problems  []string
	steps     []step // that it is made of; nil where it is not made of steps
}

// errDryRun ends the transaction of a change that was only to be looked at.
var errDryRun = errors.New("a dry run")

// changeLayer moves a layer on by one revision: it locks the layer, checks its
// manifest, lets f say what changes, signs the outcome, and writes the change and
// its event in the same transaction.
func (s *Service) changeLayer(op *operation, place layers.Place, o CommitOptions, request any, find func(*operation, layers.Place) (located, error), f func(*commit) error) (wire.Change, error) {
	if len(o.Key) > maxKey {
		return wire.Change{}, problem(Invalid, "the idempotency key has %d bytes; at most %d are allowed", len(o.Key), maxKey)
	}
	var c *commit
	var answered *wire.Change
	err := s.store.In(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		l, err := op.shared(tx, place, find)
		if err != nil {
			return err
		}
		if c, err = op.lock(tx, l); err != nil {
			return err
		}
		// A change that is to be approved first is looked at to the end, and not made.
		proposes := op.approved == nil && !l.private && op.caller.Subject.Kind != "" && op.dir.needsApproval(l.where)
		c.dry = o.DryRun || proposes
		if answered, err = c.before(o, request); answered != nil || err != nil {
			return err
		}
		if o.Base != AnyRevision && o.Base != int64(c.layer.Revision) {
			return c.stale(o.Base)
		}
		if err := f(c); err != nil {
			return err
		}
		err = c.finish()
		if errors.Is(err, errDryRun) && proposes && !o.DryRun {
			err = c.propose()
		}
		if err != nil {
			return err
		}
		return c.after(o, request)
	})
	switch {
	case errors.Is(err, errDryRun):
		c.out.DryRun = true
		return c.out, nil
	case err != nil:
		return wire.Change{}, err
	case answered != nil:
		op.event.Action += "-repeated"
		return *answered, nil
	}
	if c.out.Proposal != 0 {
		return c.out, nil // its event is not of the layer
	}
	op.recorded = true
	c.publish()
	return c.out, nil
}

// shared finds a place on the newest directory, which cannot move on before the
// transaction ends.
func (op *operation) shared(tx *storage.Tx, place layers.Place, find func(*operation, layers.Place) (located, error)) (located, error) {
	o, err := tx.ShareOrganization()
	if err != nil {
		return located{}, err
	}
	d, err := op.service.directoryAt(tx, o)
	if err != nil {
		return located{}, err
	}
	op.dir = d
	if d.revoked[op.caller.Token] {
		return located{}, errSignIn
	}
	l, err := find(op, place)
	if err != nil {
		return l, err
	}
	return l, tx.Widen(storage.Scope{l.where.Project})
}

// lock keeps others from changing a layer, and prepares its next revision.
func (op *operation) lock(tx *storage.Tx, l located) (*commit, error) {
	s := op.service
	head, err := tx.LockLayer(l.layer)
	if err != nil {
		return nil, err
	}
	c := &commit{op: op, tx: tx, at: l, dirty: map[int64]bool{}, scope: storage.Scope{l.where.Project}}
	loaded, err := s.loadLayers(tx, op.dir, []storage.Layer{head})
	if err != nil {
		return nil, err
	}
	c.layer = loaded[head.ID]
	// Not before the lock was had: others may have changed the layer meanwhile.
	c.now = s.now().UTC().Truncate(time.Microsecond)
	if last := c.layer.changedAt; last.IsZero() {
		if c.now, err = notBefore(tx, trail.LayerLane(head.ID), head.Revision, c.now); err != nil {
			return nil, err
		}
	} else if c.now.Before(last) {
		c.now = last
	}
	if c.key, err = s.keys.newest(tx, l.where.Project); err != nil {
		return nil, err
	}
	if c.prints, err = s.keys.fingerprints(tx, l.where.Project); err != nil {
		return nil, err
	}
	c.next = &loadedLayer{head: head, records: maps.Clone(c.layer.records)}
	c.next.Place, c.next.Private = c.layer.Place, c.layer.Private
	c.next.head.Revision++
	return c, nil
}

// before answers a write that was done already under the same key.
func (c *commit) before(o CommitOptions, request any) (*wire.Change, error) {
	if o.Key == "" || o.DryRun {
		return nil, nil
	}
	w, err := c.tx.WriteKey(c.at.where.Project, c.op.caller.actor(), o.Key)
	if errors.Is(err, storage.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	print, err := c.print(request)
	if err != nil {
		return nil, err
	}
	if !envelope.Same(print, w.Request) {
		return nil, problem(Conflict, "the idempotency key was used for another request; use a new one for each write")
	}
	var out wire.Change
	return &out, json.Unmarshal([]byte(w.Answer), &out)
}

// print tells whether two requests are the same. It says nothing of what is in
// them to one without the key.
func (c *commit) print(request any) ([]byte, error) {
	content, err := json.Marshal(request)
	if err != nil {
		return nil, fmt.Errorf("encode a request: %w", err)
	}
	defer clear(content)
	return envelope.Sign(c.op.service.keys.requests, c.op.event.Action, envelope.Number(c.layer.ID), string(content)), nil
}

// after records the answer under the write's key.
func (c *commit) after(o CommitOptions, request any) error {
	if o.Key == "" || o.DryRun {
		return nil
	}
	print, err := c.print(request)
	if err != nil {
		return err
	}
	answer, err := json.Marshal(c.out)
	if err != nil {
		return fmt.Errorf("encode an answer: %w", err)
	}
	return c.tx.CreateWriteKey(storage.WriteKey{ProjectID: c.at.where.Project, Caller: c.op.caller.actor(), Key: o.Key, Request: print, Answer: string(answer), CreatedAt: c.now})
}

func (c *commit) stale(base int64) error {
	// Who may not list there learns nothing of its revisions.
	if !c.at.private {
		if err := c.op.allowSome(access.List, c.at); err != nil {
			return err
		}
	}
	if c.op.approved != nil {
		return problem(Conflict, "%s is at revision %d, and this was proposed for revision %d; decline it, and let it be proposed anew on what stands there now", c.at.place, c.layer.Revision, base)
	}
	return problem(Conflict, "%s is at revision %d, and the change was made for revision %d; look at what changed meanwhile, then try again", c.at.place, c.layer.Revision, base)
}

// told is the layer as it stands, of which problems name what the caller may list.
func (c *commit) told() *layers.Layer {
	l := c.layer.Layer
	l.Tells = func(name string) bool {
		_, may := c.op.mayName(access.List, c.at.where, name)
		return may || c.at.private
	}
	return &l
}

// record is an entry of the next revision, ready to be changed.
func (c *commit) record(id int64) *record {
	if !c.dirty[id] {
		r := *c.next.records[id]
		c.next.records[id], c.dirty[id] = &r, true
	}
	return c.next.records[id]
}

// add is a new entry of the next revision.
func (c *commit) add(name string) (*record, error) {
	if len(c.ids) == 0 && !c.dry {
		ids, err := c.tx.EntryIDs(min(layers.MaxEdits, 1+len(c.fresh)*4))
		if err != nil {
			return nil, err
		}
		c.ids = ids
	}
	id := -int64(len(c.fresh) + 1)
	if !c.dry {
		id, c.ids = c.ids[0], c.ids[1:]
	}
	r := &record{Entry: storage.Entry{ProjectID: c.at.where.Project, ID: id, LayerID: c.layer.ID, Name: name, Past: []byte{}}}
	c.next.records[id], c.dirty[id] = r, true
	c.fresh = append(c.fresh, id)
	return r, nil
}

// push gives an entry a new version. Versions that cannot count any more go into
// the chain of its past.
func (c *commit) push(r *record, v storage.Version, value secret.Value) error {
	who := c.op.caller.Subject
	v.ProjectID, v.EntryID, v.LayerID, v.Version = r.ProjectID, r.ID, r.LayerID, r.Version+1
	if v.AuthorKind == "" {
		v.Revision, v.AuthorKind, v.AuthorID, v.CreatedAt = c.next.head.Revision, string(who.Kind), who.ID, c.now
	}
	switch {
	case v.DestroyedAt != nil:
		v.Digest = envelope.Digest(nil)
	case layers.Kind(v.Kind) == layers.Secret:
		if !c.dry {
			stored, err := envelope.SealVersion(c.key.wraps, c.op.service.keys.identity(c.next.head, v), value, envelope.Fingerprint(c.prints, value))
			if err != nil {
				return err
			}
			v.Sealed, v.Fingerprint, v.Digest = stored.Sealed, stored.Fingerprint, envelope.Digest(stored.Sealed)
			c.keys = append(c.keys, storage.VersionKey{ProjectID: v.ProjectID, EntryID: v.EntryID, Version: v.Version, ProjectKeyID: c.key.id, Wrapped: stored.Wrapped})
		}
	default:
		v.Setting = string(value.Expose())
		v.Digest = envelope.Digest([]byte(v.Setting))
	}
	c.versions = append(c.versions, v)
	v.Sealed = nil
	r.Version, r.live = v.Version, append(slices.Clone(r.live), v)
	return r.settle(c.op.dir, c.now)
}

// settle moves what cannot count any more into the past.
func (r *record) settle(d *directory, now time.Time) error {
	versions := make([]layers.Version, len(r.live))
	for i, v := range r.live {
		var err error
		if versions[i], err = versionView(d, v); err != nil {
			return err
		}
	}
	r.Settled = layers.Settled(versions, now)
	for r.live[0].Version < r.Settled {
		r.Past = envelope.Chain(r.Past, versionRow(r.live[0]))
		r.live = r.live[1:]
	}
	return nil
}

// note records what was done to an entry.
func (c *commit) note(did string, before layers.Standing, r *record, kind layers.Kind, version int64, effect wire.Effect) {
	details, _ := layers.ParseDetails(r.Details) // written by this program
	after := layers.Standing{Name: r.Name, Version: r.Version, Removed: r.RemovedAt != nil, Gone: r.DestroyedAt != nil, Details: details}
	d := layers.Done{Entry: r.ID, Name: before.Name, Did: did, Kind: kind, Version: version, Before: before, After: after}
	if before.Name == "" {
		d.Name = r.Name
	} else if before.Name != r.Name {
		d.To = r.Name
	}
	c.done = append(c.done, d)
	effect.Name, effect.Act, effect.Kind, effect.To, effect.Version = d.Name, did, string(kind), d.To, version
	c.out.Effects = append(c.out.Effects, effect)
}
