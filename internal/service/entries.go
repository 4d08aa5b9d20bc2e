package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/needs"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/storage"
)

// view is what a caller sees of a place at one moment.
type view struct {
	op     *operation
	tx     *storage.Tx
	at     located
	chain  []*layers.Layer // the caller's private layer first where there is one, then from near to far
	loaded map[int64]*loadedLayer
	now    time.Time
}

// nearest is the place's own layer.
func (v *view) nearest() *layers.Layer {
	if v.chain[0].Private {
		return v.chain[1]
	}
	return v.chain[0]
}

// viewing loads a place's layers in one snapshot, after list was allowed there.
func (op *operation) viewing(place layers.Place, f func(*view) error) error {
	l, err := op.locateSome(place, access.List)
	if err != nil {
		return err
	}
	return op.service.store.Snapshot(op.ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		v, err := op.see(tx, l)
		if err != nil {
			return err
		}
		return f(v)
	})
}

func (op *operation) see(tx *storage.Tx, l located) (*view, error) {
	ids := op.listable(l.chain)
	if private := op.privateLayer(l); private != 0 {
		ids = append([]int64{private}, ids...)
	}
	chain, loaded, err := op.service.loadChain(tx, op.dir, ids)
	return &view{op, tx, l, op.shownChain(l.where, chain), loaded, op.service.now()}, err
}

// ListQuery chooses among entries. Empty fields choose all.
type ListQuery struct {
	Search string // part of a name, whatever the case
	Tag    string
	Owner  string // part of it, whatever the case
	Kind   string
	State  string // active, waiting, expired, nothing, aging, removed or destroyed
	After  string // the name that the page before ended with
	Limit  int    // entries on a page; 0: all
}

// MaxPage is how many things one page of a list holds.
const MaxPage = 1000

// ListEntries lists what a place has, without the values of secrets.
func (s *Service) ListEntries(ctx context.Context, caller Caller, place layers.Place, q ListQuery) (out wire.Entries, err error) {
	op := s.begin(ctx, caller, "entry.list", place)
	defer op.end(&err)
	err = op.viewing(place, func(v *view) error {
		out = wire.Entries{Place: place.String(), Revision: int64(v.nearest().Revision), Entries: []wire.Entry{}}
		if q.State == "removed" || q.State == "destroyed" {
			out.Entries = v.gone(q)
			return nil
		}
		for _, name := range layers.Names(v.chain) {
			if name <= q.After {
				continue
			}
			answer, _ := layers.Lookup(v.chain, name, v.now)
			e, err := v.wireEntry(answer)
			if err != nil {
				return err
			}
			if !q.chooses(e) {
				continue
			}
			if q.Limit > 0 && len(out.Entries) == q.Limit {
				out.Next = out.Entries[q.Limit-1].Name
				return nil
			}
			out.Entries = append(out.Entries, e)
		}
		return nil
	})
	return out, err
}

func (q ListQuery) chooses(e wire.Entry) bool {
	switch q.State {
	case "":
	case "aging":
		if e.AgedSince.IsZero() {
			return false
		}
	case "nothing":
		if e.Kind != string(layers.Nothing) {
			return false
		}
	default:
		if e.State != q.State {
			return false
		}
	}
	return holds(e.Name, q.Search) && (q.Kind == "" || q.Kind == e.Kind) &&
		(q.Owner == "" || e.Details.Owner != nil && holds(*e.Details.Owner, q.Owner)) &&
		(q.Tag == "" || e.Details.Tags != nil && slices.Contains(*e.Details.Tags, strings.ToLower(q.Tag)))
}

func holds(text, part string) bool {
	return part == "" || strings.Contains(strings.ToLower(text), strings.ToLower(part))
}

// gone are the place's own entries that were removed or destroyed, the latest first.
func (v *view) gone(q ListQuery) []wire.Entry {
	all := []wire.Entry{}
	for _, r := range v.loaded[v.nearest().ID].records {
		if r.RemovedAt == nil || (r.DestroyedAt != nil) != (q.State == "destroyed") || !holds(r.Name, q.Search) {
			continue
		}
		if _, may := v.op.mayName(access.List, v.at.where, r.Name); !may {
			continue
		}
		e := wire.Entry{Name: r.Name, State: q.State, Origin: string(layers.Here), Layer: v.at.place.String(), Version: r.Version, Since: *r.RemovedAt}
		if r.DestroyedAt == nil {
			e.RestorableUntil = orNever(r.PurgeAt)
			newest := r.live[len(r.live)-1]
			e.Kind, e.Author = newest.Kind, v.op.dir.subjectName(access.Subject{Kind: access.SubjectKind(newest.AuthorKind), ID: newest.AuthorID})
		} else {
			e.Since = *r.DestroyedAt
		}
		all = append(all, e)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Since.After(all[j].Since) })
	if q.Limit > 0 && len(all) > q.Limit {
		all = all[:q.Limit]
	}
	return all
}

// ShowEntry tells what a place has for one name.
func (s *Service) ShowEntry(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Entry, err error) {
	err = s.entry(ctx, caller, place, "entry.show", name, func(v *view, answer layers.Answer) (err error) {
		out, err = v.wireEntry(answer)
		return err
	})
	return out, err
}

// ShowLayers tells every layer of a place that sets a name, and which one wins.
func (s *Service) ShowLayers(ctx context.Context, caller Caller, place layers.Place, name string) (out wire.Layered, err error) {
	err = s.entry(ctx, caller, place, "entry.layers", name, func(v *view, winner layers.Answer) error {
		out = wire.Layered{Name: name, Wins: -1, Layers: []wire.Entry{}}
		for i, answer := range layers.All(v.chain, name, v.now) {
			e, err := v.wireEntry(answer)
			if err != nil {
				return err
			}
			out.Layers = append(out.Layers, e)
			if answer.Layer == winner.Layer && winner.State != layers.Waiting {
				out.Wins = i
			}
		}
		return nil
	})
	return out, err
}

// entry finds what a place has for one name.
func (s *Service) entry(ctx context.Context, caller Caller, place layers.Place, action, name string, f func(*view, layers.Answer) error) (err error) {
	op := s.begin(ctx, caller, action, place)
	op.event.Names = []string{s.redactName(name)}
	defer op.end(&err)
	return op.viewing(place, func(v *view) error {
		answer, _ := layers.Lookup(v.chain, name, v.now)
		if answer.Layer == nil {
			return s.noEntry(place, name, v.chain)
		}
		return f(v, answer)
	})
}

func (s *Service) noEntry(place layers.Place, name string, chain []*layers.Layer) *Problem {
	return problem(NotFound, "%s is not set in %s%s", s.redactName(name), place, didYouMean(name, layers.Names(chain)))
}

// redactName keeps a value that was pasted in place of a name out of messages
// and the trail.
func (s *Service) redactName(name string) string {
	if len(name) > reference.MaxName {
		name = name[:reference.MaxName] + "…"
	}
	return s.redact(name)
}

func (v *view) wireEntry(a layers.Answer) (wire.Entry, error) {
	details, err := wireDetails(a.Entry.Details)
	e := wire.Entry{
		Name: a.Entry.Name, Kind: string(a.Version.Kind), State: string(a.State), Origin: string(a.Origin), Layer: a.Layer.Place.String(),
		Version: a.Version.Number, Since: a.Version.At, Author: a.Version.Author, Source: a.Version.Source.String(), Setting: a.Version.Setting,
		ActiveFrom: a.Version.ActiveFrom, Expires: a.Version.Expires, Details: details,
		Reference: reference.Reference{Name: a.Entry.Name}.String(), Absolute: absolute(a.Layer.Place, a.Entry.Name).String(),
	}
	for _, later := range a.Entry.Live {
		if later.Number > a.Version.Number && later.ActiveFrom.After(v.now) && (e.Coming.IsZero() || later.ActiveFrom.Before(e.Coming)) {
			e.Coming = later.ActiveFrom
		}
	}
	e.AgedSince = v.op.dir.aging(a, v.now)
	return e, err
}

// aging says since when a value is older than what holds for it where it is set.
func (d *directory) aging(a layers.Answer, now time.Time) time.Time {
	environment, project := 0, 0
	where := d.layerPlace(a.Layer.ID)
	if e := d.environmentByID[where.Environment]; e != nil {
		environment = e.MaxAgeDays
	}
	if p := d.projectByID[where.Project]; p != nil {
		project = p.MaxAgeDays
	}
	return layers.Aging(a.Entry, a.Version, now, environment, project)
}

func wireDetails(d layers.Details) (wire.Details, error) {
	var out wire.Details
	for _, text := range []struct {
		to   **string
		from string
	}{{&out.Owner, d.Owner}, {&out.Purpose, d.Purpose}, {&out.Link, d.Link}} {
		if text.from != "" {
			*text.to = &text.from
		}
	}
	if len(d.Tags) > 0 {
		out.Tags = &d.Tags
	}
	if d.MaxAgeDays != 0 {
		out.MaxAgeDays = &d.MaxAgeDays
	}
	if d.Rules == "" {
		return out, nil
	}
	spec, err := needs.ParseSpec(d.Rules)
	rules := wire.Rules(spec)
	out.Rules = &rules
	return out, err
}

func absolute(place layers.Place, name string) reference.Reference {
	r := reference.Reference{Scope: reference.Environment, Project: place.Project, Environment: place.Environment, Name: name}
	switch {
	case place.Project == "":
		r.Scope = reference.Organization
	case place.Environment == "":
		r.Scope = reference.Project
	}
	return r
}

// Table lists a project's names across those of its environments that the caller
// may list.
func (s *Service) Table(ctx context.Context, caller Caller, project string) (out wire.Table, err error) {
	op := s.begin(ctx, caller, "entry.table", layers.Place{Project: project})
	defer op.end(&err)
	l, err := op.find(layers.Place{Project: project})
	if err != nil {
		return out, err
	}
	var places []located
	for _, e := range op.dir.environmentsOf(project) {
		where := access.Where{Project: e.ProjectID, Environment: e.ID}
		if grant, may := op.maySome(access.List, where); may {
			op.event.Grant = grant.ID
			at, _ := op.dir.locate(layers.Place{Project: project, Environment: e.Name})
			at.chain = op.listable(at.chain)
			places = append(places, at)
			out.Environments = append(out.Environments, op.dir.wireEnvironment(e))
		}
	}
	if len(places) == 0 {
		return out, op.allow(access.List, l)
	}
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		out.Rows, err = op.tableRows(tx, places)
		return err
	})
	return out, err
}

func (op *operation) tableRows(tx *storage.Tx, places []located) ([]wire.Row, error) {
	var ids []int64
	for _, at := range places {
		ids = append(ids, at.chain...)
	}
	slices.Sort(ids)
	_, loaded, err := op.service.loadChain(tx, op.dir, slices.Compact(ids))
	if err != nil {
		return nil, err
	}
	chains := make([][]*layers.Layer, len(places))
	var all []*layers.Layer
	for i, at := range places {
		chain, err := chainOf(loaded, at.chain)
		if err != nil {
			return nil, err
		}
		chains[i] = op.shownChain(at.where, chain)
		all = append(all, chains[i]...)
	}
	rows, now := []wire.Row{}, op.service.now()
	for _, name := range layers.Names(all) {
		row := wire.Row{Name: name}
		for _, chain := range chains {
			row.Cells = append(row.Cells, cell(chain, name, now))
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func cell(chain []*layers.Layer, name string, now time.Time) wire.Cell {
	answer, usable := layers.Lookup(chain, name, now)
	if answer.Layer == nil {
		return wire.Cell{State: "missing"}
	}
	v := answer.Version
	c := wire.Cell{State: string(answer.Origin), Kind: string(v.Kind), Version: v.Number, Since: v.At, Layer: answer.Layer.Place.String(), Setting: v.Setting}
	switch {
	case usable:
	case v.Kind == layers.Nothing && answer.State == layers.Active:
		c.State = "nothing"
	default:
		c.State = string(answer.State)
	}
	return c
}

// History tells the versions that an entry has had in the layer that answers,
// newest first, before a number (0: from the newest).
func (s *Service) History(ctx context.Context, caller Caller, place layers.Place, name string, before int64, limit int) (out wire.History, err error) {
	err = s.entry(ctx, caller, place, "entry.history", name, func(v *view, answer layers.Answer) error {
		all, err := s.allVersions(v.tx, v.loaded[answer.Layer.ID], answer.Entry.ID)
		if err != nil {
			return err
		}
		out = wire.History{Name: name, Layer: answer.Layer.Place.String(), Versions: []wire.Version{}}
		var revisions []int64
		for i := len(all) - 1; i >= 0 && (limit == 0 || len(out.Versions) < limit); i-- {
			if before > 0 && all[i].Version >= before {
				continue
			}
			version, err := versionView(v.op.dir, all[i])
			if err != nil {
				return err
			}
			out.Versions = append(out.Versions, wire.Version{Version: version.Number, Kind: string(version.Kind), State: string(answer.Entry.StateOf(version, v.now)), At: version.At,
				Author: version.Author, Source: version.Source.String(), Setting: version.Setting, ActiveFrom: version.ActiveFrom, Expires: version.Expires, Destroyed: version.Destroyed})
			revisions = append(revisions, all[i].Revision)
		}
		reasons, err := v.tx.Reasons(answer.Layer.ID, revisions)
		for i := range out.Versions {
			out.Versions[i].Reason = reasons[revisions[i]]
		}
		return err
	})
	return out, err
}

// Changes lists what was done to the nearest layer of a place, newest first.
func (s *Service) Changes(ctx context.Context, caller Caller, place layers.Place, before int64, limit int) (out []wire.Change, err error) {
	op := s.begin(ctx, caller, "change.list", place)
	defer op.end(&err)
	l, err := op.locateSome(place, access.List)
	if err != nil {
		return nil, err
	}
	out = []wire.Change{}
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) error {
		heads, err := tx.Layers([]int64{l.layer})
		if err != nil || len(heads) != 1 {
			return cmp.Or(err, fmt.Errorf("the layer %s is missing from the database", place))
		}
		expected := heads[0].Revision
		if before > 0 {
			expected = min(expected, before-1)
		}
		changes, err := tx.Changes(l.layer, before, limit)
		if err != nil {
			return err
		}
		if len(changes) < min(limit, int(expected)) {
			return fmt.Errorf("records of changes of %s are missing from the database", place)
		}
		for i, c := range changes {
			if c.Revision != expected-int64(i) {
				return fmt.Errorf("the record of revision %d of %s is missing from the database", expected-int64(i), place)
			}
			done, err := s.keys.readChange(place, c)
			if err != nil {
				return err
			}
			out = append(out, op.wireChange(l, c, done))
		}
		return nil
	})
	return out, err
}

// readChange checks the signature of a change's record and reads it.
func (k *keyring) readChange(place layers.Place, c storage.Change) ([]layers.Done, error) {
	if !envelope.Same(k.changeMAC(c), c.MAC) {
		return nil, fmt.Errorf("the record of revision %d of %s is not what was signed: it was altered in the database", c.Revision, place)
	}
	var done []layers.Done
	if err := json.Unmarshal([]byte(c.Effects), &done); err != nil {
		return nil, fmt.Errorf("read the record of revision %d of %s: %w", c.Revision, place, err)
	}
	return done, nil
}

// wireChange is a change with what it did to names that the caller may list.
// Where there are others, its reason may speak of them, and is left out.
func (op *operation) wireChange(l located, c storage.Change, done []layers.Done) wire.Change {
	out := wire.Change{Layer: l.place.String(), Revision: c.Revision, At: c.CreatedAt, Reason: c.Reason, Effects: []wire.Effect{},
		Author: op.dir.subjectName(access.Subject{Kind: access.SubjectKind(c.AuthorKind), ID: c.AuthorID})}
	for _, e := range done {
		if _, may := op.mayName(access.List, l.where, e.Name); !may {
			out.Reason = ""
			continue
		}
		effect := wire.Effect{Name: e.Name, Act: e.Did, Kind: string(e.Kind), To: e.To, Version: e.Version}
		if _, may := op.mayName(access.List, l.where, e.To); !may && e.To != "" {
			effect.To = "another name"
		}
		out.Effects = append(out.Effects, effect)
	}
	return out
}
