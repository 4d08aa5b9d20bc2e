package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// MaxReferences is how many references one resolve may ask for.
const MaxReferences = 1000

// resolveTries is how often an answer is made anew when something changed
// between reading it and recording it. The first is made from what is in memory.
// The last is given all the same: it was read in one snapshot after the request
// began.
const resolveTries = 3

// Resolve obtains the values of references for a place, as one read of one
// moment. Either every reference is answered, or the problem names all that
// could not be.
func (s *Service) Resolve(ctx context.Context, caller Caller, place layers.Place, request wire.ResolveRequest) (out wire.Resolved, err error) {
	op := s.begin(ctx, caller, "entry.resolve", place)
	defer op.end(&err)
	return op.values(place, request)
}

// Value obtains one value.
func (s *Service) Value(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Value, err error) {
	op := s.begin(ctx, caller, "entry.value", place)
	defer op.end(&err)
	resolved, err := op.values(place, wire.ResolveRequest{References: []string{reference.Scheme + name}})
	if err != nil {
		return out, err
	}
	return resolved.Values[0], nil
}

// asked is a reference that was read.
type asked struct {
	reference.Reference
	text  string // its one form
	clean string // as it may stand in the trail
}

// parse reads a reference. The same ones are asked for again and again.
func (s *Service) parse(text string) (*asked, error) {
	if known, found := s.asked.get(text); found {
		return known, nil
	}
	r, err := reference.Parse(text)
	if err != nil {
		return nil, err
	}
	a := &asked{Reference: r, text: r.String()}
	a.clean = s.redact(a.text)
	s.asked.put(text, a)
	return a, nil
}

func (s *Service) parseReferences(texts []string) ([]*asked, error) {
	var details []string
	parsed := make([]*asked, 0, len(texts))
	seen := make(map[string]bool, len(texts))
	for i, text := range texts {
		r, err := s.parse(text)
		if err != nil {
			details = append(details, fmt.Sprintf("reference %d: %s", i+1, err))
		} else if !seen[text] {
			seen[text] = true
			parsed = append(parsed, r)
		}
	}
	if len(details) > 0 {
		return nil, problems(Invalid, "references cannot be read", details)
	}
	return parsed, nil
}

// values reads, records, compares and only then answers.
func (op *operation) values(place layers.Place, request wire.ResolveRequest) (wire.Resolved, error) {
	s := op.service
	key, now := keyOfPlan(op.caller, place, request), s.now()
	reading := op.planned(key, now)
	var q question
	for try := 1; ; try++ {
		if reading == nil {
			if q.all == nil {
				var err error
				if q, err = op.question(place, request); err != nil {
					return wire.Resolved{}, err
				}
			}
			var err error
			if reading, err = op.read(q, now, try == 1); err != nil {
				return wire.Resolved{}, err
			}
			if reading.plan != nil {
				s.plans.put(key, reading.plan)
			}
		}
		heads, err := op.release(reading, try)
		if err != nil {
			return wire.Resolved{}, err
		}
		if try == resolveTries || reading.current(heads) {
			return reading.answer, nil
		}
		reading, now = nil, heads.Now
	}
}

// question is a request to resolve that was read.
type question struct {
	place    layers.Place
	all      []*asked
	optional map[string]bool
}

// question reads a request.
func (op *operation) question(place layers.Place, request wire.ResolveRequest) (question, error) {
	q := question{place: place}
	if n := len(request.References) + len(request.Optional); n > MaxReferences {
		return q, problem(Invalid, "the request names %d references; at most %d are resolved at once", n, MaxReferences)
	}
	references, err := op.service.parseReferences(request.References)
	if err != nil {
		return q, err
	}
	optional, err := op.service.parseReferences(request.Optional)
	if err != nil {
		return q, err
	}
	q.optional = make(map[string]bool, len(optional))
	for _, r := range optional {
		q.optional[r.text] = true
	}
	q.all = slices.Concat(references, optional)
	op.event.Names = make([]string, 0, len(q.all))
	for _, r := range q.all {
		op.event.Names = append(op.event.Names, r.clean)
	}
	return q, nil
}

// release records that an answer is given and tells what is true at that moment.
// Where the answer has to be made anew, the record is taken back.
func (op *operation) release(r *reading, try int) (storage.Heads, error) {
	op.event.Layers = make(map[string]int64, len(r.vector))
	ids := make([]int64, 0, len(r.vector))
	for id, l := range r.vector {
		op.event.Layers[strconv.FormatInt(id, 10)] = int64(l.Revision)
		ids = append(ids, id)
	}
	heads, at, err := op.service.recorder.release(op.ctx, op.event, ids, op.caller.Token)
	op.recorded = err == nil
	if err != nil {
		return heads, err
	}
	if heads.Revoked[op.caller.Token] || heads.Now.After(op.caller.ExpiresAt) {
		op.withdraw(at)
		return heads, errSignIn
	}
	if try < resolveTries && !r.current(heads) {
		op.withdraw(at)
	}
	return heads, nil
}

// withdraw records that the answer of an event was not given after all.
func (op *operation) withdraw(at stand) {
	e := op.event
	e.NotSent, e.OfLane, e.Count = true, at.lane, at.seq
	_ = op.service.recorder.note(op.ctx, e)
	op.recorded = false // how the request ends is still to be recorded
}

// reading is an answer, and the revisions and the moment it was made for.
type reading struct {
	answer       wire.Resolved
	organization int64
	grants       *access.Grants
	vector       map[int64]*loadedLayer
	now          time.Time
	plan         *plan // how to answer it again, nil where that is not known
}

// current tells whether an answer is what would be answered at the moment of heads.
func (r *reading) current(heads storage.Heads) bool {
	if r.organization != heads.Organization {
		return false
	}
	if r.grants.Changes(r.now, heads.Now) {
		return false
	}
	early, late := r.now, heads.Now
	if late.Before(early) {
		early, late = late, early
	}
	for id, l := range r.vector {
		if heads.Layers[id] != l.Revision {
			return false
		}
		if l.timed {
			if next := l.NextMoment(early); !next.IsZero() && !next.After(late) {
				return false
			}
		}
	}
	return true
}

// errNotCached says that an answer cannot be made from what is in memory.
var errNotCached = errors.New("not in memory")

// read resolves the references, from memory where that is asked for and
// possible, otherwise in one snapshot. A refusal is only ever made in a snapshot.
func (op *operation) read(q question, now time.Time, fromMemory bool) (*reading, error) {
	s := op.service
	if d := s.directory.Load(); fromMemory && d != nil {
		r := op.resolver(nil, d, now, q)
		if err := r.run(q); err == nil {
			return r.out, nil
		}
		op.event.Outcome, op.event.Grant = trail.Allowed, 0
	}
	var out *reading
	err := s.store.Snapshot(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		if d.revoked[op.caller.Token] {
			return errSignIn
		}
		r := op.resolver(tx, d, now, q)
		out = r.out
		return r.run(q)
	})
	return out, err
}

func (op *operation) resolver(tx *storage.Tx, d *directory, now time.Time, q question) *resolver {
	op.dir = d
	r := &resolver{op: op, tx: tx, now: now, optional: q.optional, parts: make([]part, 0, len(q.all)), loaded: map[int64]*loadedLayer{},
		chains: map[int64][]*layers.Layer{}, readable: map[readable]bool{}}
	op.at = now
	r.out = &reading{organization: d.organization.Revision, grants: d.grants, vector: r.loaded, now: now}
	return r
}

// run answers a question.
func (r *resolver) run(q question) error {
	here, err := r.op.find(q.place)
	if err != nil {
		return err
	}
	if private := r.op.privateLayer(here); private != 0 {
		here.chain = append([]int64{private}, here.chain...)
	}
	r.here = here
	targets := make([]target, 0, len(q.all))
	for _, ref := range q.all {
		t, err := r.target(ref.Reference)
		if err != nil {
			r.details = append(r.details, fmt.Sprintf("%s: %s", ref.text, err))
			continue
		}
		t.text = ref.text
		targets = append(targets, t)
	}
	if err := r.prepare(targets); err != nil {
		return err
	}
	r.out.answer.Values = make([]wire.Value, 0, len(targets))
	for i := range targets {
		if err := r.answer(&targets[i]); err != nil {
			return err
		}
	}
	r.out.answer.Revisions = make(map[string]int64, len(r.loaded))
	for _, l := range r.loaded {
		if !l.Private {
			r.out.answer.Revisions[l.name] = int64(l.Revision)
		}
	}
	if err := r.verdict(); err != nil {
		return err
	}
	r.out.plan = r.plan()
	return nil
}

func (r *resolver) answer(t *target) error {
	f, err := r.one(t)
	var p *Problem
	switch {
	case err == nil:
	case !errors.As(err, &p):
		return err
	case p.Kind == NotFound && r.optional[t.text]:
		r.parts = nil
		return nil
	default:
		r.refused = r.refused || p.Kind == Forbidden
		r.details = append(r.details, p.Message)
		return nil
	}
	out := wire.Value{Reference: t.text, Kind: string(f.kind), Version: f.version, Layer: f.layer.name, Private: f.layer.Private}
	out.Value, out.Encoding = encoded(f.value)
	r.remember(t, out)
	r.out.answer.Values = append(r.out.answer.Values, out)
	return nil
}

// verdict is the answer to a request of which something could not be resolved.
func (r *resolver) verdict() error {
	if r.hidden {
		r.op.event.Outcome = trail.Refused
	}
	if len(r.details) == 0 {
		return nil
	}
	kind := NotFound
	if r.refused {
		kind, r.op.event.Outcome = Forbidden, trail.Refused
	}
	return problems(kind, "references could not be resolved", r.details)
}
