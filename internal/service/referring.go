package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
)

// checkReferences asks for read on everything that new settings refer to, so
// that a setting is no way round it, and refuses circles.
func (c *commit) checkReferences() error {
	for _, v := range c.versions {
		if v.Kind != string(layers.Setting) || !strings.Contains(v.Setting, reference.Scheme) {
			continue
		}
		name := c.next.records[v.EntryID].Name
		r := c.op.resolver(c.tx, c.op.dir, c.now, question{})
		r.here = c.at
		r.loaded[c.next.ID] = c.next
		own := target{reference: reference.Reference{Name: name}, located: c.at}
		if err := r.load([]target{own}); err != nil {
			return err
		}
		err := r.trace(own, v.Setting, []string{fmt.Sprintf("%s in %s", name, c.at.place)}, c.next.ID, name)
		var p *Problem
		switch {
		case err == nil:
		case !errors.As(err, &p):
			return err
		case p.Kind == Forbidden:
			c.op.event.Outcome = "refused"
			return p
		default:
			c.problems = append(c.problems, name+": "+p.Message)
		}
	}
	if len(c.problems) > 0 {
		return problems(Invalid, "things are wrong with the change; nothing was kept", c.problems)
	}
	return nil
}

// tellReferring names the settings that still refer to names that are gone after
// the change.
func (c *commit) tellReferring() error {
	var gone []string
	for _, d := range c.done {
		if d.Did == layers.Renamed || d.Did == layers.WasRemoved || d.Did == layers.WasDestroyed && d.After.Gone {
			if _, set := c.next.Entries[d.Name]; !set {
				gone = append(gone, d.Name)
			}
		}
	}
	if len(gone) == 0 || len(c.out.Refers) > 0 {
		return nil
	}
	refers, err := c.refersToGone(gone)
	c.out.Refers = refers
	return err
}

// refersToGone finds the settings that refer to names of this layer: by a short
// reference from a place that has the layer in its chain, or by an absolute one.
func (c *commit) refersToGone(names []string) ([]string, error) {
	place := c.at.place
	refers, err := c.op.refersTo(c.tx, func(r reference.Reference, at layers.Place) bool {
		if !slices.Contains(names, r.Name) {
			return false
		}
		switch r.Scope {
		case reference.Organization:
			return place.Project == ""
		case reference.Project:
			return place == layers.Place{Project: r.Project}
		case reference.Environment:
			return place.Project == "" || place.Project == r.Project && (place.Environment == "" || place.Environment == r.Environment)
		}
		return place.Project == "" || place.Project == at.Project && (place.Environment == "" || at.Environment == "" || place.Environment == at.Environment)
	})
	if err != nil {
		return nil, err
	}
	return refers, c.tx.Widen(c.scope)
}

// trace walks through what a setting refers to: the caller must be allowed to
// read all of it, and it must not come back to where it began.
func (r *resolver) trace(from target, setting string, path []string, layer int64, name string) error {
	text, err := reference.ParseText(setting)
	if err != nil {
		return problem(Invalid, "%s", err)
	}
	for _, ref := range text.References() {
		t, err := r.inner(ref, from)
		if err != nil {
			return err
		}
		if err := r.load([]target{t}); err != nil {
			return err
		}
		chain, err := chainOf(r.loaded, t.located.chain)
		if err != nil {
			return err
		}
		answer, usable := layers.Lookup(chain, ref.Name, r.now)
		if answer.Layer == nil {
			if _, may := r.op.mayRead(chain[0], ref.Name, t.located.where); !may {
				return problem(Forbidden, "%s may not read in %s and cannot keep a setting that refers to %s there", r.op.caller.Name(), t.located.place, r.op.service.redactName(ref.Name))
			}
			continue
		}
		if err := r.mayRead(&t, answer.Layer); err != nil {
			return err
		}
		step := fmt.Sprintf("%s in %s", answer.Entry.Name, answer.Layer.Place)
		if answer.Layer.ID == layer && answer.Entry.Name == name {
			return problem(Invalid, "it refers to itself in a circle: %s", strings.Join(append(path, step), " → "))
		}
		if !usable || answer.Version.Kind != layers.Setting || !strings.Contains(answer.Version.Setting, reference.Scheme) || len(path) > maxDepth {
			continue
		}
		if err := r.trace(t, answer.Version.Setting, append(path, step), layer, name); err != nil {
			return err
		}
	}
	return nil
}
