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

// People lists those who can sign in.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return paged(ctx, c, "/api/v1/people", func(p wire.Person) string { return p.Login })
}

// AddPerson makes a person.
func (c *Client) AddPerson(ctx context.Context, p wire.NewPerson) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/api/v1/people", p)
}

// Workloads lists the programs that can sign in.
func (c *Client) Workloads(ctx context.Context) ([]wire.Workload, error) {
	return paged(ctx, c, "/api/v1/workloads", func(w wire.Workload) string { return w.Name })
}

// AddWorkload makes a workload; its client secret is in the answer, this once.
func (c *Client) AddWorkload(ctx context.Context, name string) (wire.Workload, error) {
	return post[wire.Workload](ctx, c, "/api/v1/workloads", wire.Named{Name: name})
}

// Grants lists the grants at places that the caller may manage.
func (c *Client) Grants(ctx context.Context) ([]wire.Grant, error) {
	return paged(ctx, c, "/api/v1/grants", func(g wire.Grant) string { return fmt.Sprintf("%020d", g.ID) })
}

// AddGrant gives someone a role.
func (c *Client) AddGrant(ctx context.Context, g wire.NewGrant) (wire.Grant, error) {
	return post[wire.Grant](ctx, c, "/api/v1/grants", g)
}

// RemoveGrant takes a grant back.
func (c *Client) RemoveGrant(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/grants/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Query chooses among entries; empty fields choose all.
type Query struct{ Search, Tag, Owner, Kind, State string }

// Teams lists the teams with their people.
func (c *Client) Teams(ctx context.Context) ([]wire.Team, error) {
	return paged(ctx, c, "/api/v1/teams", func(t wire.Team) string { return t.Name })
}

// AddTeam adds a team.
func (c *Client) AddTeam(ctx context.Context, name string) (wire.Team, error) {
	return post[wire.Team](ctx, c, "/api/v1/teams", wire.Named{Name: name})
}

// RemoveTeam removes a team with its grants.
func (c *Client) RemoveTeam(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/teams/"+url.PathEscape(name), nil, nil, nil)
}

// AddMember puts a person into a team.
func (c *Client) AddMember(ctx context.Context, team, login string) (wire.Team, error) {
	return post[wire.Team](ctx, c, "/api/v1/teams/"+url.PathEscape(team)+"/people", wire.Member{Login: login})
}

// RemoveMember takes a person out of a team.
func (c *Client) RemoveMember(ctx context.Context, team, login string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/teams/"+url.PathEscape(team)+"/people/"+url.PathEscape(login), nil, nil, nil)
}

// Roles lists the roles that can be granted.
func (c *Client) Roles(ctx context.Context) ([]wire.Role, error) {
	return get[[]wire.Role](ctx, c, "/api/v1/roles")
}

// DefineRole defines a role, or gives one other verbs.
func (c *Client) DefineRole(ctx context.Context, r wire.NewRole) (wire.Role, error) {
	return post[wire.Role](ctx, c, "/api/v1/roles", r)
}

// RemoveRole removes a role that nobody has.
func (c *Client) RemoveRole(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/roles/"+url.PathEscape(name), nil, nil, nil)
}

// Frozen lists what is frozen.
func (c *Client) Frozen(ctx context.Context) ([]wire.Frozen, error) {
	return get[[]wire.Frozen](ctx, c, "/api/v1/freezes")
}

// Freeze freezes a person, a workload, a project or the organization.
func (c *Client) Freeze(ctx context.Context, f wire.Freeze) (wire.Frozen, error) {
	return post[wire.Frozen](ctx, c, "/api/v1/freezes", f)
}

// Thaw ends a freeze.
func (c *Client) Thaw(ctx context.Context, f wire.Freeze) error {
	return c.call(ctx, http.MethodPost, "/api/v1/freezes/end", nil, f, nil)
}

// ExplainPlace tells who can do what to a name at a place; empty: to anything there.
func (c *Client) ExplainPlace(ctx context.Context, p Place, name string) (wire.Explanation, error) {
	query := url.Values{"project": {p.Project}, "environment": {p.Environment}, "name": {name}}
	return get[wire.Explanation](ctx, c, "/api/v1/explanations/place?"+query.Encode())
}

// ExplainSubject tells what a person or a workload can reach.
func (c *Client) ExplainSubject(ctx context.Context, kind, who string) (wire.Explanation, error) {
	return get[wire.Explanation](ctx, c, "/api/v1/explanations/subject?"+url.Values{"kind": {kind}, "who": {who}}.Encode())
}

// Exposure tells what a person or a workload has obtained.
func (c *Client) Exposure(ctx context.Context, kind, who string) (wire.Exposure, error) {
	return get[wire.Exposure](ctx, c, "/api/v1/explanations/exposure?"+url.Values{"kind": {kind}, "who": {who}}.Encode())
}

// PreviewGrant tells what a grant would newly allow, and grants nothing.
func (c *Client) PreviewGrant(ctx context.Context, g wire.NewGrant) (wire.Preview, error) {
	return post[wire.Preview](ctx, c, "/api/v1/grants/preview", g)
}

// Accept chooses a password with an invitation.
func (c *Client) Accept(ctx context.Context, a wire.Acceptance) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/api/v1/invitations/acceptance", a)
}

// ResetPerson ends a person's sessions, password and codes, and invites them anew.
func (c *Client) ResetPerson(ctx context.Context, login string) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/api/v1/people/"+url.PathEscape(login)+"/reset", nil)
}

// RemovePerson ends a person's sessions, takes away their grants, and erases their name.
func (c *Client) RemovePerson(ctx context.Context, login string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/people/"+url.PathEscape(login), nil, nil, nil)
}

// ChangePassword gives oneself another password; other sessions end.
func (c *Client) ChangePassword(ctx context.Context, p wire.PasswordChange) error {
	return c.call(ctx, http.MethodPost, "/api/v1/password", nil, p, nil)
}

// BeginCode obtains the seed of time-based codes.
func (c *Client) BeginCode(ctx context.Context) (wire.NewFactor, error) {
	return post[wire.NewFactor](ctx, c, "/api/v1/code", nil)
}

// ConfirmCode has codes asked for from now on.
func (c *Client) ConfirmCode(ctx context.Context, code string) (wire.RecoveryCodes, error) {
	return post[wire.RecoveryCodes](ctx, c, "/api/v1/code/confirmation", wire.Code{Code: code})
}

// RemoveCode has codes asked for no more.
func (c *Client) RemoveCode(ctx context.Context, code string) error {
	return c.call(ctx, http.MethodPost, "/api/v1/code/removal", nil, wire.Code{Code: code}, nil)
}

// Sessions lists where somebody is signed in; nobody named: oneself.
func (c *Client) Sessions(ctx context.Context, kind, who string) ([]wire.OpenSession, error) {
	return get[[]wire.OpenSession](ctx, c, "/api/v1/sessions?"+url.Values{"kind": {kind}, "who": {who}}.Encode())
}

// EndSessions ends one session of somebody, or with 0 all but the one that asks.
func (c *Client) EndSessions(ctx context.Context, kind, who string, id int64) error {
	path := "/api/v1/sessions"
	if id != 0 {
		path += "/" + strconv.FormatInt(id, 10)
	}
	return c.call(ctx, http.MethodDelete, path+"?"+url.Values{"kind": {kind}, "who": {who}}.Encode(), nil, nil, nil)
}

// Issuers lists whose signed tokens are accepted.
func (c *Client) Issuers(ctx context.Context) ([]wire.Issuer, error) {
	return get[[]wire.Issuer](ctx, c, "/api/v1/issuers")
}

// AddIssuer accepts the signed tokens of an issuer, for workloads that trust them.
func (c *Client) AddIssuer(ctx context.Context, i wire.NewIssuer) (wire.Issuer, error) {
	return post[wire.Issuer](ctx, c, "/api/v1/issuers", i)
}

// RemoveIssuer accepts an issuer's tokens no more.
func (c *Client) RemoveIssuer(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/issuers/"+url.PathEscape(name), nil, nil, nil)
}

// Trusts lists whose tokens a workload signs in with.
func (c *Client) Trusts(ctx context.Context, workload string) ([]wire.Trust, error) {
	return get[[]wire.Trust](ctx, c, trustsPath(workload))
}

func trustsPath(workload string) string {
	return "/api/v1/workloads/" + url.PathEscape(workload) + "/trusts"
}

// AddTrust lets a workload sign in with tokens of an issuer.
func (c *Client) AddTrust(ctx context.Context, workload string, t wire.NewTrust) (wire.Trust, error) {
	return post[wire.Trust](ctx, c, trustsPath(workload), t)
}

// RemoveTrust takes a trust back.
func (c *Client) RemoveTrust(ctx context.Context, workload string, id int64) error {
	return c.call(ctx, http.MethodDelete, trustsPath(workload)+"/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// RoleRequests lists the roles that are asked for.
func (c *Client) RoleRequests(ctx context.Context) ([]wire.RoleRequest, error) {
	return get[[]wire.RoleRequest](ctx, c, "/api/v1/role-requests")
}

// AskForRole asks for a role for some hours.
func (c *Client) AskForRole(ctx context.Context, r wire.NewRoleRequest) (wire.RoleRequest, error) {
	return post[wire.RoleRequest](ctx, c, "/api/v1/role-requests", r)
}

// AnswerRequest grants a role that is asked for, or declines.
func (c *Client) AnswerRequest(ctx context.Context, id int64, answer wire.RequestAnswer) error {
	return c.call(ctx, http.MethodPost, "/api/v1/role-requests/"+strconv.FormatInt(id, 10)+"/answer", nil, answer, nil)
}

// TakeBackRequest takes one's own request back.
func (c *Client) TakeBackRequest(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/role-requests/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// ClientSecrets lists a workload's client secrets, without them.
func (c *Client) ClientSecrets(ctx context.Context, workload string) ([]wire.ClientSecret, error) {
	return get[[]wire.ClientSecret](ctx, c, secretsPath(workload))
}

func secretsPath(workload string) string {
	return "/api/v1/workloads/" + url.PathEscape(workload) + "/secrets"
}

// AddClientSecret gives a workload one more client secret.
func (c *Client) AddClientSecret(ctx context.Context, workload string, s wire.NewClientSecret) (wire.ClientSecret, error) {
	return post[wire.ClientSecret](ctx, c, secretsPath(workload), s)
}

// RemoveClientSecret takes a client secret back.
func (c *Client) RemoveClientSecret(ctx context.Context, workload string, id int64) error {
	return c.call(ctx, http.MethodDelete, secretsPath(workload)+"/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

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

// VerifyTrail checks that the trail is whole.
func (c *Client) VerifyTrail(ctx context.Context) (wire.Verification, error) {
	return get[wire.Verification](ctx, c, "/api/v1/trail/verification")
}
