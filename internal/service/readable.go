package service

import (
	"encoding/json"
	"fmt"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
)

// readable is a layer that may be read by one who asks from a place.
type readable struct {
	layer int64
	from  access.Where
}

// mayRead checks read at the layer that answers. The project's common layer and
// the organization's are read with the grant of the environment asked for, and
// a private value by its person.
func (r *resolver) mayRead(t *target, answering *layers.Layer) error {
	if answering.Private {
		if _, frozen := r.op.dir.grants.Freeze(r.op.caller.Subject, access.Read, r.op.dir.layerPlace(answering.ID)); frozen {
			return r.op.denied(access.Read, t.located, t.reference.Name)
		}
		return nil
	}
	name := t.reference.Name
	asked := readable{answering.ID, t.located.where}
	if r.readable[asked] {
		return nil
	}
	if grant, may := r.op.mayRead(answering, name, t.located.where, r.here.where); may {
		r.op.event.Grant = grant.ID
		r.readable[asked] = grant.Names == ""
		return nil
	}
	if r.mayList(t) {
		if _, frozen := r.op.dir.grants.Freeze(r.op.caller.Subject, access.Read, r.op.dir.layerPlace(answering.ID)); frozen {
			return r.op.denied(access.Read, t.located, t.reference.Name)
		}
		return problem(Forbidden, "%s may not read %s in %s; a steward of it or an owner can grant it", r.op.caller.Name(), t.reference.Name, answering.Place)
	}
	// Exactly the answer to what does not exist.
	r.hidden = true
	return r.notSet(t)
}

// mayRead tells whether the caller may read what a layer answers for a name to
// one who asks from the given places.
func (op *operation) mayRead(answering *layers.Layer, name string, asked ...access.Where) (access.Grant, bool) {
	if grant, allowed := op.mayName(access.Read, op.dir.layerPlace(answering.ID), name); allowed {
		return grant, true
	}
	if answering.Place.Environment != "" {
		return access.Grant{}, false
	}
	for _, where := range asked {
		if answering.Project != 0 && answering.Project != where.Project {
			continue
		}
		if grant, allowed := op.mayName(access.Read, where, name); allowed {
			return grant, true
		}
	}
	return access.Grant{}, false
}

func (r *resolver) mayList(t *target) bool {
	_, may := r.op.mayName(access.List, t.located.where, t.reference.Name)
	return may
}

func (r *resolver) notSet(t *target) *Problem {
	return problem(NotFound, "%s is not set in %s", r.op.service.redactName(t.reference.Name), t.located.place)
}

// missing says that a name has no value to give, why, and which name was
// probably meant.
func (r *resolver) missing(t *target, chain []*layers.Layer, answer layers.Answer) error {
	p := r.notSet(t)
	if !r.mayList(t) {
		r.hidden = true
		return p
	}
	switch {
	case answer.Layer == nil:
		p.Message += didYouMean(t.reference.Name, layers.Names(r.op.shownChain(t.located.where, chain)))
	case t.reference.Version > 0:
		p.Message = fmt.Sprintf("%s is not set in %s itself but comes from %s, so it cannot be pinned to a version there", t.reference.Name, t.located.place, answer.Layer.Place)
	default:
		p.Message = r.unusable(t, answer)
	}
	return p
}

// unusable says why what is set has no value to give.
func (r *resolver) unusable(t *target, a layers.Answer) string {
	what := fmt.Sprintf("%s in %s", t.reference.Name, a.Layer.Place)
	switch {
	case a.State == layers.Waiting:
		return fmt.Sprintf("%s waits: its first value counts from %s", what, minute(a.Version.ActiveFrom))
	case a.State == layers.Expired:
		return fmt.Sprintf("%s expired: version %d counted until %s; keep a new value", what, a.Version.Number, minute(a.Version.Expires))
	case a.State == layers.Destroyed:
		return fmt.Sprintf("%s was destroyed: version %d is gone since %s; keep a new value", what, a.Version.Number, minute(a.Version.Destroyed))
	}
	return fmt.Sprintf("%s is set to nothing in %s", t.reference.Name, a.Layer.Place)
}

func minute(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
func day(t time.Time) string    { return t.UTC().Format("2006-01-02") }

// field takes a member out of a value that is a JSON object. Text comes out
// bare, anything else as JSON.
func field(r reference.Reference, value secret.Value) (secret.Value, error) {
	raw := json.RawMessage(value.Expose())
	for _, member := range r.Field {
		var object map[string]json.RawMessage
		if err := json.Unmarshal(raw, &object); err != nil {
			return secret.Value{}, problem(Invalid, "%s asks for a field, and the value is not a JSON object there", r)
		}
		inner, exists := object[member]
		if !exists {
			return secret.Value{}, problem(NotFound, "%s: the value has no field %s", r, member)
		}
		raw = inner
	}
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return secret.FromString(text), nil
	}
	return secret.New(raw), nil
}
