package service

import (
	"context"
	"encoding/json"
	"strings"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// chainAt loads a place's layers in one snapshot, after list was allowed there.
func (op *operation) chainAt(place layers.Place, f func(tx *storage.Tx, l located, chain []*layers.Layer, loaded map[int64]*loadedLayer) error) error {
	l, err := op.locate(place, access.List)
	if err != nil {
		return err
	}
	return op.service.store.Snapshot(op.ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		chain, loaded, err := op.service.loadChain(tx, op.dir, op.listable(l.chain))
		if err != nil {
			return err
		}
		return f(tx, l, chain, loaded)
	})
}

// listable leaves out of a chain the followed environments that the caller may
// not list themselves: following is no way round their grants.
func (op *operation) listable(chain []int64) []int64 {
	out := chain[:1:1]
	for _, id := range chain[1:] {
		where := op.dir.layerPlace(id)
		if _, may := op.dir.grants.Decide(op.caller.Subject, access.List, where); may || where.Environment == 0 {
			out = append(out, id)
		}
	}
	return out
}

// ListEntries lists what a place has, without the values of secrets.
func (s *Service) ListEntries(ctx context.Context, caller Caller, place layers.Place) (out wire.Entries, err error) {
	op := s.begin(ctx, caller, "entry.list", place)
	defer op.end(&err)
	err = op.chainAt(place, func(_ *storage.Tx, l located, chain []*layers.Layer, _ map[int64]*loadedLayer) error {
		out = wire.Entries{Place: place.String(), Revision: int64(chain[0].Revision), Entries: []wire.Entry{}}
		for _, name := range layers.Names(chain) {
			answer, _ := layers.Lookup(chain, name)
			out.Entries = append(out.Entries, wireEntry(answer))
		}
		return nil
	})
	return out, err
}

// ShowEntry tells what a place has for one name.
func (s *Service) ShowEntry(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Entry, err error) {
	op := s.begin(ctx, caller, "entry.show", place)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	err = op.chainAt(place, func(_ *storage.Tx, _ located, chain []*layers.Layer, _ map[int64]*loadedLayer) error {
		answer, _ := layers.Lookup(chain, name)
		if answer.Layer == nil {
			return s.noEntry(place, name, chain)
		}
		out = wireEntry(answer)
		return nil
	})
	return out, err
}

func (s *Service) noEntry(place layers.Place, name string, chain []*layers.Layer) *Problem {
	return problem(NotFound, "%s is not set in %s%s", s.redactName(name), place, didYouMean(name, layers.Names(chain)))
}

// redactName keeps a value that was pasted in place of a name out of messages
// and the trail.
func (s *Service) redactName(name string) string {
	if len(name) > reference.MaxName {
		name = name[:reference.MaxName] + "…"
	}
	return s.redact(name)
}

func wireEntry(a layers.Answer) wire.Entry {
	return wire.Entry{
		Name: a.Entry.Name, Kind: string(a.Entry.Kind), Origin: string(a.Origin), Layer: a.Layer.Place.String(),
		Version: a.Entry.Version, Since: a.Entry.Since, Author: a.Entry.Author, Setting: a.Entry.Setting,
		Reference: reference.Reference{Name: a.Entry.Name}.String(),
		Absolute:  absolute(a.Layer.Place, a.Entry.Name).String(),
	}
}

func absolute(place layers.Place, name string) reference.Reference {
	r := reference.Reference{Scope: reference.Environment, Project: place.Project, Environment: place.Environment, Name: name}
	switch {
	case place.Project == "":
		r.Scope = reference.Organization
	case place.Environment == "":
		r.Scope = reference.Project
	}
	return r
}

// Table lists a project's names across those of its environments that the caller
// may list.
func (s *Service) Table(ctx context.Context, caller Caller, project string) (out wire.Table, err error) {
	op := s.begin(ctx, caller, "entry.table", layers.Place{Project: project})
	defer op.end(&err)
	l, err := op.find(layers.Place{Project: project})
	if err != nil {
		return out, err
	}
	var places []located
	for _, e := range op.dir.environmentsOf(project) {
		where := access.Where{Project: e.ProjectID, Environment: e.ID}
		if grant, may := op.dir.grants.Decide(caller.Subject, access.List, where); may {
			op.event.Grant = grant.ID
			at, _ := op.dir.locate(layers.Place{Project: project, Environment: e.Name})
			at.chain = op.listable(at.chain)
			places = append(places, at)
			out.Environments = append(out.Environments, op.dir.wireEnvironment(e))
		}
	}
	if len(places) == 0 {
		return out, op.allow(access.List, l)
	}
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		out.Rows, err = s.tableRows(tx, op.dir, places)
		return err
	})
	return out, err
}

func (s *Service) tableRows(tx *storage.Tx, d *directory, places []located) ([]wire.Row, error) {
	chains := make([][]*layers.Layer, len(places))
	var all []*layers.Layer
	for i, at := range places {
		chain, _, err := s.loadChain(tx, d, at.chain)
		if err != nil {
			return nil, err
		}
		chains[i], all = chain, append(all, chain...)
	}
	rows := []wire.Row{}
	for _, name := range layers.Names(all) {
		row := wire.Row{Name: name}
		for _, chain := range chains {
			row.Cells = append(row.Cells, cell(chain, name))
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func cell(chain []*layers.Layer, name string) wire.Cell {
	answer, found := layers.Lookup(chain, name)
	if answer.Layer == nil {
		return wire.Cell{State: "missing"}
	}
	c := wire.Cell{State: string(answer.Origin), Kind: string(answer.Entry.Kind), Version: answer.Entry.Version, Since: answer.Entry.Since,
		Layer: answer.Layer.Place.String(), Setting: answer.Entry.Setting}
	if !found {
		c.State = "nothing"
	}
	return c
}

// History tells the versions that an entry has had in the layer that answers.
func (s *Service) History(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.History, err error) {
	op := s.begin(ctx, caller, "entry.history", place)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	err = op.chainAt(place, func(tx *storage.Tx, _ located, chain []*layers.Layer, loaded map[int64]*loadedLayer) error {
		answer, _ := layers.Lookup(chain, name)
		if answer.Layer == nil {
			return s.noEntry(place, name, chain)
		}
		changes, err := tx.Changes(answer.Layer.ID, 0, -1)
		if err != nil {
			return err
		}
		reasons := map[int64]string{}
		for _, c := range changes {
			reasons[c.Revision] = c.Reason
		}
		out = wire.History{Name: name, Layer: answer.Layer.Place.String(), Versions: []wire.Version{}}
		versions := loaded[answer.Layer.ID].versions[answer.Entry.ID]
		for i := len(versions) - 1; i >= 0; i-- {
			v := versions[i]
			state := "superseded"
			if v.Version == answer.Entry.Version {
				state = "active"
			}
			out.Versions = append(out.Versions, wire.Version{Version: v.Version, Kind: v.Kind, State: state, At: v.CreatedAt,
				Author: op.dir.subjectName(access.Subject{Kind: access.SubjectKind(v.AuthorKind), ID: v.AuthorID}), Reason: reasons[v.Revision], Setting: v.Setting})
		}
		return nil
	})
	return out, err
}

// Changes lists what was done to the nearest layer of a place, newest first.
func (s *Service) Changes(ctx context.Context, caller Caller, place layers.Place, before int64, limit int) (out []wire.Change, err error) {
	op := s.begin(ctx, caller, "change.list", place)
	defer op.end(&err)
	l, err := op.locate(place, access.List)
	if err != nil {
		return nil, err
	}
	out = []wire.Change{}
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		changes, err := tx.Changes(l.layer, before, limit)
		for _, c := range changes {
			out = append(out, op.dir.wireChange(place, c))
		}
		return err
	})
	return out, err
}

func (d *directory) wireChange(place layers.Place, c storage.Change) wire.Change {
	out := wire.Change{Layer: place.String(), Revision: c.Revision, At: c.CreatedAt, Reason: c.Reason, Effects: []wire.Effect{},
		Author: d.subjectName(access.Subject{Kind: access.SubjectKind(c.AuthorKind), ID: c.AuthorID})}
	// Written by this program; what cannot be read is shown as no effect.
	_ = json.NewDecoder(strings.NewReader(string(c.Effects))).Decode(&out.Effects)
	return out
}
