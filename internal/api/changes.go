package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/service"
)

// Committing is what every commit carries beside its place and its body.
type Committing struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the layer that the change was made for; without it the change goes onto whatever stands."`
	Key     string `header:"Idempotency-Key" maxLength:"200" doc:"A write that is repeated under the same key is one write."`
	DryRun  bool   `query:"dryRun" doc:"Say what it would do, and do nothing."`
}

func (c Committing) committing() Committing { return c }

// Paging is what every list of changes carries beside its place.
type Paging struct {
	Before int64 `query:"before" minimum:"0" doc:"Only changes before this revision."`
	Limit  int   `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

func (p Paging) paging() Paging { return p }

// The inputs at each kind of layer. Huma looks into embedded structs, not into
// type parameters.
type (
	commitEnvironment struct {
		EnvironmentPath
		Committing
		Body wire.ChangeRequest
	}
	commitCommon struct {
		ProjectPath
		Committing
		Body wire.ChangeRequest
	}
	commitOrganization struct {
		OrganizationPath
		Committing
		Body wire.ChangeRequest
	}
	revertEnvironment struct {
		EnvironmentPath
		Committing
		Body wire.RevertRequest
	}
	revertCommon struct {
		ProjectPath
		Committing
		Body wire.RevertRequest
	}
	revertOrganization struct {
		OrganizationPath
		Committing
		Body wire.RevertRequest
	}
	moveEnvironment struct {
		EnvironmentPath
		Committing
		Body wire.MoveRequest
	}
	moveCommon struct {
		ProjectPath
		Committing
		Body wire.MoveRequest
	}
	moveOrganization struct {
		OrganizationPath
		Committing
		Body wire.MoveRequest
	}
	takeInEnvironment struct {
		EnvironmentPath
		Committing
		Body wire.TakeInRequest
	}
	takeInCommon struct {
		ProjectPath
		Committing
		Body wire.TakeInRequest
	}
	copyEnvironment struct {
		EnvironmentPath
		Committing
		Body wire.CopyRequest
	}
	pageEnvironment struct {
		EnvironmentPath
		Paging
	}
	pageCommon struct {
		ProjectPath
		Paging
	}
	pageOrganization struct {
		OrganizationPath
		Paging
	}
)

func (c commitEnvironment) body() wire.ChangeRequest  { return c.Body }
func (c commitCommon) body() wire.ChangeRequest       { return c.Body }
func (c commitOrganization) body() wire.ChangeRequest { return c.Body }
func (c revertEnvironment) body() wire.RevertRequest  { return c.Body }
func (c revertCommon) body() wire.RevertRequest       { return c.Body }
func (c revertOrganization) body() wire.RevertRequest { return c.Body }
func (c moveEnvironment) body() wire.MoveRequest      { return c.Body }
func (c moveCommon) body() wire.MoveRequest           { return c.Body }
func (c moveOrganization) body() wire.MoveRequest     { return c.Body }
func (c takeInEnvironment) body() wire.TakeInRequest  { return c.Body }
func (c takeInCommon) body() wire.TakeInRequest       { return c.Body }
func (c copyEnvironment) body() wire.CopyRequest      { return c.Body }

// commits is an input that commits something to a layer.
type commits[B any] interface {
	placed
	committing() Committing
	body() B
}

type pages interface {
	placed
	paging() Paging
}

type changeOutput struct {
	ETag string `header:"ETag"`
	Body wire.Change
}

func (s *server) changes(a huma.API) {
	changesAt[commitEnvironment, revertEnvironment, moveEnvironment, pageEnvironment](s, a, "", environmentRoute, "an environment's layer")
	changesAt[commitCommon, revertCommon, moveCommon, pageCommon](s, a, "-common", commonRoute, "a project's common layer")
	changesAt[commitOrganization, revertOrganization, moveOrganization, pageOrganization](s, a, "-organization", organizationRoute, "the organization's layer")
	commitAt[copyEnvironment](s, a, operation("copy", http.MethodPost, environmentRoute+"/copies", "Carry entries of another place over, as one change here", tagged("changes"), created), s.copy)
	commitAt[takeInEnvironment](s, a, operation("take-in", http.MethodPost, environmentRoute+"/intake", "Keep entries of an archive with their histories", tagged("changes"), created, largeBody), s.takeIn)
	commitAt[takeInCommon](s, a, operation("take-in-common", http.MethodPost, commonRoute+"/intake", "Keep entries of an archive with their histories in a project's common layer", tagged("changes"), created, largeBody), s.takeIn)
	commitAt[commitEnvironment](s, a, operation("commit-private", http.MethodPost, environmentRoute+"/private/changes", "Commit edits to the caller's own values in an environment", tagged("changes"), created, largeBody), s.commitPrivate)
}

func (s *server) takeIn(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.TakeInRequest) (wire.Change, error) {
	return s.service.TakeIn(ctx, c, p, o, r)
}

func (s *server) copy(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.CopyRequest) (wire.Change, error) {
	return s.service.Copy(ctx, c, p, o, r)
}

func (s *server) commitPrivate(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.ChangeRequest) (wire.Change, error) {
	return s.service.CommitPrivate(ctx, c, p, o, r)
}

func changesAt[C commits[wire.ChangeRequest], R commits[wire.RevertRequest], M commits[wire.MoveRequest], P pages](s *server, a huma.API, suffix, route, what string) {
	commitAt[C](s, a, operation("commit"+suffix, http.MethodPost, route+"/changes", "Commit edits to "+what+" together, or none of them", tagged("changes"), created, largeBody),
		func(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.ChangeRequest) (wire.Change, error) {
			return s.service.Commit(ctx, c, p, o, r)
		})
	commitAt[R](s, a, operation("revert"+suffix, http.MethodPost, route+"/reversions", "Undo one change of "+what+", or everything after a revision", tagged("changes"), created),
		func(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.RevertRequest) (wire.Change, error) {
			return s.service.Revert(ctx, c, p, o, r)
		})
	commitAt[M](s, a, operation("move"+suffix, http.MethodPost, route+"/moves", "Move entries of "+what+" with their history to another layer", tagged("changes"), created),
		func(ctx context.Context, c service.Caller, p layers.Place, o service.CommitOptions, r wire.MoveRequest) (wire.Change, error) {
			return s.service.Move(ctx, c, p, o, r)
		})
	signedIn(s, a, operation("list-changes"+suffix, http.MethodGet, route+"/changes", "List the changes of "+what+", newest first", tagged("changes")),
		func(ctx context.Context, c service.Caller, in *P) (*body[[]wire.Change], error) {
			page := (*in).paging()
			out, err := s.service.Changes(ctx, c, (*in).place(), page.Before, page.Limit)
			return &body[[]wire.Change]{out}, err
		})
}

// commitAt registers an operation that commits something to a layer.
func commitAt[I commits[B], B any](s *server, a huma.API, op huma.Operation, do func(context.Context, service.Caller, layers.Place, service.CommitOptions, B) (wire.Change, error)) {
	signedIn(s, a, op, func(ctx context.Context, c service.Caller, in *I) (*changeOutput, error) {
		options, err := (*in).committing().options()
		if err != nil {
			return nil, err
		}
		out, err := do(ctx, c, (*in).place(), options, (*in).body())
		return &changeOutput{etag(out.Revision), out}, err
	})
}

func (c Committing) options() (service.CommitOptions, error) {
	base, err := c.revision()
	return service.CommitOptions{Base: base, DryRun: c.DryRun, Key: c.Key}, err
}

func (c Committing) revision() (int64, error) {
	if c.IfMatch == "" || c.IfMatch == "*" {
		return service.AnyRevision, nil
	}
	n, err := strconv.ParseInt(strings.Trim(c.IfMatch, `"`), 10, 64)
	if err != nil || n < 0 {
		return 0, &service.Problem{Kind: service.Invalid, Message: "If-Match is no ETag of a layer; it is the layer's revision in double quotes"}
	}
	return n, nil
}
