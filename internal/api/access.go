package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"adytum.example/client/wire"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/service"
)

type newMember struct {
	TeamPath
	Body wire.Member
}

// TeamPath leads to a team. It is exported for huma to see its fields.
type TeamPath struct {
	Team string `path:"team" maxLength:"63"`
}

type memberPath struct {
	TeamPath
	Login string `path:"login" maxLength:"200"`
}

type rolePath struct {
	Role string `path:"role" maxLength:"63"`
}

type newRole struct{ Body wire.NewRole }

type freezing struct{ Body wire.Freeze }

// WorkloadPath leads to a workload. It is exported for huma to see its fields.
type WorkloadPath struct {
	Workload string `path:"workload" maxLength:"63"`
}

type newClientSecret struct {
	WorkloadPath
	Body wire.NewClientSecret
}

type clientSecretPath struct {
	WorkloadPath
	Secret int64 `path:"secret"`
}

// access registers teams, roles, freezes and the client secrets of workloads.
func (s *server) access(a huma.API) {
	s.teams(a)
	s.explanations(a)
	s.factors(a)
	s.issuers(a)
	s.requests(a)
	s.proposals(a)
	s.signingIn(a)
	s.organization(a)
	s.alerts(a)
	signedIn(s, a, operation("list-roles", http.MethodGet, "/roles", "List the roles that can be granted", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Role], error) {
			out, err := s.service.Roles(ctx, c)
			return &body[[]wire.Role]{out}, err
		})
	signedIn(s, a, operation("define-role", http.MethodPost, "/roles", "Define a role of the organization's own, or give one other verbs", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newRole) (*body[wire.Role], error) {
			out, err := s.service.DefineRole(ctx, c, in.Body)
			return &body[wire.Role]{out}, err
		})
	signedIn(s, a, operation("remove-role", http.MethodDelete, "/roles/{role}", "Remove a role that nobody has", tagged("access")),
		func(ctx context.Context, c service.Caller, in *rolePath) (*empty, error) {
			return nil, s.service.RemoveRole(ctx, c, in.Role)
		})
	signedIn(s, a, operation("list-frozen", http.MethodGet, "/freezes", "List what is frozen", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Frozen], error) {
			out, err := s.service.Frozen(ctx, c)
			return &body[[]wire.Frozen]{out}, err
		})
	signedIn(s, a, operation("freeze", http.MethodPost, "/freezes", "Freeze a person, a workload, a project or the organization, at once", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *freezing) (*body[wire.Frozen], error) {
			out, err := s.service.Freeze(ctx, c, in.Body)
			return &body[wire.Frozen]{out}, err
		})
	signedIn(s, a, operation("thaw", http.MethodPost, "/freezes/end", "End a freeze", tagged("access")),
		func(ctx context.Context, c service.Caller, in *freezing) (*empty, error) {
			return nil, s.service.Thaw(ctx, c, in.Body)
		})
	signedIn(s, a, operation("list-client-secrets", http.MethodGet, "/workloads/{workload}/secrets", "List a workload's client secrets, without them", tagged("access")),
		func(ctx context.Context, c service.Caller, in *WorkloadPath) (*body[[]wire.ClientSecret], error) {
			out, err := s.service.ClientSecrets(ctx, c, in.Workload)
			return &body[[]wire.ClientSecret]{out}, err
		})
	signedIn(s, a, operation("add-client-secret", http.MethodPost, "/workloads/{workload}/secrets", "Give a workload one more client secret; it is in the answer, this once", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newClientSecret) (*body[wire.ClientSecret], error) {
			out, err := s.service.AddClientSecret(ctx, c, in.Workload, in.Body.Days)
			return &body[wire.ClientSecret]{out}, err
		})
	signedIn(s, a, operation("remove-client-secret", http.MethodDelete, "/workloads/{workload}/secrets/{secret}", "Take a client secret back", tagged("access")),
		func(ctx context.Context, c service.Caller, in *clientSecretPath) (*empty, error) {
			return nil, s.service.RemoveClientSecret(ctx, c, in.Workload, in.Secret)
		})
}

// whom names a person or a workload.
type whom struct {
	Kind string `query:"kind" enum:"person,workload" required:"true"`
	Who  string `query:"who" required:"true" maxLength:"200" doc:"A login, or a workload's name."`
}

type explained struct {
	Project     string `query:"project" maxLength:"63"`
	Environment string `query:"environment" maxLength:"63"`
	Name        string `query:"name" maxLength:"1000" doc:"Of an entry; empty: anything there."`
}

// explanations registers who can do what, why, and what somebody has obtained.
func (s *server) explanations(a huma.API) {
	signedIn(s, a, operation("explain-place", http.MethodGet, "/explanations/place", "Who can do what somewhere, and through which grants", tagged("access")),
		func(ctx context.Context, c service.Caller, in *explained) (*body[wire.Explanation], error) {
			out, err := s.service.ExplainPlace(ctx, c, layers.Place{Project: in.Project, Environment: in.Environment}, in.Name)
			return &body[wire.Explanation]{out}, err
		})
	signedIn(s, a, operation("explain-subject", http.MethodGet, "/explanations/subject", "What a person or a workload can reach, and through which grants", tagged("access")),
		func(ctx context.Context, c service.Caller, in *whom) (*body[wire.Explanation], error) {
			out, err := s.service.ExplainSubject(ctx, c, in.Kind, in.Who)
			return &body[wire.Explanation]{out}, err
		})
	signedIn(s, a, operation("exposure", http.MethodGet, "/explanations/exposure", "What a person or a workload has obtained: what to replace on the day they leave", tagged("access")),
		func(ctx context.Context, c service.Caller, in *whom) (*body[wire.Exposure], error) {
			out, err := s.service.Exposure(ctx, c, in.Kind, in.Who)
			return &body[wire.Exposure]{out}, err
		})
	signedIn(s, a, operation("preview-grant", http.MethodPost, "/grants/preview", "What a grant would newly allow; grants nothing", tagged("access")),
		func(ctx context.Context, c service.Caller, in *newGrant) (*body[wire.Preview], error) {
			out, err := s.service.PreviewGrant(ctx, c, in.Body)
			return &body[wire.Preview]{out}, err
		})
}

type newIssuer struct{ Body wire.NewIssuer }

type issuerPath struct {
	Issuer string `path:"issuer" maxLength:"63"`
}

type newTrust struct {
	WorkloadPath
	Body wire.NewTrust
}

type trustPath struct {
	WorkloadPath
	Trust int64 `path:"trust"`
}

// issuers registers whose signed tokens are accepted.
func (s *server) issuers(a huma.API) {
	signedIn(s, a, operation("list-issuers", http.MethodGet, "/issuers", "List whose signed tokens are accepted", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Issuer], error) {
			out, err := s.service.Issuers(ctx, c)
			return &body[[]wire.Issuer]{out}, err
		})
	signedIn(s, a, operation("add-issuer", http.MethodPost, "/issuers", "Accept the signed tokens of an issuer, for workloads that trust them", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newIssuer) (*body[wire.Issuer], error) {
			out, err := s.service.AddIssuer(ctx, c, in.Body)
			return &body[wire.Issuer]{out}, err
		})
	signedIn(s, a, operation("remove-issuer", http.MethodDelete, "/issuers/{issuer}", "Accept an issuer's tokens no more", tagged("access")),
		func(ctx context.Context, c service.Caller, in *issuerPath) (*empty, error) {
			return nil, s.service.RemoveIssuer(ctx, c, in.Issuer)
		})
	signedIn(s, a, operation("list-trusts", http.MethodGet, "/workloads/{workload}/trusts", "List whose tokens a workload signs in with", tagged("access")),
		func(ctx context.Context, c service.Caller, in *WorkloadPath) (*body[[]wire.Trust], error) {
			out, err := s.service.Trusts(ctx, c, in.Workload)
			return &body[[]wire.Trust]{out}, err
		})
	signedIn(s, a, operation("add-trust", http.MethodPost, "/workloads/{workload}/trusts", "Let a workload sign in with tokens of an issuer", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newTrust) (*body[wire.Trust], error) {
			out, err := s.service.AddTrust(ctx, c, in.Workload, in.Body)
			return &body[wire.Trust]{out}, err
		})
	signedIn(s, a, operation("remove-trust", http.MethodDelete, "/workloads/{workload}/trusts/{trust}", "Take a trust back", tagged("access")),
		func(ctx context.Context, c service.Caller, in *trustPath) (*empty, error) {
			return nil, s.service.RemoveTrust(ctx, c, in.Workload, in.Trust)
		})
}

type newRoleRequest struct{ Body wire.NewRoleRequest }

// RequestPath leads to a request. It is exported for huma to see its fields.
type RequestPath struct {
	Request int64 `path:"request"`
}

type answerInput struct {
	RequestPath
	Body wire.RequestAnswer
}

// requests registers roles that are asked for.
func (s *server) requests(a huma.API) {
	signedIn(s, a, operation("list-requests", http.MethodGet, "/role-requests", "List the roles that are asked for: one's own, and those that the caller could grant", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.RoleRequest], error) {
			out, err := s.service.RoleRequests(ctx, c)
			return &body[[]wire.RoleRequest]{out}, err
		})
	signedIn(s, a, operation("ask-for-role", http.MethodPost, "/role-requests", "Ask for a role for some hours", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newRoleRequest) (*body[wire.RoleRequest], error) {
			out, err := s.service.AskForRole(ctx, c, in.Body)
			return &body[wire.RoleRequest]{out}, err
		})
	signedIn(s, a, operation("answer-request", http.MethodPost, "/role-requests/{request}/answer", "Grant a role that is asked for, which ends by itself, or decline", tagged("access")),
		func(ctx context.Context, c service.Caller, in *answerInput) (*empty, error) {
			return nil, s.service.AnswerRequest(ctx, c, in.Request, in.Body)
		})
	signedIn(s, a, operation("take-back-request", http.MethodDelete, "/role-requests/{request}", "Take one's own request back", tagged("access")),
		func(ctx context.Context, c service.Caller, in *RequestPath) (*empty, error) {
			return nil, s.service.TakeBackRequest(ctx, c, in.Request)
		})
}

// acceptInput takes the caller's address from the connection.
type acceptInput struct {
	Body wire.Acceptance
	from *http.Request
}

// Resolve implements [huma.Resolver].
func (i *acceptInput) Resolve(ctx huma.Context) []error {
	i.from, _ = humachi.Unwrap(ctx)
	return nil
}

type passwordChange struct{ Body wire.PasswordChange }

type codeInput struct{ Body wire.Code }

type personPath struct {
	Login string `path:"login" maxLength:"200"`
}

// OfWhom names somebody, or nobody: oneself.
// It is exported for huma to see its fields.
type OfWhom struct {
	Kind string `query:"kind" enum:"person,workload" default:"person"`
	Who  string `query:"who" maxLength:"200" doc:"A login, or a workload's name; empty: oneself."`
}

type sessionInput struct {
	OfWhom
	Session int64 `path:"session"`
}

// factors registers codes, passwords, invitations and sessions.
func (s *server) factors(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "accept-invitation", Method: http.MethodPost, Path: "/api/v1/invitations/acceptance", Summary: "Choose a password with an invitation",
		Tags: []string{"sessions"}, MaxBodyBytes: 64 << 10, Errors: []int{http.StatusUnauthorized, http.StatusServiceUnavailable}},
		func(ctx context.Context, in *acceptInput) (*body[wire.Person], error) {
			out, err := s.service.Accept(ctx, in.Body, service.Caller{From: s.address(in.from)})
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &body[wire.Person]{out}, nil
		})
	signedIn(s, a, operation("reset-person", http.MethodPost, "/people/{login}/reset", "End a person's sessions, password and codes; an invitation to choose a new password is in the answer, this once", tagged("access")),
		func(ctx context.Context, c service.Caller, in *personPath) (*body[wire.Person], error) {
			out, err := s.service.ResetPerson(ctx, c, in.Login)
			return &body[wire.Person]{out}, err
		})
	signedIn(s, a, operation("remove-person", http.MethodDelete, "/people/{login}", "End a person's sessions, take away what they were granted, and erase their name", tagged("access")),
		func(ctx context.Context, c service.Caller, in *personPath) (*empty, error) {
			return nil, s.service.RemovePerson(ctx, c, in.Login)
		})
	signedIn(s, a, operation("change-password", http.MethodPost, "/password", "Give oneself another password; other sessions end", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *passwordChange) (*empty, error) {
			return nil, s.service.ChangePassword(ctx, c, in.Body)
		})
	signedIn(s, a, operation("begin-code", http.MethodPost, "/code", "Obtain the seed of time-based codes", tagged("sessions"), created),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[wire.NewFactor], error) {
			out, err := s.service.BeginFactor(ctx, c)
			return &body[wire.NewFactor]{out}, err
		})
	signedIn(s, a, operation("confirm-code", http.MethodPost, "/code/confirmation", "Have codes asked for from now on; recovery codes are in the answer, this once", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *codeInput) (*body[wire.RecoveryCodes], error) {
			out, err := s.service.ConfirmFactor(ctx, c, in.Body.Code)
			return &body[wire.RecoveryCodes]{out}, err
		})
	signedIn(s, a, operation("remove-code", http.MethodPost, "/code/removal", "Have codes asked for no more", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *codeInput) (*empty, error) {
			return nil, s.service.RemoveFactor(ctx, c, in.Body.Code)
		})
	signedIn(s, a, operation("list-sessions", http.MethodGet, "/sessions", "List where somebody is signed in", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *OfWhom) (*body[[]wire.OpenSession], error) {
			out, err := s.service.Sessions(ctx, c, in.Kind, in.Who)
			return &body[[]wire.OpenSession]{out}, err
		})
	signedIn(s, a, operation("end-sessions", http.MethodDelete, "/sessions", "End all sessions of somebody but the one that asks", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *OfWhom) (*empty, error) {
			return nil, s.service.EndSessions(ctx, c, in.Kind, in.Who, 0)
		})
	signedIn(s, a, operation("end-session", http.MethodDelete, "/sessions/{session}", "End one session", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *sessionInput) (*empty, error) {
			return nil, s.service.EndSessions(ctx, c, in.Kind, in.Who, in.Session)
		})
}

func (s *server) teams(a huma.API) {
	signedIn(s, a, operation("list-teams", http.MethodGet, "/teams", "List teams with their people", tagged("access")),
		func(ctx context.Context, c service.Caller, in *Cursor) (*body[[]wire.Team], error) {
			out, err := s.service.Teams(ctx, c)
			return &body[[]wire.Team]{pageOf(out, *in, func(t wire.Team) string { return t.Name })}, err
		})
	signedIn(s, a, operation("add-team", http.MethodPost, "/teams", "Add a team", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newNamed) (*body[wire.Team], error) {
			out, err := s.service.AddTeam(ctx, c, in.Body.Name)
			return &body[wire.Team]{out}, err
		})
	signedIn(s, a, operation("remove-team", http.MethodDelete, "/teams/{team}", "Remove a team with its grants", tagged("access")),
		func(ctx context.Context, c service.Caller, in *TeamPath) (*empty, error) {
			return nil, s.service.RemoveTeam(ctx, c, in.Team)
		})
	signedIn(s, a, operation("add-member", http.MethodPost, "/teams/{team}/people", "Put a person into a team", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newMember) (*body[wire.Team], error) {
			out, err := s.service.AddMember(ctx, c, in.Team, in.Body.Login)
			return &body[wire.Team]{out}, err
		})
	signedIn(s, a, operation("remove-member", http.MethodDelete, "/teams/{team}/people/{login}", "Take a person out of a team", tagged("access")),
		func(ctx context.Context, c service.Caller, in *memberPath) (*empty, error) {
			return nil, s.service.RemoveMember(ctx, c, in.Team, in.Login)
		})
}
