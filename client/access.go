package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"adytum.example/client/wire"
)

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

// Proposals lists the changes that wait for a second person's approval.
func (c *Client) Proposals(ctx context.Context) ([]wire.Proposal, error) {
	return get[[]wire.Proposal](ctx, c, "/api/v1/proposals")
}

// AnswerProposal approves a proposal, which does what was proposed, or declines it.
func (c *Client) AnswerProposal(ctx context.Context, id int64, answer wire.ProposalAnswer) (wire.Change, error) {
	return post[wire.Change](ctx, c, "/api/v1/proposals/"+strconv.FormatInt(id, 10)+"/answer", answer)
}

// Device shows the device that waits to be let in with a code.
func (c *Client) Device(ctx context.Context, code string) (wire.Device, error) {
	return post[wire.Device](ctx, c, "/api/v1/devices/lookup", wire.DeviceCode{Code: code})
}

// AnswerDevice lets a device in, or does not.
func (c *Client) AnswerDevice(ctx context.Context, answer wire.DeviceAnswer) error {
	return c.call(ctx, http.MethodPost, "/api/v1/devices/answer", nil, answer, nil)
}

// Providers lists the identity providers that people sign in through.
func (c *Client) Providers(ctx context.Context) ([]wire.Provider, error) {
	return get[[]wire.Provider](ctx, c, "/api/v1/providers")
}

// AddProvider lets people sign in through an identity provider.
func (c *Client) AddProvider(ctx context.Context, p wire.NewProvider) (wire.Provider, error) {
	return post[wire.Provider](ctx, c, "/api/v1/providers", p)
}

// RemoveProvider lets nobody sign in through a provider any more.
func (c *Client) RemoveProvider(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/providers/"+url.PathEscape(name), nil, nil, nil)
}

// Alerts lists what was out of the ordinary, a page at a time, newest first; with
// open, what nobody has looked at.
func (c *Client) Alerts(ctx context.Context, open bool, cursor string) (wire.Alerts, error) {
	return get[wire.Alerts](ctx, c, "/api/v1/alerts?limit=100&open="+strconv.FormatBool(open)+"&cursor="+url.QueryEscape(cursor))
}

// SeeAlert says that one has looked at an alert.
func (c *Client) SeeAlert(ctx context.Context, id int64, reason string) error {
	return c.call(ctx, http.MethodPost, "/api/v1/alerts/"+strconv.FormatInt(id, 10)+"/seen", nil, wire.Seen{Reason: reason}, nil)
}

// Channels lists where alerts are sent.
func (c *Client) Channels(ctx context.Context) ([]wire.Channel, error) {
	return get[[]wire.Channel](ctx, c, "/api/v1/channels")
}

// AddChannel sends alerts to a webhook or a mail address.
func (c *Client) AddChannel(ctx context.Context, n wire.NewChannel) (wire.Channel, error) {
	return post[wire.Channel](ctx, c, "/api/v1/channels", n)
}

// RemoveChannel sends alerts there no more.
func (c *Client) RemoveChannel(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/channels/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// TestChannel sends an alert there that says that it is a test.
func (c *Client) TestChannel(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodPost, "/api/v1/channels/"+strconv.FormatInt(id, 10)+"/test", nil, nil, nil)
}

// Decoys lists what nobody needs, as far as the caller manages it.
func (c *Client) Decoys(ctx context.Context) ([]wire.Decoy, error) {
	return get[[]wire.Decoy](ctx, c, "/api/v1/decoys")
}

// AddDecoy marks an entry or a workload as needed by nobody.
func (c *Client) AddDecoy(ctx context.Context, d wire.NewDecoy) (wire.Decoy, error) {
	return post[wire.Decoy](ctx, c, "/api/v1/decoys", d)
}

// RemoveDecoy marks something as needed again.
func (c *Client) RemoveDecoy(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/decoys/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Organization shows the organization and what it asks of everybody.
func (c *Client) Organization(ctx context.Context) (wire.Organization, error) {
	return get[wire.Organization](ctx, c, "/api/v1/organization")
}

// EditOrganization changes what the organization asks of everybody.
func (c *Client) EditOrganization(ctx context.Context, edit wire.OrganizationEdit) (wire.Organization, error) {
	var out wire.Organization
	return out, c.call(ctx, http.MethodPatch, "/api/v1/organization", nil, edit, &out)
}
