package service

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/generate"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/needs"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/sweep"
	"adytum.example/internal/storage"
)

// step is one edit of a request with its value at hand.
type step struct {
	edit    layers.Edit
	value   secret.Value
	given   bool // the value came from a person or a program, and may be weak
	from    *time.Time
	until   *time.Time
	details *wire.Details
	source  layers.Source
}

// readSteps decodes values and makes those that are to be generated; what is
// wrong is told without them.
func readSteps(edits []wire.Edit, now time.Time) (all []step, details []string) {
	say := func(format string, args ...any) { details = append(details, fmt.Sprintf(format, args...)) }
	for _, e := range edits {
		s := step{edit: layers.Edit{Act: actOf(e), Name: e.Name, Kind: layers.Kind(e.Kind), To: e.To, Version: e.Version}, details: e.Details, value: secret.FromString(e.Value)}
		if e.Encoding == "base64" {
			raw, err := base64.StdEncoding.DecodeString(e.Value)
			if err != nil {
				say("%s: the value is not base64 (standard alphabet with padding)", e.Name)
			}
			s.value = secret.New(raw)
		}
		s.from, s.until = atOrAfter(e.ActiveFrom), atOrAfter(e.Expires)
		if s.from != nil && !s.from.After(now) {
			s.from = nil
		}
		switch {
		case s.edit.Act != layers.Keep && (s.value.Len() > 0 || e.Generate != nil || e.ActiveFrom != nil || e.Expires != nil || e.Kind != ""):
			say("%s: a value, a kind or a time comes with an edit that takes none", e.Name)
		case e.Generate != nil && (s.value.Len() > 0 || e.Kind != "" && e.Kind != string(layers.Secret)):
			say("%s: a value is either given or generated, and what is generated is a secret", e.Name)
		case s.edit.Kind == layers.Nothing && s.value.Len() > 0:
			say("%s: it is set to nothing, and a value comes with it", e.Name)
		case s.edit.Act == layers.Revert && s.edit.Version == 0:
			say("%s: to revert takes the number of the version to go back to", e.Name)
		case s.edit.Act == layers.Describe && e.Details == nil:
			say("%s: to describe takes the details", e.Name)
		}
		if s.until != nil && (!s.until.After(now) || s.from != nil && !s.until.After(*s.from)) {
			say("%s: it would expire before it counts; give a later end", e.Name)
		}
		if e.Imported != "" {
			s.source = layers.Source{How: layers.Imported, What: e.Imported}
		}
		s.given = s.edit.Act == layers.Keep && s.edit.Kind == layers.Secret
		if e.Generate != nil {
			more, err := generated(&s, *e.Generate)
			if err != nil {
				say("%s %s", e.Name, err)
			}
			all = append(all, more...)
		}
		all = append(all, s)
	}
	return all, details
}

func atOrAfter(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	cut := t.UTC().Truncate(time.Microsecond)
	return &cut
}

// generated makes the value of a step, and the steps for what goes with it.
func generated(s *step, g wire.Generate) ([]step, error) {
	made, err := generate.Make(generate.Request{What: g.What, Length: g.Length, Alphabet: g.Alphabet, Words: g.Words, Bits: g.Bits, Hosts: g.Hosts, Days: g.Days}, generate.Reader)
	if err != nil {
		return nil, err
	}
	s.edit.Kind, s.value, s.given = layers.Secret, made.Value, false
	s.source = layers.Source{How: layers.Generated, What: made.About, Bits: made.Bits}
	if made.Public == "" {
		return nil, nil
	}
	name := s.edit.Name + "_PUBLIC"
	if g.What == generate.Certificate {
		name = s.edit.Name + "_CERTIFICATE"
	}
	public := step{edit: layers.Edit{Act: layers.Keep, Name: name, Kind: layers.Setting}, value: secret.FromString(made.Public), from: s.from, until: s.until,
		source: layers.Source{How: layers.Derived, Name: s.edit.Name}}
	if end := generate.CertificateEnd([]byte(made.Public)); !end.IsZero() && s.until == nil {
		s.until = &end // the key is of no use beyond its certificate
	}
	return []step{public}, nil
}

// take plans steps and carries them out, or says everything that is wrong.
func (c *commit) take(steps []step, details []string) error {
	c.problems = append(c.problems, details...)
	c.steps = steps
	edits := make([]layers.Edit, len(steps))
	for i, s := range steps {
		edits[i] = s.edit
	}
	effects, errs := layers.Plan(c.told(), edits, c.now)
	for _, err := range errs {
		c.problems = append(c.problems, err.Error())
	}
	if len(c.problems) > 0 {
		for _, s := range steps {
			c.checkValue(s) // what else is wrong, in the same answer
		}
		return nil
	}
	for i, effect := range effects {
		if err := c.step(effect, steps[i]); err != nil {
			return err
		}
	}
	return nil
}

// step carries out one effect.
func (c *commit) step(effect layers.Effect, s step) error {
	var before layers.Standing
	var r *record
	if effect.Entry != nil {
		before, r = effect.Entry.Stands(), c.record(effect.Entry.ID)
	} else {
		var err error
		if r, err = c.add(effect.Edit.Name); err != nil {
			return err
		}
	}
	if err := c.describe(r, s); err != nil {
		return err
	}
	out := wire.Effect{}
	kind, version := newestKind(r), int64(0)
	switch effect.Edit.Act {
	case layers.Keep:
		if !c.checkValue(s) {
			return nil
		}
		kind, version, s.until = s.edit.Kind, r.Version+1, c.endOf(s)
		s.source.What = c.op.service.redact(s.source.What)
		c.warn(s, &out)
		if err := c.tellSame(r, s, &out); err != nil {
			return err
		}
		v := storage.Version{Kind: string(kind), Source: s.source.Text(), ActiveFrom: s.from, ExpiresAt: s.until}
		if err := c.push(r, v, s.value); err != nil {
			return err
		}
		out.Source = s.source.String()
	case layers.Revert:
		made, err := c.revert(r, effect.Edit)
		if err != nil || made == nil {
			return err
		}
		if made.Version > 0 {
			kind, version = layers.Kind(made.Kind), made.Version
			out.Source = layers.Source{How: layers.Reverted, Version: effect.Edit.Version}.String()
		}
	case layers.Remove:
		c.remove(r)
	case layers.Restore:
		r.RemovedAt, r.PurgeAt = nil, nil
	case layers.Rename:
		r.Name = effect.Edit.To
	case layers.Destroy:
		if err := c.destroy(r, effect.Edit.Version); err != nil {
			return err
		}
		version = effect.Edit.Version
	}
	if r.RemovedAt == nil && r.DestroyedAt == nil {
		if err := c.checkRules(r, effect.Edit.Act == layers.Keep, s); err != nil {
			return err
		}
	}
	c.note(effect.Did, before, r, kind, version, out)
	return nil
}

func newestKind(r *record) layers.Kind {
	if len(r.live) == 0 {
		return ""
	}
	return layers.Kind(r.live[len(r.live)-1].Kind)
}

// checkValue says what is wrong with a value that is to be kept, whatever the
// rules of its entry.
func (c *commit) checkValue(s step) bool {
	wrong := ""
	content := s.value.Expose()
	switch {
	case s.edit.Act != layers.Keep:
	case s.value.Len() > envelope.MaxValue:
		wrong = fmt.Sprintf("a value has at most 1 MiB, this one has %d bytes", s.value.Len())
	case s.edit.Kind != layers.Setting:
	case !utf8.Valid(content) || strings.ContainsRune(string(content), 0):
		wrong = "a setting is UTF-8 text without NUL; keep it as a secret"
	case strings.Contains(string(content), reference.Scheme):
		if _, err := reference.ParseText(string(content)); err != nil {
			wrong = err.Error()
		}
	}
	if wrong != "" {
		c.problems = append(c.problems, s.edit.Name+": "+wrong)
	}
	return wrong == ""
}

// endOf is when a version expires: as asked, or with a certificate that it holds.
func (c *commit) endOf(s step) *time.Time {
	end := generate.CertificateEnd(s.value.Expose())
	if end.IsZero() || s.until != nil && s.until.Before(end) {
		return s.until
	}
	return &end
}

// warn estimates the strength of a secret.
func (c *commit) warn(s step, out *wire.Effect) {
	if s.edit.Kind != layers.Secret {
		return
	}
	if s.source.Bits > 0 {
		out.Strength = s.source.Bits
	} else if n := s.value.Len(); n > 0 && n <= 4096 {
		out.Strength = int(sweep.Strength(s.value.Expose()))
	}
	if s.given && out.Strength > 0 && out.Strength < generate.WeakBits {
		out.Warnings = append(out.Warnings, fmt.Sprintf("it is weak: a guesser would need about %d bits, and %d or more are safe; \"adytum keep %s --random\" makes a strong one", out.Strength, generate.WeakBits, s.edit.Name))
	}
	if end := c.endOf(s); end != nil && !end.After(c.now) {
		out.Warnings = append(out.Warnings, "the certificate in it expired on "+minute(*end)+", so it is not resolved")
	}
}

// tellSame says, in a dry run and to one who may read the entry, whether it has
// the value already.
func (c *commit) tellSame(r *record, s step, out *wire.Effect) error {
	if !c.dry || len(r.live) == 0 || s.source.How == layers.Generated {
		return nil
	}
	if !c.mayReadHere(r.Name) {
		return nil
	}
	newest := r.live[len(r.live)-1]
	if newest.Kind != string(s.edit.Kind) || newest.DestroyedAt != nil {
		return nil
	}
	present, err := c.op.service.fingerprint(c.tx, c.layer, newest, r.Name, nil)
	if err != nil {
		return err
	}
	out.Same = envelope.Same(present, envelope.Fingerprint(c.prints, s.value))
	return nil
}

// mayReadHere tells whether the caller may read what the layer sets for a name.
func (c *commit) mayReadHere(name string) bool {
	_, may := c.op.mayName(access.Read, c.at.where, name)
	return may || c.at.private
}

// describe gives an entry other details.
func (c *commit) describe(r *record, s step) error {
	d, err := layers.ParseDetails(r.Details)
	if err != nil {
		return err
	}
	if s.edit.Details != nil {
		d = *s.edit.Details
	}
	if w := s.details; w != nil {
		for _, text := range []struct {
			to   *string
			from *string
		}{{&d.Owner, w.Owner}, {&d.Purpose, w.Purpose}, {&d.Link, w.Link}} {
			if text.from != nil {
				*text.to = c.op.service.redact(*text.from)
			}
		}
		if w.Tags != nil {
			d.Tags = slices.Clone(*w.Tags) // the request is what a repetition is known by
			for i, tag := range d.Tags {
				d.Tags[i] = c.op.service.redact(tag)
			}
		}
		if w.MaxAgeDays != nil {
			d.MaxAgeDays = *w.MaxAgeDays
		}
		if w.Rules != nil {
			spec := needs.Spec(*w.Rules)
			_, errs := spec.Rules()
			for _, err := range errs {
				c.problems = append(c.problems, r.Name+" "+err.Error())
			}
			d.Rules = spec.Text()
		}
	}
	d, errs := d.Check(r.Name)
	for _, err := range errs {
		c.problems = append(c.problems, err.Error())
	}
	r.Details = d.Text()
	return nil
}

// checkRules checks what an entry would have against the rules that hold for it:
// its own, or those of the nearest layer farther away.
func (c *commit) checkRules(r *record, kept bool, s step) error {
	details, err := layers.ParseDetails(r.Details)
	if err != nil {
		return err
	}
	rulesAt := c.at.place.String()
	if details.Rules == "" {
		chain, err := c.farther()
		if err != nil {
			return err
		}
		for _, l := range chain {
			if e := l.Entries[r.Name]; e != nil && e.Details.Rules != "" {
				details.Rules, rulesAt = e.Details.Rules, l.Place.String()
				break
			}
		}
	}
	if details.Rules == "" || len(r.live) == 0 {
		return nil
	}
	if c.problems != nil && !kept {
		return nil // the rules themselves are wrong
	}
	spec, err := needs.ParseSpec(details.Rules)
	if err != nil {
		return err
	}
	rules, errs := spec.Rules()
	if len(errs) > 0 {
		return nil
	}
	newest := r.live[len(r.live)-1]
	if newest.Kind == string(layers.Nothing) || newest.DestroyedAt != nil || newest.Kind == string(layers.Setting) && strings.Contains(newest.Setting, reference.Scheme) {
		return nil // what it expands to is checked where it is used
	}
	value := s.value
	if !kept {
		// Rules that one can choose would tell a value bit by bit to one who may not
		// read it.
		if newest.Kind == string(layers.Secret) && !c.mayReadHere(r.Name) {
			return nil
		}
		if value, err = c.open(r, newest); err != nil {
			return err
		}
	}
	if _, err := rules.Check(c.at.place.Environment, value.Expose()); err != nil {
		c.problems = append(c.problems, fmt.Sprintf("%s %s (by its rules in %s)", r.Name, err, rulesAt))
	}
	return nil
}

// farther are the layers behind the one that changes, nearest first, of those
// that the caller may list.
func (c *commit) farther() ([]*layers.Layer, error) {
	ids := c.op.listable(c.at.chain)
	if len(ids) <= 1 && !c.at.private {
		return nil, nil
	}
	if !c.at.private {
		ids = ids[1:]
	}
	chain, _, err := c.op.service.loadChain(c.tx, c.op.dir, ids)
	return chain, err
}

// open decrypts a version of the layer that changes, one that was just made too.
func (c *commit) open(r *record, v storage.Version) (secret.Value, error) {
	if v.Kind != string(layers.Secret) {
		return secret.FromString(v.Setting), nil
	}
	return c.op.service.openStored(c.tx, c.layer, v, r.Name, nil)
}

// remove takes an entry away, until a day on which it can be restored.
func (c *commit) remove(r *record) {
	purge := c.now.AddDate(0, 0, c.op.dir.keepRemoved(c.at.where.Project))
	r.RemovedAt, r.PurgeAt = &c.now, &purge
}

// defaultKeepDays is how long removed entries of the organization's layer can be
// restored, and those of a project that says nothing else.
const defaultKeepDays = 30

func (d *directory) keepRemoved(project int64) int {
	if p := d.projectByID[project]; p != nil {
		return p.KeepRemovedDays
	}
	return defaultKeepDays
}

// revert brings an entry to how it stood: restored, under its name of then, with
// the value of then as a new version. Nil is what it says of a version that
// cannot be gone back to.
func (c *commit) revert(r *record, edit layers.Edit) (*storage.Version, error) {
	r.RemovedAt, r.PurgeAt = nil, nil
	if edit.To != "" {
		r.Name = edit.To
	}
	if edit.Version == 0 {
		return &storage.Version{}, nil
	}
	all, err := c.op.service.allVersions(c.tx, c.layer, r.ID)
	if err != nil {
		return nil, err
	}
	old := all[edit.Version-1]
	switch {
	case old.DestroyedAt != nil:
		c.problems = append(c.problems, fmt.Sprintf("version %d of %s was destroyed on %s and cannot come back", old.Version, r.Name, day(*old.DestroyedAt)))
		return nil, nil
	case old.ExpiresAt != nil && !c.now.Before(*old.ExpiresAt):
		c.problems = append(c.problems, fmt.Sprintf("version %d of %s expired on %s; keep a new value instead", old.Version, r.Name, minute(*old.ExpiresAt)))
		return nil, nil
	}
	value, err := c.open(r, old)
	if err != nil {
		return nil, err
	}
	v := storage.Version{Kind: old.Kind, Source: layers.Source{How: layers.Reverted, Version: old.Version}.Text(), ExpiresAt: old.ExpiresAt}
	if err := c.push(r, v, value); err != nil {
		return nil, err
	}
	return &r.live[len(r.live)-1], nil
}

// destroy deletes the keys of one version of an entry, or of all. What remains
// is a tombstone: that it was there, when, and by whom.
func (c *commit) destroy(r *record, version int64) error {
	all, err := c.op.service.allVersions(c.tx, c.layer, r.ID)
	if err != nil {
		return err
	}
	r.Past, r.live = []byte{}, nil
	for i := range all {
		v := &all[i]
		if v.Version == version && v.DestroyedAt != nil {
			c.problems = append(c.problems, fmt.Sprintf("version %d of %s was destroyed already, on %s", version, r.Name, day(*v.DestroyedAt)))
		}
		if (version == 0 || v.Version == version) && v.DestroyedAt == nil {
			v.Setting, v.Fingerprint, v.Digest, v.DestroyedAt = "", nil, envelope.Digest(nil), &c.now
		}
		if version != 0 && v.Version >= r.Settled {
			r.live = append(r.live, *v)
		} else {
			r.Past = envelope.Chain(r.Past, versionRow(*v))
		}
	}
	c.destroyed = append(c.destroyed, storage.Version{ProjectID: r.ProjectID, EntryID: r.ID, Version: version})
	if version != 0 {
		return nil
	}
	r.Settled, r.DestroyedAt = r.Version+1, &c.now
	if r.RemovedAt == nil {
		r.RemovedAt = &c.now
	}
	return nil
}
