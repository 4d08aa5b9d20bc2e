package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// MaxReferences is how many references one resolve may ask for.
const MaxReferences = 1000

// resolveTries is how often an answer is made anew when something changed
// between reading it and recording it. The last is given all the same: it was
// read in one snapshot after the request began.
const resolveTries = 3

// Resolve obtains the values of references for a place, as one read of one
// moment. Either every reference is answered, or the problem names all that
// could not be.
func (s *Service) Resolve(ctx context.Context, caller Caller, place layers.Place, request wire.ResolveRequest) (out wire.Resolved, err error) {
	op := s.begin(ctx, caller, "entry.resolve", place)
	defer op.end(&err)
	parsed, err := parseReferences(request.References)
	if err != nil {
		return out, err
	}
	optional, err := parseReferences(request.Optional)
	if err != nil {
		return out, err
	}
	return op.values(place, parsed, optional)
}

// Value obtains one value.
func (s *Service) Value(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Value, err error) {
	op := s.begin(ctx, caller, "entry.value", place)
	defer op.end(&err)
	parsed, err := parseReferences([]string{reference.Scheme + name})
	if err != nil {
		return out, err
	}
	resolved, err := op.values(place, parsed, nil)
	if err != nil {
		return out, err
	}
	return resolved.Values[0], nil
}

func parseReferences(texts []string) ([]reference.Reference, error) {
	if len(texts) > MaxReferences {
		return nil, problem(Invalid, "the request names %d references; at most %d are resolved at once", len(texts), MaxReferences)
	}
	var (
		parsed  []reference.Reference
		details []string
		seen    = map[string]bool{}
	)
	for i, text := range texts {
		r, err := reference.Parse(text)
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
func (op *operation) values(place layers.Place, references, optional []reference.Reference) (wire.Resolved, error) {
	s := op.service
	for _, r := range slices.Concat(references, optional) {
		op.event.Names = append(op.event.Names, s.redact(r.String()))
	}
	for try := 1; ; try++ {
		reading, err := op.read(place, references, optional)
		if err != nil {
			return wire.Resolved{}, err
		}
		op.event.Layers = map[string]int64{}
		ids := make([]int64, 0, len(reading.vector))
		for id, revision := range reading.vector {
			op.event.Layers[strconv.FormatInt(id, 10)] = int64(revision)
			ids = append(ids, id)
		}
		heads, seq, err := s.recorder.release(op.ctx, op.event, ids, op.caller.Token)
		op.recorded = err == nil
		switch {
		case err != nil:
			return wire.Resolved{}, err
		case heads.Revoked[op.caller.Token] || heads.Now.After(op.caller.ExpiresAt):
			op.withdraw(seq)
			return wire.Resolved{}, errSignIn
		case reading.current(heads) || try == resolveTries:
			return reading.answer, nil
		}
		op.withdraw(seq)
	}
}

// withdraw records that the answer of an event was not given after all.
func (op *operation) withdraw(seq int64) {
	e := op.event
	e.NotSent, e.Count, e.Action = true, seq, op.event.Action
	_ = op.service.recorder.note(op.ctx, e)
}

// reading is what was read in one snapshot, and the revisions it was read at.
type reading struct {
	answer       wire.Resolved
	organization int64
	vector       map[int64]layers.Revision
}

func (r *reading) current(heads storage.Heads) bool {
	if r.organization != heads.Organization {
		return false
	}
	for id, revision := range r.vector {
		if heads.Layers[id] != revision {
			return false
		}
	}
	return true
}

// read resolves the references in one snapshot.
func (op *operation) read(place layers.Place, references, optional []reference.Reference) (*reading, error) {
	s := op.service
	var out *reading
	err := s.store.Snapshot(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		here, err := op.find(place)
		if err != nil {
			return err
		}
		r := &resolver{op: op, tx: tx, here: here, out: &reading{organization: d.organization.Revision, vector: map[int64]layers.Revision{}}}
		out = r.out
		r.optional = map[string]bool{}
		for _, ref := range optional {
			r.optional[ref.String()] = true
		}
		return r.all(slices.Concat(references, optional))
	})
	return out, err
}

// resolver resolves the references of one request.
type resolver struct {
	op     *operation
	tx     *storage.Tx
	here   located
	out    *reading
	loaded map[int64]*loadedLayer
	// optional are the references that may be missing.
	optional map[string]bool
	refused  bool
	hidden   bool // refused to one who may not know that it exists
	details  []string
}

// target is where a reference is looked up.
type target struct {
	reference reference.Reference
	located   located
}

func (r *resolver) all(references []reference.Reference) error {
	if len(references) > MaxReferences {
		return problem(Invalid, "the request names %d references; at most %d are resolved at once", len(references), MaxReferences)
	}
	targets := make([]target, 0, len(references))
	scope, ids := storage.Scope{0}, []int64{}
	seen := map[int64]bool{}
	for _, ref := range references {
		t, err := r.target(ref)
		if err != nil {
			r.details = append(r.details, fmt.Sprintf("%s: %s", ref, err))
			continue
		}
		targets = append(targets, t)
		scope = append(scope, t.located.where.Project)
		for _, id := range t.located.chain {
			if !seen[id] {
				seen[id] = true
				ids = append(ids, id)
			}
		}
	}
	if err := r.tx.Widen(scope); err != nil {
		return err
	}
	var err error
	if _, r.loaded, err = r.op.service.loadChain(r.tx, r.op.dir, ids); err != nil {
		return err
	}
	r.out.answer.Revisions = map[string]int64{}
	for id, l := range r.loaded {
		r.out.vector[id] = l.Revision
		r.out.answer.Revisions[l.Place.String()] = int64(l.Revision)
	}
	for _, t := range targets {
		if err := r.one(t); err != nil {
			var p *Problem
			if !errors.As(err, &p) {
				return err
			}
			if p.Kind == NotFound && r.optional[t.reference.String()] {
				continue
			}
			r.refused = r.refused || p.Kind == Forbidden
			r.details = append(r.details, p.Message)
		}
	}
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

func (r *resolver) target(ref reference.Reference) (target, error) {
	t := target{ref, r.here}
	var err error
	switch ref.Scope {
	case reference.Environment, reference.Project:
		t.located, err = r.op.find(layers.Place{Project: ref.Project, Environment: ref.Environment})
	case reference.Organization:
		t.located, err = r.op.find(organizationPlace)
	}
	return t, err
}

func (r *resolver) one(t target) error {
	chain := make([]*layers.Layer, len(t.located.chain))
	for i, id := range t.located.chain {
		chain[i] = &r.loaded[id].Layer
	}
	answer, found := layers.Lookup(chain, t.reference.Name)
	if !found || t.reference.Version > 0 && answer.Origin != layers.Here {
		return r.missing(t, chain, answer)
	}
	if err := r.mayRead(t, answer.Layer); err != nil {
		return err
	}
	loaded := r.loaded[answer.Layer.ID]
	entry, version := answer.Entry, t.reference.Version
	if version == 0 {
		version = entry.Version
	}
	stored, exists := findVersion(loaded.versions[entry.ID], version)
	if !exists {
		return problem(NotFound, "%s has no version %d in %s; its newest is %d", entry.Name, version, answer.Layer.Place, entry.Version)
	}
	value, err := r.plaintext(loaded, entry, stored)
	if err != nil {
		return err
	}
	if len(t.reference.Field) > 0 {
		if value, err = field(t.reference, value); err != nil {
			return err
		}
	}
	out := wire.Value{Reference: t.reference.String(), Value: string(value.Expose()), Encoding: "text", Kind: stored.Kind, Version: version, Layer: answer.Layer.Place.String()}
	if !utf8.Valid(value.Expose()) {
		out.Value, out.Encoding = base64.StdEncoding.EncodeToString(value.Expose()), "base64"
	}
	r.out.answer.Values = append(r.out.answer.Values, out)
	return nil
}

func (r *resolver) plaintext(l *loadedLayer, entry layers.Entry, v storage.Version) (secret.Value, error) {
	switch layers.Kind(v.Kind) {
	case layers.Setting:
		return secret.FromString(v.Setting), nil
	case layers.Nothing:
		return secret.Value{}, problem(NotFound, "version %d of %s in %s is set to nothing", v.Version, entry.Name, l.Place)
	}
	return r.op.service.openVersion(r.tx, l, entry, v.Version)
}

// mayRead checks read at the layer that answers. The project's common layer and
// the organization's are read with the grant of the environment asked for.
func (r *resolver) mayRead(t target, answering *layers.Layer) error {
	d, who := r.op.dir, r.op.caller.Subject
	places := []access.Where{d.layerPlace(answering.ID)}
	if answering.Place.Environment == "" {
		places = append(places, t.located.where)
		if answering.Project == 0 || answering.Project == r.here.where.Project {
			places = append(places, r.here.where)
		}
	}
	for _, where := range places {
		if grant, allowed := d.grants.Decide(who, access.Read, where); allowed {
			r.op.event.Grant = grant.ID
			return nil
		}
	}
	if r.mayList(t) {
		return problem(Forbidden, "%s may not read %s in %s; a steward of it or an owner can grant it", r.op.caller.Name(), t.reference.Name, answering.Place)
	}
	// Exactly the answer to what does not exist.
	r.hidden = true
	return r.notSet(t)
}

func (r *resolver) mayList(t target) bool {
	_, may := r.op.dir.grants.Decide(r.op.caller.Subject, access.List, t.located.where)
	return may
}

func (r *resolver) notSet(t target) *Problem {
	return problem(NotFound, "%s is not set in %s", r.op.service.redactName(t.reference.Name), t.located.place)
}

// missing says that a name is not set, why, and which name was probably meant.
func (r *resolver) missing(t target, chain []*layers.Layer, answer layers.Answer) error {
	p := r.notSet(t)
	if !r.mayList(t) {
		return p
	}
	switch {
	case answer.Entry.Kind == layers.Nothing:
		p.Message = fmt.Sprintf("%s is set to nothing in %s", t.reference.Name, answer.Layer.Place)
	case t.reference.Version > 0 && answer.Layer != nil:
		p.Message = fmt.Sprintf("%s is not set in %s itself but comes from %s, so it cannot be pinned to a version there", t.reference.Name, t.located.place, answer.Layer.Place)
	default:
		p.Message += didYouMean(t.reference.Name, layers.Names(chain))
	}
	return p
}

func findVersion(all []storage.Version, version int64) (storage.Version, bool) {
	i := sort.Search(len(all), func(i int) bool { return all[i].Version >= version })
	if i < len(all) && all[i].Version == version {
		return all[i], true
	}
	return storage.Version{}, false
}

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
