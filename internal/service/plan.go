package service

import (
	"encoding/base64"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
)

// maxCachedPlans bounds what plans take, in bytes.
const maxCachedPlans = 16 << 20

// planKey is a question that is asked again and again: by whom, for where, and
// the references as they were sent.
type planKey struct {
	subject access.Subject
	from    netip.Addr
	place   layers.Place
	asked   string
}

// plan is what answers a question as long as nothing that it was made from has
// changed: which version answers each reference, found and allowed. It holds
// neither secrets nor their ciphertexts. It is not changed after it was made.
type plan struct {
	directory   *directory
	vector      map[int64]*loadedLayer
	made, until time.Time // until is zero where nothing in the layers has a time
	parts       []part
	revisions   map[string]int64
	names       []string
	grant       int64
}

// part is one answer of a plan: a setting, or the version that opens to a secret.
type part struct {
	answer wire.Value // without a secret's value
	secret sealedID   // zero for a setting
}

func newPlanCache() *bounded[planKey, *plan] {
	return newBounded[planKey](maxCachedPlans, func(p *plan) int {
		n := 500
		for _, part := range p.parts {
			n += 400 + len(part.answer.Value)
		}
		return n
	})
}

func keyOfPlan(caller Caller, place layers.Place, request wire.ResolveRequest) planKey {
	var b strings.Builder
	n := 1
	for _, r := range request.References {
		n += len(r) + 1
	}
	for _, r := range request.Optional {
		n += len(r) + 1
	}
	b.Grow(n)
	for _, r := range request.References {
		b.WriteString(r)
		b.WriteByte('\n')
	}
	b.WriteByte(0)
	for _, r := range request.Optional {
		b.WriteString(r)
		b.WriteByte('\n')
	}
	return planKey{caller.Subject, caller.From, place, b.String()}
}

// current tells whether a plan holds at a moment, as far as this instance knows.
// What others have changed meanwhile is found when the answer is released.
func (s *Service) current(p *plan, now time.Time) bool {
	if p.directory != s.directory.Load() || now.Before(p.made) || !p.until.IsZero() && !now.Before(p.until) {
		return false
	}
	for id, l := range p.vector {
		if s.layers.get(id) != l {
			return false
		}
	}
	return true
}

// planned makes the answer of a question that was answered before, nil where
// that is no longer so.
func (op *operation) planned(key planKey, now time.Time) *reading {
	s := op.service
	p, known := s.plans.get(key)
	if !known {
		return nil
	}
	if !s.current(p, now) {
		s.plans.remove(key)
		return nil
	}
	op.at = now
	r := &reading{organization: p.directory.organization.Revision, grants: p.directory.grants, vector: p.vector, now: now}
	r.answer.Revisions = p.revisions
	r.answer.Values = make([]wire.Value, len(p.parts))
	for i := range p.parts {
		v := &r.answer.Values[i]
		*v = p.parts[i].answer
		if id := p.parts[i].secret; id != (sealedID{}) {
			value, open := s.opened(id)
			if !open {
				return nil // what is wrong with it is told by the one that reads it anew
			}
			v.Value, v.Encoding = encoded(value)
		}
	}
	op.dir, op.event.Names, op.event.Grant = p.directory, p.names, p.grant
	return r
}

// opened is the value of a version that was opened before, if it is still in memory.
func (s *Service) opened(id sealedID) (secret.Value, bool) {
	sealed, known := s.sealed.get(id)
	if !known {
		return secret.Value{}, false
	}
	key := sealed.key.Load()
	if key == nil {
		return secret.Value{}, false
	}
	value, err := key.Open(sealed.Sealed)
	return value, err == nil
}

// encoded is a value as JSON can carry it.
func encoded(value secret.Value) (text, encoding string) {
	content := value.Expose()
	if utf8.Valid(content) {
		return string(content), "text"
	}
	return base64.StdEncoding.EncodeToString(content), "base64"
}

// plan makes the plan of a question that was just answered, nil where the answer
// takes more than opening what stands there.
func (r *resolver) plan() *plan {
	if r.parts == nil || r.hidden || len(r.details) > 0 || r.op.event.Outcome != trail.Allowed {
		return nil
	}
	p := &plan{directory: r.op.dir, vector: r.loaded, made: r.now, parts: r.parts, revisions: r.out.answer.Revisions,
		names: r.op.event.Names, grant: r.op.event.Grant}
	ends := []time.Time{r.op.dir.grants.NextMoment(r.now)}
	for _, l := range r.loaded {
		if l.timed {
			ends = append(ends, l.NextMoment(r.now))
		}
	}
	for _, next := range ends {
		if !next.IsZero() && (p.until.IsZero() || next.Before(p.until)) {
			p.until = next
		}
	}
	return p
}

// remember notes how a target was answered.
func (r *resolver) remember(t *target, out wire.Value) {
	switch v := t.answer.Version; {
	case r.parts == nil:
	case len(t.reference.Field) > 0 || t.reference.Version > 0 || v.Kind == layers.Setting && strings.Contains(v.Setting, reference.Scheme):
		r.parts = nil
	case v.Kind == layers.Setting:
		r.parts = append(r.parts, part{answer: out})
	default:
		out.Value, out.Encoding = "", ""
		r.parts = append(r.parts, part{out, sealedID{t.answer.Entry.ID, v.Number}})
	}
}
