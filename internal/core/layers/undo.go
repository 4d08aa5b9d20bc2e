package layers

import (
	"fmt"
	"sort"
)

// Standing is what a change records of an entry as it stood before or after it.
type Standing struct {
	Name    string  `json:"name,omitempty"`
	Version int64   `json:"version,omitempty"` // the newest; 0: the entry was not there
	Removed bool    `json:"removed,omitempty"`
	Gone    bool    `json:"gone,omitempty"` // destroyed
	Details Details `json:"details,omitzero"`
}

func (s Standing) same(t Standing) bool {
	return s.Name == t.Name && s.Version == t.Version && s.Removed == t.Removed && s.Gone == t.Gone && s.Details.Text() == t.Details.Text()
}

// Done is what a change did to one entry, as it is recorded: enough to undo it,
// and no value.
type Done struct {
	Entry   int64    `json:"entry"`
	Name    string   `json:"name"`
	Did     string   `json:"did"`
	Kind    Kind     `json:"kind"`
	To      string   `json:"to,omitempty"`
	Version int64    `json:"version,omitempty"` // that was made or destroyed
	Before  Standing `json:"before,omitzero"`
	After   Standing `json:"after,omitzero"`
}

// Stands is how an entry stands now.
func (e *Entry) Stands() Standing {
	return Standing{Name: e.Name, Version: e.Newest().Number, Removed: !e.Removed.IsZero(), Details: e.Details}
}

// byID finds an entry that is set, or was removed and can be restored.
func (l *Layer) byID() map[int64]*Entry {
	all := make(map[int64]*Entry, len(l.Entries)+len(l.Removed))
	for _, e := range l.Entries {
		all[e.ID] = e
	}
	for _, e := range l.Removed {
		all[e.ID] = e
	}
	return all
}

// UndoChange is the edits that undo one change, or what stands in the way: an
// entry that was changed again since, or destroyed.
func UndoChange(layer *Layer, revision Revision, done []Done) ([]Edit, []error) {
	present := layer.byID()
	targets := map[int64]Standing{}
	var problems []error
	for _, d := range done {
		e := present[d.Entry]
		there := e != nil
		if there && !e.Stands().same(d.After) || !there && !d.After.Gone {
			problems = append(problems, fmt.Errorf("%s was changed again after revision %d, so that change alone cannot be undone; \"adytum history %s\" shows what came since", d.Name, revision, d.Name))
			continue
		}
		targets[d.Entry] = d.Before
	}
	edits, more := towards(present, targets)
	return edits, append(problems, more...)
}

// UndoTo is the edits that set a layer back to a revision, given all changes
// after it, newest first.
func UndoTo(layer *Layer, after [][]Done) ([]Edit, []error) {
	targets := map[int64]Standing{}
	for _, change := range after {
		for _, d := range change {
			targets[d.Entry] = d.Before
		}
	}
	return towards(layer.byID(), targets)
}

// AtRevision is how entries stood at a revision where they stood otherwise than
// now, by id, given all changes after it, newest first.
func AtRevision(after [][]Done) map[int64]Standing {
	stood := map[int64]Standing{}
	for _, change := range after {
		for _, d := range change {
			stood[d.Entry] = d.Before
		}
	}
	return stood
}

// towards is the edits that bring entries to how they should stand. Removals
// come first, so that the names are free.
func towards(present map[int64]*Entry, targets map[int64]Standing) (edits []Edit, problems []error) {
	ids := make([]int64, 0, len(targets))
	for id := range targets {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	var removals []Edit
	for _, id := range ids {
		target := targets[id]
		e := present[id]
		there := e != nil
		switch {
		case target.Version == 0 || target.Removed || target.Gone:
			if there && e.Removed.IsZero() {
				removals = append(removals, Edit{Act: Remove, Entry: id, Name: e.Name})
			}
			continue
		case !there:
			problems = append(problems, fmt.Errorf("%s was destroyed and cannot come back", target.Name))
			continue
		}
		edit := Edit{Act: Revert, Entry: id, Name: e.Name}
		changed := !e.Removed.IsZero()
		if target.Name != e.Name {
			edit.To, changed = target.Name, true
		}
		if newest := e.Newest(); target.Version != newest.Number && (newest.Source.How != Reverted || newest.Source.Version != target.Version) {
			edit.Version, changed = target.Version, true
		}
		if target.Details.Text() != e.Details.Text() {
			edit.Details, changed = &target.Details, true
		}
		if changed {
			edits = append(edits, edit)
		}
	}
	return append(removals, edits...), problems
}
