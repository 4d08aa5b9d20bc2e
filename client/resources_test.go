package client_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/testkit"
)

func ptr[T any](v T) *T { return &v }

func namesOf[T any](all []T, name func(T) string) []string {
	var names []string
	for _, v := range all {
		names = append(names, name(v))
	}
	return names
}

var (
	projectName     = func(p wire.Project) string { return p.Name }
	environmentName = func(e wire.Environment) string { return e.Name }
)

func TestProjectsAndTheirEnvironments(t *testing.T) {
	c := testkit.Start(t).Owner(t)
	for _, name := range []string{"loans", "notices"} {
		p, err := c.AddProject(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, name, p.Name)
		assert.Equal(t, 30, p.KeepRemovedDays)
	}
	_, err := c.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "staging", MaxAgeDays: 90})
	require.NoError(t, err)
	preview, err := c.AddEnvironment(ctx, "loans", wire.NewEnvironment{Name: "preview", Follows: "staging", Protected: true})
	require.NoError(t, err)
	assert.Equal(t, wire.Environment{Name: "preview", Follows: "staging", Protected: true}, preview)

	all, err := c.Projects(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"loans", "notices"}, namesOf(all, projectName))
	p, err := c.EditProject(ctx, "loans", wire.ProjectEdit{KeepRemovedDays: ptr(7), MaxAgeDays: ptr(180)})
	require.NoError(t, err)
	assert.Equal(t, []int{7, 180}, []int{p.KeepRemovedDays, p.MaxAgeDays})
	p, err = c.EditProject(ctx, "loans", wire.ProjectEdit{Name: ptr("lending")})
	require.NoError(t, err)
	assert.Equal(t, "lending", p.Name)
	assert.Equal(t, 7, p.KeepRemovedDays, "what is not said stays")
	_, err = c.Project(ctx, "loans")
	assert.ErrorContains(t, err, "there is no project \"loans\"")
	_, err = c.EditProject(ctx, "lending", wire.ProjectEdit{Name: ptr("notices")})
	assert.ErrorContains(t, err, "already")

	place := client.Place{Project: "lending", Environment: "preview"}
	e, err := c.EditEnvironment(ctx, place, wire.EnvironmentEdit{Protected: ptr(false), Follows: ptr("")})
	require.NoError(t, err)
	assert.Equal(t, wire.Environment{Name: "preview"}, e)
	environments, err := c.Environments(ctx, "lending")
	require.NoError(t, err)
	assert.Equal(t, []string{"staging", "preview"}, namesOf(environments, environmentName))

	until, err := c.RemovePlace(ctx, place)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 7), until, time.Hour, "as long as the project says")
	environments, err = c.RemovedEnvironments(ctx, "lending")
	require.NoError(t, err)
	assert.Equal(t, []string{"preview"}, namesOf(environments, environmentName))
	require.NoError(t, c.RestorePlace(ctx, place))
	assert.ErrorContains(t, c.RestorePlace(ctx, place), `there is no removed environment "preview" in lending`)
	_, err = c.RemovePlace(ctx, place)
	require.NoError(t, err)
	gone, err := c.DestroyPlace(ctx, place)
	require.NoError(t, err)
	day, err := time.Parse("2006-01-02", gone.GoneOn)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 8), day, 25*time.Hour, "when the last backup that holds its keys is gone")
	environments, err = c.RemovedEnvironments(ctx, "lending")
	require.NoError(t, err)
	assert.Empty(t, environments)

	_, err = c.RemovePlace(ctx, client.Place{Project: "notices"})
	require.NoError(t, err)
	all, err = c.RemovedProjects(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"notices"}, namesOf(all, projectName))
	_, err = c.AddProject(ctx, "notices")
	require.NoError(t, err, "the name is free")
	assert.ErrorContains(t, c.RestorePlace(ctx, client.Place{Project: "notices"}), "notices", "until it is taken")
}

func TestWhatOneAsksOfTheDirectory(t *testing.T) {
	s := testkit.Start(t)
	c := s.Owner(t)
	_, err := c.AddProject(ctx, "loans")
	require.NoError(t, err)
	_, err = c.AddPerson(ctx, wire.NewPerson{Login: "priya@fernhollow.example", Name: "Priya Vantongeren", Password: "a lantern above the harbour"})
	require.NoError(t, err)
	w, err := c.AddWorkload(ctx, "mailer")
	require.NoError(t, err)
	assert.NotEmpty(t, w.ClientSecret)
	g, err := c.AddGrant(ctx, wire.NewGrant{Kind: "workload", Who: "mailer", Role: "consumer", Project: "loans"})
	require.NoError(t, err)

	people, err := c.People(ctx)
	require.NoError(t, err)
	assert.Contains(t, namesOf(people, func(p wire.Person) string { return p.Login }), "priya@fernhollow.example")
	workloads, err := c.Workloads(ctx)
	require.NoError(t, err)
	require.Len(t, workloads, 1)
	assert.Empty(t, workloads[0].ClientSecret, "it is shown once")
	grants, err := c.Grants(ctx)
	require.NoError(t, err)
	assert.Len(t, grants, 2)

	program, err := client.New(s.URL)
	require.NoError(t, err)
	_, err = program.SignInWorkload(ctx, w.ClientID, w.ClientSecret)
	require.NoError(t, err)
	who, err := program.Who(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"workload", "mailer", w.ClientID}, []string{who.Kind, who.Name, who.Login})
	assert.Equal(t, g.ID, who.Grants[0].ID)
	projects, err := program.Projects(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"loans"}, namesOf(projects, projectName))

	require.NoError(t, c.RemoveGrant(ctx, g.ID))
	assert.Error(t, c.RemoveGrant(ctx, g.ID), "it is gone")
	projects, err = program.Projects(ctx)
	require.NoError(t, err)
	assert.Empty(t, projects)
}

// Lists longer than a page come whole.
func TestLongListsAreReadToTheirEnd(t *testing.T) {
	const page, there = 1000, 2345
	var asked []string
	c := stand(t, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Query().Get("cursor"))
		assert.Equal(t, strconv.Itoa(page), r.URL.Query().Get("limit"))
		first, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		people := []wire.Person{}
		for i := first + 1; i <= min(first+page, there); i++ {
			people = append(people, wire.Person{Login: strconv.Itoa(i)})
		}
		_ = json.NewEncoder(w).Encode(people)
	})
	people, err := c.People(ctx)
	require.NoError(t, err)
	assert.Len(t, people, there)
	assert.Equal(t, []string{"", "1000", "2000"}, asked)
}

func TestAnArchiveIsReadLineByLineAndTakenInAgain(t *testing.T) {
	c := testkit.Start(t).Owner(t)
	for _, project := range []string{"loans", "lending"} {
		_, err := c.AddProject(ctx, project)
		require.NoError(t, err)
		_, err = c.AddEnvironment(ctx, project, wire.NewEnvironment{Name: "live"})
		require.NoError(t, err)
	}
	live := client.Place{Project: "loans", Environment: "live"}
	for i := range 3 {
		_, err := c.Change(ctx, live, client.AnyRevision, wire.ChangeRequest{Reason: fmt.Sprint("round ", i), Edits: []wire.Edit{{Name: "KEY", Kind: "secret", Value: fmt.Sprint("value ", i)}}})
		require.NoError(t, err)
	}
	var request wire.TakeInRequest
	require.NoError(t, c.Archive(ctx, "loans", func(r io.Reader) error {
		lines := bufio.NewScanner(r)
		for n := 0; lines.Scan(); n++ {
			var e wire.ArchivedEntry
			if n == 0 || json.Unmarshal(lines.Bytes(), &e) != nil || e.Name == "" {
				continue
			}
			request.Entries = append(request.Entries, e)
		}
		return lines.Err()
	}))
	require.Len(t, request.Entries, 1)
	require.Len(t, request.Entries[0].Versions, 3)
	request.Reason = "taken over"
	request.Entries[0].Environment = ""
	target := client.Place{Project: "lending", Environment: "live"}
	_, err := c.TakeIn(ctx, target, client.Commit{Base: client.AnyRevision}, request)
	require.NoError(t, err)
	history, err := c.History(ctx, target, "KEY")
	require.NoError(t, err)
	require.Len(t, history.Versions, 3)
	v, err := c.Value(ctx, target, "KEY")
	require.NoError(t, err)
	assert.Equal(t, "value 2", v.Value)
	_, err = c.TakeIn(ctx, target, client.Commit{Base: client.AnyRevision}, request)
	assert.ErrorContains(t, err, "KEY", "what is there is not taken in again")
}
