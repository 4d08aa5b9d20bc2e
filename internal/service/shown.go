package service

import (
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
)

// shownChain is a chain of layers with what the caller may list there.
func (op *operation) shownChain(at access.Where, chain []*layers.Layer) []*layers.Layer {
	shown := make([]*layers.Layer, len(chain))
	for i, l := range chain {
		shown[i] = op.shown(at, l)
	}
	return shown
}

// shown is a layer with what the caller may list of it at a place: all of it,
// where no grant of theirs is for some names alone.
func (op *operation) shown(at access.Where, l *layers.Layer) *layers.Layer {
	where := op.dir.layerPlace(l.ID)
	followed := where.Environment != 0 && where != at
	_, here := op.may(access.List, at)
	_, there := op.may(access.List, where)
	if l.Private || here && (there || !followed) {
		return l
	}
	shown := *l
	shown.Entries, shown.Removed = map[string]*layers.Entry{}, nil
	lists := func(name string) bool {
		_, here := op.mayName(access.List, at, name)
		_, there := op.mayName(access.List, where, name)
		return here && (there || !followed)
	}
	for name, e := range l.Entries {
		if lists(name) {
			shown.Entries[name] = e
		}
	}
	for _, e := range l.Removed {
		if lists(e.Name) {
			shown.Removed = append(shown.Removed, e)
		}
	}
	return &shown
}

// listable leaves out of a chain the followed environments that the caller may
// not list themselves: following is no way round their grants.
func (op *operation) listable(chain []int64) []int64 {
	out := chain[:1:1]
	for _, id := range chain[1:] {
		where := op.dir.layerPlace(id)
		if _, may := op.maySome(access.List, where); may || where.Environment == 0 {
			out = append(out, id)
		}
	}
	return out
}
