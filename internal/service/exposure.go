package service

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// revealing are the actions whose event means that values were answered.
var revealing = map[string]bool{"entry.resolve": true, "entry.value": true, "project.archive": true}

// exposure is how somebody obtained one reference in one place.
type exposure struct {
	place     layers.Place
	reference string
	times     int
	first     time.Time
	last      time.Time
}

// Exposure tells what a person or a workload has obtained, as far as the trail
// goes back: what to replace on the day they leave. It needs audit, and names
// what the caller may list.
func (s *Service) Exposure(ctx context.Context, caller Caller, kind, handle string) (out wire.Exposure, err error) {
	op := s.begin(ctx, caller, "explain.exposure", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return out, err
	}
	who, err := op.subjectOf(kind, handle, access.Audit)
	if err != nil {
		return out, err
	}
	s.tellSequencing(s.putInOrder(ctx, true))
	out = wire.Exposure{Who: op.dir.subjectName(who), Rows: []wire.ExposedEntry{}}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		all, err := s.obtained(tx, who)
		if err != nil {
			return err
		}
		for _, e := range all {
			row, may, err := op.exposed(tx, e)
			if err != nil {
				return err
			}
			if may {
				out.Rows = append(out.Rows, row)
			}
		}
		return nil
	})
	slices.SortFunc(out.Rows, func(a, b wire.ExposedEntry) int {
		return cmp.Or(cmp.Compare(boolInt(a.Gone || !a.Replaced.IsZero()), boolInt(b.Gone || !b.Replaced.IsZero())), cmp.Compare(b.Times, a.Times),
			cmp.Compare(a.Place, b.Place), cmp.Compare(a.Reference, b.Reference))
	})
	return out, err
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// obtained reads from the trail what somebody was answered. What was withheld
// again before it was answered does not count.
func (s *Service) obtained(tx *storage.Tx, who access.Subject) ([]*exposure, error) {
	type key struct {
		place     layers.Place
		reference string
	}
	found := map[key]*exposure{}
	var order []*exposure
	actor := who.String()
	withheld := map[string]map[int64]bool{}
	var events []trail.Event
	err := s.eachBatch(tx, trail.Filter{Actor: actor}, func(b storage.TrailBatch) error {
		all, err := trail.Batch{Lane: b.Lane, First: b.First, N: b.N, Body: b.Body, MAC: b.MAC}.Events()
		for _, e := range all {
			switch {
			case e.Actor != actor || !revealing[e.Action]:
			case e.NotSent:
				lane, seq := e.Withdrawn()
				if withheld[lane] == nil {
					withheld[lane] = map[int64]bool{}
				}
				withheld[lane][seq] = true
			case e.Outcome == trail.Allowed:
				events = append(events, e)
			}
		}
		return err
	})
	for _, e := range events {
		if withheld[e.Lane][e.Seq] {
			continue
		}
		for _, name := range e.Names {
			k := key{layers.Place{Project: e.Project, Environment: e.Environment}, name}
			if found[k] == nil {
				found[k] = &exposure{place: k.place, reference: name, first: e.At}
				order = append(order, found[k])
			}
			f := found[k]
			f.times++
			f.last = e.At
			if e.At.Before(f.first) {
				f.first = e.At
			}
		}
	}
	return order, err
}

// exposed tells how what was obtained stands now, if the caller may know of it.
func (op *operation) exposed(tx *storage.Tx, e *exposure) (wire.ExposedEntry, bool, error) {
	row := wire.ExposedEntry{Place: e.place.String(), Reference: e.reference, Times: e.times, First: e.first, Last: e.last}
	r, err := reference.Parse(e.reference)
	if err != nil {
		return row, false, nil // it was withheld from the trail
	}
	place := e.place
	switch r.Scope {
	case reference.Environment, reference.Project:
		place = layers.Place{Project: r.Project, Environment: r.Environment}
	case reference.Organization:
		place = organizationPlace
	}
	l, exists := op.dir.locate(place)
	if _, may := op.mayName(access.List, l.where, r.Name); !may {
		return row, false, nil
	}
	if row.Gone = !exists; row.Gone {
		return row, true, nil
	}
	if err := tx.Widen(storage.Scope{0, l.where.Project}); err != nil {
		return row, false, err
	}
	chain, _, err := op.service.loadChain(tx, op.dir, op.listable(l.chain))
	if err != nil {
		return row, false, err
	}
	answer, usable := layers.Lookup(op.shownChain(l.where, chain), r.Name, op.at)
	if row.Gone = answer.Layer == nil || !usable; row.Gone {
		return row, true, nil
	}
	if answer.Version.Kind != layers.Secret && !strings.Contains(answer.Version.Setting, reference.Scheme) {
		return row, false, nil // a plain setting is no exposure
	}
	if answer.Version.At.After(e.last) {
		row.Replaced = answer.Version.At
	}
	return row, true, nil
}
