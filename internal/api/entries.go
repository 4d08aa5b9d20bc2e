package api

import (
	"context"
	"net/http"
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

type entryPath struct {
	EnvironmentPath
	Name string `path:"name" maxLength:"1000"`
}

type entriesOutput struct {
	ETag string `header:"ETag"`
	Body wire.Entries
}

type resolveInput struct {
	EnvironmentPath
	Body wire.ResolveRequest
}

const environmentRoute = "/projects/{project}/environments/{environment}"

func (s *server) entries(a huma.API) {
	signedIn(s, a, operation("table", http.MethodGet, "/projects/{project}/table", "A project's names across its environments", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[wire.Table], error) {
			out, err := s.service.Table(ctx, c, in.Project)
			return &body[wire.Table]{out}, err
		})
	listAt[EnvironmentPath](s, a, "list-entries", environmentRoute, "List what an environment has, from all its layers")
	listAt[ProjectPath](s, a, "list-common-entries", "/projects/{project}/common", "List what a project's common layer sets")
	listAt[OrganizationPath](s, a, "list-organization-entries", "/organization", "List what the organization's layer sets")
	signedIn(s, a, operation("show-entry", http.MethodGet, environmentRoute+"/entries/{name}", "Show an entry without a secret's value", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *entryPath) (*body[wire.Entry], error) {
			out, err := s.service.ShowEntry(ctx, c, in.place(), in.Name)
			return &body[wire.Entry]{out}, err
		})
	signedIn(s, a, operation("value", http.MethodGet, environmentRoute+"/entries/{name}/value", "Obtain one value", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *entryPath) (*body[wire.Value], error) {
			out, err := s.service.Value(ctx, c, in.place(), in.Name)
			return &body[wire.Value]{out}, err
		})
	signedIn(s, a, operation("history", http.MethodGet, environmentRoute+"/entries/{name}/versions", "The versions of an entry, newest first", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *entryPath) (*body[wire.History], error) {
			out, err := s.service.History(ctx, c, in.place(), in.Name)
			return &body[wire.History]{out}, err
		})
	signedIn(s, a, operation("resolve", http.MethodPost, environmentRoute+"/resolve", "Obtain the values of references, as one read of one moment", tagged("entries")),
		func(ctx context.Context, c service.Caller, in *resolveInput) (*body[wire.Resolved], error) {
			out, err := s.service.Resolve(ctx, c, in.place(), in.Body)
			return &body[wire.Resolved]{out}, err
		})
}

func listAt[P placed](s *server, a huma.API, id, route, summary string) {
	signedIn(s, a, operation(id, http.MethodGet, route+"/entries", summary, tagged("entries")),
		func(ctx context.Context, c service.Caller, in *P) (*entriesOutput, error) {
			out, err := s.service.ListEntries(ctx, c, (*in).place())
			return &entriesOutput{ETag: etag(out.Revision), Body: out}, err
		})
}

// etag is a layer's revision as RFC 9110 wants it.
func etag(revision int64) string { return `"` + strconv.FormatInt(revision, 10) + `"` }
