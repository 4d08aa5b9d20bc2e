package client

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"syscall"
	"time"

	"adytum.example/client/wire"
)

// Place names a layer: an environment, a project's common layer (no
// Environment), or the organization's layer (neither).
type Place struct{ Project, Environment string }

func (p Place) path() string {
	switch {
	case p.Project == "":
		return "/api/v1/organization"
	case p.Environment == "":
		return "/api/v1/projects/" + url.PathEscape(p.Project) + "/common"
	}
	return "/api/v1/projects/" + url.PathEscape(p.Project) + "/environments/" + url.PathEscape(p.Environment)
}

func get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.call(ctx, http.MethodGet, path, nil, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	var out T
	err := c.call(ctx, http.MethodPost, path, nil, body, &out)
	return out, err
}

// Who tells who the caller is.
func (c *Client) Who(ctx context.Context) (wire.Who, error) {
	return get[wire.Who](ctx, c, "/api/v1/sessions/current")
}

// Projects lists the projects that the caller may know of.
func (c *Client) Projects(ctx context.Context) ([]wire.Project, error) {
	return paged(ctx, c, "/api/v1/projects", func(p wire.Project) string { return p.Name })
}

// pageSize is how much of a list one request obtains.
const pageSize = 1000

// paged obtains all of a list, a page at a time.
func paged[T any](ctx context.Context, c *Client, path string, key func(T) string) ([]T, error) {
	all := []T{}
	for cursor := ""; ; {
		page, err := get[[]T](ctx, c, path+"?limit="+strconv.Itoa(pageSize)+"&cursor="+url.QueryEscape(cursor))
		all = append(all, page...)
		if err != nil || len(page) < pageSize {
			return all, err
		}
		cursor = key(page[len(page)-1])
	}
}

// RemovedProjects lists the projects that can be restored.
func (c *Client) RemovedProjects(ctx context.Context) ([]wire.Project, error) {
	return get[[]wire.Project](ctx, c, "/api/v1/projects?removed=true")
}

// Project shows one project.
func (c *Client) Project(ctx context.Context, name string) (wire.Project, error) {
	return get[wire.Project](ctx, c, projectPath(name))
}

func projectPath(name string) string { return "/api/v1/projects/" + url.PathEscape(name) }

// AddProject makes a project.
func (c *Client) AddProject(ctx context.Context, name string) (wire.Project, error) {
	return post[wire.Project](ctx, c, "/api/v1/projects", wire.Named{Name: name})
}

// EditProject gives a project another name or other policies.
func (c *Client) EditProject(ctx context.Context, name string, e wire.ProjectEdit) (wire.Project, error) {
	var out wire.Project
	err := c.call(ctx, http.MethodPatch, projectPath(name), nil, e, &out)
	return out, err
}

// Environments lists the environments of a project.
func (c *Client) Environments(ctx context.Context, project string) ([]wire.Environment, error) {
	return get[[]wire.Environment](ctx, c, projectPath(project)+"/environments")
}

// RemovedEnvironments lists the environments of a project that can be restored.
func (c *Client) RemovedEnvironments(ctx context.Context, project string) ([]wire.Environment, error) {
	return get[[]wire.Environment](ctx, c, projectPath(project)+"/environments?removed=true")
}

// AddEnvironment makes an environment.
func (c *Client) AddEnvironment(ctx context.Context, project string, e wire.NewEnvironment) (wire.Environment, error) {
	return post[wire.Environment](ctx, c, projectPath(project)+"/environments", e)
}

// EditEnvironment gives an environment another name, another to follow, or other
// policies.
func (c *Client) EditEnvironment(ctx context.Context, p Place, e wire.EnvironmentEdit) (wire.Environment, error) {
	var out wire.Environment
	err := c.call(ctx, http.MethodPatch, p.whole(), nil, e, &out)
	return out, err
}

// whole is the path of a project or an environment itself.
func (p Place) whole() string {
	if p.Environment == "" {
		return projectPath(p.Project)
	}
	return p.path()
}

// RemovePlace removes a project or an environment, and tells until when it can be
// restored.
func (c *Client) RemovePlace(ctx context.Context, p Place) (time.Time, error) {
	var out struct{ RestorableUntil time.Time }
	err := c.call(ctx, http.MethodDelete, p.whole(), nil, nil, &out)
	return out.RestorableUntil, err
}

// RestorePlace brings a removed project or environment back.
func (c *Client) RestorePlace(ctx context.Context, p Place) error {
	return c.call(ctx, http.MethodPost, p.whole()+"/restoration", nil, nil, nil)
}

// DestroyPlace destroys a removed project or environment for good.
func (c *Client) DestroyPlace(ctx context.Context, p Place) (wire.Gone, error) {
	return post[wire.Gone](ctx, c, p.whole()+"/destruction", nil)
}

// Query chooses among entries; empty fields choose all.
type Query struct{ Search, Tag, Owner, Kind, State string }

// Entries lists what a place has, without the values of secrets.
func (c *Client) Entries(ctx context.Context, p Place) (wire.Entries, error) {
	return c.Find(ctx, p, Query{})
}

// Find lists those entries of a place that a query chooses.
func (c *Client) Find(ctx context.Context, p Place, q Query) (wire.Entries, error) {
	values := url.Values{"limit": {"1000"}}
	for key, value := range map[string]string{"search": q.Search, "tag": q.Tag, "owner": q.Owner, "kind": q.Kind, "state": q.State} {
		if value != "" {
			values.Set(key, value)
		}
	}
	var all wire.Entries
	for {
		page, err := get[wire.Entries](ctx, c, p.path()+"/entries?"+values.Encode())
		if err != nil {
			return all, err
		}
		page.Entries = append(all.Entries, page.Entries...)
		if all = page; all.Next == "" {
			return all, nil
		}
		values.Set("cursor", all.Next)
	}
}

func (p Place) entry(name string) string { return p.path() + "/entries/" + url.PathEscape(name) }

// Entry shows what a place has for a name.
func (c *Client) Entry(ctx context.Context, p Place, name string) (wire.Entry, error) {
	return get[wire.Entry](ctx, c, p.entry(name))
}

// Layers tells every layer of a place that sets a name, and which one wins.
func (c *Client) Layers(ctx context.Context, p Place, name string) (wire.Layered, error) {
	return get[wire.Layered](ctx, c, p.entry(name)+"/layers")
}

// Same tells where else a value is used, among what the caller may read.
func (c *Client) Same(ctx context.Context, p Place, name string) (wire.Sameness, error) {
	return get[wire.Sameness](ctx, c, p.entry(name)+"/same")
}

// Value obtains one value.
func (c *Client) Value(ctx context.Context, p Place, name string) (wire.Value, error) {
	return get[wire.Value](ctx, c, p.entry(name)+"/value")
}

// History tells the versions of an entry, newest first.
func (c *Client) History(ctx context.Context, p Place, name string) (wire.History, error) {
	var all wire.History
	for before := int64(0); ; {
		page, err := get[wire.History](ctx, c, p.entry(name)+"/versions?limit=200&before="+strconv.FormatInt(before, 10))
		if err != nil {
			return all, err
		}
		n := len(page.Versions)
		page.Versions = append(all.Versions, page.Versions...)
		if all = page; n < 200 {
			return all, nil
		}
		before = all.Versions[len(all.Versions)-1].Version
	}
}

// NewestRevision asks for a place as it stands.
const NewestRevision = -1

// Compare puts two environments, or one at two revisions, side by side.
func (c *Client) Compare(ctx context.Context, a Place, revision int64, b Place, otherRevision int64) (wire.Comparison, error) {
	values := url.Values{"otherProject": {b.Project}, "otherEnvironment": {b.Environment},
		"revision": {strconv.FormatInt(revision, 10)}, "otherRevision": {strconv.FormatInt(otherRevision, 10)}}
	return get[wire.Comparison](ctx, c, a.path()+"/comparison?"+values.Encode())
}

// Resolve obtains the values of references as one read of one moment. Relative
// references are those of p, which must be an environment. References that are
// optional are left out of the answer where they are not set.
func (c *Client) Resolve(ctx context.Context, p Place, references, optional []string) (wire.Resolved, error) {
	if references == nil {
		references = []string{}
	}
	return post[wire.Resolved](ctx, c, p.path()+"/resolve", wire.ResolveRequest{References: references, Optional: optional})
}

// AnyRevision lets a change go onto whatever stands.
const AnyRevision = -1

// Commit says how a change is made.
type Commit struct {
	Base   int64  // the revision that the layer must still be at, or AnyRevision
	DryRun bool   // say what it would do and do nothing
	Key    string // a write repeated under the same key is one write; empty: a new one
}

// Change commits edits to one layer together. With base other than AnyRevision
// the layer must still be at that revision.
func (c *Client) Change(ctx context.Context, p Place, base int64, request wire.ChangeRequest) (wire.Change, error) {
	return c.Commit(ctx, p, Commit{Base: base}, request)
}

// Commit commits edits to one layer together.
func (c *Client) Commit(ctx context.Context, p Place, o Commit, request wire.ChangeRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/changes", o, request)
}

// CommitPrivate commits edits to the caller's own values in an environment.
func (c *Client) CommitPrivate(ctx context.Context, p Place, o Commit, request wire.ChangeRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/private/changes", o, request)
}

// Revert undoes one change of a layer, or everything after a revision.
func (c *Client) Revert(ctx context.Context, p Place, o Commit, request wire.RevertRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/reversions", o, request)
}

// Copy carries entries of another place over to p.
func (c *Client) Copy(ctx context.Context, p Place, o Commit, request wire.CopyRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/copies", o, request)
}

// Move moves entries of p with their history to another layer.
func (c *Client) Move(ctx context.Context, p Place, o Commit, request wire.MoveRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/moves", o, request)
}

// TakeIn keeps entries of an archive with their histories in p.
func (c *Client) TakeIn(ctx context.Context, p Place, o Commit, request wire.TakeInRequest) (wire.Change, error) {
	return c.commit(ctx, p.path()+"/intake", o, request)
}

// Archive obtains everything of a project as JSON lines: a [wire.ArchivedProject]
// and then a [wire.ArchivedEntry] on each line, all of it plaintext. Lines is
// called with each; an answer that is cut off is an error.
func (c *Client) Archive(ctx context.Context, project string, lines func(io.Reader) error) error {
	return c.stream(ctx, projectPath(project)+"/archive", lines)
}

// commitTries is how often a write is tried whose answer was lost. The
// idempotency key makes it one write.
const commitTries = 3

func (c *Client) commit(ctx context.Context, path string, o Commit, request any) (wire.Change, error) {
	if o.Key == "" {
		o.Key = rand.Text()
	}
	header := http.Header{"Idempotency-Key": {o.Key}}
	if o.Base != AnyRevision {
		header.Set("If-Match", fmt.Sprintf("%q", strconv.FormatInt(o.Base, 10)))
	}
	if o.DryRun {
		path += "?dryRun=true"
	}
	for try := 1; ; try++ {
		var out wire.Change
		err := c.call(ctx, http.MethodPost, path, header, request, &out)
		if try == commitTries || !errors.Is(err, ErrUnreachable) || isRefused(err) {
			return out, err
		}
		select {
		case <-time.After(time.Duration(try) * 200 * time.Millisecond):
		case <-ctx.Done():
			return out, err
		}
	}
}

// isRefused tells whether no connection was made at all.
func isRefused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// Changes lists a layer's changes, newest first.
func (c *Client) Changes(ctx context.Context, p Place) ([]wire.Change, error) {
	return c.ChangesBefore(ctx, p, 0, 50)
}

// ChangesBefore lists a layer's changes before a revision, newest first.
func (c *Client) ChangesBefore(ctx context.Context, p Place, before int64, limit int) ([]wire.Change, error) {
	return get[[]wire.Change](ctx, c, p.path()+"/changes?before="+strconv.FormatInt(before, 10)+"&limit="+strconv.Itoa(limit))
}

// Trail lists events, newest first, a page at a time.
func (c *Client) Trail(ctx context.Context, cursor string, limit int) (wire.Events, error) {
	return get[wire.Events](ctx, c, "/api/v1/trail?limit="+strconv.Itoa(limit)+"&cursor="+url.QueryEscape(cursor))
}

// TrailQuery chooses among events; empty fields choose all.
type TrailQuery struct {
	Kind, Who, Action, Outcome, Project, Environment, Name, From string
	Since, Until                                                 time.Time
}

func (q TrailQuery) values() url.Values {
	values := url.Values{}
	for name, value := range map[string]string{"kind": q.Kind, "who": q.Who, "action": q.Action, "outcome": q.Outcome, "project": q.Project, "environment": q.Environment, "name": q.Name, "from": q.From} {
		if value != "" {
			values.Set(name, value)
		}
	}
	for name, at := range map[string]time.Time{"since": q.Since, "until": q.Until} {
		if !at.IsZero() {
			values.Set(name, at.UTC().Format(time.RFC3339Nano))
		}
	}
	return values
}

// FindEvents lists chosen events, newest first, a page at a time: the next page
// has the cursor that the one before ended with, until that is empty. A page may
// hold fewer events than the limit.
func (c *Client) FindEvents(ctx context.Context, q TrailQuery, cursor string, limit int) (wire.Events, error) {
	values := q.values()
	values.Set("limit", strconv.Itoa(limit))
	values.Set("cursor", cursor)
	return get[wire.Events](ctx, c, "/api/v1/trail?"+values.Encode())
}

// ErrCutOff says that an answer ended before its end.
var ErrCutOff = errors.New("the service stopped before the end; try again")

// ExportTrail hands over chosen events, oldest first.
func (c *Client) ExportTrail(ctx context.Context, q TrailQuery, each func(wire.Event) error) error {
	return c.stream(ctx, "/api/v1/trail/export?"+q.values().Encode(), func(r io.Reader) error {
		lines := json.NewDecoder(r)
		for {
			var line struct {
				wire.Event
				End *int `json:"end"`
			}
			if err := lines.Decode(&line); err != nil {
				return ErrCutOff
			}
			if line.End != nil {
				return nil
			}
			if err := each(line.Event); err != nil {
				return err
			}
		}
	})
}
