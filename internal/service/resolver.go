package service

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// maxDepth is how many settings may refer to one another in a row.
const maxDepth = 8

// resolver answers the references of one request at one moment. Without a
// transaction it works from what is in memory alone.
type resolver struct {
	op     *operation
	tx     *storage.Tx
	now    time.Time
	here   located
	out    *reading
	loaded map[int64]*loadedLayer
	sealed map[sealedID]*sealedVersion
	chains map[int64][]*layers.Layer // by the nearest layer
	// readable is what was found to be so.
	readable map[readable]bool
	// parts are how the targets were answered, nil where that is not to be repeated.
	parts []part
	// optional are the references that may be missing.
	optional map[string]bool
	refused  bool
	hidden   bool // refused to one who may not know that it exists
	details  []string
}

// target is where a reference is looked up, and what was found there.
type target struct {
	reference reference.Reference
	text      string // as it was asked for; empty within a setting
	located   located
	chain     []*layers.Layer
	answer    layers.Answer
	usable    bool
}

// found is a value with where it came from.
type found struct {
	value   secret.Value
	kind    layers.Kind
	version int64
	layer   *loadedLayer
}

func (r *resolver) target(ref reference.Reference) (target, error) {
	t := target{reference: ref, located: r.here}
	var err error
	switch ref.Scope {
	case reference.Environment, reference.Project:
		t.located, err = r.op.find(layers.Place{Project: ref.Project, Environment: ref.Environment})
	case reference.Organization:
		t.located, err = r.op.find(organizationPlace)
	}
	if ref.Scope == reference.Relative {
		return t, err // the private layer is in the chain of here already
	}
	if private := r.op.privateLayer(t.located); private != 0 && ref.Version == 0 {
		t.located.chain = append([]int64{private}, t.located.chain...)
	}
	return t, err
}

// privateLayer is the caller's private layer in an environment, 0 for none.
func (op *operation) privateLayer(l located) int64 {
	if op.caller.Subject.Kind != access.Person || l.where.Environment == 0 {
		return 0
	}
	if e := op.dir.environmentByID[l.where.Environment]; e == nil || e.Protected {
		return 0 // what is there from before it was protected does not count
	}
	return op.dir.privateLayers[privateKey{op.caller.Subject.ID, l.where.Environment}]
}

// prepare loads every layer and every ciphertext that targets need, those of
// the references in settings too, in few questions.
func (r *resolver) prepare(targets []target) error {
	r.sealed = make(map[sealedID]*sealedVersion, len(targets))
	missing := map[int64][][2]int64{} // by project
	var seen map[string]bool          // what settings refer to, which may be the same again and again
	for depth := 0; len(targets) > 0 && depth <= maxDepth; depth++ {
		if err := r.load(targets); err != nil {
			return err
		}
		var next []target
		for i := range targets {
			t := &targets[i]
			if depth > 0 {
				if key := t.located.place.String() + " " + t.reference.String(); seen[key] {
					continue
				} else if seen == nil {
					seen = map[string]bool{key: true}
				} else {
					seen[key] = true
				}
			}
			if err := r.find(t); err != nil {
				return err
			}
			version := t.reference.Version
			if t.answer.Layer == nil || !t.usable && version == 0 {
				continue
			}
			if version == 0 {
				version = t.answer.Version.Number
			}
			if t.answer.Version.Kind == layers.Secret || t.reference.Version > 0 {
				id := sealedID{t.answer.Entry.ID, version}
				if cached, known := r.op.service.sealed.get(id); known {
					r.sealed[id] = cached
				} else {
					missing[t.answer.Layer.Project] = append(missing[t.answer.Layer.Project], [2]int64{id.entry, id.version})
				}
			}
			if strings.Contains(t.answer.Version.Setting, reference.Scheme) {
				next = append(next, r.inside(t.answer.Version, *t)...)
			}
		}
		targets = next
	}
	return r.fetch(missing)
}

// find looks a target up, once.
func (r *resolver) find(t *target) error {
	if t.chain != nil {
		return nil
	}
	var err error
	if t.chain, err = r.chainOf(t.located.chain); err != nil {
		return err
	}
	t.answer, t.usable = layers.Lookup(t.chain, t.reference.Name, r.now)
	return nil
}

// chainOf puts loaded layers into the order of a chain. Most targets have the same.
func (r *resolver) chainOf(ids []int64) ([]*layers.Layer, error) {
	if chain := r.chains[ids[0]]; len(chain) == len(ids) {
		return chain, nil
	}
	chain, err := chainOf(r.loaded, ids)
	if err == nil {
		r.chains[ids[0]] = chain
	}
	return chain, err
}

// inside are the targets that a setting refers to.
func (r *resolver) inside(v *layers.Version, from target) []target {
	if v.Kind != layers.Setting || !strings.Contains(v.Setting, reference.Scheme) {
		return nil
	}
	text, err := reference.ParseText(v.Setting)
	if err != nil {
		return nil // told when the setting is expanded
	}
	var all []target
	for _, ref := range text.References() {
		if t, err := r.inner(ref, from); err == nil {
			all = append(all, t)
		}
	}
	return all
}

// inner is where a reference in a setting leads: a relative one to the place
// that the setting was asked for in.
func (r *resolver) inner(ref reference.Reference, from target) (target, error) {
	if ref.Scope == reference.Relative {
		return target{reference: ref, located: from.located}, nil
	}
	return r.target(ref)
}

// load loads the layers of targets.
func (r *resolver) load(targets []target) error {
	var ids []int64
	scope := storage.Scope{0}
	for _, t := range targets {
		for _, id := range t.located.chain {
			if r.loaded[id] == nil && !slices.Contains(ids, id) {
				ids = append(ids, id)
				scope = append(scope, t.located.where.Project)
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	s := r.op.service
	if r.tx == nil {
		for _, id := range ids {
			cached := s.layers.get(id)
			if cached == nil || cached.names != r.op.dir.names {
				return errNotCached
			}
			r.loaded[id] = cached
		}
		return nil
	}
	if err := r.tx.Widen(r.scope(scope)); err != nil {
		return err
	}
	heads, err := r.tx.Layers(ids)
	if err != nil {
		return err
	}
	loaded, err := s.loadLayers(r.tx, r.op.dir, heads)
	for id, l := range loaded {
		r.loaded[id] = l
	}
	return err
}

func (r *resolver) scope(more storage.Scope) storage.Scope {
	for _, l := range r.loaded {
		more = append(more, l.Project)
	}
	slices.Sort(more)
	return slices.Compact(more)
}

// fetch obtains ciphertexts that are not in memory.
func (r *resolver) fetch(missing map[int64][][2]int64) error {
	s := r.op.service
	if len(missing) > 0 && r.tx == nil {
		return errNotCached
	}
	for project, versions := range missing {
		all, err := r.tx.Sealed(project, versions)
		if err != nil {
			return err
		}
		for _, row := range all {
			id, v := sealedID{row.EntryID, row.Version}, withDigest(row)
			r.sealed[id] = v
			if len(v.Sealed) <= maxSealedValue {
				s.sealed.put(id, v)
			}
		}
	}
	return nil
}

// one obtains the value of one target.
func (r *resolver) one(t *target) (found, error) { return r.follow(t, nil) }

// follow obtains a value; path is the settings that led here.
func (r *resolver) follow(t *target, path []string) (found, error) {
	if err := r.find(t); err != nil {
		return found{}, err
	}
	answer := t.answer
	if answer.Layer == nil || t.reference.Version > 0 && answer.Origin != layers.Here || t.reference.Version == 0 && !t.usable {
		return found{}, r.missing(t, t.chain, answer)
	}
	if err := r.mayRead(t, answer.Layer); err != nil {
		return found{}, err
	}
	f := found{layer: r.loaded[answer.Layer.ID], version: answer.Version.Number}
	if t.reference.Version > 0 {
		if f.version = t.reference.Version; f.version != answer.Version.Number {
			f, err := r.pinned(f.layer, answer.Entry, f.version)
			if err != nil {
				return f, err
			}
			return r.field(t, f)
		}
		if !t.usable {
			return f, problem(NotFound, "%s", r.unusable(t, answer))
		}
	}
	var err error
	f.kind = answer.Version.Kind
	switch f.kind {
	case layers.Setting:
		if f, err = r.expand(t, answer, f, path); err != nil {
			return f, err
		}
	default:
		if f.value, err = r.open(f.layer, answer.Entry.Name, answer.Entry.ID, f.version); err != nil {
			return f, err
		}
	}
	return r.field(t, f)
}

// expand fills in the references of a setting. What they bring is secret.
func (r *resolver) expand(t *target, a layers.Answer, f found, path []string) (found, error) {
	if !strings.Contains(a.Version.Setting, reference.Scheme) {
		f.value = secret.FromString(a.Version.Setting)
		return f, nil
	}
	text, err := reference.ParseText(a.Version.Setting)
	if err != nil {
		return f, problem(Invalid, "the setting %s in %s cannot be expanded: %s", t.reference.Name, a.Layer.Place, err)
	}
	step := fmt.Sprintf("%s in %s", a.Entry.Name, a.Layer.Place)
	if slices.Contains(path, step) {
		return f, problem(Invalid, "settings refer to one another in a circle: %s", strings.Join(append(path[slices.Index(path, step):], step), " → "))
	}
	if len(path) >= maxDepth {
		return f, problem(Invalid, "more than %d settings refer to one another in a row, from %s on", maxDepth, path[0])
	}
	path = append(slices.Clone(path), step)
	content, err := text.Expand(func(ref reference.Reference) ([]byte, error) {
		inner, err := r.inner(ref, *t)
		if err != nil {
			return nil, err
		}
		got, err := r.follow(&inner, path)
		if err != nil {
			return nil, err
		}
		f.kind = layers.Secret
		return got.value.Expose(), nil
	})
	f.value = secret.New(content)
	return f, err
}

// pinned obtains a version other than the one that counts.
func (r *resolver) pinned(l *loadedLayer, entry *layers.Entry, version int64) (found, error) {
	f := found{layer: l, version: version}
	if r.tx == nil {
		return f, errNotCached
	}
	if version > entry.Newest().Number {
		return f, problem(NotFound, "%s has no version %d in %s; its newest is %d", entry.Name, version, l.Place, entry.Newest().Number)
	}
	all, err := r.op.service.allVersions(r.tx, l, entry.ID)
	if err != nil {
		return f, err
	}
	stored := all[sort.Search(len(all), func(i int) bool { return all[i].Version >= version })]
	v, err := versionView(r.op.dir, stored)
	if err != nil {
		return f, err
	}
	switch state := entry.StateOf(v, r.now); {
	case state == layers.Destroyed:
		return f, problem(NotFound, "version %d of %s in %s was destroyed on %s", version, entry.Name, l.Place, day(v.Destroyed))
	case state == layers.Waiting:
		return f, problem(NotFound, "version %d of %s in %s waits until %s", version, entry.Name, l.Place, minute(v.ActiveFrom))
	case !v.Expires.IsZero() && !r.now.Before(v.Expires):
		return f, problem(NotFound, "version %d of %s in %s expired on %s", version, entry.Name, l.Place, minute(v.Expires))
	}
	switch f.kind = v.Kind; f.kind {
	case layers.Setting:
		f.value = secret.FromString(v.Setting)
		return f, nil
	case layers.Nothing:
		return f, problem(NotFound, "version %d of %s in %s is set to nothing", version, entry.Name, l.Place)
	}
	f.value, err = r.op.service.openStored(r.tx, l, stored, entry.Name, r.sealed)
	return f, err
}

// open decrypts the version of an entry that the loaded layer speaks of.
func (r *resolver) open(l *loadedLayer, name string, entry, version int64) (secret.Value, error) {
	for _, v := range l.records[entry].live {
		if v.Version == version {
			return r.op.service.openStored(r.tx, l, v, name, r.sealed)
		}
	}
	return secret.Value{}, fmt.Errorf("version %d of %s in %s is missing from the database", version, name, l.Place)
}

func (r *resolver) field(t *target, f found) (found, error) {
	if len(t.reference.Field) == 0 {
		return f, nil
	}
	var err error
	f.value, err = field(t.reference, f.value)
	return f, err
}
