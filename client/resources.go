package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

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
	return get[[]wire.Project](ctx, c, "/api/v1/projects")
}

// Project shows one project.
func (c *Client) Project(ctx context.Context, name string) (wire.Project, error) {
	return get[wire.Project](ctx, c, "/api/v1/projects/"+url.PathEscape(name))
}

// AddProject makes a project.
func (c *Client) AddProject(ctx context.Context, name string) (wire.Project, error) {
	return post[wire.Project](ctx, c, "/api/v1/projects", wire.Named{Name: name})
}

// Environments lists the environments of a project.
func (c *Client) Environments(ctx context.Context, project string) ([]wire.Environment, error) {
	return get[[]wire.Environment](ctx, c, "/api/v1/projects/"+url.PathEscape(project)+"/environments")
}

// AddEnvironment makes an environment.
func (c *Client) AddEnvironment(ctx context.Context, project string, e wire.NewEnvironment) (wire.Environment, error) {
	return post[wire.Environment](ctx, c, "/api/v1/projects/"+url.PathEscape(project)+"/environments", e)
}

// People lists those who can sign in.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return get[[]wire.Person](ctx, c, "/api/v1/people")
}

// AddPerson makes a person.
func (c *Client) AddPerson(ctx context.Context, p wire.NewPerson) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/api/v1/people", p)
}

// Workloads lists the programs that can sign in.
func (c *Client) Workloads(ctx context.Context) ([]wire.Workload, error) {
	return get[[]wire.Workload](ctx, c, "/api/v1/workloads")
}

// AddWorkload makes a workload; its client secret is in the answer, this once.
func (c *Client) AddWorkload(ctx context.Context, name string) (wire.Workload, error) {
	return post[wire.Workload](ctx, c, "/api/v1/workloads", wire.Named{Name: name})
}

// Grants lists the grants at places that the caller may manage.
func (c *Client) Grants(ctx context.Context) ([]wire.Grant, error) {
	return get[[]wire.Grant](ctx, c, "/api/v1/grants")
}

// AddGrant gives someone a role.
func (c *Client) AddGrant(ctx context.Context, g wire.NewGrant) (wire.Grant, error) {
	return post[wire.Grant](ctx, c, "/api/v1/grants", g)
}

// RemoveGrant takes a grant back.
func (c *Client) RemoveGrant(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/grants/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Entries lists what a place has, without the values of secrets.
func (c *Client) Entries(ctx context.Context, p Place) (wire.Entries, error) {
	return get[wire.Entries](ctx, c, p.path()+"/entries")
}

// Entry shows what an environment has for a name.
func (c *Client) Entry(ctx context.Context, p Place, name string) (wire.Entry, error) {
	return get[wire.Entry](ctx, c, p.path()+"/entries/"+url.PathEscape(name))
}

// Value obtains one value.
func (c *Client) Value(ctx context.Context, p Place, name string) (wire.Value, error) {
	return get[wire.Value](ctx, c, p.path()+"/entries/"+url.PathEscape(name)+"/value")
}

// History tells the versions of an entry, newest first.
func (c *Client) History(ctx context.Context, p Place, name string) (wire.History, error) {
	return get[wire.History](ctx, c, p.path()+"/entries/"+url.PathEscape(name)+"/versions")
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

// Change commits edits to one layer together. With base other than AnyRevision
// the layer must still be at that revision.
func (c *Client) Change(ctx context.Context, p Place, base int64, request wire.ChangeRequest) (wire.Change, error) {
	var header http.Header
	if base != AnyRevision {
		header = http.Header{"If-Match": {fmt.Sprintf("%q", strconv.FormatInt(base, 10))}}
	}
	var out wire.Change
	err := c.call(ctx, http.MethodPost, p.path()+"/changes", header, request, &out)
	return out, err
}

// Changes lists a layer's changes, newest first.
func (c *Client) Changes(ctx context.Context, p Place) ([]wire.Change, error) {
	return get[[]wire.Change](ctx, c, p.path()+"/changes")
}

// Trail lists events, newest first, a page at a time.
func (c *Client) Trail(ctx context.Context, cursor string, limit int) (wire.Events, error) {
	return get[wire.Events](ctx, c, "/api/v1/trail?limit="+strconv.Itoa(limit)+"&cursor="+url.QueryEscape(cursor))
}

// VerifyTrail checks that the trail is whole.
func (c *Client) VerifyTrail(ctx context.Context) (wire.Verification, error) {
	return get[wire.Verification](ctx, c, "/api/v1/trail/verification")
}
