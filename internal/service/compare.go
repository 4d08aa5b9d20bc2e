package service

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/storage"
)

// NewestRevision asks for a place as it stands.
const NewestRevision = -1

// Side is one side of a comparison: a place, with its nearest layer at a
// revision or at [NewestRevision].
type Side struct {
	Place    layers.Place
	Revision int64
}

func (s Side) String() string {
	if s.Revision == NewestRevision {
		return s.Place.String()
	}
	return fmt.Sprintf("%s at revision %d", s.Place, s.Revision)
}

// Compare puts two places side by side without showing the values of secrets.
// It needs list at both; whether two secrets are the same is told to who may
// read both, everyone else sees where they came from.
func (s *Service) Compare(ctx context.Context, caller Caller, a, b Side) (out wire.Comparison, err error) {
	op := s.begin(ctx, caller, "entry.compare", a.Place)
	defer op.end(&err)
	var at [2]located
	for i, side := range []Side{a, b} {
		if at[i], err = op.locateSome(side.Place, access.List); err != nil {
			return out, err
		}
	}
	out = wire.Comparison{A: a.String(), B: b.String(), Rows: []wire.ComparedRow{}, Alike: true}
	err = s.store.Snapshot(ctx, storage.Scope{at[0].where.Project, at[1].where.Project}, func(tx *storage.Tx) error {
		var views [2]*view
		for i, side := range []Side{a, b} {
			if views[i], err = op.seeAt(tx, at[i], side.Revision); err != nil {
				return err
			}
		}
		rows, err := compareViews(views[0], views[1])
		for _, row := range rows {
			out.Rows = append(out.Rows, row)
			out.Alike = out.Alike && row.State == "same"
		}
		return err
	})
	return out, err
}

// seeAt is what a place has with its nearest layer at a revision. Private values
// are left out.
func (op *operation) seeAt(tx *storage.Tx, l located, revision int64) (*view, error) {
	v, err := op.see(tx, l)
	if err != nil {
		return nil, err
	}
	if v.chain[0].Private {
		v.chain = v.chain[1:]
	}
	loaded := v.loaded[v.chain[0].ID]
	if revision == NewestRevision || revision == int64(loaded.Revision) {
		return v, nil
	}
	if revision > int64(loaded.Revision) || revision < 0 {
		return nil, problem(NotFound, "%s has no revision %d; it is at %d", l.place, revision, loaded.Revision)
	}
	after, err := op.service.changesAfter(tx, loaded, l.place, revision)
	if err != nil {
		return nil, err
	}
	past, err := v.past(loaded, layers.AtRevision(after))
	if err != nil {
		return nil, err
	}
	past.Revision = layers.Revision(revision)
	v.chain = append([]*layers.Layer{op.shown(l.where, past)}, v.chain[1:]...)
	return v, nil
}

// past is a layer as it stood, given how the entries stood that stand otherwise now.
func (v *view) past(l *loadedLayer, stood map[int64]layers.Standing) (*layers.Layer, error) {
	past := l.Layer
	past.Entries, past.Removed = map[string]*layers.Entry{}, nil
	for name, e := range l.Entries {
		if _, changed := stood[e.ID]; !changed {
			past.Entries[name] = e
		}
	}
	for id, then := range stood {
		if then.Version == 0 || then.Removed || then.Gone {
			continue
		}
		all, err := v.op.service.allVersions(v.tx, l, id)
		if err != nil {
			return nil, err
		}
		e := &layers.Entry{ID: id, Name: then.Name, Details: then.Details}
		settled := int64(1)
		for _, stored := range all[:then.Version] {
			version, err := versionView(v.op.dir, stored)
			if err != nil {
				return nil, err
			}
			e.Live = append(e.Live, version)
			if !version.ActiveFrom.After(v.now) {
				settled = version.Number
			}
		}
		e.Live = e.Live[settled-1:]
		past.Entries[e.Name] = e
	}
	return &past, nil
}

func compareViews(a, b *view) ([]wire.ComparedRow, error) {
	var rows []wire.ComparedRow
	names := layers.Names(append(slices.Clone(a.chain), b.chain...))
	prints, err := a.op.printsOf(names, a, b)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		left, hasLeft := layers.Lookup(a.chain, name, a.now)
		right, hasRight := layers.Lookup(b.chain, name, b.now)
		row := wire.ComparedRow{Name: name, A: a.cell(name), B: b.cell(name)}
		switch {
		case !hasLeft && !hasRight:
			row.State = "same"
			if left.State != right.State || (left.Layer == nil) != (right.Layer == nil) {
				row.State = "different"
			}
		case !hasRight:
			row.State = "only-a"
		case !hasLeft:
			row.State = "only-b"
		default:
			row.State = compareAnswers(a, b, left, right, prints)
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func (v *view) cell(name string) wire.Cell {
	c := cell(v.chain, name, v.now)
	if answer, _ := layers.Lookup(v.chain, name, v.now); answer.Layer != nil {
		c.Source = answer.Version.Source.String()
	}
	return c
}

func compareAnswers(a, b *view, left, right layers.Answer, prints map[printID][]byte) string {
	is := func(same bool) string {
		if same {
			return "same"
		}
		return "different"
	}
	switch {
	case left.Entry.ID == right.Entry.ID && left.Version.Number == right.Version.Number:
		return "same" // they are one
	case left.Version.Kind != right.Version.Kind:
		return "different"
	case left.Version.Kind == layers.Setting:
		return is(left.Version.Setting == right.Version.Setting)
	}
	l, knowsLeft := prints[printOf(left, b.at.where.Project)]
	r, knowsRight := prints[printOf(right, b.at.where.Project)]
	if !knowsLeft || !knowsRight {
		return "unknown"
	}
	return is(bytes.Equal(l, r))
}

// printID names the fingerprint of a version under a project's key.
type printID struct{ entry, version, project int64 }

func printOf(a layers.Answer, project int64) printID {
	return printID{a.Entry.ID, a.Version.Number, project}
}

// printsOf obtains the fingerprints, under one key, of the secrets that both
// views have and that the caller may read on both sides.
func (op *operation) printsOf(names []string, a, b *view) (map[printID][]byte, error) {
	prints := map[printID][]byte{}
	for _, name := range names {
		left, hasLeft := layers.Lookup(a.chain, name, a.now)
		right, hasRight := layers.Lookup(b.chain, name, b.now)
		if !hasLeft || !hasRight || left.Version.Kind != layers.Secret || right.Version.Kind != layers.Secret {
			continue
		}
		_, mayLeft := op.mayRead(left.Layer, name, a.at.where)
		_, mayRight := op.mayRead(right.Layer, name, b.at.where)
		if !mayLeft || !mayRight {
			continue
		}
		op.event.Names = append(op.event.Names, name)
		for _, side := range []struct {
			v *view
			a layers.Answer
		}{{a, left}, {b, right}} {
			print, err := side.v.print(side.a, b.at.where.Project)
			if err != nil {
				return nil, err
			}
			prints[printOf(side.a, b.at.where.Project)] = print
		}
	}
	return prints, nil
}

// print is the fingerprint of what an answer has under a project's key: the one
// that is stored where it is the project's own, otherwise made from the value.
func (v *view) print(a layers.Answer, project int64) ([]byte, error) {
	s := v.op.service
	if a.Layer.Project == project {
		stored, err := v.stored(a)
		if err != nil {
			return nil, err
		}
		return s.fingerprint(v.tx, v.loaded[a.Layer.ID], stored, a.Entry.Name, nil)
	}
	value, err := v.open(a)
	if err != nil {
		return nil, err
	}
	defer value.Wipe()
	key, err := s.keys.fingerprints(v.tx, project)
	if err != nil {
		return nil, err
	}
	return envelope.Fingerprint(key, value), nil
}

// SameAs finds where else a value is used, among everything that the caller may
// read. It needs read on the entry itself.
func (s *Service) SameAs(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Sameness, err error) {
	op := s.begin(ctx, caller, "entry.same", place)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	l, err := op.locateSome(place, access.List)
	if err != nil {
		return out, err
	}
	out = wire.Sameness{Name: name, Same: []wire.Entry{}}
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		v, err := op.seeAt(tx, l, NewestRevision)
		if err != nil {
			return err
		}
		answer, usable := layers.Lookup(v.chain, name, v.now)
		if !usable {
			return s.noEntry(place, name, v.chain)
		}
		if _, may := op.mayRead(answer.Layer, name, l.where); !may {
			return op.refuse("%s may not read %s in %s, and so is not told where else its value is used", caller.Name(), name, answer.Layer.Place)
		}
		out.Same, err = v.sameAs(answer)
		return err
	})
	return out, err
}

// sameAs looks through every layer that the caller may read, a project at a time.
func (v *view) sameAs(wanted layers.Answer) ([]wire.Entry, error) {
	op, s := v.op, v.op.service
	value, err := v.open(wanted)
	if err != nil {
		return nil, err
	}
	defer value.Wipe()
	same := []wire.Entry{}
	for _, project := range op.readableLayers() {
		if err := v.tx.Widen(storage.Scope{project.id, wanted.Layer.Project}); err != nil {
			return nil, err
		}
		chain, loaded, err := s.loadChain(v.tx, op.dir, project.layers)
		if err != nil {
			return nil, err
		}
		key, err := s.keys.fingerprints(v.tx, project.id)
		if err != nil {
			return nil, err
		}
		there := &view{op, v.tx, v.at, chain, loaded, v.now}
		found, err := there.holding(envelope.Fingerprint(key, value), string(value.Expose()), wanted)
		if err != nil {
			return nil, err
		}
		same = append(same, found...)
	}
	return same, nil
}

type projectLayers struct {
	id     int64
	layers []int64
}

// readableLayers are the layers that the caller may read, by project.
func (op *operation) readableLayers() []projectLayers {
	byProject := map[int64][]int64{}
	for where, id := range op.dir.layerIDs {
		p, e := op.dir.projectByID[where.Project], op.dir.environmentByID[where.Environment]
		gone := p != nil && p.RemovedAt != nil || e != nil && e.RemovedAt != nil
		if _, may := op.maySome(access.Read, where); may && !gone {
			byProject[where.Project] = append(byProject[where.Project], id)
		}
	}
	all := make([]projectLayers, 0, len(byProject))
	for id, ids := range byProject {
		slices.Sort(ids)
		all = append(all, projectLayers{id, ids})
	}
	slices.SortFunc(all, func(a, b projectLayers) int { return int(a.id - b.id) })
	return all
}

// holding are the entries of a view's layers whose present value has a
// fingerprint, but the one that is asked about.
func (v *view) holding(print []byte, text string, wanted layers.Answer) ([]wire.Entry, error) {
	var pairs [][2]int64
	for _, l := range v.chain {
		for _, e := range l.Entries {
			if version, state := e.At(v.now); version.Kind == layers.Secret && state == layers.Active {
				pairs = append(pairs, [2]int64{e.ID, version.Number})
			}
		}
	}
	if len(v.chain) == 0 {
		return nil, nil
	}
	keys, err := v.tx.WrappedKeys(v.chain[0].Project, pairs)
	if err != nil {
		return nil, err
	}
	have := make(map[sealedID]*sealedVersion, len(keys))
	for _, k := range keys {
		have[sealedID{k.EntryID, k.Version}] = &sealedVersion{SealedVersion: storage.SealedVersion{VersionKey: k}}
	}
	var same []wire.Entry
	for _, l := range v.chain {
		for _, name := range layers.Names([]*layers.Layer{l}) {
			answer, usable := layers.Lookup([]*layers.Layer{l}, name, v.now)
			if !usable || answer.Entry.ID == wanted.Entry.ID {
				continue
			}
			if _, may := v.op.mayName(access.Read, v.op.dir.layerPlace(l.ID), name); !may {
				continue
			}
			is := answer.Version.Setting == text
			if answer.Version.Kind == layers.Secret {
				stored, err := v.stored(answer)
				if err != nil {
					return nil, err
				}
				own, err := v.op.service.fingerprint(v.tx, v.loaded[l.ID], stored, name, have)
				if err != nil {
					return nil, err
				}
				is = envelope.Same(own, print)
			}
			if !is {
				continue
			}
			e, err := v.wireEntry(answer)
			if err != nil {
				return nil, err
			}
			same = append(same, e)
		}
	}
	return same, nil
}
