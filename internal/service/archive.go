package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"
	"unicode/utf8"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// ArchiveFormat is the version of the lines of an archive.
const ArchiveFormat = 1

// Archive prepares everything of a project for being written as JSON lines: the
// project, then every entry of its common layer and of its environments with the
// whole history and all values that were not destroyed. It needs read everywhere
// in the project. The event is durable before anything is written; private values
// are their people's and stay.
func (s *Service) Archive(ctx context.Context, caller Caller, project string) (stream func(io.Writer) error, err error) {
	op := s.begin(ctx, caller, "project.archive", layers.Place{Project: project})
	defer op.end(&err)
	l, err := op.locate(layers.Place{Project: project}, access.Read)
	if err != nil {
		return nil, err
	}
	ids := []int64{l.layer}
	for _, e := range op.dir.ofProject[l.where.Project] {
		ids = append(ids, op.dir.layerIDs[access.Where{Project: e.ProjectID, Environment: e.ID}])
	}
	op.event.Layers = map[string]int64{}
	var heads []storage.Layer
	err = s.store.Snapshot(ctx, storage.Scope{l.where.Project}, func(tx *storage.Tx) (err error) {
		heads, err = tx.Layers(ids)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, head := range heads {
		op.event.Layers[strconv.FormatInt(head.ID, 10)] = head.Revision
	}
	seen, _, err := s.recorder.release(ctx, op.event, ids, caller.Token)
	if op.recorded = err == nil; err != nil {
		return nil, err
	}
	if seen.Revoked[caller.Token] || seen.Organization != op.dir.organization.Revision {
		return nil, problem(Conflict, "rights were changed at this moment; try again")
	}
	return func(w io.Writer) error { return s.writeArchive(ctx, op.dir, l, ids, w) }, nil
}

func (s *Service) writeArchive(ctx context.Context, d *directory, l located, ids []int64, w io.Writer) error {
	line := json.NewEncoder(w)
	p := d.projectByID[l.where.Project]
	head := wire.ArchivedProject{Format: ArchiveFormat, Project: p.Name, KeepRemovedDays: p.KeepRemovedDays, MaxAgeDays: p.MaxAgeDays, Environments: []wire.Environment{}}
	for _, e := range d.ofProject[p.ID] {
		head.Environments = append(head.Environments, d.wireEnvironment(e))
	}
	if err := line.Encode(head); err != nil {
		return err
	}
	entries := 0
	err := s.store.Snapshot(ctx, storage.Scope{p.ID}, func(tx *storage.Tx) error {
		for _, id := range ids {
			_, loaded, err := s.loadChain(tx, d, []int64{id})
			if err != nil {
				return err
			}
			for entry := range loaded[id].records {
				archived, err := s.archived(tx, d, loaded[id], entry)
				if err != nil {
					return err
				}
				if archived == nil {
					continue
				}
				if err := line.Encode(archived); err != nil {
					return err
				}
				entries++
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return line.Encode(wire.ArchiveEnd{Entries: entries})
}

// archived is an entry with its whole history, nil for a tombstone.
func (s *Service) archived(tx *storage.Tx, d *directory, l *loadedLayer, entry int64) (*wire.ArchivedEntry, error) {
	r := l.records[entry]
	if r.DestroyedAt != nil {
		return nil, nil
	}
	details, err := layers.ParseDetails(r.Details)
	if err != nil {
		return nil, err
	}
	out := &wire.ArchivedEntry{Environment: l.Place.Environment, Name: r.Name, RemovedAt: orNever(r.RemovedAt), PurgeAt: orNever(r.PurgeAt)}
	if out.Details, err = wireDetails(details); err != nil {
		return nil, err
	}
	all, err := s.allVersions(tx, l, entry)
	if err != nil {
		return nil, err
	}
	revisions := make([]int64, len(all))
	for i, v := range all {
		revisions[i] = v.Revision
	}
	reasons, err := tx.Reasons(l.ID, revisions)
	if err != nil {
		return nil, err
	}
	for _, v := range all {
		a := wire.ArchivedVersion{Kind: v.Kind, At: v.CreatedAt, Reason: reasons[v.Revision], Value: v.Setting, ActiveFrom: orNever(v.ActiveFrom), Expires: orNever(v.ExpiresAt),
			Destroyed: orNever(v.DestroyedAt), By: d.subjectName(access.Subject{Kind: access.SubjectKind(v.AuthorKind), ID: v.AuthorID})}
		if v.Kind == string(layers.Secret) && v.DestroyedAt == nil {
			value, err := s.openStored(tx, l, v, r.Name, nil)
			if err != nil {
				return nil, err
			}
			if a.Value = string(value.Expose()); !utf8.Valid(value.Expose()) {
				a.Value, a.Encoding = base64.StdEncoding.EncodeToString(value.Expose()), "base64"
			}
		}
		out.Versions = append(out.Versions, a)
	}
	return out, nil
}

// TakeIn keeps entries of an archive with their histories: when each version was
// made and by whom is told as the archive has it. It needs write and manage there,
// since it says what others did.
func (s *Service) TakeIn(ctx context.Context, caller Caller, place layers.Place, o CommitOptions, request wire.TakeInRequest) (out wire.Change, err error) {
	op := s.begin(ctx, caller, o.action("change.take-in"), place)
	op.event.Reason = s.redact(request.Reason)
	for _, e := range request.Entries {
		op.event.Names = append(op.event.Names, s.redactName(e.Name))
	}
	defer op.end(&err)
	may := func(l located) error {
		if err := op.allow(access.Manage, l); err != nil {
			return err
		}
		return op.allow(access.Write, l)
	}
	l, err := op.find(place)
	if err == nil {
		err = may(l)
	}
	if err != nil {
		return out, err
	}
	return s.changeLayer(op, place, o, request, (*operation).find, func(c *commit) error {
		if err := may(c.at); err != nil {
			return err
		}
		return c.takeIn(request.Entries)
	})
}

func (c *commit) takeIn(entries []wire.ArchivedEntry) error {
	var edits []layers.Edit
	for _, e := range entries {
		if e.RemovedAt.IsZero() {
			edits = append(edits, layers.Edit{Act: layers.Keep, Name: e.Name, Kind: layers.Secret})
		} else if err := layers.CheckName(e.Name); err != nil {
			c.problems = append(c.problems, err.Error())
		}
		if c.layer.Entries[e.Name] != nil && e.RemovedAt.IsZero() {
			c.problems = append(c.problems, fmt.Sprintf("%s is set in %s already; an archive is taken in where its names are free", e.Name, c.at.place))
		}
	}
	if len(edits) > 0 {
		_, errs := layers.Plan(c.told(), edits, c.now)
		for _, err := range errs {
			c.problems = append(c.problems, err.Error())
		}
	}
	for _, e := range entries {
		if len(c.problems) > 0 {
			break // nothing is kept
		}
		if err := c.takeInOne(e); err != nil {
			return err
		}
	}
	return nil
}

func (c *commit) takeInOne(e wire.ArchivedEntry) error {
	r, err := c.add(e.Name)
	if err != nil {
		return err
	}
	if err := c.describe(r, step{details: &e.Details}); err != nil {
		return err
	}
	for i, v := range e.Versions {
		value := secret.FromString(v.Value)
		if v.Encoding == "base64" {
			raw, err := base64.StdEncoding.DecodeString(v.Value)
			if err != nil {
				c.problems = append(c.problems, fmt.Sprintf("%s: the value of version %d is not base64", e.Name, i+1))
			}
			value = secret.New(raw)
		}
		if !c.checkValue(step{edit: layers.Edit{Act: layers.Keep, Name: e.Name, Kind: layers.Kind(v.Kind)}, value: value}) {
			continue
		}
		at := v.At.UTC().Truncate(time.Microsecond)
		if at.IsZero() || at.After(c.now) {
			at = c.now
		}
		row := storage.Version{Kind: v.Kind, AuthorKind: string(c.op.caller.Subject.Kind), AuthorID: c.op.caller.Subject.ID, CreatedAt: at, Revision: c.next.head.Revision,
			ActiveFrom: orNil(v.ActiveFrom), ExpiresAt: orNil(v.Expires), DestroyedAt: orNil(v.Destroyed),
			Source: layers.Source{How: layers.Imported, What: "an archive: by " + c.op.service.redact(v.By)}.Text()}
		if err := c.push(r, row, value); err != nil {
			return err
		}
	}
	if len(r.live) == 0 {
		return nil // its values were refused
	}
	if !e.RemovedAt.IsZero() {
		c.remove(r)
	}
	c.note(layers.Added, layers.Standing{}, r, newestKind(r), r.Version, wire.Effect{Source: "imported from an archive"})
	return nil
}

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return atOrAfter(&t)
}
