package api

import (
	"context"
	"net/http"
	"reflect"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/service"
)

// placed is implemented by the paths that lead to a layer.
type placed interface{ place() layers.Place }

// OrganizationPath leads to the organization.
type OrganizationPath struct{}

func (OrganizationPath) place() layers.Place { return layers.Place{} }

func (p ProjectPath) place() layers.Place { return layers.Place{Project: p.Project} }

// EnvironmentPath leads to an environment.
type EnvironmentPath struct {
	ProjectPath
	Environment string `path:"environment" maxLength:"63"`
}

func (p EnvironmentPath) place() layers.Place {
	return layers.Place{Project: p.Project, Environment: p.Environment}
}

// EntryName leads to an entry. It is exported for huma to see its fields.
type EntryName struct {
	Name string `path:"name" maxLength:"1000"`
}

func (n EntryName) entryName() string { return n.Name }

// Listing chooses among the entries of a list.
type Listing struct {
	Search string `query:"search" maxLength:"200" doc:"Part of a name, whatever the case."`
	Tag    string `query:"tag" maxLength:"40"`
	Owner  string `query:"owner" maxLength:"200" doc:"Part of the owner, whatever the case."`
	Kind   string `query:"kind" enum:"secret,setting,nothing"`
	State  string `query:"state" enum:"active,waiting,expired,nothing,aging,removed,destroyed"`
	Cursor string `query:"cursor" maxLength:"1000" doc:"Of the page that is wanted; empty for the first."`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
}

func (l Listing) query() service.ListQuery {
	return service.ListQuery{Search: l.Search, Tag: l.Tag, Owner: l.Owner, Kind: l.Kind, State: l.State, After: l.Cursor, Limit: l.Limit}
}

// Comparing is the other side of a comparison.
type Comparing struct {
	Revision         int64  `query:"revision" default:"-1" minimum:"-1" doc:"Of the environment in the path; -1: as it stands."`
	OtherProject     string `query:"otherProject" maxLength:"63" doc:"The project in the path where it is not given."`
	OtherEnvironment string `query:"otherEnvironment" maxLength:"63" required:"true"`
	OtherRevision    int64  `query:"otherRevision" default:"-1" minimum:"-1"`
}

// The inputs at each kind of layer. Huma looks into embedded structs, not into
// type parameters.
type (
	listEnvironment struct {
		EnvironmentPath
		Listing
	}
	listCommon struct {
		ProjectPath
		Listing
	}
	listOrganization struct {
		OrganizationPath
		Listing
	}
	entryEnvironment struct {
		EnvironmentPath
		EntryName
		Paging
	}
	entryCommon struct {
		ProjectPath
		EntryName
		Paging
	}
	entryOrganization struct {
		OrganizationPath
		EntryName
		Paging
	}
)

type lists interface {
	placed
	query() service.ListQuery
}

type named interface {
	placed
	entryName() string
	paging() Paging
}

type entriesOutput struct {
	ETag string `header:"ETag"`
	Body wire.Entries
}

type resolveInput struct {
	EnvironmentPath
	Body wire.ResolveRequest
}

type compareInput struct {
	EnvironmentPath
	Comparing
}

const (
	environmentRoute  = "/projects/{project}/environments/{environment}"
	commonRoute       = "/projects/{project}/common"
	organizationRoute = "/organization"
)

func (s *server) entries(a huma.API) {
	signedIn(s, a, operation("table", http.MethodGet, "/projects/{project}/table", "A project's names across its environments", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[wire.Table], error) {
			out, err := s.service.Table(ctx, c, in.Project)
			return &body[wire.Table]{out}, err
		})
	entriesAt[listEnvironment, entryEnvironment](s, a, "", environmentRoute, "an environment, from all its layers")
	entriesAt[listCommon, entryCommon](s, a, "-common", commonRoute, "a project's common layer")
	entriesAt[listOrganization, entryOrganization](s, a, "-organization", organizationRoute, "the organization's layer")
	signedIn(s, a, operation("resolve", http.MethodPost, environmentRoute+"/resolve", "Obtain the values of references, as one read of one moment", tagged("entries"), quickly[wire.Resolved](a)),
		func(ctx context.Context, c service.Caller, in *resolveInput) (*written, error) {
			out, err := s.service.Resolve(ctx, c, in.place(), in.Body)
			if err != nil {
				return nil, err
			}
			return &written{func(w huma.Context) {
				w.SetHeader("Content-Type", "application/json")
				answer := out.AppendJSON(make([]byte, 0, 256+160*len(out.Values)))
				w.SetHeader("Content-Length", strconv.Itoa(len(answer)))
				_, _ = w.BodyWriter().Write(answer)
				clear(answer)
			}}, nil
		})
	signedIn(s, a, operation("compare", http.MethodGet, environmentRoute+"/comparison", "Two environments, or one at two revisions, side by side without values", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *compareInput) (*body[wire.Comparison], error) {
			other := layers.Place{Project: in.OtherProject, Environment: in.OtherEnvironment}
			if other.Project == "" {
				other.Project = in.Project
			}
			out, err := s.service.Compare(ctx, c, service.Side{Place: in.place(), Revision: in.Revision}, service.Side{Place: other, Revision: in.OtherRevision})
			return &body[wire.Comparison]{out}, err
		})
}

func entriesAt[L lists, E named](s *server, a huma.API, suffix, route, what string) {
	signedIn(s, a, operation("list-entries"+suffix, http.MethodGet, route+"/entries", "List what there is in "+what, tagged("entries")),
		func(ctx context.Context, c service.Caller, in *L) (*entriesOutput, error) {
			out, err := s.service.ListEntries(ctx, c, (*in).place(), (*in).query())
			return &entriesOutput{ETag: etag(out.Revision), Body: out}, err
		})
	signedIn(s, a, operation("show-entry"+suffix, http.MethodGet, route+"/entries/{name}", "Show an entry of "+what+", without a secret's value", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *E) (*body[wire.Entry], error) {
			out, err := s.service.ShowEntry(ctx, c, (*in).place(), (*in).entryName())
			return &body[wire.Entry]{out}, err
		})
	signedIn(s, a, operation("show-layers"+suffix, http.MethodGet, route+"/entries/{name}/layers", "Every layer that sets a name in "+what+", and which one wins", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *E) (*body[wire.Layered], error) {
			out, err := s.service.ShowLayers(ctx, c, (*in).place(), (*in).entryName())
			return &body[wire.Layered]{out}, err
		})
	signedIn(s, a, operation("same"+suffix, http.MethodGet, route+"/entries/{name}/same", "Where else a value of "+what+" is used, among what the caller may read", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *E) (*body[wire.Sameness], error) {
			out, err := s.service.SameAs(ctx, c, (*in).place(), (*in).entryName())
			return &body[wire.Sameness]{out}, err
		})
	signedIn(s, a, operation("value"+suffix, http.MethodGet, route+"/entries/{name}/value", "Obtain one value of "+what, tagged("entries")),
		func(ctx context.Context, c service.Caller, in *E) (*body[wire.Value], error) {
			out, err := s.service.Value(ctx, c, (*in).place(), (*in).entryName())
			return &body[wire.Value]{out}, err
		})
	signedIn(s, a, operation("history"+suffix, http.MethodGet, route+"/entries/{name}/versions", "The versions of an entry of "+what+", newest first", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *E) (*body[wire.History], error) {
			page := (*in).paging()
			out, err := s.service.History(ctx, c, (*in).place(), (*in).entryName(), page.Before, page.Limit)
			return &body[wire.History]{out}, err
		})
}

// written is an answer that is written by its own means.
type written struct{ Body func(huma.Context) }

// quickly is for an operation whose body is checked by the service alone and
// whose answer, of type T, is written by its own means.
func quickly[T any](a huma.API) func(*huma.Operation) {
	return func(op *huma.Operation) {
		op.SkipValidateBody = true
		schema := a.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[T](), true, "")
		op.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}}}
	}
}

// etag is a layer's revision as RFC 9110 wants it.
func etag(revision int64) string { return `"` + strconv.FormatInt(revision, 10) + `"` }
