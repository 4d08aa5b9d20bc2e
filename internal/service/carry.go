package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// Revert undoes one change of a layer, or everything after a revision, as a new
// change. It needs write there, and remove where something goes away.
func (s *Service) Revert(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.RevertRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("change.revert"), place)
	op.event.Reason = s.redact(request.Reason)
	defer op.end(&err)
	if _, err := op.locateSome(place, access.Write); err != nil {
		return out, err
	}
	if (request.Change == 0) == (request.Revision == nil) {
		return out, problem(Invalid, "say either which change to undo or which revision to go back to")
	}
	return s.changeLayer(op, place, o, request, (*operation).find, func(c *commit) error {
		if err := op.allowSome(access.Write, c.at); err != nil {
			return err
		}
		edits, errs, err := c.undo(request)
		if err != nil {
			return err
		}
		var steps []step
		for _, e := range edits {
			op.event.Names = append(op.event.Names, e.Name)
			steps = append(steps, step{edit: e})
			if err := op.allowEdit(e.Act, c.at, e.Name, e.To); err != nil {
				return err
			}
		}
		var details []string
		for _, e := range errs {
			details = append(details, e.Error())
		}
		if len(details) == 0 && len(steps) == 0 {
			return problem(Conflict, "%s already stands as it did then; nothing was changed", place)
		}
		return c.take(steps, details)
	})
}

// undo is the edits that a request to revert asks for.
func (c *commit) undo(request wire.RevertRequest) ([]layers.Edit, []error, error) {
	present := int64(c.layer.Revision)
	asked := request.Change
	if request.Revision != nil {
		asked = *request.Revision
	}
	if asked > present {
		return nil, nil, problem(NotFound, "%s has no revision %d; it is at %d", c.at.place, asked, present)
	}
	if request.Change > 0 {
		rows, err := c.tx.Changes(c.layer.ID, request.Change+1, 1)
		if err != nil || len(rows) == 0 || rows[0].Revision != request.Change {
			return nil, nil, cmp.Or(err, fmt.Errorf("the record of revision %d of %s is missing from the database", request.Change, c.at.place))
		}
		done, err := c.op.service.keys.readChange(c.at.place, rows[0])
		if err != nil {
			return nil, nil, err
		}
		edits, errs := layers.UndoChange(&c.layer.Layer, layers.Revision(request.Change), done)
		return edits, errs, nil
	}
	after, err := c.op.service.changesAfter(c.tx, c.layer, c.at.place, asked)
	if err != nil {
		return nil, nil, err
	}
	edits, errs := layers.UndoTo(&c.layer.Layer, after)
	return edits, errs, nil
}

// changesAfter reads what every change of a layer after a revision did, newest
// first.
func (s *Service) changesAfter(tx *storage.Tx, l *loadedLayer, place layers.Place, revision int64) ([][]layers.Done, error) {
	n := int(int64(l.Revision) - revision)
	if n == 0 {
		return nil, nil
	}
	rows, err := tx.Changes(l.ID, int64(l.Revision)+1, n)
	if err != nil {
		return nil, err
	}
	all := make([][]layers.Done, len(rows))
	for i, row := range rows {
		if row.Revision != int64(l.Revision)-int64(i) {
			break
		}
		if all[i], err = s.keys.readChange(place, row); err != nil {
			return nil, err
		}
	}
	if len(rows) != n || rows[n-1].Revision != revision+1 {
		return nil, fmt.Errorf("records of changes of %s after revision %d are missing from the database", place, revision)
	}
	return all, nil
}

// Copy carries entries of one place over to another, as one change there. It
// needs read where they are set and write where they go.
func (s *Service) Copy(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.CopyRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("change.copy"), place)
	op.event.Reason = s.redact(request.Reason)
	defer op.end(&err)
	if _, err := op.locateSome(place, access.Write); err != nil {
		return out, err
	}
	from := layers.Place(request.From)
	switch {
	case from == place:
		return out, problem(Invalid, "%s is both where to copy from and where to", place)
	case len(request.Names) == 0 && !request.Missing:
		return out, problem(Invalid, "name the entries to copy, or ask for all that are missing")
	}
	return s.changeLayer(op, place, o, request, (*operation).find, func(c *commit) error {
		if err := op.allowSome(access.Write, c.at); err != nil {
			return err
		}
		source, err := op.locateSome(from, access.List)
		if err != nil {
			return err
		}
		c.scope = append(c.scope, source.where.Project)
		if err := c.tx.Widen(c.scope); err != nil {
			return err
		}
		v, err := op.see(c.tx, source)
		if err != nil {
			return err
		}
		if v.chain[0].Private {
			v.chain = v.chain[1:] // one's own value is not the environment's
		}
		steps, details, err := c.carried(v, request)
		if err != nil {
			return err
		}
		return c.take(steps, details)
	})
}

// carried are the steps that keep here what a view has.
func (c *commit) carried(v *view, request wire.CopyRequest) (steps []step, details []string, err error) {
	names := request.Names
	if request.Missing {
		if names, err = c.missingHere(v, names); err != nil {
			return nil, nil, err
		}
		if len(names) == 0 {
			return nil, nil, problem(Conflict, "nothing that %s has is missing in %s", v.at.place, c.at.place)
		}
	}
	for _, name := range names {
		c.op.event.Names = append(c.op.event.Names, c.op.service.redactName(name))
		if err := c.op.allowName(access.Write, c.at, name); err != nil {
			return nil, nil, err
		}
		answer, usable := layers.Lookup(v.chain, name, v.now)
		if answer.Layer == nil || !usable {
			details = append(details, fmt.Sprintf("%s has no value in %s to copy%s", c.op.service.redactName(name), v.at.place, didYouMean(name, layers.Names(v.chain))))
			continue
		}
		if _, may := c.op.mayRead(answer.Layer, name, v.at.where); !may {
			return nil, nil, c.op.refuse("%s may not read %s in %s and cannot copy it", c.op.caller.Name(), name, answer.Layer.Place)
		}
		s, err := v.copied(answer)
		if err != nil {
			return nil, nil, err
		}
		if _, set := c.layer.Entries[name]; !set && !answer.Entry.Details.Empty() {
			s.edit.Details = &answer.Entry.Details
		}
		steps = append(steps, s)
	}
	return steps, details, nil
}

// missingHere are the names that a view has a value for and the place that
// changes has not.
func (c *commit) missingHere(v *view, among []string) ([]string, error) {
	here, err := c.op.see(c.tx, c.at)
	if err != nil {
		return nil, err
	}
	var missing []string
	for _, name := range layers.Names(v.chain) {
		_, there := layers.Lookup(v.chain, name, v.now)
		_, set := layers.Lookup(here.chain, name, v.now)
		if there && !set && (len(among) == 0 || slices.Contains(among, name)) {
			missing = append(missing, name)
		}
	}
	return missing, nil
}

// copied is the step that keeps what an answer has.
func (v *view) copied(a layers.Answer) (step, error) {
	value, err := v.open(a)
	s := step{edit: layers.Edit{Act: layers.Keep, Name: a.Entry.Name, Kind: a.Version.Kind}, value: value,
		source: layers.Source{How: layers.Copied, From: a.Layer.Place.String(), Version: a.Version.Number}}
	if !a.Version.Expires.IsZero() {
		s.until = &a.Version.Expires
	}
	return s, err
}

// open decrypts what an answer has. Whether the caller may read it was asked before.
func (v *view) open(a layers.Answer) (secret.Value, error) {
	if a.Version.Kind != layers.Secret {
		return secret.FromString(a.Version.Setting), nil
	}
	stored, err := v.stored(a)
	if err != nil {
		return secret.Value{}, err
	}
	return v.op.service.openStored(v.tx, v.loaded[a.Layer.ID], stored, a.Entry.Name, nil)
}

// stored is the row of the version that an answer has.
func (v *view) stored(a layers.Answer) (storage.Version, error) {
	l := v.loaded[a.Layer.ID]
	for _, s := range l.records[a.Entry.ID].live {
		if s.Version == a.Version.Number {
			return s, nil
		}
	}
	all, err := v.op.service.allVersions(v.tx, l, a.Entry.ID)
	if err != nil {
		return storage.Version{}, err
	}
	return all[a.Version.Number-1], nil
}

// Move moves entries with their history to another layer: one change there and
// one here, together. It needs read and remove here and write there.
func (s *Service) Move(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.MoveRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("change.move"), place)
	op.event.Reason = s.redact(request.Reason)
	for _, name := range request.Names {
		op.event.Names = append(op.event.Names, s.redactName(name))
	}
	defer op.end(&err)
	to := layers.Place(request.To)
	if _, err := op.locateSome(place, access.Read); err != nil {
		return out, err
	}
	if to == place {
		return out, problem(Invalid, "%s is both where to move from and where to", place)
	}
	var target *commit
	out, err = s.changeLayer(op, place, o, request, (*operation).find, func(c *commit) error {
		there, err := op.mayMove(c.at, to, request.Names)
		if err != nil {
			return err
		}
		if !o.DryRun && (op.dir.needsApproval(there.where) || op.dir.needsApproval(c.at.where)) {
			return problem(Conflict, "a change of %s or of %s needs a second person's approval, and a move cannot be proposed; copy the entries there, and remove them here", c.at.place, there.place)
		}
		if target, err = c.beside(there); err != nil {
			return err
		}
		if err := c.move(target, request.Names); err != nil {
			return err
		}
		if err := target.finish(); err != nil && !c.dry {
			return err
		}
		return nil
	})
	if err == nil && op.recorded {
		target.publish()
	}
	out.GoneOn = ""
	return out, err
}

func (op *operation) mayMove(from located, to layers.Place, names []string) (located, error) {
	there, err := op.find(to)
	if err != nil {
		return there, err
	}
	for _, name := range names {
		for _, verb := range []access.Verb{access.Read, access.Remove} {
			if err := op.allowName(verb, from, name); err != nil {
				return there, err
			}
		}
		if err := op.allowName(access.Write, there, name); err != nil {
			return there, err
		}
	}
	return there, op.allowSome(access.Write, there)
}

// beside prepares the next revision of another layer in the same transaction.
func (c *commit) beside(there located) (*commit, error) {
	// Two moves the other way round at once would wait for each other; PostgreSQL
	// ends one of them, which is then tried again by its caller.
	c.scope = append(c.scope, there.where.Project)
	if err := c.tx.Widen(c.scope); err != nil {
		return nil, err
	}
	target, err := c.op.lock(c.tx, there)
	if err != nil {
		return nil, err
	}
	target.dry, target.scope = c.dry, c.scope
	return target, nil
}

// move gives the target the entries with all their versions, under new keys, and
// leaves tombstones here.
func (c *commit) move(target *commit, names []string) error {
	edits := make([]layers.Edit, len(names))
	for i, name := range names {
		edits[i] = layers.Edit{Act: layers.Remove, Name: name}
	}
	effects, errs := layers.Plan(c.told(), edits, c.now)
	for i := range edits {
		edits[i].Act, edits[i].Kind = layers.Keep, layers.Secret
		if _, set := target.layer.Entries[names[i]]; set {
			errs = append(errs, fmt.Errorf("%s is set in %s already; rename or remove it there first", names[i], target.at.place))
		}
	}
	if _, more := layers.Plan(target.told(), edits, c.now); len(errs) == 0 {
		errs = more
	}
	for _, err := range errs {
		c.problems = append(c.problems, err.Error())
	}
	if len(errs) > 0 {
		return problems(Invalid, "things are wrong with the move; nothing was moved", c.problems)
	}
	for _, effect := range effects {
		if err := c.moveOne(target, effect.Entry); err != nil {
			return err
		}
	}
	return nil
}

func (c *commit) moveOne(target *commit, entry *layers.Entry) error {
	r := c.record(entry.ID)
	all, err := c.op.service.allVersions(c.tx, c.layer, entry.ID)
	if err != nil {
		return err
	}
	made, err := target.add(entry.Name)
	if err != nil {
		return err
	}
	made.Details = r.Details
	for _, v := range all {
		moved := storage.Version{Kind: v.Kind, AuthorKind: v.AuthorKind, AuthorID: v.AuthorID, CreatedAt: v.CreatedAt, Revision: target.next.head.Revision,
			ActiveFrom: v.ActiveFrom, ExpiresAt: v.ExpiresAt, DestroyedAt: v.DestroyedAt,
			Source: layers.Source{How: layers.Moved, From: c.at.place.String(), Version: v.Version}.Text()}
		var value secret.Value
		if v.DestroyedAt == nil {
			if value, err = c.open(r, v); err != nil {
				return err
			}
		}
		if err := target.push(made, moved, value); err != nil {
			return err
		}
	}
	if err := target.checkRules(made, false, step{}); err != nil {
		return err
	}
	target.note(layers.Added, layers.Standing{}, made, newestKind(made), made.Version, wire.Effect{Source: "moved from " + c.at.place.String()})
	before, kind := entry.Stands(), newestKind(r)
	if err := c.destroy(r, 0); err != nil {
		return err
	}
	c.note(layers.Renamed, before, r, kind, 0, wire.Effect{})
	c.done[len(c.done)-1].To = target.at.place.String() + "/" + entry.Name
	c.out.Effects[len(c.out.Effects)-1].To = target.at.place.String() + "/" + entry.Name
	return nil
}
