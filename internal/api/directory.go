package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

// ProjectPath leads to a project. It is exported for huma to see its fields.
type ProjectPath struct {
	Project string `path:"project" maxLength:"63"`
}

type newNamed struct{ Body wire.Named }

type newEnvironment struct {
	ProjectPath
	Body wire.NewEnvironment
}

type newPerson struct{ Body wire.NewPerson }

type newGrant struct{ Body wire.NewGrant }

type grantPath struct {
	Grant int64 `path:"grant"`
}

// Cursor chooses a page of a list. It is exported for huma to see its fields.
type Cursor struct {
	Cursor string `query:"cursor" maxLength:"200" doc:"What the page before ended with: a login, a workload's name, a grant's number of twenty digits."`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
}

// pageOf is a page of a list, in the order of its keys.
func pageOf[T any](all []T, c Cursor, key func(T) string) []T {
	slices.SortStableFunc(all, func(a, b T) int { return strings.Compare(key(a), key(b)) })
	start, _ := slices.BinarySearchFunc(all, c.Cursor, func(item T, cursor string) int {
		if key(item) <= cursor {
			return -1
		}
		return 1
	})
	return all[start:min(len(all), start+c.Limit)]
}

// directory registers projects, environments, people, workloads and grants.
func (s *server) directory(a huma.API) {
	s.projects(a)
	signedIn(s, a, operation("list-people", http.MethodGet, "/people", "List people", tagged("access")),
		func(ctx context.Context, c service.Caller, in *Cursor) (*body[[]wire.Person], error) {
			out, err := s.service.People(ctx, c)
			return &body[[]wire.Person]{pageOf(out, *in, func(p wire.Person) string { return p.Login })}, err
		})
	signedIn(s, a, operation("add-person", http.MethodPost, "/people", "Add a person", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newPerson) (*body[wire.Person], error) {
			out, err := s.service.AddPerson(ctx, c, in.Body)
			return &body[wire.Person]{out}, err
		})
	signedIn(s, a, operation("list-workloads", http.MethodGet, "/workloads", "List workloads", tagged("access")),
		func(ctx context.Context, c service.Caller, in *Cursor) (*body[[]wire.Workload], error) {
			out, err := s.service.Workloads(ctx, c)
			return &body[[]wire.Workload]{pageOf(out, *in, func(w wire.Workload) string { return w.Name })}, err
		})
	signedIn(s, a, operation("add-workload", http.MethodPost, "/workloads", "Add a workload; its client secret is in the answer, this once", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newNamed) (*body[wire.Workload], error) {
			out, err := s.service.AddWorkload(ctx, c, in.Body.Name)
			return &body[wire.Workload]{out}, err
		})
	signedIn(s, a, operation("list-grants", http.MethodGet, "/grants", "List the grants at places that the caller may manage", tagged("access")),
		func(ctx context.Context, c service.Caller, in *Cursor) (*body[[]wire.Grant], error) {
			out, err := s.service.Grants(ctx, c)
			return &body[[]wire.Grant]{pageOf(out, *in, func(g wire.Grant) string { return fmt.Sprintf("%020d", g.ID) })}, err
		})
	signedIn(s, a, operation("add-grant", http.MethodPost, "/grants", "Give someone a role somewhere", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newGrant) (*body[wire.Grant], error) {
			out, err := s.service.AddGrant(ctx, c, in.Body)
			return &body[wire.Grant]{out}, err
		})
	signedIn(s, a, operation("remove-grant", http.MethodDelete, "/grants/{grant}", "Take a grant back", tagged("access")),
		func(ctx context.Context, c service.Caller, in *grantPath) (*empty, error) {
			return nil, s.service.RemoveGrant(ctx, c, in.Grant)
		})
}

// placeListing chooses among projects or environments.
type placeListing struct {
	Search  string `query:"search" maxLength:"200" doc:"Part of a name, whatever the case."`
	Cursor  string `query:"cursor" maxLength:"63" doc:"The last name of the page before."`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
	Removed bool   `query:"removed" doc:"Those that were removed and can be restored."`
}

type environmentListing struct {
	ProjectPath
	Removed bool `query:"removed" doc:"Those that were removed and can be restored."`
}

type projectEdit struct {
	ProjectPath
	Body wire.ProjectEdit
}

type environmentEdit struct {
	EnvironmentPath
	Body wire.EnvironmentEdit
}

type until struct {
	RestorableUntil time.Time `json:"restorableUntil"`
}

func (s *server) projects(a huma.API) {
	signedIn(s, a, operation("list-projects", http.MethodGet, "/projects", "List projects", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *placeListing) (*body[[]wire.Project], error) {
			if in.Removed {
				out, _, err := s.service.Removed(ctx, c, "")
				return &body[[]wire.Project]{out}, err
			}
			out, err := s.service.Projects(ctx, c, in.Search, in.Cursor, in.Limit)
			return &body[[]wire.Project]{out}, err
		})
	signedIn(s, a, operation("add-project", http.MethodPost, "/projects", "Add a project", tagged("projects"), created),
		func(ctx context.Context, c service.Caller, in *newNamed) (*body[wire.Project], error) {
			out, err := s.service.AddProject(ctx, c, in.Body.Name)
			return &body[wire.Project]{out}, err
		})
	signedIn(s, a, operation("show-project", http.MethodGet, "/projects/{project}", "Show a project", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[wire.Project], error) {
			out, err := s.service.Project(ctx, c, in.Project)
			return &body[wire.Project]{out}, err
		})
	signedIn(s, a, operation("edit-project", http.MethodPatch, "/projects/{project}", "Give a project another name or other policies", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *projectEdit) (*body[wire.Project], error) {
			out, err := s.service.EditProject(ctx, c, in.Project, in.Body)
			return &body[wire.Project]{out}, err
		})
	signedIn(s, a, operation("remove-project", http.MethodDelete, "/projects/{project}", "Remove a project, recoverably", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[until], error) {
			out, err := s.service.RemoveProject(ctx, c, in.Project)
			return &body[until]{until{out}}, err
		})
	signedIn(s, a, operation("restore-project", http.MethodPost, "/projects/{project}/restoration", "Restore a removed project", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[wire.Project], error) {
			out, err := s.service.RestoreProject(ctx, c, in.Project)
			return &body[wire.Project]{out}, err
		})
	signedIn(s, a, operation("destroy-project", http.MethodPost, "/projects/{project}/destruction", "Destroy a removed project, for good", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*body[wire.Gone], error) {
			out, err := s.service.DestroyProject(ctx, c, in.Project)
			return &body[wire.Gone]{out}, err
		})
	signedIn(s, a, operation("archive-project", http.MethodGet, "/projects/{project}/archive", "Everything of a project with all histories and all values, as JSON lines", tagged("projects"), lines),
		func(ctx context.Context, c service.Caller, in *ProjectPath) (*written, error) {
			// Refused before the first line is written; what fails later leaves out the last.
			stream, err := s.service.Archive(ctx, c, in.Project)
			if err != nil {
				return nil, err
			}
			return &written{func(w huma.Context) {
				w.SetHeader("Content-Type", "application/jsonl")
				if err := stream(w.BodyWriter()); err != nil {
					s.log.ErrorContext(ctx, "an archive was cut off", "error", err)
				}
			}}, nil
		})
	s.environments(a)
}

// lines is for an operation that answers with JSON lines.
func lines(op *huma.Operation) {
	op.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"application/jsonl": {}}}}
}

func (s *server) environments(a huma.API) {
	signedIn(s, a, operation("list-environments", http.MethodGet, "/projects/{project}/environments", "List environments", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *environmentListing) (*body[[]wire.Environment], error) {
			if in.Removed {
				_, out, err := s.service.Removed(ctx, c, in.Project)
				return &body[[]wire.Environment]{out}, err
			}
			out, err := s.service.Environments(ctx, c, in.Project)
			return &body[[]wire.Environment]{out}, err
		})
	signedIn(s, a, operation("add-environment", http.MethodPost, "/projects/{project}/environments", "Add an environment", tagged("projects"), created),
		func(ctx context.Context, c service.Caller, in *newEnvironment) (*body[wire.Environment], error) {
			out, err := s.service.AddEnvironment(ctx, c, in.Project, in.Body)
			return &body[wire.Environment]{out}, err
		})
	signedIn(s, a, operation("edit-environment", http.MethodPatch, environmentRoute, "Give an environment another name, another to follow, or other policies", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *environmentEdit) (*body[wire.Environment], error) {
			out, err := s.service.EditEnvironment(ctx, c, in.place(), in.Body)
			return &body[wire.Environment]{out}, err
		})
	signedIn(s, a, operation("remove-environment", http.MethodDelete, environmentRoute, "Remove an environment, recoverably", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *EnvironmentPath) (*body[until], error) {
			out, err := s.service.RemoveEnvironment(ctx, c, in.place())
			return &body[until]{until{out}}, err
		})
	signedIn(s, a, operation("restore-environment", http.MethodPost, environmentRoute+"/restoration", "Restore a removed environment", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *EnvironmentPath) (*body[wire.Environment], error) {
			out, err := s.service.RestoreEnvironment(ctx, c, in.place())
			return &body[wire.Environment]{out}, err
		})
	signedIn(s, a, operation("destroy-environment", http.MethodPost, environmentRoute+"/destruction", "Destroy a removed environment, for good", tagged("projects")),
		func(ctx context.Context, c service.Caller, in *EnvironmentPath) (*body[wire.Gone], error) {
			out, err := s.service.DestroyEnvironment(ctx, c, in.place())
			return &body[wire.Gone]{out}, err
		})
}
