package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

// Committing is what every commit carries beside its place.
type Committing struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the layer that the change was made for; without it the change goes onto whatever stands."`
	Body    wire.ChangeRequest
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
	}
	commitCommon struct {
		ProjectPath
		Committing
	}
	commitOrganization struct {
		OrganizationPath
		Committing
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

type commits interface {
	placed
	committing() Committing
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
	changesAt[commitEnvironment, pageEnvironment](s, a, "", environmentRoute, "an environment's layer")
	changesAt[commitCommon, pageCommon](s, a, "-common", "/projects/{project}/common", "a project's common layer")
	changesAt[commitOrganization, pageOrganization](s, a, "-organization", "/organization", "the organization's layer")
}

func changesAt[C commits, P pages](s *server, a huma.API, suffix, route, what string) {
	signedIn(s, a, operation("commit"+suffix, http.MethodPost, route+"/changes", "Commit edits to "+what+" together, or none of them", tagged("changes"), created, largeBody),
		func(ctx context.Context, c service.Caller, in *C) (*changeOutput, error) {
			request := (*in).committing()
			base, err := request.revision()
			if err != nil {
				return nil, err
			}
			out, err := s.service.Keep(ctx, c, (*in).place(), base, request.Body)
			return &changeOutput{etag(out.Revision), out}, err
		})
	signedIn(s, a, operation("list-changes"+suffix, http.MethodGet, route+"/changes", "List the changes of "+what+", newest first", tagged("changes")),
		func(ctx context.Context, c service.Caller, in *P) (*body[[]wire.Change], error) {
			page := (*in).paging()
			out, err := s.service.Changes(ctx, c, (*in).place(), page.Before, page.Limit)
			return &body[[]wire.Change]{out}, err
		})
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
